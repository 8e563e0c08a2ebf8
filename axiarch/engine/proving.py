"""What a member of an installed package must show before a search trains with it."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

import numpy as np
from numpy.typing import NDArray

from axiarch.engine.called import compiled
from axiarch.errors import TrainingError
from axiarch.recipes.installed import Activation, Installed, Loss, Optimiser, Schedule

Floats = NDArray[np.float64]

#: Where curves and losses are looked at: a little off every round number, where kinks are.
_POINTS = np.linspace(-6.0, 6.0, 241) + 0.0137
#: How near to the derivative a slope must be, relative and absolute; and at how many points it may
#: be elsewhere, kinks.
_NEAR, _KINKS = 1e-4, 4
#: Steps in which an optimiser must bring ``w w / 2`` from w = 1 below so much, at a tenth of its
#: highest rate.
_STEPS, _LOWER = 1000, 0.9
#: A factor on the learning rate that is larger is a mistake.
_LARGEST = 1e4


def prove(own: Installed) -> None:
    """Try a member out.

    Slopes must be derivatives, steps must lead down, factors must be numbers that do not depend on
    which are asked for at once; and a training with it must be finite and have the same bits in one
    go, in slices, and resumed.

    Raises
    ------
    TrainingError
    """
    member = own.member
    try:
        if isinstance(member, Activation):
            _prove_slope(member.curve, member.slope)
        elif isinstance(member, Loss):
            _prove_slope(member.value, member.slope)
        elif isinstance(member, Optimiser):
            _prove_step(member)
        elif isinstance(member, Schedule):
            _prove_factor(member)
        for precision in ("float32", "float64"):
            _prove_bits(own, precision)
    except ValueError as error:
        why = str(error)
    except Exception as error:  # whatever the code of a package does, or cannot be compiled to do
        why = f"{type(error).__name__}: {' '.join(str(error).split())[:200]}"
    else:
        return
    raise TrainingError(f"the {member.kind} {own.name} cannot be used: {why}",
                        f"package {own.package} {own.version}",
                        "correct the package, or start a search without it")


def _prove_slope(curve: Callable[[float], float], slope: Callable[[float], float]) -> None:
    value, steep = compiled(curve), compiled(slope)
    h = 1e-5
    found = np.array([[value(x), (value(x + h) - value(x - h)) / (2 * h),
                       steep(x)] for x in _POINTS])
    if not np.isfinite(found).all():
        raise ValueError(f"it is not finite at {_POINTS[~np.isfinite(found).all(1)][0]:.4g}")
    apart = np.abs(found[:, 1] - found[:, 2]) > _NEAR * (1 + np.abs(found[:, 1]))
    if apart.sum() > _KINKS:
        x, (_, steepness, given) = _POINTS[apart][0], found[apart][0].tolist()
        raise ValueError(
            f"its slope at {x:.4g} is {given:.6g}, and the derivative of what it returns "
            f"{steepness:.6g}"
        )


def _prove_step(member: Optimiser) -> None:
    from axiarch.recipes.recipe import Recipe

    step, values = compiled(member.step), [Recipe().real(name) for name in member.uses]
    w, s, lowest = 1.0, (0.0, 0.0, 0.0), 1.0
    for t in range(1, _STEPS + 1):
        w, s = step(w, w, s, float(t), 0.1 * member.highest_rate, *values)
        lowest = min(lowest, abs(w))
        if not np.isfinite([w, *s]).all():
            raise ValueError(f"its step is not finite after {t} steps on a parabola")
    if lowest > _LOWER:
        raise ValueError(f"{_STEPS} steps on a parabola lead from 1 to {w:.4g}, not down")


def _prove_factor(member: Schedule) -> None:
    from axiarch.recipes.recipe import Recipe

    values, last = [Recipe().real(name) for name in member.uses], 10.0
    epochs = np.linspace(0.0, last, 41)
    whole = np.asarray(member.factor(epochs.copy(), last, *values), np.float64)
    if whole.shape != epochs.shape:
        raise ValueError(f"it returns {whole.shape} for {epochs.shape} epochs")
    if not np.isfinite(whole).all() or (whole < 0).any() or (whole > _LARGEST).any():
        raise ValueError(f"a factor is not a finite number from 0 to {_LARGEST:g}")
    halves = [
        np.asarray(member.factor(part.copy(), last, *values), np.float64)
        for part in (epochs[:20], epochs[20:])
    ]
    if not np.array_equal(np.concatenate(halves), whole):
        raise ValueError("its factors depend on which others are asked for")


def _prove_bits(own: Installed, precision: str) -> None:
    """Train a small network three times, cut otherwise each time."""
    from axiarch.engine.losses import LOSSES
    from axiarch.engine.network import NetworkShape
    from axiarch.engine.rows import Source, TrainingData
    from axiarch.engine.run import RunSpec
    from axiarch.engine.state import TrainingState
    from axiarch.engine.streams import Streams
    from axiarch.engine.training import Training
    from axiarch.recipes.recipe import Recipe

    rng = np.random.default_rng(0)
    x = rng.normal(size=(40, 3)).astype(np.float32)
    y = (x[:, :1] * x[:, 1:2] + x[:, 2:]).astype(np.float32)
    rate = 0.01 * own.member.highest_rate if isinstance(own.member, Optimiser) else 1e-3
    recipe = Recipe({
        own.member.kind: own.name, "width": 5, "depth": 1, "batch_size": 8, "epochs": 4,
        "patience": 0, "learning_rate": rate, "precision": precision, "dropout": 0.2
    })
    shape = NetworkShape.of(recipe, 3, 1, "squared")
    source = Source(TrainingData(x, y, x, y, (1.0,)), LOSSES["squared"], 1, precision)

    def training(state: TrainingState | None = None) -> Any:
        return Training(shape, RunSpec(0, recipe, Streams(1)), source, state)

    one, other = training(), training()
    losses = [one.train_epoch().numbers.validation_loss for _ in range(3)]
    other._slice = lambda: 1
    other.train_epoch()
    other = training(other.state())
    other.train_epoch()
    other.train_epoch()
    if not np.isfinite(losses).all():
        raise ValueError(f"a training with it in {precision} has losses that are not finite")
    if one.parameters.tobytes() != other.parameters.tobytes():
        raise ValueError(
            f"a training with it in {precision} that is cut into slices has other bits")
