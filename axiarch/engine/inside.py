"""What goes on inside the networks of a stack: each layer's gradient, dead units, and how far its weights move."""

from __future__ import annotations

import numpy as np
from numpy.typing import DTypeLike, NDArray

from axiarch.engine import kernels
from axiarch.engine.layers import Pass
from axiarch.engine.network import Array, StackShape

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
    """Follows the layers of a stack's networks through an epoch.

    Parameters
    ----------
    slots : int
        K.
    """

    def __init__(self, shape: StackShape, slots: int, dtype: DTypeLike) -> None:
        weighted = [p for p in shape.placed if p.weighted]
        self._units = [p.units for p in weighted]
        self._parts = np.array([*(p.weights for p in weighted), shape.weights], np.int64)
        self._before = np.zeros((slots, shape.weights), dtype)
        starts = np.cumsum([0, *self._units])
        self._starts = [int(s) for s in starts[:-1]]
        self._low = np.zeros((slots, int(starts[-1])), dtype)
        self._high = np.zeros_like(self._low)
        self._level = np.zeros_like(self._low)
        self._bounds = [BOUNDED.get(p.layer.activation, (0.0, 0.0)) for p in weighted]
        self._looked = np.zeros(len(weighted))

    def before_last_step(self, flat: Array, active: int) -> None:
        """Keep where the weights stand."""
        self._before[:active] = flat[:active, : self._before.shape[1]]

    def start_looking(self) -> None:
        """Forget the outputs seen so far."""
        self._low[:] = np.inf
        self._high[:] = -np.inf
        self._level[:] = 0
        self._looked[:] = 0

    def look(self, evaluated: Pass, active: int, rows: int) -> None:
        """Take in the outputs of an evaluation's last rows."""
        layers = zip(evaluated.weighted, self._starts, self._bounds, strict=True)
        for i, ((units, each), start, (centre, reach)) in enumerate(layers):
            units.kernels.extremes(units.outputs, self._low, self._high, self._level, centre, reach, start, active,
                                   rows * each)
            self._looked[i] += rows * each

    def numbers(self, flat: Array, grads: Array, active: int) -> list[tuple[LayerNumbers, ...]]:
        """Return the numbers of every layer, for each slot."""
        slopes, sizes, moved = (np.zeros((active, len(self._units))) for _ in range(3))
        kernels.part_squares(grads, self._parts, slopes, active)
        kernels.part_squares(flat, self._parts, sizes, active)
        np.subtract(flat[:active, : self._before.shape[1]], self._before[:active], out=self._before[:active])
        kernels.part_squares(self._before, self._parts, moved, active)
        same = (self._high - self._low)[:active] <= SAME
        dead = np.add.reduceat(same, self._starts, axis=1, dtype=np.float64) / self._units
        near = self._level[:active] > NEAR * np.repeat(self._looked, self._units)
        full = np.add.reduceat(near, self._starts, axis=1, dtype=np.float64) / self._units
        moved = np.sqrt(np.divide(moved, sizes, out=np.zeros_like(moved), where=sizes > 0))
        found = _short(np.stack((np.sqrt(slopes), dead, moved, full), axis=2)).tolist()
        return [tuple((g, d, m, s) for g, d, m, s in layers) for layers in found]


def _short(values: NDArray[np.float64]) -> NDArray[np.float64]:
    """Return numbers in four significant digits: they are many, and for looking at."""
    with np.errstate(all="ignore"):
        places = 3 - np.floor(np.log10(np.abs(values)))
        up = 10.0 ** np.abs(places)
        short = np.where(places > 0, np.round(values * up) / up, np.round(values / up) * up)
    return np.where(np.isfinite(short), short, values)
