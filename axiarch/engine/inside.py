"""What goes on inside a network: each layer's gradient, dead and saturated units, and how far its weights move."""

from __future__ import annotations

import numpy as np
from numpy.typing import DTypeLike, NDArray

from axiarch.engine.kernels import limits
from axiarch.engine.network import Array, NetworkShape

#: A unit whose output differs by no more than this over all rows looked at is dead: it tells nothing of its inputs.
SAME = 1e-7
#: A unit whose output is on average this near to a bound of its activation is saturated: its slope is next to nothing.
NEAR = 0.97
#: Centre and reach of the activations that are bounded on both sides.
BOUNDED = {"tanh": (0.0, 1.0), "sigmoid": (0.5, 0.5)}

#: Of one layer after an epoch: the Euclidean norm of its weights' gradient at the last step, the share of its units
#: that gave the same output for every row looked at, how far the last step moved its weights against their size, and
#: the share of its units that are saturated.
LayerNumbers = tuple[float, float, float, float]


class Inside:
    """Follows the layers of a network through an epoch; compiled code fills its arrays.

    Attributes
    ----------
    before : (weights,) array
        The weights before the epoch's last step.
    low, high, level : (H,) arrays
        Of the units of all layers: the lowest and highest output seen, and the sum of how near outputs were to bounds.
    bounds : (L, 2) array
        Centre and reach of each layer's activation, 0 where it is not bounded.
    starts : (L,) array
        Where each layer's units begin.
    """

    def __init__(self, shape: NetworkShape, dtype: DTypeLike) -> None:
        weighted = [p for p in shape.placed if p.weighted]
        sizes = [p.units for p in weighted]
        self._positions = np.repeat([p.positions for p in weighted], sizes)
        units = np.cumsum([0, *sizes])
        self.before = np.zeros(shape.weights, dtype)
        self.starts = np.asarray(units[:-1], np.int64)
        self.low, self.high, self.level = (np.zeros(int(units[-1]), dtype) for _ in range(3))
        self.bounds = np.array([BOUNDED.get(p.layer.activation, (0.0, 0.0)) for p in weighted], dtype)
        self._found = np.zeros((len(weighted), 4))
        self._looked = np.zeros(len(self.low))

    def start_looking(self) -> None:
        """Forget the outputs seen so far."""
        self.low[:] = np.inf
        self.high[:] = -np.inf
        self.level[:] = 0

    def looked(self, rows: int) -> None:
        """Take in how many rows the outputs seen were of."""
        np.multiply(self._positions, rows, out=self._looked)

    def numbers(self, flat: Array, grads: Array, parts: NDArray[np.int64]) -> tuple[LayerNumbers, ...]:
        """Return the numbers of every layer, in four significant digits; `parts` (L + 1,) are where weights begin."""
        limits.layer_numbers(grads, flat, self.before, parts, self.low, self.high, self.level, self.starts,
                             self._looked, SAME, NEAR, self._found)
        return tuple((_short(g), d, _short(m), s) for g, d, m, s in self._found.tolist())


def _short(value: float) -> float:
    """Return a number in four significant digits: they are many, and for looking at."""
    return float(f"{value:.4g}")
