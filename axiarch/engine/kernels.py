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


# -- curves: activations that are worked out from the sums ----------------------------------------------------------

LEAKY, ELU, GELU, SILU, SIGMOID, SOFTPLUS = range(6)
#: The slope of a leaky ReLU below zero.
LEAK = 0.01
_ROOT_HALF = 0.7071067811865476
_ROOT_TWO_PI = 0.3989422804014327


@njit(cache=True, error_model="numpy", inline="always")
def _curve(number, x):
    if number == LEAKY:
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


@njit(cache=True, error_model="numpy", inline="always")
def _slope(number, x):
    if number == LEAKY:
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


@njit(cache=True, error_model="numpy")
def bend(number, z, out, params, offset, active, rows):
    """Add the biases at ``params[k, offset:]`` to `z` (K, B, H), and put the curve `number` of it into `out`."""
    units = z.shape[2]
    for k in range(active):
        bias = params[k, offset : offset + units]
        for b in range(rows):
            for h in range(units):
                value = z[k, b, h] + bias[h]
                z[k, b, h] = value
                out[k, b, h] = _curve(number, value)


@njit(cache=True, error_model="numpy")
def bend_backward(number, d, z, grads, offset, active, rows):
    """Turn the gradient `d` (K, B, H) of a curve into that of its sums `z`, and add up the biases'."""
    units = d.shape[2]
    for k in range(active):
        total = grads[k, offset : offset + units]
        total[:] = 0
        for b in range(rows):
            for h in range(units):
                d[k, b, h] *= _slope(number, z[k, b, h])
            for h in range(units):
                total[h] += d[k, b, h]


# -- normalisation: sums become gain * (z - mean) / sqrt(variance + EPSILON); biases are added by the activation ----

#: Added to a variance under the root.
EPSILON = 1e-5
#: The share of a batch's mean and variance that goes into the running ones.
RUNNING = 0.1


@njit(cache=True, error_model="numpy")
def batch_norm(z, scaled, spread, params, gains, kept, training, active, rows):
    """Batch normalisation (Ioffe & Szegedy 2015) of `z` (K, B, H) in place, each unit over the batch.

    In training with the batch's own mean and (biased) variance, which also move the running ones at
    ``params[k, kept:]``; else with those. `scaled` keeps what the backward pass needs, `spread` (K, H) one over the
    root of the variance.
    """
    units = z.shape[2]
    zero = z.dtype.type(0)
    one = z.dtype.type(1)
    epsilon = z.dtype.type(EPSILON)
    share = z.dtype.type(RUNNING)
    mean = np.zeros(units, z.dtype)
    square = np.zeros(units, z.dtype)
    for k in range(active):
        gain = params[k, gains : gains + units]
        running = params[k, kept : kept + 2 * units]
        if training:
            mean[:] = zero
            square[:] = zero
            part = one / z.dtype.type(rows)
            for b in range(rows):
                for h in range(units):
                    mean[h] += z[k, b, h]
            for h in range(units):
                mean[h] *= part
            for b in range(rows):
                for h in range(units):
                    away = z[k, b, h] - mean[h]
                    square[h] += away * away
            for h in range(units):
                square[h] *= part
                running[h] += share * (mean[h] - running[h])
                running[units + h] += share * (square[h] - running[units + h])
        else:
            for h in range(units):
                mean[h] = running[h]
                square[h] = running[units + h]
        for h in range(units):
            spread[k, h] = one / np.sqrt(square[h] + epsilon)
        for b in range(rows):
            for h in range(units):
                value = (z[k, b, h] - mean[h]) * spread[k, h]
                scaled[k, b, h] = value
                z[k, b, h] = value * gain[h]


@njit(cache=True, error_model="numpy")
def batch_norm_backward(d, scaled, spread, params, grads, gains, active, rows):
    """Turn the gradient `d` (K, B, H) of normalised sums into that of the sums, and put the gains' into `grads`."""
    units = d.shape[2]
    part = d.dtype.type(1) / d.dtype.type(rows)
    plain = np.zeros(units, d.dtype)
    for k in range(active):
        gain = params[k, gains : gains + units]
        total = grads[k, gains : gains + units]
        total[:] = 0
        plain[:] = 0
        for b in range(rows):
            for h in range(units):
                total[h] += d[k, b, h] * scaled[k, b, h]
                plain[h] += d[k, b, h]
        for b in range(rows):
            for h in range(units):
                d[k, b, h] = gain[h] * spread[k, h] * (
                    d[k, b, h] - part * plain[h] - part * scaled[k, b, h] * total[h])


@njit(cache=True, error_model="numpy")
def layer_norm(z, scaled, spread, params, gains, active, rows):
    """Layer normalisation (Ba et al. 2016) of `z` (K, B, H) in place, each row over its units; `spread` is (K, B)."""
    units = z.shape[2]
    part = z.dtype.type(1) / z.dtype.type(units)
    epsilon = z.dtype.type(EPSILON)
    one = z.dtype.type(1)
    for k in range(active):
        gain = params[k, gains : gains + units]
        for b in range(rows):
            row = z[k, b]
            mean = z.dtype.type(0)
            for h in range(units):
                mean += row[h]
            mean *= part
            square = z.dtype.type(0)
            for h in range(units):
                square += (row[h] - mean) * (row[h] - mean)
            narrow = one / np.sqrt(square * part + epsilon)
            spread[k, b] = narrow
            for h in range(units):
                value = (row[h] - mean) * narrow
                scaled[k, b, h] = value
                row[h] = value * gain[h]


@njit(cache=True, error_model="numpy")
def layer_norm_backward(d, scaled, spread, params, grads, gains, active, rows):
    """As :func:`batch_norm_backward`, for :func:`layer_norm`."""
    units = d.shape[2]
    part = d.dtype.type(1) / d.dtype.type(units)
    for k in range(active):
        gain = params[k, gains : gains + units]
        total = grads[k, gains : gains + units]
        total[:] = 0
        for b in range(rows):
            row, own = d[k, b], scaled[k, b]
            plain = d.dtype.type(0)
            along = d.dtype.type(0)
            for h in range(units):
                total[h] += row[h] * own[h]
                row[h] *= gain[h]
                plain += row[h]
                along += row[h] * own[h]
            for h in range(units):
                row[h] = spread[k, b] * (row[h] - part * plain - part * own[h] * along)


# -- pictures -------------------------------------------------------------------------------------------------------


@njit(cache=True, error_model="numpy")
def unfold(x, windows, size, stride, top, left, tall, wide, active, rows):
    """Lay out each window of pictures `x` (K, B, H, W, C) as a row of `windows` (K, B tall wide, size size C)."""
    height, width, channels = x.shape[2], x.shape[3], x.shape[4]
    for k in range(active):
        for b in range(rows):
            for i in range(tall):
                for j in range(wide):
                    row = windows[k, (b * tall + i) * wide + j]
                    at = 0
                    for u in range(size):
                        y = i * stride + u - top
                        for v in range(size):
                            q = j * stride + v - left
                            if 0 <= y < height and 0 <= q < width:
                                for c in range(channels):
                                    row[at + c] = x[k, b, y, q, c]
                            else:
                                for c in range(channels):
                                    row[at + c] = 0
                            at += channels


@njit(cache=True, error_model="numpy")
def fold(windows, d, size, stride, top, left, tall, wide, active, rows):
    """Add up the gradients of windows at the pixels of `d` (K, B, H, W, C) they were taken from."""
    height, width, channels = d.shape[2], d.shape[3], d.shape[4]
    for k in range(active):
        for b in range(rows):
            d[k, b] = 0
            for i in range(tall):
                for j in range(wide):
                    row = windows[k, (b * tall + i) * wide + j]
                    at = 0
                    for u in range(size):
                        y = i * stride + u - top
                        for v in range(size):
                            q = j * stride + v - left
                            if 0 <= y < height and 0 <= q < width:
                                for c in range(channels):
                                    d[k, b, y, q, c] += row[at + c]
                            at += channels


@njit(cache=True, error_model="numpy")
def pool(x, out, which, size, mean, active, rows):
    """Put the largest, or the mean, of each square of `x` (K, B, H, W, C) into `out`; `which` says where it was."""
    tall, wide, channels = out.shape[2], out.shape[3], out.shape[4]
    part = out.dtype.type(1) / out.dtype.type(size * size)
    for k in range(active):
        for b in range(rows):
            for i in range(tall):
                for j in range(wide):
                    for c in range(channels):
                        best = x[k, b, i * size, j * size, c]
                        total = out.dtype.type(0)
                        at = 0
                        for u in range(size):
                            for v in range(size):
                                value = x[k, b, i * size + u, j * size + v, c]
                                total += value
                                if value > best or value != value:
                                    best = value
                                    at = u * size + v
                        which[k, b, i, j, c] = at
                        out[k, b, i, j, c] = total * part if mean else best


@njit(cache=True, error_model="numpy")
def pool_backward(d, below, which, size, mean, active, rows):
    """Give the gradient `d` of each square to the pixel it came from, or a share to all of them."""
    tall, wide, channels = d.shape[2], d.shape[3], d.shape[4]
    part = d.dtype.type(1) / d.dtype.type(size * size)
    for k in range(active):
        for b in range(rows):
            below[k, b] = 0
            for i in range(tall):
                for j in range(wide):
                    for c in range(channels):
                        slope = d[k, b, i, j, c]
                        if mean:
                            for u in range(size):
                                for v in range(size):
                                    below[k, b, i * size + u, j * size + v, c] = slope * part
                        else:
                            at = which[k, b, i, j, c]
                            below[k, b, i * size + at // size, j * size + at % size, c] = slope


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
