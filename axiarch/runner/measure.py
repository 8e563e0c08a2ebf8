"""Time a few real steps of a recipe."""

from __future__ import annotations

import time
from dataclasses import dataclass

from axiarch.data.dataset import Dataset
from axiarch.engine.losses import LOSSES
from axiarch.engine.memory import working_bytes
from axiarch.engine.rows import Source
from axiarch.engine.run import RunSpec
from axiarch.engine.streams import Streams
from axiarch.engine.training import Training
from axiarch.recipes.recipe import Recipe
from axiarch.runner.material import shape_of, training_data

#: Seconds spent on one recipe at the most.
_LIMIT = 0.5
#: Epochs timed at the most: of tiny networks one is over too soon to be timed.
_EPOCHS = 50


@dataclass(frozen=True)
class Measured:
    """What one training step costs.

    Attributes
    ----------
    work : int
        Multiplications and additions of a step.
    seconds : float
        Per step, its share of the validation and of all bookkeeping included.
    bytes : int
        That a step works in.
    """

    work: int
    seconds: float
    bytes: int


class _Enough(Exception):
    """The time for measuring is used up."""


def measure(recipe: Recipe, dataset: Dataset) -> Measured:
    """Time steps of a recipe."""
    shape = shape_of(recipe, dataset)
    target = dataset.encoding.target
    source = Source(training_data(dataset), LOSSES[target.loss], target.outputs, shape.precision)
    training = Training(shape, RunSpec(0, recipe, Streams(0)), source)
    _steps(training, 1)  # the first pass touches all memory
    return Measured(shape.work, _steps(training, _EPOCHS), working_bytes(shape))


def _steps(training: Training, epochs: int) -> float:
    """Return seconds per step, from some epochs or as many steps as there is time for."""
    started = time.perf_counter()

    def between() -> None:
        if time.perf_counter() - started > _LIMIT:
            raise _Enough

    done = 0
    try:
        while done < epochs and time.perf_counter() - started < _LIMIT:
            training.train_epoch(between)
            done += 1
    except _Enough:
        return (time.perf_counter() - started) / max(done * training.steps + training.done, 1)
    return (time.perf_counter() - started) / max(done * training.steps, 1)
