"""Inverted dropout for a stack: a rate per run, masks that are a function of run, epoch, step and layer."""

from __future__ import annotations

import numpy as np
from numpy.typing import DTypeLike

from axiarch.engine import kernels
from axiarch.engine.network import Array


class Dropout:
    """The dropout of all hidden layers of a stack at its present step.

    Parameters
    ----------
    widths : tuple of int
        Units H of each hidden layer.
    batch_size : int
        B of a full batch; a short one uses the same words for the same rows.
    capacity : int
        K.
    """

    def __init__(self, widths: tuple[int, ...], batch_size: int, capacity: int, dtype: DTypeLike) -> None:
        words = [batch_size * ((w + 3) // 4) for w in widths]
        self._layer_words = [sum(words[:i]) for i in range(len(words))]
        self._step_words = sum(words)
        self.thresholds = np.zeros(capacity, dtype=np.uint64)
        self.scales: Array = np.ones(capacity, dtype=dtype)
        self.keys = np.zeros(capacity, dtype=np.uint64)
        self._first = np.zeros(capacity, dtype=np.uint64)
        self.any = False

    def set_rate(self, slot: int, rate: float) -> None:
        """Give a slot its rate; the scale follows the rate that sixteen random bits really give."""
        threshold = round(rate * kernels.DROPOUT_STEPS)
        self.thresholds[slot] = threshold
        self.scales[slot] = 1.0 / (1.0 - threshold / kernels.DROPOUT_STEPS)

    def start_step(self, step: int, active: int) -> None:
        """Move to step number `step` of the epoch (from 0)."""
        self._step_start = step * self._step_words
        self.any = bool(self.thresholds[:active].any())

    def apply(self, a: Array, layer: int, active: int, rows: int) -> None:
        """Silence units of `a` (K, B, H) in place, the same ones each time within a step."""
        if self.any:
            self._first[:] = self._step_start + self._layer_words[layer]
            kernels.drop(a, self.thresholds, self.scales, self.keys, self._first, active, rows)
