"""The rows that runs train and validate on, as compiled code takes them."""

from __future__ import annotations

import math
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import DTypeLike, NDArray

from axiarch.engine.losses import Loss, known_of
from axiarch.engine.network import Array
from axiarch.recipes.recipe import Recipe
from axiarch.runs.lowered import Lowered

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
    baseline : float
        The level of a predictor that ignores the inputs, by what is lowered.
    curve : tuple of float
        Scale, centre and spread (3 T,) of amounts that are trained on by their logarithm; else
        none.
    measure : str
        What is lowered on the validation rows: the loss, or a metric.
    """

    train_inputs: NDArray[np.float32]
    train_targets: Targets
    validation_inputs: NDArray[np.float32]
    validation_targets: Targets
    units: tuple[float, ...] = ()
    baseline: float = math.inf
    curve: tuple[float, ...] = ()
    measure: Lowered = "loss"

    @property
    def rows(self) -> int:
        """The number N of training rows."""
        return len(self.train_targets)

    @property
    def sample(self) -> NDArray[np.int64]:
        """The places of training rows that are evaluated beside the validation rows: as many, if
        there are as many, spread over all.
        """
        return np.linspace(0, self.rows - 1,
                           min(self.rows, len(self.validation_targets))).astype(np.int64)

    @property
    def bytes(self) -> int:
        """What the training inputs take, mapped or not."""
        return self.train_inputs.nbytes


@dataclass(frozen=True)
class Part:
    """Rows as compiled code takes them, read-only.

    Attributes
    ----------
    flat : (N D,) array
        The inputs of all rows, one after the other: float32 as they lie, or float64.
    labels : (N,) int32 array
        Class numbers; empty for amounts.
    amounts : (N T,) array
        Amounts; empty for classes.
    rows : int
        N.
    """

    flat: Array
    labels: NDArray[np.int32]
    amounts: Array
    rows: int

    @classmethod
    def of(cls, inputs: NDArray[Any], targets: Targets, amounts: bool) -> Part:
        """Lay arrays out; those that lie well already are not copied, mapped ones stay mapped."""
        labels = np.zeros(0, np.int32) if amounts else np.ascontiguousarray(targets, np.int32)
        wanted = np.ascontiguousarray(targets, _kind(targets)).reshape(-1) if amounts else np.zeros(
            0, np.float32)
        return cls(flat(inputs), frozen(labels), frozen(wanted), len(targets))

    def __len__(self) -> int:
        return self.rows


def flat(inputs: NDArray[Any]) -> Array:
    """Return inputs (N, D) as one row of numbers, float32 or float64, read-only and copied only
    where they must be.
    """
    return frozen(np.ascontiguousarray(inputs, _kind(inputs)).reshape(-1))


def frozen(array: NDArray[Any]) -> NDArray[Any]:
    """Return a read-only view: one kind of array for compiled code, mapped or not."""
    view = np.asarray(array).view()
    view.flags.writeable = False
    return view


def _kind(array: NDArray[Any]) -> Any:
    return np.float64 if array.dtype == np.float64 else np.float32


class Source:
    """One fold, as the runs that train on it need it.

    Attributes
    ----------
    train, validation, still : Part
        `still` is a fixed sample of training rows, evaluated beside the validation rows.
    width : int
        D.
    outputs, amounts
        Outputs of a network, and whether they are amounts.
    dtype : dtype
        What is computed in.
    balance : (C,) array or None
        What rows of each class count where all classes are to weigh alike; None for amounts.
    known, known_of_sample : array
        What metrics need to know of the validation targets, and of those of `train_sample`.
    curve : (3 T,) array or None
        What turns outputs into what is reported; None where a factor does.
    units, baseline, measure
        As in :class:`TrainingData`.

    Raises
    ------
    ValueError
        If there are not as many units as amounts, or inputs and targets do not fit each other.
    """

    def __init__(self,
                 data: TrainingData,
                 loss: Loss,
                 outputs: int,
                 dtype: DTypeLike = np.float32) -> None:
        self.dtype = np.dtype(dtype)
        self._classes = loss.known(outputs)
        self.outputs, self.amounts = outputs, loss.amounts
        _check(data, loss, outputs)
        self.train = Part.of(data.train_inputs, data.train_targets, loss.amounts)
        self.validation = Part.of(data.validation_inputs, data.validation_targets, loss.amounts)
        self.width = data.train_inputs.shape[1]
        sample = data.sample
        self.train_sample = Part.of(data.train_inputs[sample], data.train_targets[sample],
                                    loss.amounts)
        self.balance = None if loss.amounts else class_weights(data.train_targets, outputs)
        self.curve = np.array(data.curve or np.ones(3 * outputs)) if loss.curve else None
        self.known, self.known_of_sample = (
            known_of(loss, np.asarray(targets), outputs, data.curve)
            for targets in (data.validation_targets, data.train_targets[sample]))
        self.units, self.baseline, self.measure = data.units, data.baseline, data.measure

    def weights_of(self, recipe: Recipe) -> Array:
        """Return what rows of each class count for a recipe (C,), or the curve of amounts."""
        if self.curve is not None:
            return np.array(self.curve, self.dtype)
        balanced = recipe.word("class_weights") == "balanced" and self.balance is not None
        return np.array(self.balance if balanced else np.ones(self._classes), self.dtype)


def _check(data: TrainingData, loss: Loss, outputs: int) -> None:
    """Raise where compiled code, which checks nothing, would read beside an array."""
    if loss.amounts and len(data.units) != outputs:
        raise ValueError(f"{outputs} amounts need as many units, not {len(data.units)}")
    for inputs, targets in ((data.train_inputs, data.train_targets),
                            (data.validation_inputs, data.validation_targets)):
        wanted = (len(inputs), outputs) if loss.amounts else (len(inputs),)
        if targets.shape != wanted or inputs.shape[1:] != data.train_inputs.shape[1:]:
            raise ValueError(f"targets of shape {targets.shape} do not fit inputs of shape "
                             f"{inputs.shape}")


def class_weights(labels: NDArray[np.int32], outputs: int) -> NDArray[np.float64]:
    """Return what a row of each class must count (C,) so that all classes weigh alike and a row
    counts 1 on average.
    """
    counts = np.bincount(labels, minlength=max(outputs, 2)).astype(np.float64)
    present = counts > 0
    weights = np.ones_like(counts)
    weights[present] = counts.sum() / (present.sum() * counts[present])
    return weights
