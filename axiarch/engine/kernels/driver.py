"""The drivers: they walk a program's table of operations, for any number of steps or rows, without
the interpreter.

See :mod:`axiarch.engine.program` for what the columns of the table and the numbers beside it are.
"""

from __future__ import annotations

import math

import numpy as np

from axiarch.engine.codes import (
    ACTIVATION,
    AVERAGING,
    BATCH,
    BATCH_NORM,
    BIASES,
    BINARY,
    CALLED_LOSS,
    CALLED_STEP,
    CHANNELS,
    CLIP_NORM,
    CLIP_VALUE,
    CONV,
    CURVE,
    DENSE,
    DROPOUT_KEY,
    FAN,
    FIRST,
    GATHERED,
    HEIGHT,
    HUBER,
    IDENTITY,
    IMAGE_CHANNELS,
    IMAGE_HEIGHT,
    IMAGE_WIDTH,
    IN,
    INPUT,
    INPUT_CHANNELS,
    INPUTS,
    KEPT,
    KIND,
    L1,
    LAYER,
    LAYER_NORM,
    LEFT,
    LOSS,
    MAX_NORM,
    MAX_POOL,
    MEAN_POOL,
    MIXING,
    NOISE,
    NOISE_KEY,
    NORM,
    NORM_SCALES,
    NUMBERS,
    OPTIMISER,
    OUT,
    OUTPUT,
    OUTPUTS,
    PARAMETERS,
    PICTURE_KEY,
    POSITIONS,
    RELU,
    SCALED,
    SIZE,
    SKIP,
    SLOPE,
    SMOOTH,
    SOFTMAX,
    SPREAD,
    SQUARED,
    STEP_WORDS,
    STRIDE,
    SUM,
    TALL,
    TANH,
    TOP,
    TRAINED,
    TRAINED_ON,
    UNITS,
    VARIED,
    WEIGHT_COUNT,
    WEIGHTS,
    WHICH,
    WIDE,
    WIDTH,
    WINDOWS,
    WORDS,
)
from axiarch.engine.kernels import curves, limits, losses, norms, rows, steps, windows, words
from axiarch.engine.kernels.options import kernel
from axiarch.engine.kernels.products import weigh, weigh_back, weigh_gradient


@kernel
def forward(a, which, p, ops, batch, training, key, first_word, thresholds, scales, word, bits,
            room):
    """Put the outputs of all operations into the arena `a`, for a batch whose inputs are there."""
    for i in range(ops.shape[0]):
        op = ops[i]
        kind = op[KIND]
        if kind in (MAX_POOL, MEAN_POOL):
            windows.pool(a, op[IN], op[OUT], which, op[WHICH], op[CHANNELS], op[HEIGHT], op[WIDTH],
                         op[SIZE], kind == MEAN_POOL, batch)
            continue
        units, columns = op[UNITS], op[POSITIONS] * batch
        source, z, out = op[IN], op[SUM], op[OUT]
        if kind == CONV:
            windows.lay_out_windows(a, source, op[WINDOWS], op[CHANNELS], op[HEIGHT], op[WIDTH],
                                    op[SIZE], op[STRIDE], op[TOP], op[LEFT], op[TALL], op[WIDE],
                                    batch)
            source = op[WINDOWS]
        weigh(a, source, z, p, op[WEIGHTS], op[FAN], units, columns)
        if op[NORM] == BATCH_NORM:
            norms.batch_norm(a, z, op[SCALED], op[SPREAD], p, op[NORM_SCALES], op[KEPT],
                             training, units, columns)
        elif op[NORM] == LAYER_NORM:
            norms.layer_norm(a, z, op[SCALED], op[SPREAD], p, op[NORM_SCALES], units, columns, room)
        threshold = thresholds[op[LAYER]] if training else np.int32(0)
        if op[ACTIVATION] == RELU and threshold > 0:
            curves.relu_drop(a, z, p, op[BIASES], units, columns, key, first_word + op[WORDS],
                             threshold, scales[op[LAYER]], word, bits)
        else:
            if op[ACTIVATION] == RELU:
                curves.relu(a, z, p, op[BIASES], units, columns)
            elif op[ACTIVATION] == TANH:
                curves.tanh(a, z, p, op[BIASES], units, columns)
            elif op[ACTIVATION] == IDENTITY:
                curves.add_bias(a, z, p, op[BIASES], units, columns)
            else:
                curves.bend(op[ACTIVATION], op[CURVE], a, z, out, p, op[BIASES], units, columns)
            if threshold > 0:
                words.drop(a, out, units, columns, key, first_word + op[WORDS], threshold,
                           scales[op[LAYER]], word, bits)
        if op[SKIP] >= 0:
            curves.add_block(a, out, op[IN], op[SKIP], units * columns)


@kernel
def backward(a, which, d, p, g, ops, batch, key, first_word, thresholds, scales, word, bits, room,
             more):
    """Put the gradients of all parameters into `g`, that of the outputs being in the arena `d`."""
    for i in range(ops.shape[0] - 1, -1, -1):
        op = ops[i]
        kind = op[KIND]
        if kind in (MAX_POOL, MEAN_POOL):
            if not op[FIRST]:
                windows.pool_back(d, op[OUT], op[IN], which, op[WHICH], op[CHANNELS], op[HEIGHT],
                                  op[WIDTH], op[SIZE], kind == MEAN_POOL, batch)
            continue
        units, columns = op[UNITS], op[POSITIONS] * batch
        out = op[OUT]
        if op[SKIP] >= 0:
            curves.copy_block(d, op[SKIP], out, units * columns)
        threshold, scale = thresholds[op[LAYER]], scales[op[LAYER]]
        if op[ACTIVATION] == RELU:
            curves.relu_back(d, out, a, out, units, columns, scale)
        else:
            if threshold > 0:
                words.drop(d, out, units, columns, key, first_word + op[WORDS], threshold, scale,
                           word, bits)
            if op[ACTIVATION] == TANH:
                curves.tanh_back(d, out, a, out, units, columns, scale)
            elif op[ACTIVATION] != IDENTITY:
                curves.bend_back(op[ACTIVATION], op[SLOPE], d, out, a, op[SUM], units, columns)
        curves.bias_gradient(d, out, g, op[BIASES], units, columns)
        if op[NORM] == BATCH_NORM:
            norms.batch_norm_back(d, out, a, op[SCALED], op[SPREAD], p, g, op[NORM_SCALES], units,
                                  columns)
        elif op[NORM] == LAYER_NORM:
            norms.layer_norm_back(d, out, a, op[SCALED], op[SPREAD], p, g, op[NORM_SCALES], units,
                                  columns, room, more)
        source = op[WINDOWS] if kind == CONV else op[IN]
        weigh_gradient(a, source, d, out, out, g, op[WEIGHTS], op[FAN], units, columns)
        if op[FIRST]:
            continue
        weigh_back(d, out, source, p, op[WEIGHTS], op[FAN], units, columns)
        if kind == CONV:
            windows.add_up_windows(d, source, op[IN], op[CHANNELS], op[HEIGHT], op[WIDTH], op[SIZE],
                                   op[STRIDE], op[TOP], op[LEFT], op[TALL], op[WIDE], batch)
        if op[SKIP] >= 0:
            for n in range(op[NUMBERS] * batch):
                d[op[IN] + n] += d[op[SKIP] + n]


@kernel
def measure(a, d, to, ints, smooth, kept, loss_values, labels, amounts, batch, gradient, sums, room,
            more):
    """Return the summed loss of the outputs of a batch, add to the `sums` of metrics; put the
    gradient at `to` of `d`.

    Without `gradient`, what is there of `d`, as much as there are outputs, is used up.
    """
    at, count, kind = ints[OUTPUT], ints[OUTPUTS], ints[LOSS]
    if kind == SOFTMAX:
        return losses.softmax(a, at, labels, d, to, count, batch, gradient, smooth, kept,
                              loss_values, sums, room, more)
    if kind == BINARY:
        return losses.binary(a, at, labels, d, to, batch, gradient, smooth, kept, loss_values, sums)
    if kind == SQUARED:
        return losses.amounts(a, at, amounts, d, to, count, batch, gradient, sums)
    return losses.log_amounts(a, at, amounts, d, to, count, batch, gradient, loss_values, sums)


@kernel
def take_targets(ints, y, wanted, order, start, batch, labels, amounts):
    """Gather the class numbers or the amounts of a batch."""
    if ints[LOSS] == SOFTMAX or ints[LOSS] == BINARY:
        rows.gather_labels(y, order, start, batch, labels)
    else:
        rows.gather_amounts(wanted, ints[OUTPUTS], order, start, batch, amounts)


@kernel
def train(x, y, wanted, order, first, stop, last, total, ops, ints, reals, how, kept, loss_values,
          thresholds, scales, keys, p, g, gathered, s, coefficients, done, starts, a, d, which,
          labels, amounts, word, bits, room, more, seen, before, sums, raw):
    """Train for the steps from `first` to `stop` of an epoch; return the step after the last one
    made.

    Where the loss of a step is not finite that step is the last: the next step's number is returned
    with a minus.

    Parameters
    ----------
    x : (N D,) array
        The training rows.
    y, wanted : (N,) int32 and (N T,) arrays
        Class numbers, amounts; one of them is empty.
    order : (N,) array
    last, total : int
        The number of the epoch's last step, and the rows of all its steps.
    kept : (steps,) array
        How much of itself each row keeps where rows are mixed.
    coefficients : (updates, n) array
        Of every step of the optimiser in the epoch.
    done : int
        Steps of the optimiser before this epoch.
    before : (weights,) array
        Gets the weights before the last step.
    sums : (1 + n,) float64 array
        The summed loss is added to the first.
    raw : (1,) float64 array
        Gets the squared norm of the gradient of the loss at the last step.
    """
    batch_size, over, size = ints[BATCH], ints[GATHERED], ints[PARAMETERS]
    one = p.dtype.type(1)
    for step in range(first, stop):
        start = step * batch_size
        batch = min(batch_size, total - start)
        rows.gather(x, ints[INPUTS], order, start, batch, a, ints[INPUT], ints[INPUT_CHANNELS])
        take_targets(ints, y, wanted, order, start, batch, labels, amounts)
        if ints[VARIED]:
            planes = ints[INPUT_CHANNELS] == ints[IMAGE_CHANNELS]
            rows.augment(a, ints[INPUT], ints[IMAGE_CHANNELS], ints[IMAGE_HEIGHT],
                         ints[IMAGE_WIDTH], planes, how, keys[PICTURE_KEY], step, batch_size, batch,
                         seen)
        keeps = one
        if reals[MIXING] > 0:
            keeps = kept[step]
            rows.mix(a, ints[INPUT], ints[INPUTS], keeps, batch)
            if wanted.shape[0] > 0:
                rows.mix(amounts, 0, ints[OUTPUTS], keeps, batch)
        if reals[NOISE] > 0:
            rows.add_noise(a, ints[INPUT], ints[INPUTS], reals[NOISE], keys[NOISE_KEY], step,
                           batch_size, batch)
        first_word = step * ints[STEP_WORDS]
        forward(a, which, p, ops, batch, True, keys[DROPOUT_KEY], first_word, thresholds, scales,
                word, bits, room)
        loss = measure(a, d, ints[OUTPUT], ints, reals[SMOOTH], keeps, loss_values, labels, amounts,
                       batch, True, sums[1:], room, more)
        sums[0] += loss
        if not math.isfinite(loss):
            return -(step + 1)
        if wanted.shape[0] > 0:
            losses.slopes(ints[TRAINED_ON], ints[CALLED_LOSS], d, ints[OUTPUT], ints[OUTPUTS],
                          batch, reals[HUBER])
        backward(a, which, d, p, g, ops, batch, keys[DROPOUT_KEY], first_word, thresholds, scales,
                 word, bits, room, more)
        if step == last:
            for i in range(ints[WEIGHT_COUNT]):
                before[i] = p[i]
        if over > 1:
            begun = step // over * over
            together = min((begun + over) * batch_size, total) - begun * batch_size
            limits.gather_gradients(gathered, g, p.dtype.type(batch / together), size,
                                    step == begun)
            if step + 1 < begun + over and step < last:
                continue
            for i in range(size):
                g[i] = gathered[i]
        if step == last:
            raw[0] = limits.sum_of_squares(g, 0, ints[TRAINED])
        if reals[L1] > 0:
            limits.pull_l1(p, g, reals[L1], ints[WEIGHT_COUNT])
        if reals[CLIP_NORM] > 0 or reals[CLIP_VALUE] > 0:
            limits.clip(g, reals[CLIP_NORM], reals[CLIP_VALUE], ints[TRAINED])
        update = step // over
        steps.optimise(ints[OPTIMISER], ints[CALLED_STEP], p, g, s, coefficients[update], size,
                       ints[WEIGHT_COUNT], ints[TRAINED], starts)
        if reals[MAX_NORM] > 0:
            for i in range(ops.shape[0]):
                if ops[i, KIND] == DENSE or ops[i, KIND] == CONV:
                    limits.max_norm(p, ops[i, WEIGHTS], ops[i, FAN], ops[i, UNITS], reals[MAX_NORM])
        if reals[AVERAGING] > 0:
            limits.average(s, 3 * size, p, size, reals[AVERAGING], done + update)
    return stop


@kernel
def conclude(x, y, wanted, still_x, still_y, still_wanted, order, first, stop, seen, still_seen,
             ops, ints, loss_values, p, g, s, averaged, evaluated, a, d, which, labels, amounts,
             word, bits, room, more, sums, still_sums, low, high, level, bounds, starts,
             positions, parts, before, same, near, found, norms):
    """Conclude an epoch: evaluate the rows from `first` to `stop`, those of `x` and then those of
    ``still_x``.

    Training noise is off, and running statistics are used. With the first rows the weights
    `evaluated` (P,) are chosen, `p` or their running mean where they are `averaged`. With the last,
    `found` (L, 4) gets the numbers of layers and ``norms[0]`` the squared norm of the gradient.

    Parameters
    ----------
    seen, still_seen : int
        Rows of `x` and of ``still_x``.
    sums, still_sums : (1 + n,) float64 arrays
        Get the loss and the sums of metrics.
    low, high, level, bounds, starts
        Of the units of all layers, as of :func:`limits.extremes`, over ``still_x`` alone; `bounds`
        (L, 2) holds centre and reach of bounded activations, `starts` (L,) where a layer's units
        begin.
    positions, parts, before, same, near
        As of :func:`limits.layer_numbers`.
    """
    if first == 0:
        mean = s.shape[0] - ints[PARAMETERS]
        for i in range(ints[PARAMETERS]):
            evaluated[i] = s[mean + i] if averaged else p[i]
        sums[:] = 0
        still_sums[:] = 0
        low[:] = np.inf
        high[:] = -np.inf
        level[:] = 0
    one, none = p.dtype.type(1), p.dtype.type(0)
    off, even = np.zeros(1, np.int32), np.ones(1, p.dtype)
    at_once = ints[BATCH]
    start = first
    while start < stop:
        look = start >= seen
        own_x, own_y, own_wanted = (still_x, still_y, still_wanted) if look else (x, y, wanted)
        place = start - seen if look else start
        batch = min(at_once, (stop if look else min(stop, seen)) - start)
        rows.gather(own_x, ints[INPUTS], order, place, batch, a, ints[INPUT], ints[INPUT_CHANNELS])
        take_targets(ints, own_y, own_wanted, order, place, batch, labels, amounts)
        forward(a, which, evaluated, ops, batch, False, np.uint64(0), 0, off, even, word, bits,
                room)
        if look:
            for i in range(ops.shape[0]):
                op = ops[i]
                if op[KIND] == DENSE or op[KIND] == CONV:
                    layer = op[LAYER]
                    limits.extremes(a, op[OUT], op[UNITS], op[POSITIONS] * batch, low, high, level,
                                    bounds[layer, 0], bounds[layer, 1], starts[layer])
        into = still_sums if look else sums
        into[0] += measure(a, d, 0, ints, none, one, loss_values, labels, amounts, batch, False,
                           into[1:], room, more)
        start += batch
    if stop == seen + still_seen:
        limits.layer_numbers(g, p, before, parts, low, high, level, starts, positions, still_seen,
                             same, near, found)
        norms[0] = limits.sum_of_squares(g, 0, ints[TRAINED])


@kernel
def outputs(x, order, first, stop, ops, ints, p, a, which, word, bits, room, out):
    """Put the outputs of the rows from `first` to `stop` into `out` (rows, outputs)."""
    off, even = np.zeros(1, np.int32), np.ones(1, p.dtype)
    at_once = ints[BATCH]
    for start in range(first, stop, at_once):
        batch = min(at_once, stop - start)
        rows.gather(x, ints[INPUTS], order, start, batch, a, ints[INPUT], ints[INPUT_CHANNELS])
        forward(a, which, p, ops, batch, False, np.uint64(0), 0, off, even, word, bits, room)
        for c in range(ints[OUTPUTS]):
            for b in range(batch):
                out[start - first + b, c] = a[ints[OUTPUT] + c * batch + b]
