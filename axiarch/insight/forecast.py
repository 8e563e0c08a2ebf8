"""How long a search will take: before it starts, from measured steps; while it runs, from what it
has done.

The cost of a step is taken to be a smooth function of its arithmetic: measured on the smallest, a
middle and the largest recipe, and read off between them by straight lines between logarithms.
"""

from __future__ import annotations

import math
from collections.abc import Iterable, Sequence
from dataclasses import dataclass

import numpy as np

from axiarch.engine.memory import run_bytes
from axiarch.engine.network import NetworkShape
from axiarch.recipes.layers import Shape
from axiarch.recipes.recipe import Recipe

#: Seconds until workers train: starting processes and loading kernels.
STARTING = 2.0
#: The measured time against the real one in a shared machine: reports, checkpoints, workers that
#: wait at the end.
SLACK = 1.35
#: Share of its epochs that a run with patience may be expected to need at the least.
EARLIEST = 0.35


@dataclass(frozen=True)
class Forecast:
    """What a search is expected to take.

    Attributes
    ----------
    recipes, runs : int
        How many; at the most, where the method may propose fewer.
    epochs : int
        Of all runs together, at the most.
    low, high : float
        Seconds: if most runs are stopped early by their patience, and if none is.
    smallest, largest : int
        Trainable parameters of the smallest and largest network.
    bytes : int
        Memory of all workers together, at the most.
    workers : int
        Workers it was worked out for.
    earlier : int
        Recipes of earlier searches that the method starts from.
    """

    recipes: int
    runs: int
    epochs: int
    low: float
    high: float
    smallest: int
    largest: int
    bytes: int
    workers: int
    earlier: int = 0


def to_measure(recipes: Sequence[Recipe], inputs: Shape, outputs: int) -> list[Recipe]:
    """Return the recipes of least, middle and most arithmetic."""
    shapes = [NetworkShape.of(r, inputs, outputs) for r in recipes]
    order = sorted(range(len(recipes)), key=lambda i: shapes[i].work)
    picked = dict.fromkeys(order[i] for i in (0, len(order) // 2, -1))
    return [recipes[i] for i in picked]


def forecast(recipes: Sequence[Recipe], repeats: int, rows: int, inputs: Shape, outputs: int,
             workers: int, measured: Sequence[tuple[int, float, int]]) -> Forecast:
    """Work out what training `recipes` with `repeats` runs each (seeds times folds) on `rows` N
    training rows takes.

    Parameters
    ----------
    measured : sequence of (int, float, int)
        Arithmetic, seconds and bytes of a step of one run, for the recipes of :func:`to_measure`.
    """
    shapes = [NetworkShape.of(r, inputs, outputs) for r in recipes]
    least = most = 0.0
    for recipe, shape in zip(recipes, shapes, strict=True):
        seconds = recipe.whole("epochs") * math.ceil(rows / shape.batch_size) * _step(
            shape.work, measured)
        most += seconds
        least += seconds * (EARLIEST if recipe.whole("patience") else 1.0)
    parameters = [shape.trained for shape in shapes]
    return Forecast(
        recipes=len(recipes),
        runs=len(recipes) * repeats,
        epochs=repeats * sum(r.whole("epochs") for r in recipes),
        low=STARTING + repeats * least / workers,
        high=STARTING + repeats * most * SLACK / workers,
        smallest=min(parameters),
        largest=max(parameters),
        bytes=workers * (_WORKER + max(run_bytes(shape, rows) for shape in shapes)),
        workers=workers,
    )


#: Bytes of a worker process before it holds any run.
_WORKER = 160 << 20


def _step(work: int, measured: Sequence[tuple[int, float, int]]) -> float:
    """Read the seconds of a step of `work` off the measured points."""
    points = sorted((w, s) for w, s, _ in measured)
    xs, ys = np.log([w for w, _ in points]), np.log([s for _, s in points])
    return float(np.exp(np.interp(np.log(work), xs, ys)))


@dataclass(frozen=True)
class Pending:
    """A run as the time left is worked out from it: its arithmetic an epoch, epochs done, at the
    most, and whether it has ended.
    """

    work: float
    done: int
    most: int
    ended: bool
    seconds: float


def seconds_left(runs: Iterable[Pending], expected_runs: int, workers: int) -> float | None:
    """Return the seconds a running search still needs; None until enough has been seen.

    The share of their epochs that ended runs needed is taken for those to come, and so are their
    seconds for the arithmetic done.
    """
    runs = list(runs)
    seconds, work = sum(r.seconds for r in runs), sum(r.work * r.done for r in runs)
    if work == 0 or seconds == 0 or workers == 0:
        return None
    ended = [r for r in runs if r.ended]
    share = sum(r.done for r in ended) / sum(r.most for r in ended) if ended else 1.0
    left = sum(r.work * max(r.most * share - r.done, 1.0) for r in runs if not r.ended)
    unseen = max(expected_runs - len(runs), 0)
    left += unseen * share * sum(r.work * r.most for r in runs) / len(runs)
    return left * seconds / work / workers
