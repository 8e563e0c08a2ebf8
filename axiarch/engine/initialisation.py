"""First weights: drawn with a variance that keeps signals at their size from layer to layer."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from axiarch.engine.network import NetworkShape
from axiarch.recipes.members import activation

Floats = NDArray[np.float64]


@dataclass(frozen=True)
class Initialisation:
    """A variance of weights by fan-in and fan-out, and the distribution that its paper draws
    from.
    """

    variance: Callable[[int, int], float]
    usual: str = "normal"


#: By name: He et al. 2015 for rectifiers; Glorot & Bengio 2010 for tanh; LeCun et al. 1998.
INITIALISATIONS: Mapping[str, Initialisation] = {
    "he": Initialisation(lambda before, after: 2.0 / before),
    "glorot": Initialisation(lambda before, after: 2.0 / (before + after), "uniform"),
    "lecun": Initialisation(lambda before, after: 1.0 / before),
    "small": Initialisation(lambda before, after: 1e-4),
}


def drawn(name: str, distribution: str, rng: np.random.Generator, before: int,
          after: int) -> Floats:
    """Return the weights (fan-in, fan-out) of one layer.

    Parameters
    ----------
    distribution : {"usual", "normal", "uniform"}
        Both have the same variance; orthogonal weights have neither.
    """
    if name == "orthogonal":
        return orthogonal(rng, before, after)
    own = INITIALISATIONS[name]
    spread = np.sqrt(own.variance(before, after))
    if (own.usual if distribution == "usual" else distribution) == "uniform":
        return rng.uniform(-np.sqrt(3.0) * spread, np.sqrt(3.0) * spread, (before, after))
    return rng.normal(0.0, spread, (before, after))


def orthogonal(rng: np.random.Generator, before: int, after: int) -> NDArray[np.float64]:
    """A matrix (before, after) with orthonormal rows or columns: Saxe et al. 2014."""
    q, r = np.linalg.qr(rng.normal(size=(max(before, after), min(before, after))))
    q = q * np.sign(np.diag(r))
    found: NDArray[np.float64] = q if before >= after else q.T
    return found


def first_weights(shape: NetworkShape, name: str, rng: np.random.Generator,
                  distribution: str = "usual") -> NDArray[np.float64]:
    """Return the flat numbers (P,) of one run: weights drawn, norm scales and running variances 1,
    all else 0.

    The output layer is drawn by glorot whatever the hidden layers use: its sums pass no rectifier.
    """
    flat = np.zeros(shape.parameters)
    for placed in shape.placed:
        if not placed.weighted:
            continue
        before, after = placed.fan_in, placed.units
        auto = activation(placed.layer.activation).initialisation
        own, how = (auto if name == "auto" else name), distribution
        if placed is shape.placed[-1]:
            own, how = "glorot", "usual"
        weights = drawn(own, how, rng, before, after)
        flat[placed.weights : placed.weights + before * after] = weights.ravel()
        if placed.layer.norm != "none":
            flat[placed.norm_scales : placed.norm_scales + after] = 1.0
        if placed.layer.norm == "batch":
            flat[placed.kept + after : placed.kept + 2 * after] = 1.0
    return flat
