"""First weights: drawn with a variance that keeps signals at their size from layer to layer."""

from __future__ import annotations

from collections.abc import Callable, Mapping

import numpy as np
from numpy.typing import NDArray

from axiarch.engine.network import StackShape
from axiarch.recipes.members import ACTIVATIONS

Draw = Callable[[np.random.Generator, int, int], NDArray[np.float64]]


def _normal(variance: Callable[[int, int], float]) -> Draw:
    return lambda rng, before, after: rng.normal(0.0, np.sqrt(variance(before, after)), (before, after))


def _uniform(variance: Callable[[int, int], float]) -> Draw:
    def draw(rng: np.random.Generator, before: int, after: int) -> NDArray[np.float64]:
        limit = np.sqrt(3.0 * variance(before, after))
        return rng.uniform(-limit, limit, (before, after))

    return draw


def orthogonal(rng: np.random.Generator, before: int, after: int) -> NDArray[np.float64]:
    """A matrix (before, after) with orthonormal rows or columns: Saxe et al. 2014."""
    q, r = np.linalg.qr(rng.normal(size=(max(before, after), min(before, after))))
    q = q * np.sign(np.diag(r))
    found: NDArray[np.float64] = q if before >= after else q.T
    return found


#: By name, each from fan-in and fan-out to a matrix (fan-in, fan-out): He et al. 2015 for rectifiers; Glorot & Bengio
#: 2010 for tanh; LeCun et al. 1998.
INITIALISATIONS: Mapping[str, Draw] = {
    "he": _normal(lambda i, o: 2.0 / i), "he_uniform": _uniform(lambda i, o: 2.0 / i),
    "glorot": _uniform(lambda i, o: 2.0 / (i + o)), "glorot_normal": _normal(lambda i, o: 2.0 / (i + o)),
    "lecun": _normal(lambda i, o: 1.0 / i), "orthogonal": orthogonal, "small": _normal(lambda i, o: 1e-4),
}


def first_weights(shape: StackShape, name: str, rng: np.random.Generator) -> NDArray[np.float64]:
    """Return the flat numbers (P,) of one run: weights drawn, gains and running variances 1, all else 0.

    The output layer is drawn by glorot whatever the hidden layers use: its sums pass no rectifier.
    """
    flat = np.zeros(shape.parameters)
    for placed in shape.placed:
        if not placed.weighted:
            continue
        before, after = placed.fan_in, placed.units
        auto = ACTIVATIONS[placed.layer.activation].initialisation
        own = "glorot" if placed is shape.placed[-1] else auto if name == "auto" else name
        flat[placed.weights : placed.weights + before * after] = INITIALISATIONS[own](rng, before, after).ravel()
        if placed.layer.norm != "none":
            flat[placed.gains : placed.gains + after] = 1.0
        if placed.layer.norm == "batch":
            flat[placed.kept + after : placed.kept + 2 * after] = 1.0
    return flat
