"""What is done to gradients before a step, and to weights after it; and what is measured of
both.
"""

from __future__ import annotations

import math

import numpy as np
from numba import uint64 as _u

from axiarch.engine.kernels.options import kernel
from axiarch.engine.kernels.sums import squares, squares_between


@kernel
def sum_of_squares(values, first, last):
    """Return the sum of squares of a stretch of `values`, in float64."""
    return squares(values, first, values, first, 0.0, last - first)


@kernel
def pull_l1(w, g, strength, weights):
    """Add ``strength sign(w)`` to the gradients of the weights: the slope of an L1 penalty."""
    for i in range(weights):
        if w[i] > 0:
            g[i] += strength
        elif w[i] < 0:
            g[i] -= strength


@kernel
def clip(g, norm, value, trained):
    """Cut each gradient to `value`, then the whole to the Euclidean norm `norm`; 0 is no limit.

    Pascanu et al. 2013. A gradient that is not finite is left as it is, to be seen.
    """
    if value > 0:
        for i in range(trained):
            if g[i] > value:
                g[i] = value
            elif g[i] < -value:
                g[i] = -value
    if norm > 0:
        size = math.sqrt(sum_of_squares(g, 0, trained))
        if norm < size < np.inf:
            scale = g.dtype.type(norm / size)
            for i in range(trained):
                g[i] *= scale


@kernel
def max_norm(w, first, fan, units, limit):
    """Scale down the weights into each unit, a column of (I, H) at `first`, to a norm (Srebro &
    Shraibman 2005).
    """
    for h in range(units):
        total = 0.0
        for i in range(fan):
            value = np.float64(w[first + i * units + h])
            total += value * value
        size = math.sqrt(total)
        if limit < size < np.inf:
            scale = w.dtype.type(limit / size)
            for i in range(fan):
                w[first + i * units + h] *= scale


@kernel
def average(s, mean, w, size, memory, steps):
    """Move the running mean of weights at `mean` of `s` towards `w` (P,): faster at first, so that
    the start is soon forgotten.
    """
    early = (1.0 + steps) / (10.0 + steps)
    share = w.dtype.type(1.0 - min(memory, early))
    for i in range(size):
        s[mean + i] += share * (w[i] - s[mean + i])


@kernel
def gather_gradients(gathered, g, share, size, first):
    """Add the gradients times `share` to those gathered; at the `first` of several batches begin
    with them.
    """
    for i in range(size):
        gathered[i] = share * g[i] + (g.dtype.type(0) if first else gathered[i])


@kernel
def extremes(a, at, units, columns, low, high, level, centre, reach, start):
    """Widen ``low[start:]`` and ``high[start:]`` by the outputs (H, N) of a layer.

    Where the outputs are bounded, to `reach` about `centre`, how near they are to their bounds is
    added to `level`.
    """
    for h in range(_u(units)):
        row = _u(at) + h * _u(columns)
        least, most = low[start + h], high[start + h]
        for n in range(_u(columns)):
            value = a[row + n]
            least = value if value < least else least
            most = value if value > most else most
        low[start + h], high[start + h] = least, most
        if reach > 0:
            near = a.dtype.type(0)
            for n in range(_u(columns)):
                near += abs(a[row + n] - centre) / reach
            level[start + h] += near


@kernel
def layer_numbers(grads, flat, before, parts, low, high, level, starts, positions, rows, same, near,
                  found):
    """Put into `found` (L, 4) what an epoch says of each layer.

    The norm of its weights' gradient, the share of its units whose outputs differ by no more than
    `same`, how far the last step moved its weights against their size, and the share of its units
    that are on average within `near` of a bound. Of each unit `rows` times its layer's `positions`
    (L,) outputs were seen.
    """
    layers = starts.shape[0]
    for k in range(layers):
        first, last = parts[k], parts[k + 1]
        size = sum_of_squares(flat, first, last)
        moved = squares_between(flat, first, before, first, 0.0, last - first)
        start, stop = starts[k], starts[k + 1] if k + 1 < layers else low.shape[0]
        dead, full = 0, 0
        for h in range(start, stop):
            dead += high[h] - low[h] <= same
            full += level[h] > near * rows * positions[k]
        found[k, 0] = math.sqrt(sum_of_squares(grads, first, last))
        found[k, 1] = dead / (stop - start)
        found[k, 2] = math.sqrt(moved / size) if size > 0 else 0.0
        found[k, 3] = full / (stop - start)
