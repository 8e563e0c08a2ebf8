"""The layers of a stack: each turns what comes in into what goes out, and gradients back.

A layer is made for a number of slots and rows, allocates once, and is used again and again. Arrays are
(K, rows, …); only the first `active` slots and `rows` are touched. Training passes and evaluations use layers of
their own, with the same code.
"""

from __future__ import annotations

import math
from collections.abc import Callable, Mapping
from typing import Protocol

import numpy as np
from numpy.typing import DTypeLike

from axiarch.engine import kernels
from axiarch.engine.activations import ACTIVATIONS
from axiarch.engine.dropout import Dropout
from axiarch.engine.network import Array, Placed, StackShape, turned, zeros
from axiarch.recipes.layers import KINDS


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

    def __init__(self) -> None:
        self._of: Array | None = None
        self._sizes = (0, 0)
        self._part: Array

    def __call__(self, array: Array, form: Callable[[Array], Array] | None, active: int, each: int = 0) -> Array:
        """Return ``array[:active, :each]`` (all of the second axis, if `each` is 0), in another `form` first."""
        if array is not self._of or (active, each) != self._sizes:
            whole = array if form is None else form(array)
            self._part = whole[:active, :each] if each else whole[:active]
            self._of, self._sizes = array, (active, each)
        return self._part


class Units:
    """Weighted sums, then normalisation, activation and dropout: fully connected, or a convolution's windows.

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

    def __init__(self, placed: Placed, index: int, slots: int, rows: int, dtype: DTypeLike,
                 dropout: Dropout | None) -> None:
        self._placed = placed
        self._index = index
        self._dropout = dropout
        self._shape = (placed.fan_in, placed.units)
        self._w, self._g, self._inputs, self._sums, self._slopes, self._belows = (Cut() for _ in range(6))
        self._each = placed.positions
        self._activation = ACTIVATIONS[placed.layer.activation]
        self._norm = placed.layer.norm
        flat_rows = rows * self._each
        self._out = zeros((slots, flat_rows, placed.units), dtype)
        self._sum = zeros(self._out.shape, dtype) if self._activation.keeps_sum and dropout else self._out
        if self._norm != "none":
            self._scaled = zeros(self._out.shape, dtype)
            self._spread = zeros((slots, max(placed.units, flat_rows)), dtype)
        if dropout is not None:
            self._below = zeros((slots, flat_rows, placed.fan_in), dtype)
            self._turned = (zeros((slots, placed.units, placed.fan_in), dtype)
                            if turned(placed) else None)

    @property
    def outputs(self) -> Array:
        """What went out last, before any skip (K, B x positions, H)."""
        return self._out

    def _weights(self, flat: Array) -> Array:
        """Return the weights (K, I, H) as a view of the flat buffer."""
        start, size = self._placed.weights, self._shape[0] * self._shape[1]
        return flat[:, start : start + size].reshape(-1, *self._shape, copy=False)

    def forward(self, x: Array, flat: Array, active: int, rows: int) -> Array:
        """Return the outputs (K, B x positions, H)."""
        p, each = self._placed, rows * self._each
        w = self._w(flat, self._weights, active)
        self._x = self._inputs(x, None, active, each)
        z = self._sum
        np.matmul(self._x, w, out=self._sums(z, None, active, each))
        if self._norm == "batch":
            kernels.batch_norm(z, self._scaled, self._spread, flat, p.gains, p.kept, self._dropout is not None,
                               active, each)
        elif self._norm == "layer":
            kernels.layer_norm(z, self._scaled, self._spread, flat, p.gains, active, each)
        self._activation.forward(z, self._out, flat, p.biases, active, each)
        if self._dropout is not None:
            self._dropout.apply(self._out, self._index, active, each)
        return self._out

    def backward(self, d: Array, flat: Array, grads: Array, active: int, rows: int, wanted: bool) -> Array | None:
        """As the protocol says."""
        p, each = self._placed, rows * self._each
        assert self._dropout is not None
        self._activation.backward(d, self._out, self._sum, grads, p.biases, self._dropout, self._index, active, each)
        if self._norm == "batch":
            kernels.batch_norm_backward(d, self._scaled, self._spread, flat, grads, p.gains, active, each)
        elif self._norm == "layer":
            kernels.layer_norm_backward(d, self._scaled, self._spread, flat, grads, p.gains, active, each)
        slopes = self._slopes(d, None, active, each)
        np.matmul(self._x.swapaxes(1, 2), slopes, out=self._g(grads, self._weights, active))
        if not wanted:
            return None
        w = self._w(flat, self._weights, active)
        if self._turned is not None:
            kernels.turn(w, self._turned, active)
            weights = self._turned[:active]
        else:
            weights = w.swapaxes(1, 2)
        np.matmul(slopes, weights, out=self._belows(self._below, None, active, each))
        return self._below


class Dense:
    """Fully connected."""

    def __init__(self, placed: Placed, index: int, slots: int, rows: int, dtype: DTypeLike,
                 dropout: Dropout | None) -> None:
        self.units = Units(placed, index, slots, rows, dtype, dropout)
        self._inputs = math.prod(placed.before)

    def forward(self, x: Array, flat: Array, active: int, rows: int) -> Array:
        """As the protocol says."""
        flatter = x if x.shape[2] == self._inputs else x.reshape(x.shape[0], -1, self._inputs)
        return self.units.forward(flatter, flat, active, rows)

    def backward(self, d: Array, flat: Array, grads: Array, active: int, rows: int, wanted: bool) -> Array | None:
        """As the protocol says."""
        return self.units.backward(d, flat, grads, active, rows, wanted)


class Conv:
    """2-D convolution: windows are unfolded into rows, which a matrix product then weighs."""

    def __init__(self, placed: Placed, index: int, slots: int, rows: int, dtype: DTypeLike,
                 dropout: Dropout | None) -> None:
        self._placed = placed
        self.units = Units(placed, index, slots, rows, dtype, dropout)
        self._windows = zeros((slots, rows * placed.positions, placed.fan_in), dtype)
        pixels = math.prod(placed.before)
        self._below = zeros((slots, rows, pixels), dtype) if dropout is not None else None
        layer = placed.layer
        (height, width, _), (tall, wide, _) = placed.before, placed.after
        self._top = 0 if layer.valid else max((tall - 1) * layer.stride + layer.size - height, 0) // 2
        self._left = 0 if layer.valid else max((wide - 1) * layer.stride + layer.size - width, 0) // 2

    def forward(self, x: Array, flat: Array, active: int, rows: int) -> Array:
        """As the protocol says."""
        p = self._placed
        height, width, channels = p.before
        shared = x.shape[0] == 1
        pictures = x.reshape(x.shape[0], -1, height * width * channels)
        kernels.lay_out_windows(pictures, self._windows, height, width, channels, p.layer.size, p.layer.stride,
                                self._top, self._left, p.after[0], p.after[1], 1 if shared else active, rows)
        windows = self._windows[:1] if shared and active > 1 else self._windows
        return self.units.forward(windows, flat, active, rows)

    def backward(self, d: Array, flat: Array, grads: Array, active: int, rows: int, wanted: bool) -> Array | None:
        """As the protocol says."""
        p = self._placed
        windows = self.units.backward(d.reshape(d.shape[0], -1, p.units), flat, grads, active, rows, wanted)
        if windows is None or self._below is None:
            return None
        height, width, channels = p.before
        kernels.add_up_windows(windows, self._below, height, width, channels, p.layer.size, p.layer.stride, self._top,
                               self._left, p.after[0], p.after[1], active, rows)
        return self._below.reshape(self._below.shape[0], -1, p.before[-1])


class Pool:
    """The largest of each square."""

    units = None
    _mean = False

    def __init__(self, placed: Placed, index: int, slots: int, rows: int, dtype: DTypeLike,
                 dropout: Dropout | None) -> None:
        self._placed = placed
        self._out = zeros((slots, rows, *placed.after), dtype)
        self._which = np.zeros((slots, rows, *placed.after), np.int32)
        self._below = zeros((slots, rows, *placed.before), dtype) if dropout is not None else None

    def forward(self, x: Array, flat: Array, active: int, rows: int) -> Array:
        """As the protocol says."""
        p = self._placed
        pictures = x.reshape(x.shape[0], -1, *p.before)
        seen = 1 if x.shape[0] == 1 else active
        kernels.pool(pictures, self._out, self._which, p.layer.size, self._mean, seen, rows)
        out = self._out[:1] if seen == 1 and active > 1 else self._out
        return out.reshape(out.shape[0], -1, p.after[-1])

    def backward(self, d: Array, flat: Array, grads: Array, active: int, rows: int, wanted: bool) -> Array | None:
        """As the protocol says."""
        if not wanted or self._below is None:
            return None
        p = self._placed
        kernels.pool_backward(d.reshape(d.shape[0], -1, *p.after), self._below, self._which, p.layer.size,
                              self._mean, active, rows)
        return self._below.reshape(self._below.shape[0], -1, p.before[-1])


class MeanPool(Pool):
    """The mean of each square."""

    _mean = True


class Skip:
    """What comes into a layer is added to what goes out: a residual connection (He et al. 2016)."""

    def __init__(self, layer: BuiltLayer, placed: Placed, slots: int, rows: int, dtype: DTypeLike) -> None:
        self.units = layer.units
        self._layer = layer
        self._shape = (-1, placed.after[-1])
        self._positions = placed.positions
        self._added = zeros((slots, rows * placed.positions, placed.after[-1]), dtype)
        self._kept = zeros(self._added.shape, dtype)

    def forward(self, x: Array, flat: Array, active: int, rows: int) -> Array:
        """As the protocol says."""
        each = rows * self._positions
        came = x.reshape(x.shape[0], *self._shape)
        out = self._layer.forward(x, flat, active, rows)
        np.add(out[:active, :each], came[:active, :each], out=self._added[:active, :each])
        return self._added

    def backward(self, d: Array, flat: Array, grads: Array, active: int, rows: int, wanted: bool) -> Array | None:
        """As the protocol says."""
        each = rows * self._positions
        d = d.reshape(d.shape[0], *self._shape)
        self._kept[:active, :each] = d[:active, :each]
        below = self._layer.backward(d, flat, grads, active, rows, wanted)
        if below is not None:
            view = below.reshape(below.shape[0], *self._shape)
            view[:active, :each] += self._kept[:active, :each]
        return below


#: By the name of the kind: the class above of that name.
LAYERS: Mapping[str, Callable[[Placed, int, int, int, DTypeLike, Dropout | None], BuiltLayer]] = {
    name: globals()[name.title().replace(" ", "")] for name in KINDS}


class Pass:
    """All layers of a stack's networks, for `slots` K and `rows` B; with `dropout` it trains."""

    def __init__(self, shape: StackShape, slots: int, rows: int, dtype: DTypeLike, dropout: Dropout | None) -> None:
        self.layers: list[BuiltLayer] = []
        self._weighted: list[Units] = []
        self._positions: list[int] = []
        for placed in shape.placed:
            layer = LAYERS[placed.layer.kind](placed, len(self._weighted), slots, rows, dtype, dropout)
            if layer.units is not None:
                self._weighted.append(layer.units)
                self._positions.append(placed.positions)
            self.layers.append(Skip(layer, placed, slots, rows, dtype) if placed.skips else layer)

    def outputs(self) -> list[Array]:
        """Return what went out last of each layer with weights."""
        return [layer.outputs for layer in self._weighted]

    def positions(self) -> list[int]:
        """Return how often the weights of each such layer are applied to one example."""
        return self._positions

    def forward(self, x: Array, flat: Array, active: int, rows: int) -> Array:
        """Return the outputs (K, B, C) of the inputs `x` (K or 1, B, …)."""
        for layer in self.layers:
            x = layer.forward(x, flat, active, rows)
        return x

    def backward(self, d: Array, flat: Array, grads: Array, active: int, rows: int) -> None:
        """Fill `grads` from the gradient `d` of the outputs."""
        for i in range(len(self.layers) - 1, -1, -1):
            below = self.layers[i].backward(d, flat, grads, active, rows, i > 0)
            if below is None:
                return
            d = below
