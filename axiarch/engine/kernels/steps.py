"""Optimisers: one step on the flat buffers. Weights come first; only they are pulled by L2 and
shrunk by decay.

Each takes a stretch (n,) of weights, of their gradients, and of each moment that it keeps; `c` are
the coefficients of the step, `l2` and `decay` those that hold for the stretch.
"""

from __future__ import annotations

import math

import numpy as np

from axiarch.engine.codes import (
    ADADELTA,
    ADAGRAD,
    ADAM,
    AMSGRAD,
    CALLED,
    LAMB,
    LION,
    MOMENTUM,
    NADAM,
    NESTEROV,
    RMSPROP,
    SGD,
)
from axiarch.engine.kernels.called import call_step
from axiarch.engine.kernels.options import kernel

#: Moments smaller than this are set to zero: denormal numbers would make every later product many
#: times slower. Where a second moment is, the first is too, however small epsilon: a gradient below
#: 1e-18 counts as none.
TINY = 1e-30
TINY_SQUARE = 1e-36


@kernel
def sgd(w, g, rate, l2, decay):
    """``w -= rate (g + l2 w) + decay w``; coefficients: rate, l2, decay (rate included)."""
    for i in range(w.shape[0]):
        w[i] -= rate * (g[i] + l2 * w[i]) + decay * w[i]


@kernel
def momentum(w, g, s, rate, l2, decay, mu, ahead):
    """``v = mu v + g; w -= rate v`` (Polyak 1964), or `ahead` ``w -= rate (g + mu v)`` (Nesterov
    1983, as Sutskever et al. 2013); coefficients: rate, l2, decay, mu.
    """
    tiny, zero = w.dtype.type(TINY), w.dtype.type(0)
    for i in range(w.shape[0]):
        slope = g[i] + l2 * w[i]
        value = mu * s[i] + slope
        value = zero if abs(value) < tiny else value
        s[i] = value
        w[i] -= rate * (slope + mu * value if ahead else value) + decay * w[i]


@kernel
def adagrad(w, g, s, c, l2, decay):
    """``s += g g; w -= rate g / (sqrt(s) + epsilon)`` (Duchi et al. 2011); coefficients: rate,
    l2, decay, epsilon.
    """
    for i in range(w.shape[0]):
        slope = g[i] + l2 * w[i]
        square = s[i] + slope * slope
        s[i] = square
        w[i] -= c[0] * slope / (np.sqrt(square) + c[3]) + decay * w[i]


@kernel
def adadelta(w, g, s, v, c, l2, decay):
    """AdaDelta (Zeiler 2012), its step times the rate; coefficients as rmsprop, epsilon inside
    both roots.
    """
    tiny_square, zero = w.dtype.type(TINY_SQUARE), w.dtype.type(0)
    for i in range(w.shape[0]):
        slope = g[i] + l2 * w[i]
        square = c[3] * s[i] + c[4] * slope * slope
        square = zero if square < tiny_square else square
        s[i] = square
        step = np.sqrt((v[i] + c[5]) / (square + c[5])) * slope
        moved = c[3] * v[i] + c[4] * step * step
        v[i] = zero if moved < tiny_square else moved
        w[i] -= c[0] * step + decay * w[i]


@kernel
def rmsprop(w, g, s, c, l2, decay):
    """``s = rho s + (1 - rho) g g; w -= rate g / (sqrt(s) + epsilon)`` (Tieleman & Hinton 2012).

    Coefficients: rate, l2, decay, rho, 1 - rho, epsilon.
    """
    tiny_square, zero = w.dtype.type(TINY_SQUARE), w.dtype.type(0)
    for i in range(w.shape[0]):
        slope = g[i] + l2 * w[i]
        square = c[3] * s[i] + c[4] * slope * slope
        small = square < tiny_square
        slope = zero if small else slope
        square = zero if small else square
        s[i] = square
        w[i] -= c[0] * slope / (np.sqrt(square) + c[5]) + decay * w[i]


@kernel
def adam(w, g, s, v, c, l2, decay):
    """Adam (Kingma & Ba 2015, algorithm 1: epsilon outside the root of the corrected second
    moment).

    Coefficients: rate / (1 - beta1^t), l2, decay, beta1, 1 - beta1, beta2, 1 - beta2, 1 / sqrt(1 -
    beta2^t), epsilon. L2 joins the gradient; decay bypasses the moments (Loshchilov & Hutter 2019).
    """
    tiny, tiny_square, zero = w.dtype.type(TINY), w.dtype.type(TINY_SQUARE), w.dtype.type(0)
    rate, beta1, rest1, beta2, rest2, root, epsilon = c[0], c[3], c[4], c[5], c[6], c[7], c[8]
    for i in range(w.shape[0]):
        slope = g[i] + l2 * w[i]
        mean = beta1 * s[i] + rest1 * slope
        square = beta2 * v[i] + rest2 * slope * slope
        small = square < tiny_square
        mean = zero if small or abs(mean) < tiny else mean
        square = zero if small else square
        s[i] = mean
        v[i] = square
        w[i] -= rate * mean / (np.sqrt(square) * root + epsilon) + decay * w[i]


@kernel
def nadam(w, g, s, v, c, l2, decay):
    """NAdam (Dozat 2016) with a constant beta1: Adam whose numerator looks one step ahead.

    Coefficients as adam, but the rate as it is; then beta1 / (1 - beta1^(t+1)) and (1 - beta1) / (1
    - beta1^t).
    """
    tiny, tiny_square, zero = w.dtype.type(TINY), w.dtype.type(TINY_SQUARE), w.dtype.type(0)
    for i in range(w.shape[0]):
        slope = g[i] + l2 * w[i]
        mean = c[3] * s[i] + c[4] * slope
        square = c[5] * v[i] + c[6] * slope * slope
        small = square < tiny_square
        mean = zero if small or abs(mean) < tiny else mean
        square = zero if small else square
        slope = zero if small else slope
        s[i] = mean
        v[i] = square
        w[i] -= c[0] * (c[9] * mean + c[10] * slope) / (np.sqrt(square) * c[7] +
                                                        c[8]) + decay * w[i]


@kernel
def amsgrad(w, g, s, v, most, c, l2, decay):
    """AMSGrad (Reddi et al. 2018): Adam with the largest second moment so far, corrected as Adam's
    is.

    Coefficients as adam.
    """
    tiny, tiny_square, zero = w.dtype.type(TINY), w.dtype.type(TINY_SQUARE), w.dtype.type(0)
    for i in range(w.shape[0]):
        slope = g[i] + l2 * w[i]
        mean = c[3] * s[i] + c[4] * slope
        square = c[5] * v[i] + c[6] * slope * slope
        small = square < tiny_square
        mean = zero if small or abs(mean) < tiny else mean
        square = zero if small else square
        s[i] = mean
        v[i] = square
        largest = max(most[i], square)
        most[i] = largest
        w[i] -= c[0] * mean / (np.sqrt(largest) * c[7] + c[8]) + decay * w[i]


@kernel
def lion(w, g, s, c, l2, decay):
    """Lion (Chen et al. 2023): ``w -= rate sign(beta1 m + (1 - beta1) g)``, then ``m = beta2 m + (1
    - beta2) g``.

    Coefficients: rate, l2, decay, beta1, 1 - beta1, beta2, 1 - beta2.
    """
    tiny, zero, one = w.dtype.type(TINY), w.dtype.type(0), w.dtype.type(1)
    for i in range(w.shape[0]):
        slope = g[i] + l2 * w[i]
        ahead = c[3] * s[i] + c[4] * slope
        mean = c[5] * s[i] + c[6] * slope
        s[i] = zero if abs(mean) < tiny else mean
        step = one if ahead > 0 else (-one if ahead < 0 else zero)
        w[i] -= c[0] * step + decay * w[i]


@kernel
def lamb(w, g, s, c, size, weights, trained, starts):
    """LAMB (You et al. 2020): Adam's step and the decay, of each layer scaled to the size of its
    weights.

    Coefficients as adam, but the rate and the decay as they are, then 1 / (1 - beta1^t). `starts`
    are where each layer's weights begin, and where the last ends. Biases and norm scales step as
    Adam's.
    """
    tiny, tiny_square = w.dtype.type(TINY), w.dtype.type(TINY_SQUARE)
    zero, one = w.dtype.type(0), w.dtype.type(1)
    for i in range(trained):
        slope = g[i] + (c[1] * w[i] if i < weights else zero)
        mean = c[3] * s[i] + c[4] * slope
        square = c[5] * s[size + i] + c[6] * slope * slope
        small = square < tiny_square
        s[i] = zero if small or abs(mean) < tiny else mean
        s[size + i] = zero if small else square
    for part in range(starts.shape[0]):
        first = starts[part]
        last = starts[part + 1] if part + 1 < starts.shape[0] else trained
        scaled = first < weights
        decay = c[2] if scaled else zero
        length, step = 0.0, 0.0
        for i in range(first, last):
            way = c[9] * s[i] / (np.sqrt(s[size + i]) * c[7] + c[8]) + decay * w[i]
            length += np.float64(w[i]) * np.float64(w[i])
            step += np.float64(way) * np.float64(way)
        trust = w.dtype.type(math.sqrt(length /
                                       step)) if scaled and length > 0 and step > 0 else one
        for i in range(first, last):
            way = c[9] * s[i] / (np.sqrt(s[size + i]) * c[7] + c[8]) + decay * w[i]
            w[i] -= c[0] * trust * way


@kernel
def optimise(number, address, w, g, s, c, size, weights, trained, starts):
    """Make the step of an optimiser by its number: of the weights, then of all else, without L2
    and decay.
    """
    if number == LAMB:
        lamb(w, g, s, c, size, weights, trained, starts)
        return
    if number == CALLED:
        call_step(address, w, g, s, c, size, weights, trained)
        return
    zero = w.dtype.type(0)
    for part in range(2):
        first, last = (0, weights) if part == 0 else (weights, trained)
        l2, decay = (c[1], c[2]) if part == 0 else (zero, zero)
        own, slope = w[first:last], g[first:last]
        one, two = s[first:last], s[size + first:size + last]
        if number == ADAM:
            adam(own, slope, one, two, c, l2, decay)
        elif number == SGD:
            sgd(own, slope, c[0], l2, decay)
        elif number == MOMENTUM or number == NESTEROV:  # noqa: SIM109  (plain for the compiler)
            momentum(own, slope, one, c[0], l2, decay, c[3], number == NESTEROV)
        elif number == ADAGRAD:
            adagrad(own, slope, one, c, l2, decay)
        elif number == ADADELTA:
            adadelta(own, slope, one, two, c, l2, decay)
        elif number == RMSPROP:
            rmsprop(own, slope, one, c, l2, decay)
        elif number == NADAM:
            nadam(own, slope, one, two, c, l2, decay)
        elif number == AMSGRAD:
            amsgrad(own, slope, one, two, s[2 * size + first:2 * size + last], c, l2, decay)
        elif number == LION:
            lion(own, slope, one, c, l2, decay)
