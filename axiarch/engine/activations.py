"""Activations of a stack's hidden layers: each forwards in place with its biases, and turns gradients back."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Protocol

import numpy as np

from axiarch.engine import kernels
from axiarch.engine.network import Array


class Masks(Protocol):
    """The dropout of one layer at one step, as :class:`axiarch.engine.dropout.Dropout` gives it."""

    scales: Array

    def apply(self, a: Array, layer: int, active: int, rows: int) -> None:
        """Silence units of `a` (K, B, H) in place, the same ones each time within a step."""


class Activation(Protocol):
    """What a stack asks of an activation. Arrays are (K, B, H); `flat` and `grads` are (K, P)."""

    def forward(self, z: Array, flat: Array, offset: int, active: int, rows: int) -> None:
        """Replace the sums `z` by the outputs, adding the biases at `offset` first."""

    def backward(self, d: Array, a: Array, grads: Array, offset: int, masks: Masks, layer: int,
                 active: int, rows: int) -> None:
        """Replace the gradient `d` of the dropped output `a` by that of the sums; put the biases' into `grads`."""


class _Relu:
    """max(z, 0)."""

    def forward(self, z: Array, flat: Array, offset: int, active: int, rows: int) -> None:
        kernels.relu(z, flat, offset, active, rows)

    def backward(self, d: Array, a: Array, grads: Array, offset: int, masks: Masks, layer: int,
                 active: int, rows: int) -> None:
        kernels.relu_backward(d, a, grads, offset, masks.scales, active, rows)


class _Tanh:
    """The hyperbolic tangent."""

    def forward(self, z: Array, flat: Array, offset: int, active: int, rows: int) -> None:
        kernels.add_bias(z, flat, offset, active, rows)
        view = z[:active, :rows]
        np.tanh(view, out=view)

    def backward(self, d: Array, a: Array, grads: Array, offset: int, masks: Masks, layer: int,
                 active: int, rows: int) -> None:
        masks.apply(d, layer, active, rows)
        kernels.tanh_backward(d, a, grads, offset, masks.scales, active, rows)


#: By name.
ACTIVATIONS: Mapping[str, Activation] = {"relu": _Relu(), "tanh": _Tanh()}
