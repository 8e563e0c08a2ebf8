"""Losses: outputs (C, B) against targets, their gradient, and the sums that metrics are made of."""

from __future__ import annotations

import math

import numpy as np
from numba import uint64 as _u

from axiarch.engine.codes import BY_ABSOLUTE, BY_SQUARED, CALLED, LARGEST_LOG
from axiarch.engine.kernels.called import call_block
from axiarch.engine.kernels.curves import exponential32
from axiarch.engine.kernels.options import inlined, kernel

#: Rows of which one logarithm is taken, that of a product: each factor lies between 1 and the
#: number of classes.
TOGETHER = 16


@inlined
def _exponential(x):
    return math.exp(x)


@kernel
def softmax(a, at, labels, d, to, classes, rows, gradient, smooth, kept, class_weights, sums,
            room, more):
    """Softmax cross-entropy with class numbers, shifted by the largest logit so that nothing
    overflows.

    Parameters
    ----------
    a, at : logits (C, B)
    labels : (B,) int32 array
    d, to : gets ``(p - onehot) / B``, if `gradient`; used as room else
    smooth, kept : float
        The share of each label that is given to all classes alike (Szegedy et al. 2016), and the
        share of its own label that a mixed row kept; the rest is that of its partner, row ``B - 1 -
        b``.
    class_weights : (C,) array
        What rows of each class count.
    sums : (1 + 2 C,) float64 array
        Without `gradient`, the number of rows whose largest logit is the label is added, in all and
        of each class, and that of rows predicted as each class.
    room, more : (B,) arrays, used up

    Returns
    -------
    float
        The summed loss in nats: without smoothing and class_weights, which only bend the gradient.
    """
    one = a.dtype.type(1)
    total = 0.0
    for b in range(_u(rows)):
        room[b] = a[_u(at) + b]
        more[b] = a.dtype.type(0)
    for c in range(_u(1), _u(classes)):
        row = _u(at) + c * _u(rows)
        number = a.dtype.type(c)
        if gradient:
            for b in range(_u(rows)):
                room[b] = a[row + b] if a[row + b] > room[b] else room[b]
            continue
        for b in range(_u(rows)):  # the largest, and which class it is: the first of equals
            value = a[row + b]
            larger = value > room[b]
            room[b] = value if larger else room[b]
            more[b] = number if larger else more[b]
    if not gradient:
        for b in range(rows):
            label = labels[b]
            hit = 1.0 if more[b] == label and a[at + label * rows + b] == room[b] else 0.0
            sums[0] += hit
            sums[1 + label] += hit
            sums[1 + classes + int(more[b])] += 1.0
    for b in range(rows):
        total -= a[at + labels[b] * rows + b] - room[b]
        more[b] = a.dtype.type(0)
    for c in range(_u(classes)):
        row, out = _u(at) + c * _u(rows), _u(to) + c * _u(rows)
        if a.itemsize == 4:
            for b in range(_u(rows)):
                value = exponential32(np.float32(a[row + b] - room[b]))
                d[out + b] = value
                more[b] += value
        else:
            for b in range(_u(rows)):
                value = _exponential(a[row + b] - room[b])
                d[out + b] = value
                more[b] += value
    for first in range(0, rows, TOGETHER):
        product = 1.0
        for b in range(first, min(first + TOGETHER, rows)):
            product *= np.float64(more[b])
        total += math.log(product)
    if not gradient:
        return total
    share = one / a.dtype.type(rows)
    sharp, even = share * (one - smooth), smooth / a.dtype.type(classes)
    for b in range(rows):
        gain = kept * class_weights[labels[b]]
        if kept < one:
            gain += (one - kept) * class_weights[labels[rows - 1 - b]]
        room[b] = share * gain
        more[b] = room[b] / more[b]
    for c in range(_u(classes)):
        out = _u(to) + c * _u(rows)
        for b in range(_u(rows)):
            d[out + b] = d[out + b] * more[b] - room[b] * even
    for b in range(rows):
        d[to + labels[b] * rows + b] -= sharp * kept * class_weights[labels[b]]
        if kept < one:
            other = labels[rows - 1 - b]
            d[to + other * rows + b] -= sharp * (one - kept) * class_weights[other]
    return total


@kernel
def binary(a, at, labels, d, to, rows, gradient, smooth, kept, class_weights, sums):
    """Binary cross-entropy from logits (1, B): ``max(z, 0) - z y + log(1 + exp(-|z|))``, which
    never overflows.

    The rest as in :func:`softmax`, the labels being 0 or 1.
    """
    one, half = a.dtype.type(1), a.dtype.type(0.5)
    share = one / a.dtype.type(rows)
    total = 0.0
    for b in range(rows):
        value, label = a[at + b], labels[b]
        small = math.exp(-abs(value))
        total += max(value, a.dtype.type(0)) - value * label + math.log1p(small)
        if (value > 0) == (label == 1) and value == value:
            sums[0] += 1
            sums[1 + label] += 1
        sums[4 if value > 0 else 3] += 1
        if gradient:
            p = one / (one + small) if value >= 0 else small / (one + small)
            wanted = label * (one - smooth) + smooth * half
            slope = (p - wanted) * share * kept * class_weights[label]
            if kept < one:
                other = labels[rows - 1 - b]
                wanted = other * (one - smooth) + smooth * half
                slope += (p - wanted) * share * (one - kept) * class_weights[other]
            d[to + b] = slope
    return total


@kernel
def amounts(a, at, targets, d, to, count, rows, gradient, sums):
    """Differences of amounts (T, B): the mean square over targets is what is reported, whichever
    loss trains.

    `d` gets the differences, which :func:`slopes` turns into a gradient. For each target the sum of
    squares, then of absolute differences, is added to `sums` (2 T,).
    """
    total = 0.0
    for t in range(count):
        squared, absolute = 0.0, 0.0
        for b in range(rows):
            away = a[at + t * rows + b] - targets[t * rows + b]
            squared += np.float64(away) * np.float64(away)
            absolute += abs(np.float64(away))
            if gradient:
                d[to + t * rows + b] = away
        sums[t] += squared
        sums[count + t] += absolute
        total += squared / count
    return total


@kernel
def log_amounts(a, at, targets, d, to, count, rows, gradient, scales, sums):
    """As :func:`amounts`, for amounts that are trained on by their logarithm.

    What is reported compares the amounts themselves, ``exp(z scale + centre) / spread``; `scales`
    (3 T,) holds scale, centre and spread. The differences in `d` are those of the scaled
    logarithms.
    """
    total = 0.0
    for t in range(count):
        scale, centre = np.float64(scales[t]), np.float64(scales[count + t])
        spread = np.float64(scales[2 * count + t])
        squared, absolute = 0.0, 0.0
        for b in range(rows):
            place = at + t * rows + b
            predicted = math.exp(min(np.float64(a[place]) * scale + centre, LARGEST_LOG))
            true = math.exp(min(np.float64(targets[t * rows + b]) * scale + centre, LARGEST_LOG))
            away = (predicted - true) / spread
            squared += away * away
            absolute += abs(away)
            if gradient:
                d[to + t * rows + b] = a[place] - targets[t * rows + b]
        sums[t] += squared
        sums[count + t] += absolute
        total += squared / count
    return total


@kernel
def slopes(how, address, d, to, count, rows, width):
    """Turn differences (T, B) into the gradient of their mean over targets and rows.

    By their square: twice the difference; by their size: its sign; Huber: half the square up to
    `width`, straight beyond it (Huber 1964).
    """
    share = d.dtype.type(1) / d.dtype.type(rows * count)
    if how == CALLED:
        call_block(address, d, to, d, to, count * rows)
        for i in range(to, to + count * rows):
            d[i] *= share
        return
    for i in range(to, to + count * rows):
        away = d[i]
        if how == BY_SQUARED:
            d[i] = away * (share + share)
        elif how == BY_ABSOLUTE:
            d[i] = share if away > 0 else (-share if away < 0 else away * share)
        else:
            d[i] = share * min(max(away, -width), width) if away == away else away
