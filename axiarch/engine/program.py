"""A recipe's network as a program: a flat table of operations over one buffer of parameters and one
arena of blocks.

A block holds what goes out of an operation for all examples of a batch, features outside and
examples inside: (H, B) of a fully connected layer, (C, P, B) of pictures with P pixels. So a
flattened picture is the same block, and a fully connected layer after it takes channel by channel.
The drivers in ``codes.py`` walk the table.
"""

from __future__ import annotations

import math
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import DTypeLike, NDArray

from axiarch.engine import called, codes
from axiarch.engine.network import Array, NetworkShape, Placed
from axiarch.recipes.installed import absent
from axiarch.recipes.members import ACTIVATIONS, OPTIMISERS, TRAINED_ON, activation
from axiarch.recipes.recipe import Recipe

Whole = NDArray[np.int64]
#: The numbers of members, by name.
ACTIVATION_NUMBERS = {name: int(getattr(codes, name.upper(), codes.CALLED)) for name in ACTIVATIONS}
OPTIMISER_NUMBERS = {name: int(getattr(codes, name.upper(), codes.CALLED)) for name in OPTIMISERS}
LOSS_NUMBERS = {
    name: int(getattr(codes, name.upper()))
    for name in ("softmax", "binary", "squared", "logarithmic")
}
TRAINED_ON_NUMBERS = {
    name: int(getattr(codes, f"BY_{name.upper()}", codes.CALLED)) for name in TRAINED_ON
}
_NORMS = {"none": codes.NO_NORM, "batch": codes.BATCH_NORM, "layer": codes.LAYER_NORM}
#: Numbers that a block begins at a multiple of: a line of the cache.
_LINE = 16


@dataclass(frozen=True)
class Program:
    """The table of a network for batches of at most B rows.

    Attributes
    ----------
    ops : (operations, columns) int64 array
        See the columns in ``codes.py``.
    ints : int64 array
        What holds for the whole program.
    arena, which, columns : int
        Numbers of the arena, whole numbers that pools keep, and the widest block's columns.
    """

    ops: Whole
    ints: Whole
    arena: int
    which: int
    columns: int

    @classmethod
    def of(cls,
           shape: NetworkShape,
           batch: int,
           trains: bool,
           recipe: Recipe | None = None) -> Program:
        """Return the program of a network; with a `recipe`, what it says of training is in it.

        Parameters
        ----------
        batch : int
            B.
        trains : bool
            Whether the way back is wanted.
        """
        return _Compiler(shape, batch, trains).program(recipe)

    @classmethod
    def looking(cls, shape: NetworkShape) -> Program:
        """Return the program that evaluates a network, for as many rows as are evaluated at
        once.
        """
        return cls.of(shape, evaluated_rows(shape), False)

    def room(self, dtype: DTypeLike, trains: bool) -> Room:
        """Return the memory that it works in."""
        return Room.of(self, dtype, trains)


def evaluated_rows(shape: NetworkShape) -> int:
    """Return how many rows of a network are evaluated at once."""
    rows, each = codes.EVALUATED, Program.of(shape, _LINE, False).arena // _LINE
    while rows > _LINE and rows * each > codes.EVALUATED_ARENA:
        rows //= 2
    return rows


class _Compiler:
    """Places the blocks of a network, one operation after the other."""

    def __init__(self, shape: NetworkShape, batch: int, trains: bool) -> None:
        self._shape, self._batch, self._trains = shape, batch, trains
        self._arena = self._which = 0
        self._columns = batch

    def _block(self, numbers: int) -> int:
        at = self._arena
        self._arena += -(-numbers // _LINE) * _LINE
        return at

    def program(self, recipe: Recipe | None) -> Program:
        """Return the program."""
        shape, d = self._shape, codes
        first = source = self._block(math.prod(shape.inputs) * self._batch)
        ops, words, layer = [], 0, 0
        for number, placed in enumerate(shape.placed):
            op = np.zeros(d.COLUMNS, np.int64)
            kind, place = _KINDS[placed.layer.kind]
            op[d.KIND], op[d.IN], op[d.FIRST] = kind, source, number == 0
            op[d.NUMBERS] = math.prod(placed.before)
            source = place(self, op, placed)
            if placed.weighted:
                op[d.LAYER], op[d.WORDS] = layer, words
                layer += 1
                words += placed.units * ((self._batch * placed.positions + 3) // 4)
            ops.append(op)
        ints = np.zeros(d.WHOLE_NUMBERS, np.int64)
        ints[d.INPUTS], ints[d.INPUT], ints[d.OUTPUT] = math.prod(shape.inputs), first, source
        pictured = len(shape.inputs) == 3 and shape.placed[0].layer.kind != "dense"
        ints[d.INPUT_CHANNELS] = shape.inputs[2] if pictured else 1
        ints[d.OUTPUTS], ints[d.LOSS], ints[d.BATCH] = shape.outputs, LOSS_NUMBERS[
            shape.loss], self._batch
        ints[d.PARAMETERS], ints[d.WEIGHT_COUNT] = shape.parameters, shape.weights
        ints[d.TRAINED], ints[d.STEP_WORDS], ints[d.GATHERED] = shape.trained, words, 1
        if recipe is not None:
            self._training(ints, recipe)
        return Program(np.stack(ops), ints, self._arena, self._which, self._columns)

    def _training(self, ints: Whole, recipe: Recipe) -> None:
        d = codes
        loss, optimiser = recipe.word("loss"), recipe.word("optimiser")
        for kind, name, known in (("loss", loss, TRAINED_ON_NUMBERS), ("optimiser", optimiser,
                                                                       OPTIMISER_NUMBERS)):
            if name not in known:
                raise absent(kind, name)
        ints[d.TRAINED_ON], ints[
            d.OPTIMISER] = TRAINED_ON_NUMBERS[loss], OPTIMISER_NUMBERS[optimiser]
        if ints[d.TRAINED_ON] == d.CALLED:
            ints[d.CALLED_LOSS] = called.loss_slope(loss, self._shape.precision)
        if ints[d.OPTIMISER] == d.CALLED:
            ints[d.CALLED_STEP] = called.step(optimiser, self._shape.precision)
        ints[d.GATHERED] = recipe.whole("gradient_accumulation")
        pictured = len(self._shape.inputs) == 3
        varied = recipe.whole("shift") or recipe.word("flip") == "yes" or any(
            recipe.real(name) > 0 for name in ("contrast", "cutout", "crop"))
        ints[d.VARIED] = bool(pictured and varied)
        if pictured:
            # Pictures that a fully connected layer takes first lie in their block channel fastest:
            # as single columns.
            height, width, channels = self._shape.inputs
            ints[d.IMAGE_HEIGHT], ints[d.IMAGE_WIDTH], ints[
                d.IMAGE_CHANNELS] = height, width, channels

    def weighted(self, op: Whole, placed: Placed) -> int:
        """Place a layer with weights; return where what goes out begins."""
        d, layer = codes, placed.layer
        columns = placed.positions * self._batch
        numbers = placed.units * columns
        self._columns = max(self._columns, columns)
        op[d.UNITS], op[d.FAN], op[d.POSITIONS] = placed.units, placed.fan_in, placed.positions
        op[d.WEIGHTS], op[d.BIASES] = placed.weights, placed.biases
        op[d.NORM_SCALES], op[d.KEPT] = placed.norm_scales, placed.kept
        own = activation(layer.activation)
        op[d.ACTIVATION], op[d.NORM] = ACTIVATION_NUMBERS[layer.activation], _NORMS[layer.norm]
        if op[d.ACTIVATION] == d.CALLED:
            op[d.CURVE], op[d.SLOPE] = called.curve(layer.activation, self._shape.precision)
        if layer.kind == "conv":
            self._window(op, placed)
            op[d.WINDOWS] = self._block(placed.fan_in * columns)
        op[d.OUT] = op[d.SUM] = self._block(numbers)
        if self._trains and not own.sumless:
            op[d.SUM] = self._block(numbers)
        if layer.norm != "none":
            op[d.SCALED] = self._block(numbers)
            op[d.SPREAD] = self._block(placed.units if layer.norm == "batch" else columns)
        op[d.SKIP] = self._block(numbers) if placed.skips else -1
        return int(op[d.SKIP] if placed.skips else op[d.OUT])

    def _window(self, op: Whole, placed: Placed) -> None:
        """Enter the sizes of a window that slides over pictures."""
        d, layer = codes, placed.layer
        (height, width, channels), (tall, wide, _) = placed.before, placed.after
        top = 0 if layer.valid else max((tall - 1) * layer.stride + layer.size - height, 0) // 2
        left = 0 if layer.valid else max((wide - 1) * layer.stride + layer.size - width, 0) // 2
        op[d.CHANNELS], op[d.HEIGHT], op[d.WIDTH], op[d.SIZE], op[d.STRIDE] = (
            channels, height, width, layer.size, layer.stride)
        op[d.TOP], op[d.LEFT], op[d.TALL], op[d.WIDE] = top, left, tall, wide

    def pool(self, op: Whole, placed: Placed) -> int:
        """Place a pool; return where what goes out begins."""
        d = codes
        height, width, channels = placed.before
        op[d.CHANNELS], op[d.HEIGHT], op[d.WIDTH], op[
            d.SIZE] = channels, height, width, placed.layer.size
        numbers = math.prod(placed.after) * self._batch
        op[d.OUT], op[d.WHICH] = self._block(numbers), self._which
        self._which += numbers
        return int(op[d.OUT])


#: What a layer of each kind is in the table, and how it is entered there.
_KINDS: Mapping[str, tuple[int, Callable[[_Compiler, Whole, Placed], int]]] = {
    "dense": (codes.DENSE, _Compiler.weighted), "conv": (codes.CONV, _Compiler.weighted),
    "pool": (codes.MAX_POOL, _Compiler.pool), "mean pool": (codes.MEAN_POOL, _Compiler.pool),
}


@dataclass(frozen=True)
class Room:
    """Memory that a program works in: arenas for values and gradients, and what kernels use up."""

    a: Array
    d: Array
    which: NDArray[np.int32]
    labels: NDArray[np.int32]
    amounts: Array
    words: NDArray[np.uint64]
    bits: NDArray[np.uint16]
    one: Array
    two: Array
    seen: Array

    @classmethod
    def of(cls, program: Program, dtype: DTypeLike, trains: bool) -> Room:
        """Allocate it; without training the arena of gradients holds no more than the outputs."""
        ints = program.ints
        batch = int(ints[codes.BATCH])
        words = np.zeros(program.columns // 4 + 2, np.uint64)
        outputs = int(ints[codes.OUTPUTS]) * batch
        return cls(aligned(program.arena, dtype),
                   aligned(program.arena if trains else outputs, dtype),
                   np.zeros(program.which, np.int32), np.zeros(batch, np.int32),
                   np.zeros(outputs, dtype), words, words.view(np.uint16),
                   np.zeros(program.columns, dtype), np.zeros(program.columns, dtype),
                   np.zeros(int(ints[codes.INPUTS]), dtype))

    @staticmethod
    def numbers(program: Program, trains: bool) -> int:
        """Return how many numbers of the program's type it takes."""
        ints = program.ints
        return int((2 if trains else 1) * program.arena + 2 * program.columns + ints[codes.INPUTS]
                   + ints[codes.OUTPUTS] * ints[codes.BATCH])


def aligned(numbers: int, dtype: DTypeLike) -> Array:
    """Return zeros that begin where a line of the cache does: kernels read and write them in
    whole lines.
    """
    made = np.dtype(dtype)
    raw = np.zeros(numbers * made.itemsize + 64, np.uint8)
    start = -raw.ctypes.data % 64
    return raw[start : start + numbers * made.itemsize].view(made)


def layer_starts(shape: NetworkShape) -> Whole:
    """Return where each layer's weights begin, and where the last ends (L + 1,)."""
    return np.array([*(p.weights for p in shape.placed if p.weighted), shape.weights], np.int64)


def drop_rates(shape: NetworkShape, recipe: Recipe,
               dtype: DTypeLike) -> tuple[NDArray[np.int32], Array]:
    """Return for each layer with weights (L,) the threshold of its dropout's sixteen bits, and
    what makes up for it.
    """
    rates: Sequence[float] = [recipe.real("dropout") if p.layer.drop is None else p.layer.drop
                              for p in shape.placed if p.weighted]
    thresholds = np.array([round(rate * codes.DROPOUT_STEPS) for rate in rates], np.int32)
    return thresholds, np.array(1.0 / (1.0 - thresholds / codes.DROPOUT_STEPS), dtype)
