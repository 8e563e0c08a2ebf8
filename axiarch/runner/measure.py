"""Time a few real steps of a recipe, stacked as it will be trained."""

from __future__ import annotations

import time
from dataclasses import dataclass

from axiarch.data.dataset import Dataset
from axiarch.engine.run import RunSpec
from axiarch.engine.stack import Stack
from axiarch.engine.streams import Streams
from axiarch.recipes.recipe import Recipe
from axiarch.runner.material import shape_of, training_data

#: Seconds spent on one recipe at the most.
_LIMIT = 0.5


@dataclass(frozen=True)
class Measured:
    """What one training step of one run costs.

    Attributes
    ----------
    work : int
        Multiplications and additions of a step.
    seconds : float
        Per step and run, its share of the stack, of the validation and of all bookkeeping included.
    bytes : int
        That one run works in.
    """

    work: int
    seconds: float
    bytes: int


class _Enough(Exception):
    """The time for measuring is used up."""


def measure(recipe: Recipe, runs: int, dataset: Dataset) -> Measured:
    """Time steps of `runs` runs of a recipe side by side (as many as a stack of it holds at most)."""
    shape = shape_of(recipe, dataset)
    count = min(runs, shape.capacity())
    stack = Stack(shape, count, training_data(dataset))
    for k in range(count):
        stack.add(RunSpec(k, recipe, Streams(0, k)))
    _steps(stack)  # the first pass touches all memory
    seconds = _steps(stack)
    return Measured(shape.work, seconds / count, shape.run_bytes())


def _steps(stack: Stack) -> float:
    """Return seconds per step, from one epoch or as many steps as there is time for."""
    started = time.perf_counter()
    done = 0

    def between() -> None:
        nonlocal done
        done += 1
        if time.perf_counter() - started > _LIMIT:
            raise _Enough

    try:
        stack.train_epoch(between)
    except _Enough:
        pass
    return (time.perf_counter() - started) / max(done, 1)
