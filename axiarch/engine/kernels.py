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
#: Where a second moment is, the first is too, however small epsilon: a gradient below 1e-18 counts as none.
TINY = 1e-30
TINY_SQUARE = 1e-36
#: Logarithms of amounts above this count as this: their squares still fit into a number.
LARGEST_LOG = 300.0

_GAMMA = np.uint64(0x9E3779B97F4A7C15)
_MIX1 = np.uint64(0xBF58476D1CE4E5B9)
_MIX2 = np.uint64(0x94D049BB133111EB)
_S30, _S27, _S31 = np.uint64(30), np.uint64(27), np.uint64(31)
_U = np.uint64


@njit(cache=True, error_model="numpy", inline="always")
def random_word(key, index):
    """Return SplitMix64's output number `index` for the seed `key`: sixty-four random bits."""
    z = key + (index + np.uint64(1)) * _GAMMA
    z = (z ^ (z >> _S30)) * _MIX1
    z = (z ^ (z >> _S27)) * _MIX2
    return z ^ (z >> _S31)


@njit(cache=True, error_model="numpy")
def words_per_row(units):
    """Return how many 64-bit words one row of `units` H takes, four units a word."""
    return (units + 3) // 4


def used(z, active, rows):
    """Return the part of `z` (K, B, H) that a step works on."""
    return z[:active, :rows]


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
def drop(a, thresholds, scales, keys, first_word, active, rows):
    """Apply inverted dropout to `a` (K, B, H) in place (Srivastava et al. 2014).

    A unit is silenced where its sixteen bits are below ``thresholds[k]``; the others are multiplied by
    ``scales[k]``, so the expected activation stays the same.
    """
    units = a.shape[2]
    zero = a.dtype.type(0)
    per_row = words_per_row(units)
    words = np.empty(per_row, np.uint64)
    bits = words.view(np.uint16)
    for k in range(active):
        if thresholds[k] == 0:
            continue
        threshold, scale, key = np.int32(thresholds[k]), scales[k], keys[k]
        for b in range(rows):
            first = np.uint64(first_word + b * per_row)
            for i in range(per_row):  # first all words, then all units: loops that the processor does side by side
                words[i] = random_word(key, first + np.uint64(i))
            row = a[k, b]
            for h in range(units):
                row[h] *= scale if np.int32(bits[h]) >= threshold else zero


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


#: Columns of what bends the loss of each slot: label smoothing, share of its own label that a mixed row keeps, and for
#: amounts the width of a Huber loss.
SMOOTH, KEPT, WIDTH = range(3)


#: Two to the power -i.
_HALVED = np.array([2.0**-i for i in range(128)], np.float32)
#: The base-2 logarithm of e, and the natural logarithm of 2 in two parts that add up to it.
_LOG2E, _LN2_HIGH, _LN2_LOW = np.float32(1.44269504088896341), np.float32(0.693359375), np.float32(-2.12194440e-4)
_E5, _E4, _E3 = np.float32(1.9875691500e-4), np.float32(1.3981999507e-3), np.float32(8.3334519073e-3)
_E2, _E1, _E0 = np.float32(4.1665795894e-2), np.float32(1.6666665459e-1), np.float32(5.0000001201e-1)
_ONE32, _HALF32, _LEAST32 = np.float32(1), np.float32(0.5), np.float32(-87)


@njit(cache=True, error_model="numpy")
def _exponentials(values, count):
    """Replace `count` numbers up to 0 by their exponentials; those below -87 count as -87 in float32.

    In float32 by a polynomial on half a power of two either way (coefficients: Moshier's Cephes library, expf), in a
    loop that the processor does side by side; within two units in the last place.
    """
    if values.itemsize == 8:
        for i in range(count):
            values[i] = math.exp(values[i])
        return
    for i in range(count):
        x = values[i]
        x = _LEAST32 if x < _LEAST32 else x
        power = np.floor(x * _LOG2E + _HALF32)
        r = x - power * _LN2_HIGH - power * _LN2_LOW
        p = ((((_E5 * r + _E4) * r + _E3) * r + _E2) * r + _E1) * r + _E0
        values[i] = (p * r * r + r + _ONE32) * _HALVED[np.int32(-power) & np.int32(127)]


@njit(cache=True, error_model="numpy")
def softmax_loss(z, labels, losses, sums, gradient, bends, gains, active, rows):
    """Softmax cross-entropy with integer labels, shifted by the largest logit so that nothing overflows.

    Parameters
    ----------
    z : (K, B, C) array
        Logits; overwritten, by their gradient of the mean loss, ``(p - onehot) / rows``, if `gradient`.
    labels : (K, B) int32 array
    losses, sums : (K,) and (K, 1 + C) float64 arrays
        The summed loss in nats and the number of rows whose largest logit is the label, in all and of each class, are
        added: without smoothing and weights, which only bend the gradient.
    bends : (K, 3) array
        The share of each label that is given to all classes alike (Szegedy et al. 2016), the share of its own label
        that a mixed row kept (the rest is that of its partner, row ``rows - 1 - b``), and two that only amounts use.
    gains : (K, C) array
        What rows of each class count.
    """
    classes = z.shape[2]
    share = z.dtype.type(1) / z.dtype.type(rows)
    one = z.dtype.type(1)
    owns = np.empty(rows, z.dtype)
    for k in range(active):
        for b in range(rows):
            label = labels[k, b]
            top = z[k, b, 0]
            for c in range(1, classes):
                top = z[k, b, c] if z[k, b, c] > top else top
            own = z[k, b, label] - top
            owns[b] = own
            hit = own == 0
            for c in range(label):
                hit = hit and z[k, b, c] < top
            if hit:
                sums[k, 0] += 1
                sums[k, 1 + label] += 1
            for c in range(classes):
                z[k, b, c] -= top
        _exponentials(z[k].reshape(-1), rows * classes)
        kept, smooth = bends[k, KEPT], bends[k, SMOOTH]
        sharp, even = share * (one - smooth), smooth / z.dtype.type(classes)
        total = 0.0
        for b in range(rows):
            label = labels[k, b]
            norm = z.dtype.type(0)
            for c in range(classes):
                norm += z[k, b, c]
            total += math.log(norm) - owns[b]
            if gradient:
                gain = kept * gains[k, label]
                if kept < one:
                    other = labels[k, rows - 1 - b]
                    rest = (one - kept) * gains[k, other]
                    row_share = share * (gain + rest)
                else:
                    row_share = share * gain
                inverse, spread = row_share / norm, row_share * even
                for c in range(classes):
                    z[k, b, c] = z[k, b, c] * inverse - spread
                z[k, b, label] -= sharp * gain
                if kept < one:
                    z[k, b, other] -= sharp * rest
        losses[k] += total


@njit(cache=True, error_model="numpy")
def binary_loss(z, labels, losses, sums, gradient, bends, gains, active, rows):
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
                sums[k, 1 + label] += 1
            if gradient:
                p = one / (one + small) if value >= 0 else small / (one + small)
                kept, smooth = bends[k, KEPT], bends[k, SMOOTH]
                wanted = label * (one - smooth) + smooth / z.dtype.type(2)
                z[k, b, 0] = (p - wanted) * share * kept * gains[k, label]
                if kept < one:
                    other = labels[k, rows - 1 - b]
                    wanted = other * (one - smooth) + smooth / z.dtype.type(2)
                    z[k, b, 0] += (p - wanted) * share * (one - kept) * gains[k, other]
        losses[k] += total
        sums[k, 0] += hit


@njit(cache=True, error_model="numpy")
def amounts_loss(z, targets, losses, sums, gradient, bends, gains, active, rows):
    """Differences of T amounts: the mean square is what is reported, whichever loss trains.

    Parameters
    ----------
    z : (K, B, T) array
        Outputs; replaced by the differences ``z - y``, if `gradient`, which the kernel of the loss that trains
        then turns into its gradient.
    targets : (K, B, T) array
    losses, sums : (K,) and (K, 2 T) float64 arrays
        The mean square over targets is added, and for each target the sum of squares, then of absolute differences.
    """
    count = z.shape[2]
    for k in range(active):
        for t in range(count):
            squared = 0.0
            absolute = 0.0
            for b in range(rows):
                away = z[k, b, t] - targets[k, b, t]
                squared += np.float64(away) * np.float64(away)
                absolute += abs(float(away))
                if gradient:
                    z[k, b, t] = away
            sums[k, t] += squared
            sums[k, count + t] += absolute
            losses[k] += squared / count


@njit(cache=True, error_model="numpy")
def log_amounts_loss(z, targets, losses, sums, gradient, bends, gains, active, rows):
    """As :func:`amounts_loss`, for T amounts that are trained on by their logarithm.

    The differences left in `z` are those of the scaled logarithms; what is reported compares the amounts
    themselves, ``exp(z * scale + centre) / spread``: a constant added to them cancels. `gains` (K, 3 T)
    holds scale, centre and spread.
    """
    count = z.shape[2]
    for k in range(active):
        for t in range(count):
            scale, centre = np.float64(gains[k, t]), np.float64(gains[k, count + t])
            spread = np.float64(gains[k, 2 * count + t])
            squared = 0.0
            absolute = 0.0
            for b in range(rows):
                told = math.exp(min(np.float64(z[k, b, t]) * scale + centre, LARGEST_LOG))
                true = math.exp(min(np.float64(targets[k, b, t]) * scale + centre, LARGEST_LOG))
                away = (told - true) / spread
                squared += away * away
                absolute += abs(away)
                if gradient:
                    z[k, b, t] -= targets[k, b, t]
            sums[k, t] += squared
            sums[k, count + t] += absolute
            losses[k] += squared / count


# -- losses that amounts are trained on: each turns the differences `d` (K, B, T) of the slots named into the gradient
# -- of its mean over targets and rows; `bends` (K, 3) holds the width of a Huber loss last, in spreads of the target


@njit(cache=True, error_model="numpy")
def squared_slopes(d, bends, slots, rows):
    """The square of a difference: twice the difference."""
    share = d.dtype.type(1) / d.dtype.type(rows * d.shape[2])
    for k in slots:
        for b in range(rows):
            for t in range(d.shape[2]):
                d[k, b, t] *= share + share


@njit(cache=True, error_model="numpy")
def absolute_slopes(d, bends, slots, rows):
    """The size of a difference: its sign."""
    share = d.dtype.type(1) / d.dtype.type(rows * d.shape[2])
    for k in slots:
        for b in range(rows):
            for t in range(d.shape[2]):
                away = d[k, b, t]
                d[k, b, t] = share if away > 0 else (-share if away < 0 else away * share)


@njit(cache=True, error_model="numpy")
def huber_slopes(d, bends, slots, rows):
    """Half the square up to a width, straight beyond it: the difference, cut to the width (Huber 1964)."""
    share = d.dtype.type(1) / d.dtype.type(rows * d.shape[2])
    for k in slots:
        width = bends[k, WIDTH]
        for b in range(rows):
            for t in range(d.shape[2]):
                away = d[k, b, t]
                d[k, b, t] = share * min(max(away, -width), width) if away == away else away


@njit(cache=True, error_model="numpy")
def mix(x, bends, active, rows):
    """Mix each row of `x` (K, B, D) with its partner, row ``rows - 1 - b`` (Zhang et al. 2018)."""
    one = x.dtype.type(1)
    for k in range(active):
        kept = bends[k, KEPT]
        if kept < one:
            for b in range((rows + 1) // 2):
                for i in range(x.shape[2]):
                    first, last = x[k, b, i], x[k, rows - 1 - b, i]
                    x[k, b, i] = kept * first + (one - kept) * last
                    x[k, rows - 1 - b, i] = kept * last + (one - kept) * first


@njit(cache=True, error_model="numpy", nogil=True)
def shuffle(order, slot, key):
    """Put the numbers from 0 into ``order[slot]`` in an order that `key` says (Fisher & Yates 1938, Durstenfeld 1964).

    A place among the first i is the upper half of i times 32 random bits, so for N rows no place is likelier than
    another by more than N in 2^32.
    """
    rows = order.shape[1]
    own = order[slot]
    for i in range(rows):
        own[i] = i
    for i in range(rows - 1, 0, -1):
        place = np.int64(((random_word(key, np.uint64(i)) >> np.uint64(32)) * np.uint64(i + 1)) >> np.uint64(32))
        own[i], own[place] = own[place], own[i]


@njit(cache=True, error_model="numpy", nogil=True)
def collect(values, order, slots, first, stop, batches):
    """Copy the rows ``order[k, first:stop]`` of `values` (N, D) into batches (S, K, B, D), for each k of `slots`."""
    size, width = batches.shape[2], values.shape[1]
    for i in range(slots.shape[0]):
        k = slots[i]
        for step in range((stop - first + size - 1) // size):
            start = first + step * size
            for place in range(min(size, stop - start)):
                row = order[k, start + place]
                for d in range(width):
                    batches[step, k, place, d] = values[row, d]


@njit(cache=True, error_model="numpy", nogil=True)
def collect_labels(values, order, slots, first, stop, batches):
    """Copy the numbers ``order[k, first:stop]`` of `values` (N,) into batches (S, K, B), for each k of `slots`."""
    size = batches.shape[2]
    for i in range(slots.shape[0]):
        k = slots[i]
        for step in range((stop - first + size - 1) // size):
            start = first + step * size
            for place in range(min(size, stop - start)):
                batches[step, k, place] = values[order[k, start + place]]


@njit(cache=True, error_model="numpy")
def gather(gathered, g, slots, shares):
    """Add to ``gathered[k]`` the gradients ``g[k]`` times the share of each of `slots`."""
    for i in range(slots.shape[0]):
        k = slots[i]
        for p in range(g.shape[1]):
            gathered[k, p] += shares[i] * g[k, p]


# -- curves: activations that are worked out from the sums ----------------------------------------------------------

LEAKY_RELU, ELU, GELU, SILU, SIGMOID, SOFTPLUS = range(6)
#: The slope of a leaky ReLU below zero.
LEAK = 0.01
_ROOT_HALF = 0.7071067811865476
_ROOT_TWO_PI = 0.3989422804014327


@njit(cache=True, error_model="numpy", inline="always")
def curve(number, x):
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


@njit(cache=True, error_model="numpy", inline="always")
def slope(number, x):
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
                out[k, b, h] = curve(number, value)


@njit(cache=True, error_model="numpy")
def bend_backward(number, d, z, grads, offset, active, rows):
    """Turn the gradient `d` (K, B, H) of a curve into that of its sums `z`, and add up the biases'."""
    units = d.shape[2]
    for k in range(active):
        total = grads[k, offset : offset + units]
        total[:] = 0
        for b in range(rows):
            for h in range(units):
                d[k, b, h] *= slope(number, z[k, b, h])
            for h in range(units):
                total[h] += d[k, b, h]


@njit(cache=True, error_model="numpy")
def turn(w, turned, active):
    """Lay the matrices `w` (K, I, H) out the other way round in `turned` (K, H, I), in squares that stay in cache."""
    tall, wide = w.shape[1], w.shape[2]
    for k in range(active):
        for i in range(0, tall - 7, 8):
            for j in range(0, wide - 7, 8):
                for u in range(8):
                    for v in range(8):
                        turned[k, j + v, i + u] = w[k, i + u, j + v]
        for i in range(tall // 8 * 8, tall):
            for j in range(wide):
                turned[k, j, i] = w[k, i, j]
        for j in range(wide // 8 * 8, wide):
            for i in range(tall // 8 * 8):
                turned[k, j, i] = w[k, i, j]


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


@njit(cache=True, error_model="numpy")
def _sum_of_squares(values):
    """Return the sum of squares of `values` (P,) in float64: four sums side by side, added up at the end."""
    count = values.shape[0]
    one = two = three = four = 0.0
    for p in range(0, count - 3, 4):
        one += np.float64(values[p]) * np.float64(values[p])
        two += np.float64(values[p + 1]) * np.float64(values[p + 1])
        three += np.float64(values[p + 2]) * np.float64(values[p + 2])
        four += np.float64(values[p + 3]) * np.float64(values[p + 3])
    for p in range(count // 4 * 4, count):
        one += np.float64(values[p]) * np.float64(values[p])
    return (one + two) + (three + four)


@njit(cache=True, error_model="numpy")
def squares(values, sums, active):
    """Put the sum of squares of each row of `values` (K, P) into `sums` (K,) float64."""
    for k in range(active):
        sums[k] = _sum_of_squares(values[k])


@njit(cache=True, error_model="numpy")
def part_squares(values, parts, sums, active):
    """Put into `sums` (K, L) the sum of squares of each stretch of `values` (K, P) between two of `parts` (L + 1,)."""
    for k in range(active):
        for part in range(parts.shape[0] - 1):
            sums[k, part] = _sum_of_squares(values[k, parts[part] : parts[part + 1]])


@njit(cache=True, error_model="numpy")
def extremes(out, low, high, level, centre, reach, start, active, rows):
    """Widen ``low[k, start:]`` and ``high[k, start:]`` by the outputs (K, B, H) of a layer.

    Where the outputs are bounded, to `reach` about `centre`, how near they are to their bounds is added to `level`.
    """
    units = out.shape[2]
    if reach > 0:
        for k in range(active):
            for b in range(rows):
                for h in range(units):
                    level[k, start + h] += abs(out[k, b, h] - centre) / reach
    for k in range(active):
        for b in range(rows):
            for h in range(units):
                value = out[k, b, h]
                if value < low[k, start + h]:
                    low[k, start + h] = value
                if value > high[k, start + h]:
                    high[k, start + h] = value


# -- optimisers: one step on the flat buffers; ``coefficients`` (K, n) are those of the step. Weights come before
#    biases, which are neither pulled by L2 nor shrunk by decay ------------------------------------------------------


@njit(cache=True, error_model="numpy")
def _sgd(w, g, rate, l2, decay):
    for p in range(w.shape[0]):
        w[p] -= rate * (g[p] + l2 * w[p]) + decay * w[p]


@njit(cache=True, error_model="numpy")
def sgd_step(w, g, state, coefficients, slots, weights, starts):
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
def momentum_step(w, g, state, coefficients, slots, weights, starts):
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
        small = square < tiny_square
        mean = zero if small or abs(mean) < tiny else mean
        square = zero if small else square
        m[p] = mean
        v[p] = square
        w[p] -= rate * mean / (np.sqrt(square) * root + epsilon) + decay * w[p]


@njit(cache=True, error_model="numpy")
def adam_step(w, g, state, coefficients, slots, weights, starts):
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


@njit(cache=True, error_model="numpy")
def _nesterov(w, g, s0, c, l2, decay):
    tiny = w.dtype.type(TINY)
    zero = w.dtype.type(0)
    for p in range(w.shape[0]):
        slope = g[p] + l2 * w[p]
        value = c[3] * s0[p] + slope
        value = zero if abs(value) < tiny else value
        s0[p] = value
        w[p] -= c[0] * (slope + c[3] * value) + decay * w[p]


@njit(cache=True, error_model="numpy")
def nesterov_step(w, g, state, coefficients, slots, weights, starts):
    """``v = mu v + g; w -= rate (g + mu v)`` (Nesterov 1983, as Sutskever et al. 2013); coefficients as momentum."""
    zero = w.dtype.type(0)
    for i in range(slots.shape[0]):
        k = slots[i]
        c = coefficients[k]
        _nesterov(w[k, :weights], g[k, :weights], state[0, k, :weights], c, c[1], c[2])
        _nesterov(w[k, weights:], g[k, weights:], state[0, k, weights:], c, zero, zero)


@njit(cache=True, error_model="numpy")
def _adagrad(w, g, s0, c, l2, decay):
    for p in range(w.shape[0]):
        slope = g[p] + l2 * w[p]
        square = s0[p] + slope * slope
        s0[p] = square
        w[p] -= c[0] * slope / (np.sqrt(square) + c[3]) + decay * w[p]


@njit(cache=True, error_model="numpy")
def adagrad_step(w, g, state, coefficients, slots, weights, starts):
    """``s += g g; w -= rate g / (sqrt(s) + epsilon)`` (Duchi et al. 2011); coefficients: rate, l2, decay, epsilon."""
    zero = w.dtype.type(0)
    for i in range(slots.shape[0]):
        k = slots[i]
        c = coefficients[k]
        _adagrad(w[k, :weights], g[k, :weights], state[0, k, :weights], c, c[1], c[2])
        _adagrad(w[k, weights:], g[k, weights:], state[0, k, weights:], c, zero, zero)


@njit(cache=True, error_model="numpy")
def _rmsprop(w, g, s0, c, l2, decay):
    tiny_square = w.dtype.type(TINY_SQUARE)
    zero = w.dtype.type(0)
    for p in range(w.shape[0]):
        slope = g[p] + l2 * w[p]
        square = c[3] * s0[p] + c[4] * slope * slope
        small = square < tiny_square
        slope = zero if small else slope
        square = zero if small else square
        s0[p] = square
        w[p] -= c[0] * slope / (np.sqrt(square) + c[5]) + decay * w[p]


@njit(cache=True, error_model="numpy")
def rmsprop_step(w, g, state, coefficients, slots, weights, starts):
    """``s = rho s + (1 - rho) g g; w -= rate g / (sqrt(s) + epsilon)`` (Tieleman & Hinton 2012).

    Coefficients: rate, l2, decay, rho, 1 - rho, epsilon.
    """
    zero = w.dtype.type(0)
    for i in range(slots.shape[0]):
        k = slots[i]
        c = coefficients[k]
        _rmsprop(w[k, :weights], g[k, :weights], state[0, k, :weights], c, c[1], c[2])
        _rmsprop(w[k, weights:], g[k, weights:], state[0, k, weights:], c, zero, zero)


@njit(cache=True, error_model="numpy")
def _adadelta(w, g, s0, s1, c, l2, decay):
    tiny_square = w.dtype.type(TINY_SQUARE)
    zero = w.dtype.type(0)
    for p in range(w.shape[0]):
        slope = g[p] + l2 * w[p]
        square = c[3] * s0[p] + c[4] * slope * slope
        square = zero if square < tiny_square else square
        s0[p] = square
        step = np.sqrt((s1[p] + c[5]) / (square + c[5])) * slope
        past = c[3] * s1[p] + c[4] * step * step
        s1[p] = zero if past < tiny_square else past
        w[p] -= c[0] * step + decay * w[p]


@njit(cache=True, error_model="numpy")
def adadelta_step(w, g, state, coefficients, slots, weights, starts):
    """AdaDelta (Zeiler 2012), its step times the rate; coefficients as rmsprop, epsilon inside both roots."""
    zero = w.dtype.type(0)
    for i in range(slots.shape[0]):
        k = slots[i]
        c = coefficients[k]
        _adadelta(w[k, :weights], g[k, :weights], state[0, k, :weights], state[1, k, :weights], c, c[1], c[2])
        _adadelta(w[k, weights:], g[k, weights:], state[0, k, weights:], state[1, k, weights:], c, zero, zero)


@njit(cache=True, error_model="numpy")
def _nadam(w, g, s0, s1, c, l2, decay):
    tiny = w.dtype.type(TINY)
    tiny_square = w.dtype.type(TINY_SQUARE)
    zero = w.dtype.type(0)
    for p in range(w.shape[0]):
        slope = g[p] + l2 * w[p]
        mean = c[3] * s0[p] + c[4] * slope
        square = c[5] * s1[p] + c[6] * slope * slope
        small = square < tiny_square
        mean = zero if small or abs(mean) < tiny else mean
        square = zero if small else square
        slope = zero if small else slope
        s0[p] = mean
        s1[p] = square
        w[p] -= c[0] * (c[9] * mean + c[10] * slope) / (np.sqrt(square) * c[7] + c[8]) + decay * w[p]


@njit(cache=True, error_model="numpy")
def nadam_step(w, g, state, coefficients, slots, weights, starts):
    """NAdam (Dozat 2016) with a constant beta1: Adam whose numerator looks one step ahead.

    Coefficients as adam, but the rate as it is; then beta1 / (1 - beta1^(t+1)) and (1 - beta1) / (1 - beta1^t).
    """
    zero = w.dtype.type(0)
    for i in range(slots.shape[0]):
        k = slots[i]
        c = coefficients[k]
        _nadam(w[k, :weights], g[k, :weights], state[0, k, :weights], state[1, k, :weights], c, c[1], c[2])
        _nadam(w[k, weights:], g[k, weights:], state[0, k, weights:], state[1, k, weights:], c, zero, zero)


@njit(cache=True, error_model="numpy")
def _amsgrad(w, g, s0, s1, s2, c, l2, decay):
    tiny = w.dtype.type(TINY)
    tiny_square = w.dtype.type(TINY_SQUARE)
    zero = w.dtype.type(0)
    for p in range(w.shape[0]):
        slope = g[p] + l2 * w[p]
        mean = c[3] * s0[p] + c[4] * slope
        square = c[5] * s1[p] + c[6] * slope * slope
        small = square < tiny_square
        mean = zero if small or abs(mean) < tiny else mean
        square = zero if small else square
        s0[p] = mean
        s1[p] = square
        s2[p] = max(s2[p], square)
        w[p] -= c[0] * mean / (np.sqrt(s2[p]) * c[7] + c[8]) + decay * w[p]


@njit(cache=True, error_model="numpy")
def amsgrad_step(w, g, state, coefficients, slots, weights, starts):
    """AMSGrad (Reddi et al. 2018): Adam with the largest second moment so far, corrected as Adam's is.

    Coefficients as adam.
    """
    zero = w.dtype.type(0)
    for i in range(slots.shape[0]):
        k = slots[i]
        c = coefficients[k]
        m, v, most = state[0, k], state[1, k], state[2, k]
        _amsgrad(w[k, :weights], g[k, :weights], m[:weights], v[:weights], most[:weights], c, c[1], c[2])
        _amsgrad(w[k, weights:], g[k, weights:], m[weights:], v[weights:], most[weights:], c, zero, zero)


@njit(cache=True, error_model="numpy")
def _lion(w, g, s0, c, l2, decay):
    tiny = w.dtype.type(TINY)
    zero = w.dtype.type(0)
    one = w.dtype.type(1)
    for p in range(w.shape[0]):
        slope = g[p] + l2 * w[p]
        ahead = c[3] * s0[p] + c[4] * slope
        mean = c[5] * s0[p] + c[6] * slope
        s0[p] = zero if abs(mean) < tiny else mean
        step = one if ahead > 0 else (-one if ahead < 0 else zero)
        w[p] -= c[0] * step + decay * w[p]


@njit(cache=True, error_model="numpy")
def lion_step(w, g, state, coefficients, slots, weights, starts):
    """Lion (Chen et al. 2023): ``w -= rate sign(beta1 m + (1 - beta1) g)``, then ``m = beta2 m + (1 - beta2) g``.

    Coefficients: rate, l2, decay, beta1, 1 - beta1, beta2, 1 - beta2.
    """
    zero = w.dtype.type(0)
    for i in range(slots.shape[0]):
        k = slots[i]
        c = coefficients[k]
        _lion(w[k, :weights], g[k, :weights], state[0, k, :weights], c, c[1], c[2])
        _lion(w[k, weights:], g[k, weights:], state[0, k, weights:], c, zero, zero)


@njit(cache=True, error_model="numpy")
def lamb_step(w, g, state, coefficients, slots, weights, starts):
    """LAMB (You et al. 2020): Adam's step and the decay, of each layer scaled to the size of its weights.

    Coefficients as adam, but the rate and the decay as they are, then 1 / (1 - beta1^t). `starts` are where each
    layer's weights begin, and where the last ends. Biases and gains step as Adam's.
    """
    tiny = w.dtype.type(TINY)
    tiny_square = w.dtype.type(TINY_SQUARE)
    zero = w.dtype.type(0)
    one = w.dtype.type(1)
    for i in range(slots.shape[0]):
        k = slots[i]
        c = coefficients[k]
        m, v = state[0, k], state[1, k]
        for p in range(w.shape[1]):
            slope = g[k, p] + (c[1] * w[k, p] if p < weights else zero)
            mean = c[3] * m[p] + c[4] * slope
            square = c[5] * v[p] + c[6] * slope * slope
            small = square < tiny_square
            m[p] = zero if small or abs(mean) < tiny else mean
            v[p] = zero if small else square
        for part in range(starts.shape[0]):
            first = starts[part]
            last = starts[part + 1] if part + 1 < starts.shape[0] else w.shape[1]
            scaled = first < weights
            decay = c[2] if scaled else zero
            size = 0.0
            step = 0.0
            for p in range(first, last):
                way = c[9] * m[p] / (np.sqrt(v[p]) * c[7] + c[8]) + decay * w[k, p]
                size += np.float64(w[k, p]) * np.float64(w[k, p])
                step += np.float64(way) * np.float64(way)
            trust = w.dtype.type(math.sqrt(size / step)) if scaled and size > 0 and step > 0 else one
            for p in range(first, last):
                way = c[9] * m[p] / (np.sqrt(v[p]) * c[7] + c[8]) + decay * w[k, p]
                w[k, p] -= c[0] * trust * way


# -- what is done to gradients before a step, and to weights after it ------------------------------------------------


@njit(cache=True, error_model="numpy")
def pull_l1(w, g, strengths, active, weights):
    """Add ``strengths[k] sign(w)`` to the gradients of the weights: the slope of an L1 penalty."""
    for k in range(active):
        if strengths[k] > 0:
            for p in range(weights):
                if w[k, p] > 0:
                    g[k, p] += strengths[k]
                elif w[k, p] < 0:
                    g[k, p] -= strengths[k]


@njit(cache=True, error_model="numpy")
def clip(g, norms, values, active):
    """Cut each gradient to ``values[k]``, then the whole to the Euclidean norm ``norms[k]``; 0 is no limit.

    Pascanu et al. 2013. A gradient that is not finite is left as it is, to be seen.
    """
    for k in range(active):
        limit = values[k]
        if limit > 0:
            for p in range(g.shape[1]):
                if g[k, p] > limit:
                    g[k, p] = limit
                elif g[k, p] < -limit:
                    g[k, p] = -limit
        if norms[k] > 0:
            total = 0.0
            for p in range(g.shape[1]):
                total += np.float64(g[k, p]) * np.float64(g[k, p])
            size = math.sqrt(total)
            if norms[k] < size < np.inf:
                scale = g.dtype.type(norms[k] / size)
                for p in range(g.shape[1]):
                    g[k, p] *= scale


@njit(cache=True, error_model="numpy")
def max_norm(w, first, before, units, limits, active):
    """Scale down the weights into each unit, a column of (I, H) at `first`, to the norm ``limits[k]``; 0 is no limit.

    Srebro & Shraibman 2005.
    """
    for k in range(active):
        if limits[k] > 0:
            own = w[k, first : first + before * units]
            for h in range(units):
                total = 0.0
                for i in range(before):
                    value = np.float64(own[i * units + h])
                    total += value * value
                size = math.sqrt(total)
                if limits[k] < size < np.inf:
                    scale = w.dtype.type(limits[k] / size)
                    for i in range(before):
                        own[i * units + h] *= scale


@njit(cache=True, error_model="numpy")
def add_noise(x, spreads, keys, step, active, rows):
    """Add normal noise of ``spreads[k]`` to `x` (K, B, D): two numbers from each pair of words (Box & Muller 1958)."""
    numbers = x.shape[2]
    pairs = (numbers + 1) // 2
    for k in range(active):
        if spreads[k] == 0:
            continue
        for b in range(rows):
            index = np.uint64(((step * x.shape[1] + b) * pairs) * 2)
            for h in range(0, numbers, 2):
                first = (float(random_word(keys[k], index) >> np.uint64(11)) + 1.0) * 1.1102230246251565e-16
                turn = float(random_word(keys[k], index + np.uint64(1)) >> np.uint64(11)) * 6.975736996017264e-16
                index += np.uint64(2)
                away = math.sqrt(-2.0 * math.log(first)) * spreads[k]
                x[k, b, h] += away * math.cos(turn)
                if h + 1 < numbers:
                    x[k, b, h + 1] += away * math.sin(turn)


@njit(cache=True, error_model="numpy")
def average(mean, w, memories, steps, moved, active):
    """Move each running mean of weights towards `w` (K, P): faster at first, so that the start is soon forgotten.

    Slots that have not `moved` (K,) are left.
    """
    for k in range(active):
        if memories[k] > 0 and moved[k]:
            early = (1.0 + steps[k]) / (10.0 + steps[k])
            share = w.dtype.type(1.0 - min(float(memories[k]), early))
            for p in range(w.shape[1]):
                mean[k, p] += share * (w[k, p] - mean[k, p])


@njit(cache=True, error_model="numpy")
def augment(x, height, width, channels, shifts, flips, contrasts, erased, crops, keys, step, active, rows):
    """Shift, mirror, crop, stretch and blot pictures (K, B, H W C) by chance, each by four words of its run's key.

    A crop is brought to full size by taking the nearest pixel.

    What comes in from outside, and what is blotted out, is zero: the mean, where pixels are centred.
    """
    seen = np.zeros(x.shape[2], x.dtype)
    for k in range(active):
        if shifts[k] == 0 and flips[k] == 0 and contrasts[k] == 0 and erased[k] == 0 and crops[k] == 0:
            continue
        reach = 2 * shifts[k] + 1
        for b in range(rows):
            first = np.uint64((step * x.shape[1] + b) * 4)
            word = random_word(keys[k], first)
            down = np.int64(word % np.uint64(reach)) - shifts[k]
            right = np.int64((word >> np.uint64(20)) % np.uint64(reach)) - shifts[k]
            mirror = flips[k] == 1 and ((word >> np.uint64(40)) & np.uint64(1)) == np.uint64(1)
            turn = float(random_word(keys[k], first + np.uint64(1)) >> np.uint64(11)) * 1.1102230246251565e-16
            scale = x.dtype.type(1.0 + contrasts[k] * (2.0 * turn - 1.0))
            side = np.int64(round(erased[k] * min(height, width)))
            other = random_word(keys[k], first + np.uint64(2))
            top = np.int64(other % np.uint64(height - side + 1))
            left = np.int64((other >> np.uint64(20)) % np.uint64(width - side + 1))
            part = 1.0
            above, before = 0.0, 0.0
            if crops[k] > 0:
                cut = random_word(keys[k], first + np.uint64(3))
                part = 1.0 - crops[k] * float(cut & np.uint64(0xFFFFF)) / 1048576.0
                above = (1.0 - part) * height * float((cut >> np.uint64(20)) & np.uint64(0xFFFFF)) / 1048576.0
                before = (1.0 - part) * width * float((cut >> np.uint64(40)) & np.uint64(0xFFFFF)) / 1048576.0
            seen[:] = x[k, b]
            for i in range(height):
                for j in range(width):
                    y, q = i - down, j - right
                    if part < 1.0:
                        y, q = int(above + (y + 0.5) * part), int(before + (q + 0.5) * part)
                    if mirror:
                        q = width - 1 - q
                    inside = 0 <= y < height and 0 <= q < width
                    if top <= i < top + side and left <= j < left + side:
                        inside = False
                    at = (i * width + j) * channels
                    for c in range(channels):
                        x[k, b, at + c] = seen[(y * width + q) * channels + c] * scale if inside else 0
