"""The rows that runs train and validate on, and how they come into a stack's batches.

Rows are gathered for some steps at once, run by run, because runs of one stack may train on different folds. Where
the data are larger than memory a thread gathers the next steps' rows while the stack trains on these.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from concurrent.futures import Future, ThreadPoolExecutor
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import DTypeLike, NDArray

from axiarch.engine import kernels
from axiarch.engine.losses import Loss, known_of, targets_buffer
from axiarch.engine.network import Array, StackShape, zeros
from axiarch.engine.regularisation import class_gains

#: Class numbers (N,) int32, or amounts (N, T).
Targets = NDArray[Any]


@dataclass(frozen=True)
class TrainingData:
    """Arrays to train and validate on.

    Attributes
    ----------
    train_inputs, train_targets : (N, D) float32, and (N,) int32 or (N, T) float32 arrays
    validation_inputs, validation_targets : (M, D), and (M,) or (M, T) arrays
    units : tuple of float
        What one of each amount (T,) is worth in its own unit; none for classes.
    floor : float
        The loss of a predictor that ignores the inputs, as it is reported.
    curve : tuple of float
        Scale, centre and spread (3 T,) of amounts that are trained on by their logarithm; else none.
    """

    train_inputs: NDArray[np.float32]
    train_targets: Targets
    validation_inputs: NDArray[np.float32]
    validation_targets: Targets
    units: tuple[float, ...] = ()
    floor: float = math.inf
    curve: tuple[float, ...] = ()

    @property
    def rows(self) -> int:
        """The number N of training rows."""
        return len(self.train_targets)

    @property
    def bytes(self) -> int:
        """What the training inputs take, mapped or not."""
        return self.train_inputs.nbytes


@dataclass(frozen=True)
class Part:
    """Inputs (N, D) and targets (N,) or (N, T) as the engine computes with them, read-only."""

    inputs: Array
    targets: Targets

    @classmethod
    def of(cls, inputs: NDArray[Any], targets: NDArray[Any], loss: Loss, dtype: DTypeLike) -> Part:
        """Lay arrays out; those that lie well already are not copied, mapped ones stay mapped."""
        kind = np.dtype(dtype) if loss.amounts else np.dtype(np.int32)
        made = [np.ascontiguousarray(inputs, dtype=dtype).view(), np.ascontiguousarray(targets, dtype=kind).view()]
        for array in made:
            array.flags.writeable = False  # one kind of array for the kernels, mapped or not
        return cls(*made)

    def __len__(self) -> int:
        return len(self.targets)


class Source:
    """One fold, as the runs that train on it need it.

    Attributes
    ----------
    train, validation, still : Part
        `still` is a fixed sample of training rows, evaluated beside the validation rows.
    gains : (C,) array or None
        What rows of each class count where all classes are to weigh alike; None for amounts.
    known : array
        What metrics need to know of the validation targets.
    curve : (3 T,) array or None
        What turns outputs into what is reported; None where a factor does.
    units, floor
        As in :class:`TrainingData`.
    """

    def __init__(self, data: TrainingData, loss: Loss, outputs: int, dtype: DTypeLike) -> None:
        self.train = Part.of(data.train_inputs, data.train_targets, loss, dtype)
        self.validation = Part.of(data.validation_inputs, data.validation_targets, loss, dtype)
        sample = np.linspace(0, data.rows - 1, min(data.rows, len(self.validation))).astype(np.int64)
        self.still = Part.of(self.train.inputs[sample], self.train.targets[sample], loss, dtype)
        self.gains = None if loss.amounts else class_gains(self.train.targets, outputs)
        self.curve = np.array(data.curve or np.ones(3 * outputs)) if loss.curve else None
        self.known = known_of(loss, self.validation.targets, outputs, data.curve)
        self.units, self.floor = data.units, data.floor

    @property
    def size(self) -> tuple[int, int, int]:
        """Training rows N, validation rows M and inputs D: what folds of one stack must have in common."""
        return len(self.train), len(self.validation), self.train.inputs.shape[1]


class Feed:
    """Gathers the rows of a stack's batches.

    Parameters
    ----------
    shape : StackShape
    loss : Loss
    slots, rows : int
        K, and the rows N of an epoch's order.
    ahead : bool
        Whether a thread gathers the next steps' rows meanwhile.

    Attributes
    ----------
    order : (K, N) array
        The rows of each run's epoch, to be filled before :meth:`start_epoch`.
    """

    def __init__(self, shape: StackShape, loss: Loss, slots: int, rows: int, dtype: DTypeLike,
                 ahead: bool = False) -> None:
        self._size = shape.batch_size
        self._steps = shape.feed_steps(slots, rows, dtype)
        self.order = np.zeros((slots, rows), np.int64)
        width = math.prod(shape.inputs)
        self._buffers = [(zeros((self._steps, slots, self._size, width), dtype),
                          np.stack([targets_buffer(loss, slots, self._size, shape.outputs, dtype)] * self._steps))
                         for _ in range(2 if ahead else 1)]
        self._thread = ThreadPoolExecutor(1, "rows") if ahead else None
        self._next: Future[None] | None = None
        self._sources: list[tuple[Part, NDArray[np.int64]]] = []
        self._rows = 0

    def start_epoch(self, sources: Sequence[Part], rows: int) -> None:
        """Begin with the first of `rows` rows of each run's order, which come from `sources` (K,)."""
        if self._next is not None:
            self._next.result()
        alike: dict[int, list[int]] = {}
        for k, source in enumerate(sources):
            alike.setdefault(id(source), []).append(k)
        self._sources = [(sources[slots[0]], np.array(slots)) for slots in alike.values()]
        self._rows = rows
        self._next = self._thread.submit(self._gather, 0) if self._thread else None

    def take(self, step: int) -> tuple[Array, Targets]:
        """Return inputs (K, B, D) and targets (K, B) or (K, B, T) of a step, which may be changed; steps in order."""
        part, place = divmod(step, self._steps)
        if place == 0:
            if self._thread is None or self._next is None:
                self._gather(part)
            else:
                self._next.result()
                more = (part + 1) * self._steps * self._size < self._rows
                self._next = self._thread.submit(self._gather, part + 1) if more else None
        inputs, targets = self._buffers[part % len(self._buffers)]
        return inputs[place], targets[place]

    def _gather(self, part: int) -> None:
        inputs, targets = self._buffers[part % len(self._buffers)]
        first = part * self._steps * self._size
        stop = min(first + self._steps * self._size, self._rows)
        collect_targets = kernels.collect_labels if targets.ndim == 3 else kernels.collect
        for source, slots in self._sources:
            kernels.collect(source.inputs, self.order, slots, first, stop, inputs)
            collect_targets(source.targets, self.order, slots, first, stop, targets)
