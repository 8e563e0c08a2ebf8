"""Compile the kernels once, before anything is timed or waited for; later processes load each when it is needed."""

from __future__ import annotations

import contextlib
import itertools
import math
import platform
from pathlib import Path

import numba
import numpy as np

from axiarch.engine import kernels, pictures
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
    """Train every kind of tiny network for one epoch, unless that was done before: some twenty seconds."""
    mark, stamp = _mark(), _stamp()
    with contextlib.suppress(OSError):
        if mark.read_text(encoding="utf-8") == stamp:
            return
    _train_all()
    with contextlib.suppress(OSError):  # where it cannot be written, kernels are loaded at every start
        mark.write_text(stamp, encoding="utf-8")


def _mark() -> Path:
    """Return the file that says what the cache of compiled kernels beside it was made from."""
    return Path(str(kernels.squares.stats.cache_path)) / "kernels.warmed"


def _stamp() -> str:
    """Return what compiled kernels depend on."""
    sources = [Path(str(module.__file__)).stat() for module in (kernels, pictures)]
    written = " ".join(f"{source.st_mtime_ns} {source.st_size}" for source in sources)
    return f"{written} {numba.__version__} {np.__version__} {platform.processor()}"


def _train_all() -> None:
    for activation, optimiser in itertools.zip_longest(ACTIVATIONS, OPTIMISERS):
        _train({"activation": activation or "relu", "optimiser": optimiser or "sgd", "width": 5, "dropout": 0.5},
               "softmax")
    for name, loss in LOSSES.items():
        for choice in loss.slopes or ("squared",):
            _train({"depth": 0, "loss": choice}, name)
    for norm in ("batch", "layer"):
        _train({"depth": 1, "width": 2, "normalisation": norm}, "softmax")
    _train({"l1": 0.1, "max_norm": 1.0, "clip_norm": 1.0, "input_noise": 0.1, "mixing": 0.5, "accumulation": 2},
           "softmax")
    _train({"mixing": 0.5}, "squared")
    for activation in ("relu", "tanh", "gelu", "identity"):
        _train({"network": f"conv 2 {activation} drop 0.5, pool 2", "shift": 1, "averaging": 0.9}, "softmax", (4, 4, 1))
    for norm in ("batch", "layer"):
        _train({"network": f"conv 2 {norm} norm, conv 2, mean pool 2"}, "softmax", (4, 4, 1))


def _train(values: dict[str, object], loss: str, inputs: tuple[int, ...] = (2,)) -> None:
    recipe = Recipe(values)
    x = np.zeros((4, math.prod(inputs)), np.float32)
    y = np.zeros((4, 1), np.float32) if LOSSES[loss].amounts else np.array([0, 1, 0, 1], np.int32)
    outputs = 2 if loss == "softmax" else 1
    stack = Stack(StackShape.of(recipe, inputs, outputs, loss), 1, TrainingData(x, y, x, y, (1.0,)))
    stack.add(RunSpec(0, recipe, Streams(0)))
    stack.train_epoch()
