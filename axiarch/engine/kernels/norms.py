"""Normalisation: sums become ``gain (z - mean) / sqrt(variance + EPSILON)``; biases are added by
the activation.
"""

from __future__ import annotations

import numpy as np
from numba import uint64 as _u

from axiarch.engine.codes import EPSILON
from axiarch.engine.kernels.options import kernel
from axiarch.engine.kernels.sums import along, squares_about, total

#: The share of a batch's mean and variance that goes into the running ones.
RUNNING = 0.1


@kernel
def batch_norm(a, at, scaled, spread, p, scales, kept, training, units, columns):
    """Batch normalisation (Ioffe & Szegedy 2015) of the sums (H, N) at `at` in place, each unit
    over its columns.

    In training with the batch's own mean and (biased) variance, which also move the running ones at
    `kept` (2, H) of `p`; else with those. `scaled` (H, N) keeps what the way back needs, `spread`
    (H,) one over the root.
    """
    one, zero = a.dtype.type(1), a.dtype.type(0)
    part = one / a.dtype.type(columns)
    epsilon, share = a.dtype.type(EPSILON), a.dtype.type(RUNNING)
    for h in range(_u(units)):
        row, own = _u(at) + h * _u(columns), _u(scaled) + h * _u(columns)
        gain = p[_u(scales) + h]
        running, spreading = _u(kept) + h, _u(kept) + _u(units) + h
        if training:
            mean = part * total(a, row, a, row, zero, columns)
            square = part * squares_about(a, row, a, row, mean, columns)
            p[running] += share * (mean - p[running])
            p[spreading] += share * (square - p[spreading])
        else:
            mean, square = p[running], p[spreading]
        narrow = one / np.sqrt(square + epsilon)
        a[_u(spread) + h] = narrow
        for n in range(_u(columns)):
            value = (a[row + n] - mean) * narrow
            a[own + n] = value
            a[row + n] = value * gain


@kernel
def batch_norm_back(d, at, a, scaled, spread, p, g, scales, units, columns):
    """Turn the gradient (H, N) of normalised sums into that of the sums, and put the scales' into
    `g`.
    """
    part, zero = d.dtype.type(1) / d.dtype.type(columns), d.dtype.type(0)
    for h in range(_u(units)):
        row, own = _u(at) + h * _u(columns), _u(scaled) + h * _u(columns)
        g[_u(scales) + h] = along(d, row, a, own, zero, columns)
        sloped = part * g[_u(scales) + h]
        plain = part * total(d, row, d, row, zero, columns)
        steep = p[_u(scales) + h] * a[_u(spread) + h]
        for n in range(_u(columns)):
            d[row + n] = steep * (d[row + n] - plain - a[own + n] * sloped)


@kernel
def layer_norm(a, at, scaled, spread, p, scales, units, columns, room):
    """Layer normalisation (Ba et al. 2016) of the sums (H, N) in place: each column over its units.

    `spread` is (N,); `room` (N,) is used up.
    """
    one, zero = a.dtype.type(1), a.dtype.type(0)
    part, epsilon = one / a.dtype.type(units), a.dtype.type(EPSILON)
    square = _u(spread)
    for n in range(_u(columns)):
        room[n] = zero
        a[square + n] = zero
    for h in range(_u(units)):
        row = _u(at) + h * _u(columns)
        for n in range(_u(columns)):
            room[n] += a[row + n]
    for n in range(_u(columns)):
        room[n] *= part
    for h in range(_u(units)):
        row = _u(at) + h * _u(columns)
        for n in range(_u(columns)):
            away = a[row + n] - room[n]
            a[square + n] += away * away
    for n in range(_u(columns)):
        a[square + n] = one / np.sqrt(a[square + n] * part + epsilon)
    for h in range(_u(units)):
        row, own, gain = _u(at) + h * _u(columns), _u(scaled) + h * _u(columns), p[_u(scales) + h]
        for n in range(_u(columns)):
            value = (a[row + n] - room[n]) * a[square + n]
            a[own + n] = value
            a[row + n] = value * gain


@kernel
def layer_norm_back(d, at, a, scaled, spread, p, g, scales, units, columns, room, more):
    """As :func:`batch_norm_back`, for :func:`layer_norm`; `room` and `more` (N,) are used up."""
    part, zero = d.dtype.type(1) / d.dtype.type(units), d.dtype.type(0)
    for n in range(_u(columns)):
        room[n] = zero
        more[n] = zero
    for h in range(_u(units)):
        row, own, gain = _u(at) + h * _u(columns), _u(scaled) + h * _u(columns), p[_u(scales) + h]
        g[_u(scales) + h] = along(d, row, a, own, zero, columns)
        for n in range(_u(columns)):
            value = d[row + n] * gain
            d[row + n] = value
            room[n] += value
            more[n] += value * a[own + n]
    for h in range(_u(units)):
        row, own = _u(at) + h * _u(columns), _u(scaled) + h * _u(columns)
        for n in range(_u(columns)):
            d[row +
              n] = a[_u(spread) + n] * (d[row + n] - part * room[n] - part * a[own + n] * more[n])
