"""Learning-rate schedules: pure functions of step and state, so that they can be drawn before any
training.

A schedule is a factor on the learning rate. Before it the rate may rise (warm-up) and stay (hold);
it then runs from step 0 to the end of the training as the recipe has it. The one piece of state is
how often a stalled validation loss has cut the rate.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from axiarch.recipes import installed, members
from axiarch.recipes.recipe import Recipe

Floats = NDArray[np.float64]


@dataclass(frozen=True)
class ScheduleSpan:
    """What a schedule runs over: steps an epoch, steps from its own start to the end, cuts so
    far.
    """

    per_epoch: int
    total: float
    cuts: int = 0


Schedule = Callable[[Recipe, Floats, ScheduleSpan], Floats]


def constant(recipe: Recipe, steps: Floats, span: ScheduleSpan) -> Floats:
    """The same factor 1 at all `steps` (T,)."""
    return np.ones_like(steps)


def exponential(recipe: Recipe, steps: Floats, span: ScheduleSpan) -> Floats:
    """``rate_decay ** (step / per_epoch)``, falling at every step."""
    return np.power(recipe.real("rate_decay"), steps / span.per_epoch)


def step(recipe: Recipe, steps: Floats, span: ScheduleSpan) -> Floats:
    """``rate_decay`` once more after every ``step_epochs`` epochs: exponential in stairs."""
    return np.power(recipe.real("rate_decay"),
                    np.floor(steps / (span.per_epoch * recipe.whole("step_epochs"))))


def inverse_time(recipe: Recipe, steps: Floats, span: ScheduleSpan) -> Floats:
    """``1 / (1 + decay * epochs)``."""
    return 1.0 / (1.0 + recipe.real("decay") * steps / span.per_epoch)


def polynomial(recipe: Recipe, steps: Floats, span: ScheduleSpan) -> Floats:
    """``last + (1 - last) (1 - step / total) ** power``."""
    last = recipe.real("final_fraction")
    return last + (1.0 - last) * np.power(1.0 - _done(steps, span), recipe.real("power"))


def cosine(recipe: Recipe, steps: Floats, span: ScheduleSpan) -> Floats:
    """Half a cosine from 1 to the last share (Loshchilov & Hutter 2017)."""
    return _half_cosine(recipe, _done(steps, span))


def restarts(recipe: Recipe, steps: Floats, span: ScheduleSpan) -> Floats:
    """Cosines one after the other, each ``period_growth`` times as long as the last (Loshchilov
    & Hutter 2017).
    """
    first, growth = recipe.real("period") * span.per_epoch, recipe.real("period_growth")
    if growth == 1:
        return _half_cosine(recipe, steps % first / first)
    number = np.floor(np.log1p(steps * (growth - 1) / first) / np.log(growth) + 1e-12)
    start = first * (growth**number - 1) / (growth - 1)
    return _half_cosine(recipe, np.clip((steps - start) / (first * growth**number), 0.0, 1.0))


def one_cycle(recipe: Recipe, steps: Floats, span: ScheduleSpan) -> Floats:
    """From a twenty-fifth up to 1 and down to the last share, both by half a cosine (Smith &
    Topin 2018).
    """
    done, peak = _done(steps, span), recipe.real("peak_fraction")
    rising = 1.0 - (1.0 - 1.0 / 25) * 0.5 * (1.0 + np.cos(np.pi * np.minimum(done / peak, 1.0)))
    return np.where(done < peak, rising,
                    _half_cosine(recipe, np.clip((done - peak) / (1.0 - peak), 0.0, 1.0)))


def plateau(recipe: Recipe, steps: Floats, span: ScheduleSpan) -> Floats:
    """``rate_decay`` once more whenever the smoothed validation loss has stalled for
    ``plateau_patience`` epochs.
    """
    return np.full_like(steps, recipe.real("rate_decay") ** span.cuts)


def _done(steps: Floats, span: ScheduleSpan) -> Floats:
    return np.clip(steps / max(span.total, 1.0), 0.0, 1.0)


def _half_cosine(recipe: Recipe, done: Floats) -> Floats:
    last = recipe.real("final_fraction")
    return last + (1.0 - last) * 0.5 * (1.0 + np.cos(np.pi * done))


def _installed(own: installed.Schedule) -> Schedule:
    """Return a schedule that an installed package brings."""

    def factor(recipe: Recipe, steps: Floats, span: ScheduleSpan) -> Floats:
        found = own.factor(steps / span.per_epoch, span.total / span.per_epoch,
                           *map(recipe.real, own.uses))
        return np.array(found, np.float64)

    return factor


#: Factor on the learning rate, by name: the function above of that name, or one of a package.
SCHEDULES: Mapping[str, Schedule] = {
    **{name: globals()[name] for name in members.SCHEDULES if name in globals()},
    **{name: _installed(own) for name, own in installed.of_kind(installed.Schedule).items()}}


def rates(recipe: Recipe, first: int, count: int, per_epoch: int, cuts: int = 0) -> Floats:
    """Return the learning rates (T,) of `count` T steps from number `first` (from 0), `per_epoch`
    steps an epoch.

    Parameters
    ----------
    cuts : int
        How often the rate has been cut because the validation loss stalled.
    """
    steps = np.arange(first, first + count, dtype=np.float64)
    if recipe.word("rate_moves") == "epoch":
        steps = np.floor(steps / per_epoch) * per_epoch
    warm, hold = recipe.real("warm_up") * per_epoch, recipe.real("hold") * per_epoch
    span = ScheduleSpan(per_epoch, recipe.whole("epochs") * per_epoch - warm - hold, cuts)
    name = recipe.word("schedule")
    if name not in SCHEDULES:
        raise installed.absent("schedule", name)
    factor = SCHEDULES[name](recipe, np.maximum(steps - warm - hold, 0.0), span)
    rising = np.minimum((steps + 1.0) / warm, 1.0) if warm > 0 else 1.0
    return recipe.real("learning_rate") * np.where(steps < warm, rising, 1.0) * factor
