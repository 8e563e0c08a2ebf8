"""The linear floor: what a linear or logistic model, trained by the engine, scores on the validation rows."""

from __future__ import annotations

from axiarch.data.dataset import Dataset
from axiarch.data.floor import Floor
from axiarch.engine.run import RunSpec
from axiarch.engine.stack import Stack
from axiarch.engine.streams import Streams
from axiarch.errors import TrainingError
from axiarch.recipes.recipe import Recipe
from axiarch.runner.material import shape_of, training_data

#: No hidden layer; a mild pull on the weights, as one would try first.
LINEAR = Recipe({"depth": 0, "learning_rate": 0.01, "l2": 1e-4, "epochs": 100, "patience": 8, "batch_size": 64})
#: Steps an epoch at the most: of very many rows more are averaged in each.
_STEPS = 400


def linear_floor(dataset: Dataset, fold: int = 0) -> Floor:
    """Train a linear model on one fold of a data set and return its steady loss, and its metrics at that epoch.

    Raises
    ------
    TrainingError
        If it diverges.
    """
    rows = dataset.folds[fold].rows["train"]
    recipe = LINEAR.changed({"batch_size": max(LINEAR.whole("batch_size"), -(-rows // _STEPS))})
    stack = Stack(shape_of(recipe, dataset, fold), 1, training_data(dataset, fold))
    stack.add(RunSpec(0, recipe, Streams(dataset.seed, fold=fold)))
    metrics: list[tuple[float, ...]] = []
    while True:
        (progress,) = stack.train_epoch()
        metrics.append(progress.numbers.metrics)
        if progress.end is not None:
            break
    if progress.end.reason == "diverged" or not progress.end.best_epoch:
        raise TrainingError("a linear model cannot be trained on these data", dataset.name,
                            "look for values far outside the others")
    return Floor(progress.end.steady_loss, metrics[progress.end.best_epoch - 1])
