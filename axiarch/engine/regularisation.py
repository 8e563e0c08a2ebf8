"""What bends a training besides its loss: pulls, limits, smoothing, weights of classes, noise; each slot its own."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

import numpy as np
from numpy.typing import DTypeLike, NDArray

from axiarch.engine import kernels
from axiarch.engine.network import Array, StackShape
from axiarch.engine.streams import Streams
from axiarch.recipes.recipe import Recipe


class Regularisation:
    """The regularisation of a stack's runs; what no run uses costs nothing.

    Parameters
    ----------
    slots : int
        K.
    classes : int
        C; 1 for amounts.
    steps : int
        Of an epoch.
    """

    def __init__(self, shape: StackShape, slots: int, dtype: DTypeLike, classes: int, steps: int = 1) -> None:
        self._shape = shape
        self.bends: Array = still_bends(slots, dtype)
        self.gains: Array = np.ones((slots, classes), dtype)
        self.keys = np.zeros(slots, np.uint64)
        self._limits: dict[str, Array] = {name: np.zeros(slots, dtype) for name in (
            "l1", "max_norm", "clip_norm", "clip_value", "input_noise", "averaging", "contrast", "erase",
            "crop", "mixing")}
        self._shifts, self._flips = np.zeros(slots, np.int64), np.zeros(slots, np.int64)
        self.picture_keys = np.zeros(slots, np.uint64)
        self._weighted = [p for p in shape.placed if p.weighted]
        self._kept = np.ones((slots, steps))
        self.start_epoch(slots)

    def set(self, slot: int, recipe: Recipe, balance: NDArray[np.float64] | None = None,
            curve: NDArray[np.float64] | None = None) -> None:
        """Give a slot what its recipe says.

        `balance` is what rows of each class (C,) count where all classes are to weigh alike; None for amounts, of
        which `curve` (3 T,) says how their logarithms are turned back, where they are trained on by those.
        """
        self.bends[slot] = (recipe.real("label_smoothing"), 1.0, recipe.real("huber_width"))
        balanced = recipe.word("class_weights") == "balanced" and balance is not None
        self.gains[slot] = curve if curve is not None else balance if balanced else 1.0
        for name, values in self._limits.items():
            values[slot] = recipe.real(name)
        self._shifts[slot], self._flips[slot] = recipe.whole("shift"), recipe.word("flip") == "yes"

    def take_keys(self, slot: int, streams: Streams, epoch: int) -> None:
        """Give a slot the keys of an epoch's chances, those that are used."""
        if self._noisy:
            self.keys[slot] = streams.noise_key(epoch)
        if self._varied:
            self.picture_keys[slot] = streams.augmentation_key(epoch)
        self._kept[slot] = 1.0
        strength = self._limits["mixing"][slot]
        if strength > 0:
            self._kept[slot] = streams.mixing(epoch).beta(strength, strength, self._kept.shape[1])

    def move(self, slot: int, to: int) -> None:
        """Give a slot's values to another."""
        for values in (self.bends, self.gains, self._shifts, self._flips, *self._limits.values()):
            values[to] = values[slot]

    def start_epoch(self, active: int) -> None:
        """Find out what any of the runs uses, once for all steps of an epoch."""
        used = {name: bool(values[:active].any()) for name, values in self._limits.items()}
        self._noisy, self._pulled, self._limited = used["input_noise"], used["l1"], used["max_norm"]
        self._clipped, self._averaged = used["clip_norm"] or used["clip_value"], used["averaging"]
        varied = bool(self._shifts[:active].any() or self._flips[:active].any())
        self._varied = len(self._shape.inputs) == 3 and (varied or used["contrast"] or used["erase"] or used["crop"])
        self._mixed = used["mixing"]

    def disturb(self, x: Array, targets: NDArray[Any], step: int, active: int, rows: int) -> None:
        """Vary the pictures, mix rows and add noise to the inputs (K, B, D) of step number `step` of an epoch.

        Of mixed rows, targets (K, B, T) that are amounts are mixed too; classes are left to the loss.
        """
        if self._varied:
            height, width, channels = self._shape.inputs
            kernels.augment(x, height, width, channels, self._shifts, self._flips, self._limits["contrast"],
                            self._limits["erase"], self._limits["crop"], self.picture_keys, step, active, rows)
        if self._mixed:
            self.bends[:active, kernels.KEPT] = self._kept[:active, step]
            kernels.mix(x, self.bends, active, rows)
            if targets.ndim == 3:
                kernels.mix(targets, self.bends, active, rows)
        if self._noisy:
            kernels.add_noise(x, self._limits["input_noise"], self.keys, step, active, rows)

    def before(self, flat: Array, grads: Array, active: int) -> None:
        """Bend the gradients before a step."""
        if self._pulled:
            kernels.pull_l1(flat, grads, self._limits["l1"], active, self._shape.weights)
        if self._clipped:
            kernels.clip(grads, self._limits["clip_norm"], self._limits["clip_value"], active)

    @property
    def averages(self) -> Array:
        """The memory of each slot's running mean of weights (K,); 0 for those that have none."""
        return self._limits["averaging"]

    def after(self, flat: Array, mean: Array, steps: Callable[[], NDArray[np.int64]], moved: NDArray[np.bool_],
              active: int) -> None:
        """Keep the weights within their limits after a step, and move their running means.

        Parameters
        ----------
        mean : (K, P) array
        steps : callable
            Gives the steps (K,) that each run has made before this one.
        moved : (K,) array
            Which of them made a step.
        """
        if self._limited:
            for p in self._weighted:
                kernels.max_norm(flat, p.weights, p.fan_in, p.units, self._limits["max_norm"], active)
        if self._averaged:
            kernels.average(mean, flat, self.averages, steps(), moved, active)


def still_bends(slots: int, dtype: DTypeLike) -> Array:
    """Return what leaves every slot's loss as it is (K, 3)."""
    return np.tile(np.array([0.0, 1.0, 1.0], dtype), (slots, 1))


def class_gains(labels: NDArray[np.int32], outputs: int) -> NDArray[np.float64]:
    """Return what a row of each class must count (C,) so that all classes weigh alike and a row counts 1 on average."""
    counts = np.bincount(labels, minlength=max(outputs, 2)).astype(np.float64)
    present = counts > 0
    gains = np.ones_like(counts)
    gains[present] = counts.sum() / (present.sum() * counts[present])
    return gains
