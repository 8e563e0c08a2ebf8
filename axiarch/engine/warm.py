"""Compile the kernels, or load them from the cache of an earlier time, before anything is timed or waited for."""

from __future__ import annotations

import itertools
import math

import numpy as np

from axiarch.engine.activations import ACTIVATIONS
from axiarch.engine.losses import LOSSES
from axiarch.engine.network import StackShape
from axiarch.engine.optimisers import OPTIMISERS
from axiarch.engine.rows import TrainingData
from axiarch.engine.run import RunSpec
from axiarch.engine.stack import Stack
from axiarch.engine.streams import Streams
from axiarch.recipes.recipe import Recipe


def warm() -> None:
    """Train every kind of tiny network for one epoch: some twenty seconds the first time, then well under one."""
    for activation, optimiser in itertools.zip_longest(ACTIVATIONS, OPTIMISERS):
        _train({"activation": activation or "relu", "optimiser": optimiser or "sgd", "width": 5, "dropout": 0.5},
               "softmax")
    for loss in LOSSES:
        _train({"depth": 0}, loss)
    for norm in ("batch", "layer"):
        _train({"depth": 1, "width": 2, "normalisation": norm}, "softmax")
    _train({"l1": 0.1, "max_norm": 1.0, "clip_norm": 1.0, "input_noise": 0.1, "mixing": 0.5, "accumulation": 2},
           "softmax")
    _train({"mixing": 0.5}, "squared")
    _train({"network": "conv 2, pool 2", "shift": 1, "averaging": 0.9}, "softmax", (4, 4, 1))


def _train(values: dict[str, object], loss: str, inputs: tuple[int, ...] = (2,)) -> None:
    recipe = Recipe(values)
    x = np.zeros((4, math.prod(inputs)), np.float32)
    y = np.zeros((4, 1), np.float32) if LOSSES[loss].amounts else np.array([0, 1, 0, 1], np.int32)
    outputs = 2 if loss == "softmax" else 1
    stack = Stack(StackShape.of(recipe, inputs, outputs, loss), 1, TrainingData(x, y, x, y, (1.0,)))
    stack.add(RunSpec(0, recipe, Streams(0)))
    stack.train_epoch()
