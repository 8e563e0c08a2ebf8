"""Inverted dropout for a stack: a rate per run and layer, masks that are a function of run, epoch, step and layer."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from numpy.typing import DTypeLike

from axiarch.engine import kernels, pictures
from axiarch.engine.network import Array, Placed


class Dropout:
    """The dropout of all layers of a stack at its present step.

    Parameters
    ----------
    layers : sequence of Placed
        The layers with weights.
    rows : int
        B of a full batch; in a short one examples have the same words, numbers of pictures others.
    capacity : int
        K.
    """

    def __init__(self, layers: Sequence[Placed], rows: int, capacity: int, dtype: DTypeLike) -> None:
        self._on = [pictures if p.pictured else kernels for p in layers]
        words = [p.units * ((rows * p.positions + 3) // 4) if p.pictured else rows * ((p.units + 3) // 4)
                 for p in layers]
        self._layer_words = [sum(words[:i]) for i in range(len(words))]
        self._step_words = sum(words)
        self.thresholds = np.zeros((len(words), capacity), dtype=np.uint64)
        self._scales: Array = np.ones((len(words), capacity), dtype=dtype)
        self.keys = np.zeros(capacity, dtype=np.uint64)
        self._any = [False] * len(words)
        self._active = -1
        self._step_start = 0

    def set_rate(self, slot: int, layer: int, rate: float) -> None:
        """Give a slot's layer its rate; the scale follows the rate that sixteen random bits really give."""
        self._active = -1
        threshold = round(rate * kernels.DROPOUT_STEPS)
        self.thresholds[layer, slot] = threshold
        self._scales[layer, slot] = 1.0 / (1.0 - threshold / kernels.DROPOUT_STEPS)

    def move(self, slot: int, to: int) -> None:
        """Give a slot's rates to another."""
        self.thresholds[:, to] = self.thresholds[:, slot]
        self._scales[:, to] = self._scales[:, slot]

    def scales(self, layer: int) -> Array:
        """Return what units that are not silenced are multiplied by (K,)."""
        found: Array = self._scales[layer]
        return found

    def start_step(self, step: int, active: int) -> None:
        """Move to step number `step` of the epoch (from 0)."""
        self._step_start = step * self._step_words
        if step == 0 or active != self._active:
            self._any, self._active = [bool(own[:active].any()) for own in self.thresholds], active

    def apply(self, a: Array, layer: int, active: int, rows: int) -> None:
        """Silence units of `a` (K, B, H) or (K, C, P B) in place, the same ones each time within a step."""
        if self._any[layer]:
            self._on[layer].drop(a, self.thresholds[layer], self._scales[layer], self.keys,
                                 self._step_start + self._layer_words[layer], active, rows)
