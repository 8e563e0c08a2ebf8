"""First weights: uniform or normal with a variance that keeps signals at their size from layer to layer."""

from __future__ import annotations

from collections.abc import Callable, Mapping

import numpy as np
from numpy.typing import NDArray

from axiarch.engine.network import StackShape

Draw = Callable[[np.random.Generator, int, int], NDArray[np.float64]]


def he(rng: np.random.Generator, before: int, after: int) -> NDArray[np.float64]:
    """Normal with variance 2 / fan-in, shape (before, after): He et al. 2015, for rectifiers."""
    return rng.normal(0.0, np.sqrt(2.0 / before), (before, after))


def glorot(rng: np.random.Generator, before: int, after: int) -> NDArray[np.float64]:
    """Uniform with variance 2 / (fan-in + fan-out), shape (before, after): Glorot & Bengio 2010, for tanh."""
    limit = np.sqrt(6.0 / (before + after))
    return rng.uniform(-limit, limit, (before, after))


#: By name; ``auto`` is looked up by activation.
INITIALISATIONS: Mapping[str, Draw] = {"he": he, "glorot": glorot}
_AUTO: Mapping[str, str] = {"relu": "he", "tanh": "glorot"}


def first_weights(shape: StackShape, name: str, rng: np.random.Generator) -> NDArray[np.float64]:
    """Return the flat parameters (P,) of one run; biases and nothing else are zero.

    The output layer is drawn by glorot whatever the hidden layers use: its logits pass no rectifier.
    """
    hidden = INITIALISATIONS[_AUTO[shape.activation] if name == "auto" else name]
    flat = np.zeros(shape.parameters)
    last = len(shape.pairs) - 1
    for i, (offset, (before, after)) in enumerate(zip(shape.weight_offsets, shape.pairs, strict=True)):
        draw = glorot if i == last else hidden
        flat[offset : offset + before * after] = draw(rng, before, after).ravel()
    return flat
