"""Biases, activations, and the way back through them."""

from __future__ import annotations

import math

import numpy as np
from numba import uint64 as _u

from axiarch.engine.codes import CALLED, ELU, GELU, LEAK, LEAKY_RELU, SIGMOID, SILU
from axiarch.engine.kernels.called import call_block
from axiarch.engine.kernels.options import inlined, kernel
from axiarch.engine.kernels.sums import total
from axiarch.engine.kernels.words import random_word

_ROOT_HALF = 0.7071067811865476
_ROOT_TWO_PI = 0.3989422804014327

#: Two to the power -i.
_HALVED = np.array([2.0**-i for i in range(128)], np.float32)
#: The base-2 logarithm of e, and the natural logarithm of 2 in two parts that add up to it.
_LOG2E, _LN2_HIGH, _LN2_LOW = np.float32(1.44269504088896341), np.float32(0.693359375), np.float32(
    -2.12194440e-4)
_E5, _E4, _E3 = np.float32(1.9875691500e-4), np.float32(1.3981999507e-3), np.float32(
    8.3334519073e-3)
_E2, _E1, _E0 = np.float32(4.1665795894e-2), np.float32(1.6666665459e-1), np.float32(
    5.0000001201e-1)
_ONE32, _HALF32, _LEAST32 = np.float32(1), np.float32(0.5), np.float32(-87)


@inlined
def exponential32(x):
    """Return the exponential of a float32 up to 0; below -87 it counts as -87.

    A polynomial on half a power of two either way (coefficients: Moshier's Cephes library, expf);
    within two units in the last place, and several numbers at a time.
    """
    x = _LEAST32 if x < _LEAST32 else x
    power = np.floor(x * _LOG2E + _HALF32)
    r = x - power * _LN2_HIGH - power * _LN2_LOW
    e = ((((_E5 * r + _E4) * r + _E3) * r + _E2) * r + _E1) * r + _E0
    return (e * r * r + r + _ONE32) * _HALVED[np.int32(-power) & np.int32(127)]


@kernel
def add_bias(a, at, p, bias, units, columns):
    """Add to each unit of the block (H, N) at `at` its bias."""
    for h in range(_u(units)):
        own, row = p[_u(bias) + h], _u(at) + h * _u(columns)
        for n in range(_u(columns)):
            a[row + n] += own


@kernel
def relu(a, at, p, bias, units, columns):
    """Replace the block (H, N) by ``max(z + bias, 0)``; a NaN stays a NaN."""
    zero = a.dtype.type(0)
    for h in range(_u(units)):
        own, row = p[_u(bias) + h], _u(at) + h * _u(columns)
        for n in range(_u(columns)):
            value = a[row + n] + own
            a[row + n] = zero if value < zero else value


@kernel
def relu_drop(a, at, p, bias, units, columns, key, first, threshold, scale, words, bits):
    """Do :func:`relu` and then ``words.drop`` in one pass."""
    zero = a.dtype.type(0)
    length = _u((columns + 3) // 4)
    for h in range(_u(units)):
        start = _u(first) + h * length
        for i in range(length):
            words[i] = random_word(key, start + i)
        own, row = p[_u(bias) + h], _u(at) + h * _u(columns)
        for n in range(_u(columns)):
            value = a[row + n] + own
            value = zero if value < zero else value
            a[row + n] = value * (scale if np.int32(bits[n]) >= threshold else zero)


@kernel
def tanh(a, at, p, bias, units, columns):
    """Replace the block (H, N) by ``tanh(z + bias)``.

    In float32 by the exponential, near zero by the series up to the seventh power: within 3e-7.
    """
    if a.itemsize == 8:
        for h in range(units):
            for n in range(columns):
                a[at + h * columns + n] = math.tanh(a[at + h * columns + n] + p[bias + h])
        return
    one, two, third = np.float32(1), np.float32(2), np.float32(1 / 3)
    fifth, seventh, near = np.float32(2 / 15), np.float32(17 / 315), np.float32(0.15)
    for h in range(_u(units)):
        own, row = p[_u(bias) + h], _u(at) + h * _u(columns)
        for n in range(_u(columns)):
            x = a[row + n] + own
            size = abs(x)
            small = exponential32(-two * size)
            far = (one - small) / (one + small)
            square = x * x
            series = size * (one - square * (third - square * (fifth - square * seventh)))
            value = series if size < near else far
            value = value if size == size else size
            a[row + n] = -value if x < 0 else value


@inlined
def curve(number, x):
    """Return an activation of a sum."""
    if number == LEAKY_RELU:
        return x if x > 0 else LEAK * x
    if number == ELU:
        return x if x > 0 else math.expm1(x)
    if number == GELU:
        return 0.5 * x * (1.0 + math.erf(x * _ROOT_HALF))
    small = math.exp(-abs(x))
    share = 1.0 / (1.0 + small) if x >= 0 else small / (1.0 + small)
    if number == SILU:
        return x * share
    if number == SIGMOID:
        return share
    return max(x, 0.0) + math.log1p(small)


@inlined
def slope(number, x):
    """Return the slope of an activation at a sum."""
    if number == LEAKY_RELU:
        return 1.0 if x > 0 else LEAK
    if number == ELU:
        return 1.0 if x > 0 else math.exp(x)
    if number == GELU:
        return 0.5 * (1.0 + math.erf(x * _ROOT_HALF)) + x * _ROOT_TWO_PI * math.exp(-0.5 * x * x)
    small = math.exp(-abs(x))
    share = 1.0 / (1.0 + small) if x >= 0 else small / (1.0 + small)
    if number == SILU:
        return share * (1.0 + x * (1.0 - share))
    if number == SIGMOID:
        return share * (1.0 - share)
    return share


@kernel
def bend(number, address, a, at, out, p, bias, units, columns):
    """Add the biases to the sums (H, N) at `at`, and put the curve `number` of them at `out`,
    which may be the same.
    """
    if number == CALLED:
        add_bias(a, at, p, bias, units, columns)
        call_block(address, a, out, a, at, units * columns)
        return
    for h in range(_u(units)):
        own, row, to = p[_u(bias) + h], _u(at) + h * _u(columns), _u(out) + h * _u(columns)
        for n in range(_u(columns)):
            value = a[row + n] + own
            a[row + n] = value
            a[to + n] = curve(number, value)


@kernel
def relu_back(d, at, a, out, units, columns, scale):
    """Turn the gradient (H, N) of a ReLU's dropped output into that of its sums: zero where the
    output is.
    """
    zero = d.dtype.type(0)
    for i in range(_u(units) * _u(columns)):
        d[_u(at) + i] *= scale if a[_u(out) + i] > zero else zero


@kernel
def tanh_back(d, at, a, out, units, columns, scale):
    """The same for tanh, where `d` has been through the masks of the step."""
    one = d.dtype.type(1)
    inverse = one / scale
    for i in range(_u(units) * _u(columns)):
        value = a[_u(out) + i] * inverse
        d[_u(at) + i] *= one - value * value


@kernel
def bend_back(number, address, d, at, a, sums, units, columns):
    """The same for the curve `number`, from its sums."""
    if number == CALLED:
        call_block(address, d, at, a, sums, units * columns)
        return
    for i in range(_u(units) * _u(columns)):
        d[_u(at) + i] *= slope(number, a[_u(sums) + i])


@kernel
def bias_gradient(d, at, g, bias, units, columns):
    """Put the sum over each unit of the block (H, N) into the gradients of the biases."""
    zero = d.dtype.type(0)
    for h in range(units):
        row = at + h * columns
        g[bias + h] = total(d, row, d, row, zero, columns)


@kernel
def add_block(a, at, other, to, numbers):
    """Put the sum of two blocks of so many numbers at `to`."""
    for i in range(_u(numbers)):
        a[_u(to) + i] = a[_u(at) + i] + a[_u(other) + i]


@kernel
def copy_block(a, at, to, numbers):
    """Copy a block of so many numbers."""
    for i in range(_u(numbers)):
        a[_u(to) + i] = a[_u(at) + i]
