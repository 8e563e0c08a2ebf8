"""The layers of a stack: each turns what comes in into what goes out, and gradients back.

A layer is made for a number of slots and rows, allocates once, and is used again and again. Arrays are
(K, B, …), those of pictures (K, C, P B) as ``pictures`` says; only the first `active` slots and `rows` are touched.
Training passes and evaluations use layers of their own, with the same code.
"""

from __future__ import annotations

import math
from collections.abc import Callable, Mapping
from typing import Protocol

import numpy as np
from numpy.typing import DTypeLike

from axiarch.engine import kernels, pictures
from axiarch.engine.activations import ACTIVATIONS
from axiarch.engine.dropout import Dropout
from axiarch.engine.network import Array, Placed, StackShape, turned, zeros
from axiarch.recipes.layers import KINDS, Shape


class BuiltLayer(Protocol):
    """What a pass asks of a layer."""

    @property
    def units(self) -> Units | None:
        """Its weighted sums, where it has weights."""

    def forward(self, x: Array, flat: Array, active: int, rows: int) -> Array:
        """Return what goes out (K, B, …) of what comes in; K may be 1 in `x` where all slots see the same rows."""

    def backward(self, d: Array, flat: Array, grads: Array, active: int, rows: int, wanted: bool) -> Array | None:
        """Put the gradients of the weights into `grads`, and return that of what came in if it is `wanted`.

        `d` is the gradient of what went out, and may be overwritten.
        """


class Cut:
    """The part of an array that a step works on: kept for as long as array and sizes stay, as they mostly do."""

    def __init__(self, form: Callable[[Array, int, int], Array]) -> None:
        self._form = form
        self._of: Array | None = None
        self._sizes = (0, 0)
        self._part: Array

    def __call__(self, array: Array, active: int, each: int = 0) -> Array:
        """Return what `form` makes of the array and the sizes."""
        if array is not self._of or (active, each) != self._sizes:
            self._part = self._form(array, active, each)
            self._of, self._sizes = array, (active, each)
        return self._part


class Units:
    """Weighted sums, then normalisation, activation and dropout.

    Here of examples (K, B, I), the sums being (K, B, H).

    Parameters
    ----------
    placed : Placed
    index : int
        Which dropout of the network it uses.
    slots, rows : int
        K and B.
    dropout : Dropout or None
        None in an evaluation, which also uses running statistics.
    """

    #: The kernels that work on its sums.
    kernels = kernels

    def __init__(self, placed: Placed, index: int, slots: int, rows: int, dtype: DTypeLike,
                 dropout: Dropout | None) -> None:
        self._placed = placed
        self._index = index
        self._dropout = dropout
        self._w, self._g = Cut(self._weights), Cut(self._weights)
        self._inputs, self._sums, self._slopes, self._belows = (Cut(self.kernels.used) for _ in range(4))
        self._activation = ACTIVATIONS[placed.layer.activation]
        self._norm = placed.layer.norm
        self._out = zeros(self._form(slots, rows, placed.units), dtype)
        self._sum = zeros(self._out.shape, dtype) if self._activation.keeps_sum and dropout else self._out
        if self._norm != "none":
            self._scaled = zeros(self._out.shape, dtype)
            self._spread = zeros((slots, max(placed.units, rows * placed.positions)), dtype)
        if dropout is not None:
            self._below = zeros(self._form(slots, rows, placed.fan_in), dtype)
            self._turned = (zeros((slots, placed.units, placed.fan_in), dtype)
                            if self.kernels is kernels and turned(placed) else None)

    def _form(self, slots: int, rows: int, numbers: int) -> tuple[int, ...]:
        """Return the shape of an array with so many numbers a row."""
        return slots, rows, numbers

    @property
    def outputs(self) -> Array:
        """What went out last, before any skip."""
        return self._out

    def _weights(self, flat: Array, active: int, _: int) -> Array:
        """Return the weights (K, I, H) as a view of the flat buffer."""
        p = self._placed
        part = flat[:active, p.weights : p.weights + p.fan_in * p.units]
        return part.reshape(-1, p.fan_in, p.units, copy=False)

    def forward(self, x: Array, flat: Array, active: int, rows: int) -> Array:
        """Return the outputs."""
        p, each = self._placed, rows * self._placed.positions
        z = self._sum
        self._x = self._inputs(x, active, each)
        self._weigh(self._w(flat, active), self._sums(z, active, each))
        if self._norm == "batch":
            self.kernels.batch_norm(z, self._scaled, self._spread, flat, p.gains, p.kept, self._dropout is not None,
                                    active, each)
        elif self._norm == "layer":
            self.kernels.layer_norm(z, self._scaled, self._spread, flat, p.gains, active, each)
        self._activation.forward(self.kernels, z, self._out, flat, p.biases, active, each)
        if self._dropout is not None:
            self._dropout.apply(self._out, self._index, active, each)
        return self._out

    def backward(self, d: Array, flat: Array, grads: Array, active: int, rows: int, wanted: bool) -> Array | None:
        """As the protocol says."""
        p, each = self._placed, rows * self._placed.positions
        assert self._dropout is not None
        self._activation.backward(self.kernels, d, self._out, self._sum, grads, p.biases, self._dropout, self._index,
                                  active, each)
        if self._norm == "batch":
            self.kernels.batch_norm_backward(d, self._scaled, self._spread, flat, grads, p.gains, active, each)
        elif self._norm == "layer":
            self.kernels.layer_norm_backward(d, self._scaled, self._spread, flat, grads, p.gains, active, each)
        slopes = self._slopes(d, active, each)
        self._slope(slopes, self._g(grads, active))
        if not wanted:
            return None
        self._lower(slopes, self._w(flat, active), self._belows(self._below, active, each))
        return self._below

    def _weigh(self, w: Array, z: Array) -> None:
        """Put the sums by the weights into `z`."""
        np.matmul(self._x, w, out=z)

    def _slope(self, d: Array, g: Array) -> None:
        """Put the gradient of the weights into `g`."""
        np.matmul(self._x.swapaxes(1, 2), d, out=g)

    def _lower(self, d: Array, w: Array, below: Array) -> None:
        """Put the gradient of what came in into `below`."""
        if self._turned is not None:
            kernels.turn(w, self._turned, len(w))
            weights = self._turned[: len(w)]
        else:
            weights = w.swapaxes(1, 2)
        np.matmul(d, weights, out=below)


class Channels(Units):
    """Weighted sums of the windows (K, I, P B) of pictures, the sums being (K, C, P B)."""

    kernels = pictures

    def _form(self, slots: int, rows: int, numbers: int) -> tuple[int, ...]:
        return slots, numbers, rows * self._placed.positions

    def _weigh(self, w: Array, z: Array) -> None:
        np.matmul(w.swapaxes(1, 2), self._x, out=z)

    def _slope(self, d: Array, g: Array) -> None:
        np.matmul(self._x, d.swapaxes(1, 2), out=g)

    def _lower(self, d: Array, w: Array, below: Array) -> None:
        np.matmul(w, d, out=below)


class Dense:
    """Fully connected."""

    def __init__(self, placed: Placed, index: int, slots: int, rows: int, dtype: DTypeLike,
                 dropout: Dropout | None) -> None:
        self.units = Units(placed, index, slots, rows, dtype, dropout)

    def forward(self, x: Array, flat: Array, active: int, rows: int) -> Array:
        """As the protocol says."""
        return self.units.forward(x, flat, active, rows)

    def backward(self, d: Array, flat: Array, grads: Array, active: int, rows: int, wanted: bool) -> Array | None:
        """As the protocol says."""
        return self.units.backward(d, flat, grads, active, rows, wanted)


class Conv:
    """2-D convolution of pictures (K, C, P B): their windows are laid out, and weighed in one matrix product."""

    def __init__(self, placed: Placed, index: int, slots: int, rows: int, dtype: DTypeLike,
                 dropout: Dropout | None) -> None:
        self.units = Channels(placed, index, slots, rows, dtype, dropout)
        layer = placed.layer
        (height, width, channels), (tall, wide, _) = placed.before, placed.after
        self._windows = zeros((slots, placed.fan_in, placed.positions * rows), dtype)
        self._below = zeros((slots, channels, height * width * rows), dtype) if dropout is not None else None
        top = 0 if layer.valid else max((tall - 1) * layer.stride + layer.size - height, 0) // 2
        left = 0 if layer.valid else max((wide - 1) * layer.stride + layer.size - width, 0) // 2
        self._sizes = (height, width, layer.size, layer.stride, top, left, tall, wide)

    def forward(self, x: Array, flat: Array, active: int, rows: int) -> Array:
        """As the protocol says."""
        shared = x.shape[0] == 1
        pictures.lay_out_windows(x, self._windows, *self._sizes, 1 if shared else active, rows)
        windows = self._windows[:1] if shared and active > 1 else self._windows
        return self.units.forward(windows, flat, active, rows)

    def backward(self, d: Array, flat: Array, grads: Array, active: int, rows: int, wanted: bool) -> Array | None:
        """As the protocol says."""
        windows = self.units.backward(d, flat, grads, active, rows, wanted)
        if windows is None or self._below is None:
            return None
        pictures.add_up_windows(windows, self._below, *self._sizes, active, rows)
        return self._below


class Pool:
    """The largest of each square of pictures (K, C, P B)."""

    units = None
    _mean = False

    def __init__(self, placed: Placed, index: int, slots: int, rows: int, dtype: DTypeLike,
                 dropout: Dropout | None) -> None:
        (height, width, channels), (tall, wide, _) = placed.before, placed.after
        self._sizes = (height, width, placed.layer.size, self._mean)
        self._out = zeros((slots, channels, tall * wide * rows), dtype)
        self._which = np.zeros(self._out.shape, np.int32)
        self._below = zeros((slots, channels, height * width * rows), dtype) if dropout is not None else None

    def forward(self, x: Array, flat: Array, active: int, rows: int) -> Array:
        """As the protocol says."""
        shared = x.shape[0] == 1
        pictures.pool(x, self._out, self._which, *self._sizes, 1 if shared else active, rows)
        return self._out[:1] if shared and active > 1 else self._out

    def backward(self, d: Array, flat: Array, grads: Array, active: int, rows: int, wanted: bool) -> Array | None:
        """As the protocol says."""
        if not wanted or self._below is None:
            return None
        pictures.pool_backward(d, self._below, self._which, *self._sizes, active, rows)
        return self._below


class MeanPool(Pool):
    """The mean of each square."""

    _mean = True


class Laid:
    """Lays out examples (K, B, P C) as pictures (K, C, P B), or with `back` pictures as examples."""

    units = None

    def __init__(self, shape: Shape, slots: int, rows: int, dtype: DTypeLike, trains: bool, back: bool) -> None:
        height, width, channels = shape
        forms = (slots, channels, height * width * rows), (slots, rows, height * width * channels)
        self._back = back
        self._out = zeros(forms[back], dtype)
        self._below = zeros(forms[not back], dtype) if trains and back else None

    def forward(self, x: Array, flat: Array, active: int, rows: int) -> Array:
        """As the protocol says."""
        seen = min(active, x.shape[0])
        (pictures.lay_out_examples if self._back else pictures.lay_out_pictures)(x, self._out, seen, rows)
        return self._out[:1] if x.shape[0] == 1 and active > 1 else self._out

    def backward(self, d: Array, flat: Array, grads: Array, active: int, rows: int, wanted: bool) -> Array | None:
        """As the protocol says."""
        if not wanted or self._below is None:
            return None
        pictures.lay_out_pictures(d, self._below, active, rows)
        return self._below


class Skip:
    """What comes into a layer is added to what goes out: a residual connection (He et al. 2016)."""

    def __init__(self, layer: BuiltLayer, units: Units, placed: Placed, dtype: DTypeLike) -> None:
        self.units = units
        self._layer = layer
        self._numbers = math.prod(placed.after)
        self._added = zeros(units.outputs.shape, dtype)
        self._kept = zeros(self._added.shape, dtype)

    def forward(self, x: Array, flat: Array, active: int, rows: int) -> Array:
        """As the protocol says."""
        out = self._layer.forward(x, flat, active, rows)
        np.add(self._row(out, active, rows), self._row(x, active, rows), out=self._row(self._added, active, rows))
        return self._added

    def backward(self, d: Array, flat: Array, grads: Array, active: int, rows: int, wanted: bool) -> Array | None:
        """As the protocol says."""
        kept = self._row(self._kept, active, rows)
        kept[:] = self._row(d, active, rows)
        below = self._layer.backward(d, flat, grads, active, rows, wanted)
        if below is not None:
            self._row(below, active, rows)[:] += kept
        return below

    def _row(self, array: Array, active: int, rows: int) -> Array:
        """Return the numbers of each slot that a step works on, in a row."""
        return array.reshape(len(array), -1, copy=False)[:active, : rows * self._numbers]


#: By the name of the kind: the class above of that name.
LAYERS: Mapping[str, Callable[[Placed, int, int, int, DTypeLike, Dropout | None], BuiltLayer]] = {
    name: globals()[name.title().replace(" ", "")] for name in KINDS}


class Pass:
    """All layers of a stack's networks, for `slots` K and `rows` B; with `dropout` it trains.

    Attributes
    ----------
    layers : list of BuiltLayer
    weighted : list of (Units, int)
        Weighted sums of the layers that have weights, and how often these are applied to one example.
    """

    def __init__(self, shape: StackShape, slots: int, rows: int, dtype: DTypeLike, dropout: Dropout | None) -> None:
        self.layers: list[BuiltLayer] = []
        self.weighted: list[tuple[Units, int]] = []
        laid = False
        for placed in shape.placed:
            if (KINDS[placed.layer.kind].window is not None) != laid:
                self.layers.append(Laid(placed.before, slots, rows, dtype, dropout is not None, laid))
                laid = not laid
            layer = LAYERS[placed.layer.kind](placed, len(self.weighted), slots, rows, dtype, dropout)
            if layer.units is not None:
                self.weighted.append((layer.units, placed.positions))
            self.layers.append(Skip(layer, layer.units, placed, dtype) if placed.skips and layer.units else layer)
        self._first = isinstance(self.layers[0], Laid)

    def forward(self, x: Array, flat: Array, active: int, rows: int) -> Array:
        """Return the outputs (K, B, C) of the inputs `x` (K or 1, B, …)."""
        for layer in self.layers:
            x = layer.forward(x, flat, active, rows)
        return x

    def backward(self, d: Array, flat: Array, grads: Array, active: int, rows: int) -> None:
        """Fill `grads` from the gradient `d` of the outputs."""
        for i in range(len(self.layers) - 1, -1, -1):
            below = self.layers[i].backward(d, flat, grads, active, rows, i > self._first)
            if below is None:
                return
            d = below
