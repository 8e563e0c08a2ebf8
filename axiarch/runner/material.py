"""A data set as the engine takes it."""

from __future__ import annotations

from collections.abc import Callable
from typing import TYPE_CHECKING

from axiarch.data.baseline import rescored
from axiarch.data.dataset import Dataset, check_part
from axiarch.engine.network import NetworkShape
from axiarch.recipes.recipe import Recipe
from axiarch.runs.lowered import Lowered

if TYPE_CHECKING:
    from axiarch.engine.rows import TrainingData


def training_data(dataset: Dataset, fold: int = 0, measure: Lowered | None = None
                  ) -> TrainingData:
    """Return the arrays of one fold, mapped from disk, and what is lowered on them: by default as
    the data set says.

    Raises
    ------
    WorkspaceError
        If they do not fit the description of the data set.
    """
    from axiarch.engine.rows import (
        TrainingData,  # the kernels are loaded where something is trained, no sooner
    )

    train, validation = dataset.part("train", fold), dataset.part("validation", fold)
    for name, part in (("train", train), ("validation", validation)):
        check_part(part, dataset, name, fold)
    own, measure = dataset.folds[fold], measure or dataset.target.measure
    baseline = rescored(own.baseline, dataset.target.measure, measure)
    return TrainingData(train.inputs, train.targets, validation.inputs, validation.targets,
                        own.encoding.target.units, baseline.loss, own.encoding.target.curve,
                        measure)


def shape_of(recipe: Recipe, dataset: Dataset, fold: int = 0) -> NetworkShape:
    """Return the shape of a recipe's network on one fold of a data set."""
    own = dataset.folds[fold]
    return NetworkShape.of(recipe, own.encoding.shape, own.encoding.target.outputs,
                           own.encoding.target.loss)


def effort_of(dataset: Dataset) -> Callable[[Recipe, int], float]:
    """Return what says how long epochs of a recipe take on a data set, in multiplications: the
    same on any machine.
    """
    rows = dataset.rows["train"]

    def effort(recipe: Recipe, epochs: int) -> float:
        shape = shape_of(recipe, dataset)
        return BEGINNING + epochs * shape.steps(rows) * (PER_STEP + shape.work)

    return effort


def outgrows_memory(data: TrainingData, folds: int) -> bool:
    """Say whether the rows of so many folds are too many to stay in memory once they have been
    read.
    """
    import psutil

    return bool(folds * data.bytes > IN_MEMORY * psutil.virtual_memory().available)


def example_rows(rows: int, count: int) -> list[int]:
    """Return `count` of `rows` validation rows, spread over all: always the same ones."""
    return [i * rows // count for i in range(min(count, rows))]


#: What it takes to begin with a run, and what a step takes beside its products, as multiplications.
BEGINNING, PER_STEP = 1e8, 60_000.0
#: Share of the free memory up to which data read once are expected to stay there.
IN_MEMORY = 0.5
#: Share of the memory that is free which a search may take, and what a worker takes before it holds
#: any run.
SHARE, WORKER_BYTES = 0.7, 160 << 20


def worker_room(workers: int) -> int:
    """Return the bytes that each of `workers` workers may take for training, by the memory that is
    free now.
    """
    import psutil

    return max(int(psutil.virtual_memory().available * SHARE / workers) - WORKER_BYTES, 1)
