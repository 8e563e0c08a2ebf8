"""Pictures: the windows of a convolution laid out and added up, and pools of squares.

A block of pictures is (C, H, W, B): channels, pixels, examples.
"""

from __future__ import annotations

import numpy as np
from numba import uint64 as _u

from axiarch.engine.kernels.options import inlined, kernel


@inlined
def _inside(lost, stride, width, wide):
    """Return the first and the last but one of `wide` places whose pixel, `lost` before it, lies
    inside a picture.
    """
    low = min(max((lost + stride - 1) // stride, 0), wide)
    return low, max(min((width - 1 + lost) // stride + 1, wide), low)


@kernel
def lay_out_windows(a, at, to, channels, height, width, size, stride, top, left, tall, wide, rows):
    """Lay out the windows of pictures at `at` as a block (size size C, tall wide B) at `to`;
    zero outside.
    """
    run = wide * rows
    zero = a.dtype.type(0)
    for u in range(size):
        for v in range(size):
            low, high = _inside(left - v, stride, width, wide)
            for c in range(channels):
                for i in range(tall):
                    y = i * stride + u - top
                    laid = to + (((u * size + v) * channels + c) * tall + i) * run
                    if y < 0 or y >= height:
                        for n in range(_u(run)):
                            a[_u(laid) + n] = zero
                        continue
                    for n in range(_u(low * rows)):
                        a[_u(laid) + n] = zero
                    for n in range(_u(high * rows), _u(run)):
                        a[_u(laid) + n] = zero
                    pixel = at + ((c * height + y) * width + low * stride + v - left) * rows
                    first = laid + low * rows
                    if stride == 1:
                        for n in range(_u((high - low) * rows)):
                            a[_u(first) + n] = a[_u(pixel) + n]
                        continue
                    for j in range(high - low):
                        for b in range(_u(rows)):
                            a[_u(first + j * rows) + b] = a[_u(pixel + j * stride * rows) + b]


@kernel
def add_up_windows(d, at, to, channels, height, width, size, stride, top, left, tall, wide, rows):
    """Add up the gradients of windows at `at` at the pixels of the pictures at `to` that they
    were taken from.
    """
    zero = d.dtype.type(0)
    for n in range(_u(channels * height * width * rows)):
        d[_u(to) + n] = zero
    for u in range(size):
        for v in range(size):
            low, high = _inside(left - v, stride, width, wide)
            for c in range(channels):
                for i in range(tall):
                    y = i * stride + u - top
                    if y < 0 or y >= height:
                        continue
                    first = at + ((((u * size + v) * channels + c) * tall + i) * wide + low) * rows
                    pixel = to + ((c * height + y) * width + low * stride + v - left) * rows
                    if stride == 1:
                        for n in range(_u((high - low) * rows)):
                            d[_u(pixel) + n] += d[_u(first) + n]
                        continue
                    for j in range(high - low):
                        for b in range(_u(rows)):
                            d[_u(pixel + j * stride * rows) + b] += d[_u(first + j * rows) + b]


@kernel
def pool(a, at, to, which, place, channels, height, width, size, mean, rows):
    """Put the largest, or the mean, of each square at `to`; `which` from `place` on says where
    it was.
    """
    tall, wide = height // size, width // size
    part = a.dtype.type(1) / a.dtype.type(size * size)
    for c in range(channels):
        for i in range(tall):
            for j in range(wide):
                square = ((c * tall + i) * wide + j) * rows
                out, found = _u(to + square), _u(place + square)
                corner = at + ((c * height + i * size) * width + j * size) * rows
                if mean:
                    _mean_of_square(a, out, corner, width, size, part, rows)
                elif size == 2:
                    _largest_of_four(a, out, which, found, _u(corner), _u(corner + width * rows),
                                     rows)
                else:
                    _largest_of_square(a, out, which, found, corner, width, size, rows)


@kernel
def _mean_of_square(a, out, corner, width, size, part, rows):
    for b in range(_u(rows)):
        a[out + b] = a[_u(corner) + b]
    for k in range(1, size * size):
        pixel = _u(corner + (k // size * width + k % size) * rows)
        for b in range(_u(rows)):
            a[out + b] += a[pixel + b]
    for b in range(_u(rows)):
        a[out + b] *= part


@kernel
def _largest_of_four(a, out, which, found, upper, lower, rows):
    """The usual square, in one pass."""
    nowhere, second, third, fourth = np.int32(0), np.int32(1), np.int32(2), np.int32(3)
    beside = _u(rows)
    for b in range(_u(rows)):
        one, two = a[upper + b], a[upper + beside + b]
        three, four = a[lower + b], a[lower + beside + b]
        later = two > one or two != two
        top, where = (two, second) if later else (one, nowhere)
        later = three > top or three != three
        top, where = (three, third) if later else (top, where)
        later = four > top or four != four
        a[out + b] = four if later else top
        which[found + b] = fourth if later else where


@kernel
def _largest_of_square(a, out, which, found, corner, width, size, rows):
    for b in range(_u(rows)):
        a[out + b] = a[_u(corner) + b]
        which[found + b] = np.int32(0)
    for k in range(1, size * size):
        pixel, number = _u(corner + (k // size * width + k % size) * rows), np.int32(k)
        for b in range(_u(rows)):
            value, best = a[pixel + b], a[out + b]
            larger = value > best or value != value
            a[out + b] = value if larger else best
            which[found + b] = number if larger else which[found + b]


@kernel
def pool_back(d, at, to, which, place, channels, height, width, size, mean, rows):
    """Give the gradient of each square at `at` to the pixel it came from, or a share to all of
    them.
    """
    tall, wide = height // size, width // size
    part, zero = d.dtype.type(1) / d.dtype.type(size * size), d.dtype.type(0)
    if tall * size != height or wide * size != width:
        for n in range(_u(channels * height * width * rows)):
            d[_u(to) + n] = zero
    for c in range(channels):
        for i in range(tall):
            for j in range(wide):
                square = ((c * tall + i) * wide + j) * rows
                slopes, found = _u(at + square), _u(place + square)
                corner = to + ((c * height + i * size) * width + j * size) * rows
                for k in range(size * size):
                    pixel, number = _u(corner + (k // size * width + k % size) * rows), np.int32(k)
                    if mean:
                        for b in range(_u(rows)):
                            d[pixel + b] = d[slopes + b] * part
                    else:
                        for b in range(_u(rows)):
                            d[pixel + b] = d[slopes + b] if which[found + b] == number else zero
