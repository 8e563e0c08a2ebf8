"""Kernels for pictures: as those of ``kernels``, with the examples of a batch innermost.

An array of pictures is (K, C, P B): stack, channels, and for each of the P pixels the B examples side by side, so that
whatever the number of channels a loop runs over long stretches of memory. In a batch of fewer than B examples the
numbers lie closer, without gaps: `each` is always P times the examples there are, and channel c of slot k the numbers
``[c * each, (c + 1) * each)`` of what the slot has.

Sums over the numbers of a channel are made of :data:`_SIDE` sums side by side, always in the same order.
"""

from __future__ import annotations

import numpy as np
from numba import njit

from axiarch.engine.kernels import EPSILON, RUNNING, curve, random_word, slope

_U = np.uint64
#: Sums that are made side by side.
_SIDE = 64

# Indices are unsigned where loops are to be done side by side: a signed one might count from the end.


def used(z, active, each):
    """Return the part of `z` (K, C, P B) that a step works on, as (K, C, each)."""
    channels = z.shape[1]
    return z.reshape(len(z), -1)[:active, : channels * each].reshape(-1, channels, each, copy=False)


@njit(cache=True, error_model="numpy")
def lay_out_pictures(x, pictures, active, rows):
    """Lay examples `x` (K, B, P C) out as pictures (K, C, P B)."""
    channels = pictures.shape[1]
    pixels = x.shape[2] // channels
    for k in range(active):
        laid = pictures[k].reshape(-1)
        for c in range(channels):
            for p in range(pixels):
                to, at = _U((c * pixels + p) * rows), p * channels + c
                for b in range(rows):
                    laid[to + _U(b)] = x[k, b, at]


@njit(cache=True, error_model="numpy")
def lay_out_examples(pictures, x, active, rows):
    """Lay pictures (K, C, P B) out as examples `x` (K, B, P C)."""
    channels = pictures.shape[1]
    pixels = x.shape[2] // channels
    for k in range(active):
        laid = pictures[k].reshape(-1)
        for b in range(rows):
            for p in range(pixels):
                for c in range(channels):
                    x[k, b, p * channels + c] = laid[(c * pixels + p) * rows + b]


# -- windows ----------------------------------------------------------------------------------------------------------


@njit(cache=True, error_model="numpy", inline="always")
def _inside(lost, stride, width, wide):
    """Return the first and the last but one of `wide` places whose pixel, `lost` before it, lies inside a picture."""
    low = min(max((lost + stride - 1) // stride, 0), wide)
    return low, max(min((width - 1 + lost) // stride + 1, wide), low)


@njit(cache=True, error_model="numpy")
def lay_out_windows(x, windows, height, width, size, stride, top, left, tall, wide, active, rows):
    """Lay out the windows of pictures `x` (K, C, P B) in `windows` (K, size size C, tall wide B); zero outside."""
    channels = x.shape[1]
    run = wide * rows
    zero = x.dtype.type(0)
    for k in range(active):
        picture, laid = x[k].reshape(-1), windows[k].reshape(-1)
        for u in range(size):
            for v in range(size):
                low, high = _inside(left - v, stride, width, wide)
                for c in range(channels):
                    for i in range(tall):
                        y = i * stride + u - top
                        to = (((u * size + v) * channels + c) * tall + i) * run
                        if y < 0 or y >= height:
                            for n in range(run):
                                laid[_U(to + n)] = zero
                            continue
                        for n in range(low * rows):
                            laid[_U(to + n)] = zero
                        for n in range(high * rows, run):
                            laid[_U(to + n)] = zero
                        at = ((c * height + y) * width + low * stride + v - left) * rows
                        first = to + low * rows
                        if stride == 1:
                            for n in range((high - low) * rows):
                                laid[_U(first + n)] = picture[_U(at + n)]
                            continue
                        for j in range(high - low):
                            for b in range(rows):
                                laid[_U(first + j * rows + b)] = picture[_U(at + j * stride * rows + b)]


@njit(cache=True, error_model="numpy")
def add_up_windows(windows, d, height, width, size, stride, top, left, tall, wide, active, rows):
    """Add up the gradients of windows at the pixels of `d` (K, C, P B) that they were taken from."""
    channels = d.shape[1]
    zero = d.dtype.type(0)
    for k in range(active):
        picture, laid = d[k].reshape(-1), windows[k].reshape(-1)
        for n in range(channels * height * width * rows):
            picture[_U(n)] = zero
        for u in range(size):
            for v in range(size):
                low, high = _inside(left - v, stride, width, wide)
                for c in range(channels):
                    for i in range(tall):
                        y = i * stride + u - top
                        if y < 0 or y >= height:
                            continue
                        first = ((((u * size + v) * channels + c) * tall + i) * wide + low) * rows
                        at = ((c * height + y) * width + low * stride + v - left) * rows
                        if stride == 1:
                            for n in range((high - low) * rows):
                                picture[_U(at + n)] += laid[_U(first + n)]
                            continue
                        for j in range(high - low):
                            for b in range(rows):
                                picture[_U(at + j * stride * rows + b)] += laid[_U(first + j * rows + b)]


# -- pools ------------------------------------------------------------------------------------------------------------


@njit(cache=True, error_model="numpy")
def pool(x, out, which, height, width, size, mean, active, rows):
    """Put the largest, or the mean, of each square of `x` (K, C, P B) into `out`; `which` says where it was."""
    channels, tall, wide = x.shape[1], height // size, width // size
    nowhere, second, third, fourth = np.int32(0), np.int32(1), np.int32(2), np.int32(3)
    part = out.dtype.type(1) / out.dtype.type(size * size)
    for k in range(active):
        picture, best, place = x[k].reshape(-1), out[k].reshape(-1), which[k].reshape(-1)
        for c in range(channels):
            for i in range(tall):
                for j in range(wide):
                    to = _U(((c * tall + i) * wide + j) * rows)
                    first = ((c * height + i * size) * width + j * size) * rows
                    if size == 2 and not mean:  # the usual pool, in one go
                        right, below = _U(first + rows), _U(first + width * rows)
                        corner = below + _U(rows)
                        for b in range(rows):
                            one, two = picture[_U(first + b)], picture[right + _U(b)]
                            three, four = picture[below + _U(b)], picture[corner + _U(b)]
                            later = two > one or two != two
                            top, where = (two, second) if later else (one, nowhere)
                            later = three > top or three != three
                            top, where = (three, third) if later else (top, where)
                            later = four > top or four != four
                            best[to + _U(b)] = four if later else top
                            place[to + _U(b)] = fourth if later else where
                        continue
                    for at in range(size * size):
                        pixel = _U(first + (at // size * width + at % size) * rows)
                        number = np.int32(at)
                        if at == 0:
                            for b in range(rows):
                                best[to + _U(b)] = picture[pixel + _U(b)]
                                place[to + _U(b)] = number
                        elif mean:
                            for b in range(rows):
                                best[to + _U(b)] += picture[pixel + _U(b)]
                        else:
                            for b in range(rows):
                                value, top = picture[pixel + _U(b)], best[to + _U(b)]
                                larger = value > top or value != value
                                best[to + _U(b)] = value if larger else top
                                place[to + _U(b)] = number if larger else place[to + _U(b)]
                    if mean:
                        for b in range(rows):
                            best[to + _U(b)] *= part


@njit(cache=True, error_model="numpy")
def pool_backward(d, below, which, height, width, size, mean, active, rows):
    """Give the gradient `d` of each square to the pixel it came from, or a share to all of them."""
    channels, tall, wide = d.shape[1], height // size, width // size
    part = d.dtype.type(1) / d.dtype.type(size * size)
    zero = d.dtype.type(0)
    whole = tall * size == height and wide * size == width
    for k in range(active):
        slopes, picture, place = d[k].reshape(-1), below[k].reshape(-1), which[k].reshape(-1)
        if not whole:
            picture[:] = zero
        for c in range(channels):
            for i in range(tall):
                for j in range(wide):
                    at = _U(((c * tall + i) * wide + j) * rows)
                    for u in range(size):
                        for v in range(size):
                            pixel = _U(((c * height + i * size + u) * width + j * size + v) * rows)
                            number = np.int32(u * size + v)
                            if mean:
                                for b in range(rows):
                                    picture[pixel + _U(b)] = slopes[at + _U(b)] * part
                            else:
                                for b in range(rows):
                                    same = place[at + _U(b)] == number
                                    picture[pixel + _U(b)] = slopes[at + _U(b)] if same else zero


# -- biases, activations and dropout ----------------------------------------------------------------------------------


@njit(cache=True, error_model="numpy")
def _total(values, sums):
    """Return the sum of `values` (N,); `sums` (_SIDE,) is room to work in."""
    sums[:] = 0
    whole = values.shape[0] // _SIDE * _SIDE
    for start in range(0, whole, _SIDE):
        for i in range(_SIDE):
            sums[_U(i)] += values[_U(start + i)]
    for n in range(whole, values.shape[0]):
        sums[n - whole] += values[n]
    return _folded(sums)


@njit(cache=True, error_model="numpy")
def _product(one, two, sums):
    """Return the sum of the products of `one` (N,) and `two` (N,)."""
    sums[:] = 0
    whole = one.shape[0] // _SIDE * _SIDE
    for start in range(0, whole, _SIDE):
        for i in range(_SIDE):
            sums[_U(i)] += one[_U(start + i)] * two[_U(start + i)]
    for n in range(whole, one.shape[0]):
        sums[n - whole] += one[n] * two[n]
    return _folded(sums)


@njit(cache=True, error_model="numpy")
def _folded(sums):
    """Return the sum of `sums` (_SIDE,), which are used up."""
    half = _SIDE // 2
    while half:
        for i in range(half):
            sums[i] += sums[half + i]
        half //= 2
    return sums[0]


@njit(cache=True, error_model="numpy")
def add_bias(z, params, offset, active, each):
    """Add to each channel of `z` (K, C, P B) its bias at ``params[k, offset:]``."""
    for k in range(active):
        numbers = z[k].reshape(-1)
        for c in range(z.shape[1]):
            row, bias = numbers[c * each : (c + 1) * each], params[k, offset + c]
            for n in range(each):
                row[_U(n)] += bias


@njit(cache=True, error_model="numpy")
def sum_rows(d, grads, offset, active, each):
    """Put the sum over each channel of `d` (K, C, P B) into ``grads[k, offset:]``."""
    sums = np.zeros(_SIDE, d.dtype)
    for k in range(active):
        numbers = d[k].reshape(-1)
        for c in range(d.shape[1]):
            grads[k, offset + c] = _total(numbers[c * each : (c + 1) * each], sums)


@njit(cache=True, error_model="numpy")
def relu(z, params, offset, active, each):
    """Replace `z` (K, C, P B) by ``max(z + bias, 0)``; a NaN stays a NaN."""
    zero = z.dtype.type(0)
    for k in range(active):
        numbers = z[k].reshape(-1)
        for c in range(z.shape[1]):
            row, bias = numbers[c * each : (c + 1) * each], params[k, offset + c]
            for n in range(each):
                value = row[_U(n)] + bias
                row[_U(n)] = zero if value < zero else value


@njit(cache=True, error_model="numpy")
def relu_backward(d, a, grads, offset, scales, active, each):
    """As ``kernels.relu_backward``."""
    zero = d.dtype.type(0)
    sums = np.zeros(_SIDE, d.dtype)
    for k in range(active):
        slopes, outputs, scale = d[k].reshape(-1), a[k].reshape(-1), scales[k]
        for c in range(d.shape[1]):
            row, output = slopes[c * each : (c + 1) * each], outputs[c * each : (c + 1) * each]
            for n in range(each):
                row[_U(n)] *= scale if output[_U(n)] > zero else zero
            grads[k, offset + c] = _total(row, sums)


@njit(cache=True, error_model="numpy")
def tanh_backward(d, a, grads, offset, scales, active, each):
    """As ``kernels.tanh_backward``."""
    one = d.dtype.type(1)
    sums = np.zeros(_SIDE, d.dtype)
    for k in range(active):
        slopes, outputs, inverse = d[k].reshape(-1), a[k].reshape(-1), one / scales[k]
        for c in range(d.shape[1]):
            row, output = slopes[c * each : (c + 1) * each], outputs[c * each : (c + 1) * each]
            for n in range(each):
                value = output[_U(n)] * inverse
                row[_U(n)] *= one - value * value
            grads[k, offset + c] = _total(row, sums)


@njit(cache=True, error_model="numpy")
def bend(number, z, out, params, offset, active, each):
    """Add the biases to `z` (K, C, P B), and put the curve `number` of it into `out`."""
    for k in range(active):
        numbers, bent = z[k].reshape(-1), out[k].reshape(-1)
        for c in range(z.shape[1]):
            bias = params[k, offset + c]
            for n in range(c * each, (c + 1) * each):
                value = numbers[_U(n)] + bias
                numbers[_U(n)] = value
                bent[_U(n)] = curve(number, value)


@njit(cache=True, error_model="numpy")
def bend_backward(number, d, z, grads, offset, active, each):
    """Turn the gradient `d` (K, C, P B) of a curve into that of its sums `z`, and add up the biases'."""
    sums = np.zeros(_SIDE, d.dtype)
    for k in range(active):
        slopes, numbers = d[k].reshape(-1), z[k].reshape(-1)
        for c in range(d.shape[1]):
            row, value = slopes[c * each : (c + 1) * each], numbers[c * each : (c + 1) * each]
            for n in range(each):
                row[_U(n)] *= slope(number, value[_U(n)])
            grads[k, offset + c] = _total(row, sums)


@njit(cache=True, error_model="numpy")
def drop(a, thresholds, scales, keys, first_word, active, each):
    """Apply inverted dropout to `a` (K, C, P B), as ``kernels.drop``; the words of a channel follow each other."""
    zero = a.dtype.type(0)
    length = (each + 3) // 4
    words = np.empty(length, np.uint64)
    bits = words.view(np.uint16)
    for k in range(active):
        if thresholds[k] == 0:
            continue
        threshold, scale, key = np.int32(thresholds[k]), scales[k], keys[k]
        numbers = a[k].reshape(-1)
        for c in range(a.shape[1]):
            first = np.uint64(first_word + c * length)
            for i in range(length):
                words[_U(i)] = random_word(key, first + np.uint64(i))
            row = numbers[c * each : (c + 1) * each]
            for n in range(each):
                row[_U(n)] *= scale if np.int32(bits[_U(n)]) >= threshold else zero


@njit(cache=True, error_model="numpy")
def extremes(out, low, high, level, centre, reach, start, active, each):
    """As ``kernels.extremes``, of the outputs (K, C, P B)."""
    lowest, highest = np.zeros(_SIDE, out.dtype), np.zeros(_SIDE, out.dtype)
    whole = each // _SIDE * _SIDE
    for k in range(active):
        numbers = out[k].reshape(-1)
        for c in range(out.shape[1]):
            row = numbers[c * each : (c + 1) * each]
            lowest[:], highest[:] = low[k, start + c], high[k, start + c]
            for n in range(0, whole, _SIDE):
                for i in range(_SIDE):
                    value = row[_U(n + i)]
                    lowest[_U(i)] = value if value < lowest[_U(i)] else lowest[_U(i)]
                    highest[_U(i)] = value if value > highest[_U(i)] else highest[_U(i)]
            for n in range(whole, each):
                lowest[0], highest[0] = min(lowest[0], row[n]), max(highest[0], row[n])
            low[k, start + c], high[k, start + c] = lowest.min(), highest.max()
            if reach > 0:
                for n in range(each):
                    level[k, start + c] += abs(row[n] - centre) / reach


# -- normalisation ----------------------------------------------------------------------------------------------------


@njit(cache=True, error_model="numpy")
def batch_norm(z, scaled, spread, params, gains, kept, training, active, each):
    """As ``kernels.batch_norm``: each channel of `z` (K, C, P B) over all its numbers."""
    one = z.dtype.type(1)
    part = one / z.dtype.type(each)
    epsilon, share = z.dtype.type(EPSILON), z.dtype.type(RUNNING)
    channels = z.shape[1]
    sums = np.zeros(_SIDE, z.dtype)
    for k in range(active):
        numbers, even = z[k].reshape(-1), scaled[k].reshape(-1)
        running = params[k, kept : kept + 2 * channels]
        for c in range(channels):
            row, own, gain = numbers[c * each : (c + 1) * each], even[c * each : (c + 1) * each], params[k, gains + c]
            if training:
                mean = _total(row, sums) * part
                for n in range(each):
                    own[_U(n)] = row[_U(n)] - mean
                square = _product(own, own, sums) * part
                running[c] += share * (mean - running[c])
                running[channels + c] += share * (square - running[channels + c])
            else:
                mean, square = running[c], running[channels + c]
                for n in range(each):
                    own[_U(n)] = row[_U(n)] - mean
            narrow = one / np.sqrt(square + epsilon)
            spread[k, c] = narrow
            for n in range(each):
                value = own[_U(n)] * narrow
                own[_U(n)] = value
                row[_U(n)] = value * gain


@njit(cache=True, error_model="numpy")
def batch_norm_backward(d, scaled, spread, params, grads, gains, active, each):
    """Turn the gradient `d` (K, C, P B) of normalised sums into that of the sums, and put the gains' into `grads`."""
    part = d.dtype.type(1) / d.dtype.type(each)
    sums = np.zeros(_SIDE, d.dtype)
    for k in range(active):
        slopes, even = d[k].reshape(-1), scaled[k].reshape(-1)
        for c in range(d.shape[1]):
            row, own = slopes[c * each : (c + 1) * each], even[c * each : (c + 1) * each]
            along = _product(row, own, sums)
            plain = _total(row, sums) * part
            grads[k, gains + c] = along
            along *= part
            steep = params[k, gains + c] * spread[k, c]
            for n in range(each):
                row[_U(n)] = steep * (row[_U(n)] - plain - own[_U(n)] * along)


@njit(cache=True, error_model="numpy")
def layer_norm(z, scaled, spread, params, gains, active, each):
    """As ``kernels.layer_norm``: each pixel of `z` (K, C, P B) over its channels; `spread` is (K, P B)."""
    channels = z.shape[1]
    one = z.dtype.type(1)
    part = one / z.dtype.type(channels)
    epsilon, zero = z.dtype.type(EPSILON), z.dtype.type(0)
    mean = np.zeros(each, z.dtype)
    for k in range(active):
        numbers, even, square = z[k].reshape(-1), scaled[k].reshape(-1), spread[k]
        mean[:] = zero
        for c in range(channels):
            row = numbers[c * each : (c + 1) * each]
            for n in range(each):
                mean[_U(n)] += row[_U(n)]
        for n in range(each):
            mean[_U(n)] *= part
            square[_U(n)] = zero
        for c in range(channels):
            row, own = numbers[c * each : (c + 1) * each], even[c * each : (c + 1) * each]
            for n in range(each):
                value = row[_U(n)] - mean[_U(n)]
                own[_U(n)] = value
                square[_U(n)] += value * value
        for n in range(each):
            square[_U(n)] = one / np.sqrt(square[_U(n)] * part + epsilon)
        for c in range(channels):
            row, own, gain = numbers[c * each : (c + 1) * each], even[c * each : (c + 1) * each], params[k, gains + c]
            for n in range(each):
                value = own[_U(n)] * square[_U(n)]
                own[_U(n)] = value
                row[_U(n)] = value * gain


@njit(cache=True, error_model="numpy")
def layer_norm_backward(d, scaled, spread, params, grads, gains, active, each):
    """As :func:`batch_norm_backward`, for :func:`layer_norm`."""
    channels = d.shape[1]
    part = d.dtype.type(1) / d.dtype.type(channels)
    sums = np.zeros(_SIDE, d.dtype)
    plain, along = np.zeros(each, d.dtype), np.zeros(each, d.dtype)
    for k in range(active):
        slopes, even, narrow = d[k].reshape(-1), scaled[k].reshape(-1), spread[k]
        plain[:] = 0
        along[:] = 0
        for c in range(channels):
            row, own, gain = slopes[c * each : (c + 1) * each], even[c * each : (c + 1) * each], params[k, gains + c]
            grads[k, gains + c] = _product(row, own, sums)
            for n in range(each):
                row[_U(n)] *= gain
                plain[_U(n)] += row[_U(n)]
                along[_U(n)] += row[_U(n)] * own[_U(n)]
        for c in range(channels):
            row, own = slopes[c * each : (c + 1) * each], even[c * each : (c + 1) * each]
            for n in range(each):
                row[_U(n)] = narrow[_U(n)] * (row[_U(n)] - part * plain[_U(n)] - part * own[_U(n)] * along[_U(n)])
