"""Fused element-wise kernels: everything that is not a matrix product, in one pass over memory each.

All arrays are C-contiguous with the stack K first; only the first `active` slots and the first `rows`
of a batch are touched. No kernel mixes slots, and every sum runs in a fixed order, so a slot's bits do
not depend on what trains beside it. Kernels work in the arrays' own type (float32 or float64).

Random bits of dropout come from the counter-based generator SplitMix64 (Steele, Lea & Flood,
"Fast splittable pseudorandom number generators", OOPSLA 2014): the mask of a step is a pure function
of the run's key and the position, so nothing needs storing, drawing ahead or restoring.
"""

from __future__ import annotations

import math

import numpy as np
from numba import njit

#: Dropout compares sixteen random bits with a threshold; its rate is therefore a multiple of 1/65536.
DROPOUT_STEPS = 65536
#: Moments smaller than this are set to zero: denormal numbers would make every later product many times slower.
TINY = 1e-30
TINY_SQUARE = 1e-36

_GAMMA = np.uint64(0x9E3779B97F4A7C15)
_MIX1 = np.uint64(0xBF58476D1CE4E5B9)
_MIX2 = np.uint64(0x94D049BB133111EB)
_S30, _S27, _S31, _S16 = np.uint64(30), np.uint64(27), np.uint64(31), np.uint64(16)
_LOW16 = np.uint64(0xFFFF)
_FOUR = np.uint64(4)


@njit(cache=True, error_model="numpy", inline="always")
def _word(key, index):
    """Return SplitMix64's output number `index` for the seed `key`: sixty-four random bits."""
    z = key + (index + np.uint64(1)) * _GAMMA
    z = (z ^ (z >> _S30)) * _MIX1
    z = (z ^ (z >> _S27)) * _MIX2
    return z ^ (z >> _S31)


@njit(cache=True, error_model="numpy")
def words_per_row(units):
    """Return how many 64-bit words one row of `units` H takes, four units a word."""
    return (units + 3) // 4


@njit(cache=True, error_model="numpy")
def add_bias(z, params, offset, active, rows):
    """Add to `z` (K, B, H) the biases at ``params[k, offset:offset + H]``."""
    units = z.shape[2]
    for k in range(active):
        bias = params[k, offset : offset + units]
        for b in range(rows):
            row = z[k, b]
            for h in range(units):
                row[h] += bias[h]


@njit(cache=True, error_model="numpy")
def relu(z, params, offset, active, rows):
    """Replace `z` (K, B, H) by ``max(z + bias, 0)``; a NaN stays a NaN."""
    units = z.shape[2]
    zero = z.dtype.type(0)
    for k in range(active):
        bias = params[k, offset : offset + units]
        for b in range(rows):
            row = z[k, b]
            for h in range(units):
                value = row[h] + bias[h]
                row[h] = zero if value < zero else value


@njit(cache=True, error_model="numpy")
def drop(a, thresholds, scales, keys, first_words, active, rows):
    """Apply inverted dropout to `a` (K, B, H) in place (Srivastava et al. 2014).

    A unit is silenced where its sixteen bits are below ``thresholds[k]``; the others are multiplied by
    ``scales[k]``, so the expected activation stays the same.
    """
    units = a.shape[2]
    zero = a.dtype.type(0)
    per_row = np.uint64(words_per_row(units))
    whole = units // 4 * 4
    for k in range(active):
        threshold = thresholds[k]
        if threshold == 0:
            continue
        scale = scales[k]
        for b in range(rows):
            index = first_words[k] + np.uint64(b) * per_row
            for h in range(0, whole, 4):
                word = _word(keys[k], index)
                index += np.uint64(1)
                a[k, b, h] *= scale if (word & _LOW16) >= threshold else zero
                a[k, b, h + 1] *= scale if ((word >> _S16) & _LOW16) >= threshold else zero
                a[k, b, h + 2] *= scale if ((word >> np.uint64(32)) & _LOW16) >= threshold else zero
                a[k, b, h + 3] *= scale if (word >> np.uint64(48)) >= threshold else zero
            if whole < units:
                word = _word(keys[k], index)
                for h in range(whole, units):
                    a[k, b, h] *= scale if (word & _LOW16) >= threshold else zero
                    word >>= _S16


@njit(cache=True, error_model="numpy")
def relu_backward(d, a, grads, offset, scales, active, rows):
    """Turn the gradient `d` (K, B, H) of a ReLU's dropped output `a` into that of its sum, and add up the biases'.

    Where `a` is zero the unit was below zero or silenced, and nothing flows back.
    """
    units = d.shape[2]
    zero = d.dtype.type(0)
    for k in range(active):
        scale = scales[k]
        total = grads[k, offset : offset + units]
        total[:] = zero
        for b in range(rows):
            slope, output = d[k, b], a[k, b]
            for h in range(units):
                slope[h] = slope[h] * (scale if output[h] > zero else zero)
            for h in range(units):
                total[h] += slope[h]


@njit(cache=True, error_model="numpy")
def tanh_backward(d, a, grads, offset, scales, active, rows):
    """As :func:`relu_backward` for tanh, where `d` has been through :func:`drop` with the masks of the step."""
    units = d.shape[2]
    zero = d.dtype.type(0)
    one = d.dtype.type(1)
    for k in range(active):
        inverse = one / scales[k]
        total = grads[k, offset : offset + units]
        total[:] = zero
        for b in range(rows):
            slope, output = d[k, b], a[k, b]
            for h in range(units):
                value = output[h] * inverse
                slope[h] *= one - value * value
            for h in range(units):
                total[h] += slope[h]


@njit(cache=True, error_model="numpy")
def sum_rows(d, grads, offset, active, rows):
    """Put the sum of `d` (K, B, H) over the batch into ``grads[k, offset:offset + H]``."""
    units = d.shape[2]
    zero = d.dtype.type(0)
    for k in range(active):
        total = grads[k, offset : offset + units]
        total[:] = zero
        for b in range(rows):
            row = d[k, b]
            for h in range(units):
                total[h] += row[h]


@njit(cache=True, error_model="numpy")
def softmax_loss(z, labels, losses, sums, gradient, active, rows):
    """Softmax cross-entropy with integer labels, shifted by the largest logit so that nothing overflows.

    Parameters
    ----------
    z : (K, B, C) array
        Logits; replaced by their gradient of the mean loss, ``(p - onehot) / rows``, if `gradient`.
    labels : (K, B) int32 array
    losses, sums : (K,) and (K, 1) float64 arrays
        The summed loss in nats and the number of rows whose largest logit is the label are added.
    """
    classes = z.shape[2]
    share = z.dtype.type(1) / z.dtype.type(rows)
    one = z.dtype.type(1)
    for k in range(active):
        total = 0.0
        hit = 0
        for b in range(rows):
            label = labels[k, b]
            top = z[k, b, 0]
            arg = 0
            for c in range(1, classes):
                if z[k, b, c] > top:
                    top = z[k, b, c]
                    arg = c
            own = z[k, b, label] - top
            norm = z.dtype.type(0)
            for c in range(classes):
                value = math.exp(z[k, b, c] - top)
                norm += value
                if gradient:
                    z[k, b, c] = value
            total += math.log(norm) - own
            if arg == label and own == own:
                hit += 1
            if gradient:
                inverse = share / norm
                for c in range(classes):
                    z[k, b, c] *= inverse
                z[k, b, label] -= one * share
        losses[k] += total
        sums[k, 0] += hit


@njit(cache=True, error_model="numpy")
def binary_loss(z, labels, losses, sums, gradient, active, rows):
    """Binary cross-entropy from logits, ``max(z, 0) - z y + log(1 + exp(-|z|))``, which never overflows.

    `z` is (K, B, 1); the rest as in :func:`softmax_loss`, the labels being 0 or 1.
    """
    one = z.dtype.type(1)
    share = one / z.dtype.type(rows)
    for k in range(active):
        total = 0.0
        hit = 0
        for b in range(rows):
            value = z[k, b, 0]
            label = labels[k, b]
            small = math.exp(-abs(value))
            total += max(value, z.dtype.type(0)) - value * label + math.log1p(small)
            if (value > 0) == (label == 1) and value == value:
                hit += 1
            if gradient:
                p = one / (one + small) if value >= 0 else small / (one + small)
                z[k, b, 0] = (p - label) * share
        losses[k] += total
        sums[k, 0] += hit


@njit(cache=True, error_model="numpy")
def squared_loss(z, targets, losses, sums, gradient, active, rows):
    """Mean over T targets of the squared difference.

    Parameters
    ----------
    z : (K, B, T) array
        Outputs; replaced by the gradient of the mean loss, ``2 (z - y) / (T rows)``, if `gradient`.
    targets : (K, B, T) array
    losses, sums : (K,) and (K, 2 T) float64 arrays
        The summed loss is added, and for each target the sum of squares, then of absolute differences.
    """
    count = z.shape[2]
    slope = z.dtype.type(2) / z.dtype.type(rows * count)
    for k in range(active):
        for t in range(count):
            squared = 0.0
            absolute = 0.0
            for b in range(rows):
                away = z[k, b, t] - targets[k, b, t]
                squared += float(away) * float(away)
                absolute += abs(float(away))
                if gradient:
                    z[k, b, t] = slope * away
            sums[k, t] += squared
            sums[k, count + t] += absolute
            losses[k] += squared / count


@njit(cache=True, error_model="numpy")
def squares(values, sums, active):
    """Put the sum of squares of each row of `values` (K, P) into `sums` (K,) float64."""
    for k in range(active):
        total = 0.0
        for p in range(values.shape[1]):
            total += float(values[k, p]) * float(values[k, p])
        sums[k] = total


# -- optimisers: one step on the flat buffers; ``coefficients`` (K, n) are those of the step. Weights come before
#    biases, which are neither pulled by L2 nor shrunk by decay ------------------------------------------------------


@njit(cache=True, error_model="numpy")
def _sgd(w, g, rate, l2, decay):
    for p in range(w.shape[0]):
        w[p] -= rate * (g[p] + l2 * w[p]) + decay * w[p]


@njit(cache=True, error_model="numpy")
def sgd_step(w, g, state, coefficients, slots, weights):
    """``w -= rate (g + l2 w) + decay w``; coefficients: rate, l2, decay (rate included)."""
    zero = w.dtype.type(0)
    for i in range(slots.shape[0]):
        k = slots[i]
        c = coefficients[k]
        _sgd(w[k, :weights], g[k, :weights], c[0], c[1], c[2])
        _sgd(w[k, weights:], g[k, weights:], c[0], zero, zero)


@njit(cache=True, error_model="numpy")
def _momentum(w, g, v, rate, l2, decay, mu):
    tiny = w.dtype.type(TINY)
    zero = w.dtype.type(0)
    for p in range(w.shape[0]):
        value = mu * v[p] + (g[p] + l2 * w[p])
        value = zero if abs(value) < tiny else value
        v[p] = value
        w[p] -= rate * value + decay * w[p]


@njit(cache=True, error_model="numpy")
def momentum_step(w, g, state, coefficients, slots, weights):
    """``v = mu v + g; w -= rate v`` (Polyak 1964); coefficients: rate, l2, decay, mu. `state` is (1 or more, K, P)."""
    zero = w.dtype.type(0)
    for i in range(slots.shape[0]):
        k = slots[i]
        c = coefficients[k]
        v = state[0, k]
        _momentum(w[k, :weights], g[k, :weights], v[:weights], c[0], c[1], c[2], c[3])
        _momentum(w[k, weights:], g[k, weights:], v[weights:], c[0], zero, zero, c[3])


@njit(cache=True, error_model="numpy")
def _adam(w, g, m, v, c, l2, decay):
    tiny = w.dtype.type(TINY)
    tiny_square = w.dtype.type(TINY_SQUARE)
    zero = w.dtype.type(0)
    rate, beta1, rest1, beta2, rest2, root, epsilon = c[0], c[3], c[4], c[5], c[6], c[7], c[8]
    for p in range(w.shape[0]):
        slope = g[p] + l2 * w[p]
        mean = beta1 * m[p] + rest1 * slope
        square = beta2 * v[p] + rest2 * slope * slope
        mean = zero if abs(mean) < tiny else mean
        square = zero if square < tiny_square else square
        m[p] = mean
        v[p] = square
        w[p] -= rate * mean / (np.sqrt(square) * root + epsilon) + decay * w[p]


@njit(cache=True, error_model="numpy")
def adam_step(w, g, state, coefficients, slots, weights):
    """Adam (Kingma & Ba 2015, algorithm 1: epsilon outside the root of the corrected second moment).

    Coefficients: rate / (1 - beta1^t), l2, decay, beta1, 1 - beta1, beta2, 1 - beta2,
    1 / sqrt(1 - beta2^t), epsilon. L2 joins the gradient; decay bypasses the moments
    (Loshchilov & Hutter 2019).
    """
    zero = w.dtype.type(0)
    for i in range(slots.shape[0]):
        k = slots[i]
        c = coefficients[k]
        m, v = state[0, k], state[1, k]
        _adam(w[k, :weights], g[k, :weights], m[:weights], v[:weights], c, c[1], c[2])
        _adam(w[k, weights:], g[k, weights:], m[weights:], v[weights:], c, zero, zero)
