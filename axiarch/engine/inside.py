"""What goes on inside a network: each layer's gradient, dead and saturated units, and how far
its weights move.
"""

from __future__ import annotations

import numpy as np
from numpy.typing import DTypeLike

from axiarch.engine.network import NetworkShape

#: A unit whose output differs by no more than this over all rows looked at is dead: it tells
#: nothing of its inputs.
SAME = 1e-7
#: A unit whose output is on average this near to a bound of its activation is saturated: its slope
#: is next to nothing.
NEAR = 0.97
#: Centre and reach of the activations that are bounded on both sides.
BOUNDED = {"tanh": (0.0, 1.0), "sigmoid": (0.5, 0.5)}

#: Of one layer after an epoch: the Euclidean norm of its weights' gradient at the last step, the
#: share of its units that gave the same output for every row looked at, how far the last step moved
#: its weights against their size, and the share of its units that are saturated.
LayerNumbers = tuple[float, float, float, float]


class Inside:
    """Follows the layers of a network through an epoch; compiled code fills its arrays.

    Attributes
    ----------
    before : (weights,) array
        The weights before the epoch's last step.
    low, high, level : (H,) arrays
        Of the units of all layers: the lowest and highest output seen, and the sum of how near
        outputs were to bounds.
    bounds : (L, 2) array
        Centre and reach of each layer's activation, 0 where it is not bounded.
    starts, positions : (L,) arrays
        Where each layer's units begin, and how many outputs each has for one example.
    found : (L, 4) array
        The numbers of every layer.
    """

    def __init__(self, shape: NetworkShape, dtype: DTypeLike) -> None:
        weighted = [p for p in shape.placed if p.weighted]
        sizes = [p.units for p in weighted]
        self.positions = np.array([p.positions for p in weighted], np.int64)
        units = np.cumsum([0, *sizes])
        self.before = np.zeros(shape.weights, dtype)
        self.starts = np.asarray(units[:-1], np.int64)
        self.low, self.high, self.level = (np.zeros(int(units[-1]), dtype) for _ in range(3))
        self.bounds = np.array([BOUNDED.get(p.layer.activation, (0.0, 0.0)) for p in weighted],
                               dtype)
        self.found = np.zeros((len(weighted), 4))

    def numbers(self) -> tuple[LayerNumbers, ...]:
        """Return the numbers of every layer, in four significant digits: they are many, and for
        looking at.
        """
        short = [
            float(each)
            for each in ("%.4g " * self.found.size % tuple(self.found.ravel().tolist())).split()
        ]
        return tuple((g, d, m, s) for g, d, m, s in zip(*[iter(short)] * 4, strict=True))
