"""Activations: each adds the biases and bends the sums of a layer, and turns gradients back.

ReLU and tanh are worked out in place, and their slopes from what went out; the others keep the sums, from which
kernels of their own work out both.
"""

from __future__ import annotations

from collections.abc import Mapping
from types import ModuleType
from typing import Protocol

import numpy as np

from axiarch.engine import kernels
from axiarch.engine.network import Array
from axiarch.recipes import members


class Masks(Protocol):
    """The dropout of one layer at one step, as :class:`axiarch.engine.dropout.Dropout` gives it."""

    def scales(self, layer: int) -> Array:
        """Return what units that are not silenced are multiplied by (K,)."""

    def apply(self, a: Array, layer: int, active: int, rows: int) -> None:
        """Silence units of `a` (K, B, H) in place, the same ones each time within a step."""


#: The module of kernels for the layer's arrays: ``kernels``, or ``pictures`` with the same functions.
Kernels = ModuleType


class Activation(Protocol):
    """What a layer asks of an activation.

    Arrays are (K, B, H), or (K, C, P B) with `rows` standing for the numbers of a channel, as suits the kernels `on`
    which they are worked; `flat` and `grads` are (K, P).
    """

    #: Whether the backward pass needs the sums; `z` and `out` are then two arrays, else one.
    keeps_sum: bool

    def forward(self, on: Kernels, z: Array, out: Array, flat: Array, offset: int, active: int, rows: int) -> None:
        """Put the bent sums into `out`, adding the biases at `offset` to `z` first."""

    def backward(self, on: Kernels, d: Array, out: Array, z: Array, grads: Array, offset: int, masks: Masks, layer: int,
                 active: int, rows: int) -> None:
        """Replace the gradient `d` of the dropped output by that of the sums; put the biases' into `grads`."""


class _Relu:
    """max(z, 0)."""

    keeps_sum = False

    def forward(self, on: Kernels, z: Array, out: Array, flat: Array, offset: int, active: int, rows: int) -> None:
        on.relu(z, flat, offset, active, rows)

    def backward(self, on: Kernels, d: Array, out: Array, z: Array, grads: Array, offset: int, masks: Masks, layer: int,
                 active: int, rows: int) -> None:
        on.relu_backward(d, out, grads, offset, masks.scales(layer), active, rows)


class _Tanh:
    """The hyperbolic tangent."""

    keeps_sum = False

    def forward(self, on: Kernels, z: Array, out: Array, flat: Array, offset: int, active: int, rows: int) -> None:
        on.add_bias(z, flat, offset, active, rows)
        view = on.used(z, active, rows)
        np.tanh(view, out=view)

    def backward(self, on: Kernels, d: Array, out: Array, z: Array, grads: Array, offset: int, masks: Masks, layer: int,
                 active: int, rows: int) -> None:
        masks.apply(d, layer, active, rows)
        on.tanh_backward(d, out, grads, offset, masks.scales(layer), active, rows)


class _Identity:
    """The sums as they are."""

    keeps_sum = False

    def forward(self, on: Kernels, z: Array, out: Array, flat: Array, offset: int, active: int, rows: int) -> None:
        on.add_bias(z, flat, offset, active, rows)

    def backward(self, on: Kernels, d: Array, out: Array, z: Array, grads: Array, offset: int, masks: Masks, layer: int,
                 active: int, rows: int) -> None:
        masks.apply(d, layer, active, rows)
        on.sum_rows(d, grads, offset, active, rows)


class _Curve:
    """Any curve of :func:`kernels.bend`, by its number."""

    keeps_sum = True

    def __init__(self, number: int) -> None:
        self._number = number

    def forward(self, on: Kernels, z: Array, out: Array, flat: Array, offset: int, active: int, rows: int) -> None:
        on.bend(self._number, z, out, flat, offset, active, rows)

    def backward(self, on: Kernels, d: Array, out: Array, z: Array, grads: Array, offset: int, masks: Masks, layer: int,
                 active: int, rows: int) -> None:
        masks.apply(d, layer, active, rows)
        on.bend_backward(self._number, d, z, grads, offset, active, rows)


_IN_PLACE: Mapping[str, Activation] = {"relu": _Relu(), "tanh": _Tanh(), "identity": _Identity()}
#: By name. Leaky ReLU: Maas et al. 2013 (slope 0.01); ELU: Clevert et al. 2016 (alpha 1); GELU: Hendrycks & Gimpel
#: 2016 (exact, by the error function); SiLU: Elfwing et al. 2018; softplus: Dugas et al. 2001.
ACTIVATIONS: Mapping[str, Activation] = {
    name: _IN_PLACE[name] if known.sumless else _Curve(getattr(kernels, name.upper()))
    for name, known in members.ACTIVATIONS.items()}
