"""The linear floor: what a softmax regression, trained by the engine, scores on the validation rows."""

from __future__ import annotations

from axiarch.data.dataset import Dataset
from axiarch.data.floor import Floor
from axiarch.engine.network import StackShape
from axiarch.engine.run import RunSpec
from axiarch.engine.stack import Stack, TrainingData
from axiarch.engine.streams import Streams
from axiarch.errors import TrainingError
from axiarch.recipes.recipe import Recipe

#: No hidden layer; a mild pull on the weights, as one would try first.
LINEAR = Recipe({"depth": 0, "learning_rate": 0.01, "l2": 1e-4, "epochs": 100, "patience": 8, "batch_size": 64})


def linear_floor(dataset: Dataset) -> Floor:
    """Train a linear model on a data set and return its steady loss, and its accuracy at that epoch.

    Raises
    ------
    TrainingError
        If it diverges.
    """
    train, validation = dataset.part("train"), dataset.part("validation")
    data = TrainingData(train.inputs, train.targets, validation.inputs, validation.targets)
    stack = Stack(StackShape.of(LINEAR, dataset.inputs, len(dataset.classes)), 1, data)
    stack.add(RunSpec(0, LINEAR, Streams(dataset.seed)))
    accuracies: list[float] = []
    while True:
        (progress,) = stack.train_epoch()
        accuracies.append(progress.numbers.accuracy)
        if progress.end is not None:
            break
    if progress.end.reason == "diverged" or not progress.end.best_epoch:
        raise TrainingError("a linear model cannot be trained on these data", dataset.name,
                            "look for values far outside the others")
    return Floor(progress.end.steady_loss, accuracies[progress.end.best_epoch - 1])
