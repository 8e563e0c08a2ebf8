"""Rows on their way into a batch: gathered, varied, mixed, and noise added."""

from __future__ import annotations

import math

import numpy as np
from numba import uint64 as _u

from axiarch.engine.codes import CONTRAST, CROP, ERASE, FLIP, SHIFT
from axiarch.engine.kernels.options import kernel
from axiarch.engine.kernels.words import random_word


@kernel
def gather(x, width, order, start, rows, a, at, channels):
    """Put rows of `x` (N D,) into the block (D, B) at `at`; numbers of pictures, channel fastest,
    become (C, P, B).

    The rows are ``order[start:start + rows]``, or those numbers themselves where `order` is empty.
    """
    pixels = width // channels
    plain = order.shape[0] == 0
    for b in range(rows):
        row = _u((start + b if plain else order[start + b]) * width)
        if channels == 1:
            for j in range(_u(width)):
                a[_u(at + b) + j * _u(rows)] = x[row + j]
            continue
        for c in range(channels):
            for p in range(pixels):
                a[_u(at + (c * pixels + p) * rows + b)] = x[row + _u(p * channels + c)]


@kernel
def gather_labels(y, order, start, rows, labels):
    """Put the class numbers of rows into `labels` (B,)."""
    plain = order.shape[0] == 0
    for b in range(rows):
        labels[b] = y[start + b if plain else order[start + b]]


@kernel
def gather_amounts(y, width, order, start, rows, amounts):
    """Put the amounts (N T,) of rows into `amounts` as a block (T, B)."""
    plain = order.shape[0] == 0
    for b in range(rows):
        row = (start + b if plain else order[start + b]) * width
        for t in range(width):
            amounts[t * rows + b] = y[row + t]


@kernel
def touch(x, width, order, start, stop):
    """Read one number of every page of the rows ``order[start:stop]``: they are in memory when
    they are used.
    """
    page = 4096 // x.itemsize
    total = x.dtype.type(0)
    for i in range(start, stop):
        row = order[i] * width
        for j in range(0, width, page):
            total += x[row + j]
        total += x[row + width - 1]
    return total


@kernel
def mix(a, at, numbers, kept, rows):
    """Mix each column of a block (D, B) with its partner, column ``B - 1 - b`` (Zhang et al.
    2018).
    """
    one = a.dtype.type(1)
    for j in range(numbers):
        row = at + j * rows
        for b in range((rows + 1) // 2):
            first, last = a[row + b], a[row + rows - 1 - b]
            a[row + b] = kept * first + (one - kept) * last
            a[row + rows - 1 - b] = kept * last + (one - kept) * first


@kernel
def add_noise(a, at, numbers, spread, key, step, batch, rows):
    """Add normal noise to a block (D, B): two numbers of an example from each pair of words (Box
    & Muller 1958).
    """
    pairs = (numbers + 1) // 2
    for b in range(rows):
        index = np.uint64(((step * batch + b) * pairs) * 2)
        for h in range(0, numbers, 2):
            first = (float(random_word(key, index) >> np.uint64(11)) + 1.0) * 1.1102230246251565e-16
            turn = float(random_word(key, index +
                                     np.uint64(1)) >> np.uint64(11)) * 6.975736996017264e-16
            index += np.uint64(2)
            away = math.sqrt(-2.0 * math.log(first)) * spread
            a[at + h * rows + b] += away * math.cos(turn)
            if h + 1 < numbers:
                a[at + (h + 1) * rows + b] += away * math.sin(turn)


@kernel
def augment(a, at, channels, height, width, planes, how, key, step, batch, rows, seen):
    """Shift, mirror, crop, stretch and blot pictures (C, H, W, B) by chance, each by four words of
    the key.

    A crop is brought to full size by taking the nearest pixel. What comes in from outside, and what
    is blotted out, is zero: the mean, where pixels are centred. Pictures lie channel by channel
    (`planes`) or channel fastest. `seen` (C H W,) is used up.
    """
    shift = np.int64(how[SHIFT])
    reach = 2 * shift + 1
    pixels = height * width
    apart, beside = (pixels, 1) if planes else (1, channels)
    for b in range(rows):
        first = np.uint64((step * batch + b) * 4)
        word = random_word(key, first)
        down = np.int64(word % np.uint64(reach)) - shift
        right = np.int64((word >> np.uint64(20)) % np.uint64(reach)) - shift
        mirror = how[FLIP] > 0 and ((word >> np.uint64(40)) & np.uint64(1)) == np.uint64(1)
        turn = float(random_word(key, first +
                                 np.uint64(1)) >> np.uint64(11)) * 1.1102230246251565e-16
        scale = a.dtype.type(1.0 + how[CONTRAST] * (2.0 * turn - 1.0))
        side = np.int64(round(how[ERASE] * min(height, width)))
        other = random_word(key, first + np.uint64(2))
        top = np.int64(other % np.uint64(height - side + 1))
        left = np.int64((other >> np.uint64(20)) % np.uint64(width - side + 1))
        part, above, before = 1.0, 0.0, 0.0
        if how[CROP] > 0:
            cut = random_word(key, first + np.uint64(3))
            part = 1.0 - how[CROP] * float(cut & np.uint64(0xFFFFF)) / 1048576.0
            above = (1.0 - part) * height * float((cut >> np.uint64(20))
                                                  & np.uint64(0xFFFFF)) / 1048576.0
            before = (1.0 - part) * width * float((cut >> np.uint64(40))
                                                  & np.uint64(0xFFFFF)) / 1048576.0
        for n in range(channels * pixels):
            seen[n] = a[at + n * rows + b]
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
                for c in range(channels):
                    value = seen[c * apart +
                                 (y * width + q) * beside] * scale if inside else a.dtype.type(0)
                    a[at + (c * apart + (i * width + j) * beside) * rows + b] = value
