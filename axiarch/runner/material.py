"""A data set as the engine takes it."""

from __future__ import annotations

from typing import TYPE_CHECKING

from axiarch.data.dataset import Dataset
from axiarch.engine.network import StackShape
from axiarch.recipes.recipe import Recipe

if TYPE_CHECKING:
    from axiarch.engine.stack import TrainingData


def training_data(dataset: Dataset, fold: int = 0) -> TrainingData:
    """Return the arrays of one fold, mapped from disk."""
    from axiarch.engine.stack import TrainingData  # the kernels are loaded where something is trained, no sooner

    train, validation = dataset.part("train", fold), dataset.part("validation", fold)
    return TrainingData(train.inputs, train.targets, validation.inputs, validation.targets,
                        dataset.folds[fold].encoding.target.units, dataset.folds[fold].floor.loss)


def shape_of(recipe: Recipe, dataset: Dataset, fold: int = 0) -> StackShape:
    """Return the shape of a recipe's network on one fold of a data set."""
    encoding = dataset.folds[fold].encoding
    return StackShape.of(recipe, encoding.shape, encoding.target.outputs, encoding.target.loss, fold)
