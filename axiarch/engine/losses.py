"""Losses: what outputs mean, and what is reported of them."""

from __future__ import annotations

import math
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from axiarch.engine.codes import LARGEST_LOG
from axiarch.engine.metrics import roc_auc
from axiarch.runs.lowered import Lowered

Floats = NDArray[np.float64]


@dataclass(frozen=True)
class Loss:
    """One way to compare outputs with targets; its kernel is in ``kernels/losses.py``.

    Attributes
    ----------
    amounts : bool
        Whether targets are amounts (N, T) rather than class numbers (N,).
    sums : callable
        From the number of outputs to the number of sums that the kernel keeps.
    reported : callable
        From the mean loss and the units of the targets to the loss that people read.
    metrics : callable
        From the sums divided by the rows, the units, and what is known of the targets (the share of
        each class, or the variance of scaled amounts), to what else is measured.
    predicted : callable
        From outputs (N, outputs) to what they predict: the probability of each class (N, C), or
        scaled amounts (N, T).
    curve : int
        Numbers for each amount that turn outputs into what is reported; 0 where that is a factor
        alone.
    """

    amounts: bool
    sums: Callable[[int], int]
    reported: Callable[[float, Sequence[float]], float]
    metrics: Callable[[Floats, Sequence[float], Floats], tuple[float, ...]]
    predicted: Callable[[NDArray[Any]], NDArray[Any]]
    curve: int = 0

    def known(self, classes: int) -> int:
        """Return the numbers that the kernel is given: one a class, or the curve's."""
        return max(self.curve * classes, 1) if self.amounts else max(classes, 2)


def unit_of(units: Sequence[float]) -> float:
    """Return what one of a loss is worth: the single target's unit, else 1."""
    return units[0] if len(units) == 1 else 1.0


def _shares(outputs: NDArray[Any]) -> NDArray[Any]:
    """Return the softmax of each row."""
    powers = np.exp(outputs - outputs.max(axis=1, keepdims=True))
    shares: NDArray[Any] = powers / powers.sum(axis=1, keepdims=True)
    return shares


def _both_shares(outputs: NDArray[Any]) -> NDArray[Any]:
    """Return the probabilities of the first and second class."""
    second = 0.5 * (1 + np.tanh(0.5 * outputs))
    return np.hstack((1 - second, second))


def _amounts(outputs: NDArray[Any]) -> NDArray[Any]:
    return outputs


def _as_it_is(mean: float, units: Sequence[float]) -> float:
    return mean


def _root(mean: float, units: Sequence[float]) -> float:
    """Return the root mean squared error in the target's unit; in spreads where there are
    several targets.
    """
    return math.sqrt(mean) * unit_of(units) if mean >= 0 else mean


def _accuracies(means: Floats, units: Sequence[float], known: Floats) -> tuple[float, ...]:
    """Return the accuracy, and the mean over the classes there are of the share of each that is
    predicted right.
    """
    shares = [
        hits / share
        for hits, share in zip(means[1:].tolist(), known.tolist(), strict=False)
        if share > 0
    ]
    return float(means[0]), sum(shares) / len(shares) if shares else 0.0


def apart_of(measure: Lowered, means: Floats, known: Floats, labels: NDArray[np.int32],
             outputs: Callable[[], NDArray[Any]]) -> float:
    """Return the value of a measure that no epoch has beside its loss; nan for any other.

    Parameters
    ----------
    means : (1 + 2 C,) array
        Of the kernel's sums.
    known : (C,) array
        The share of each class.
    labels : (N,) array
    outputs : callable
        Returns outputs (N, 1) of two classes.
    """
    if measure == "AUC":
        return roc_auc(outputs()[:, 0].astype(np.float64), labels == 1)
    if measure != "F1":
        return math.nan
    hits, named = means[1 : 1 + len(known)], means[1 + len(known) : 1 + 2 * len(known)]
    each = 2 * hits / np.maximum(known + named, 1e-300)
    return float(each[known > 0].mean())


def _errors(means: Floats, units: Sequence[float], known: Floats) -> tuple[float, ...]:
    """Return mean absolute error and the share of variance explained, or the RMSE of each of
    several targets.
    """
    count = len(means) // 2
    if count > 1:
        return tuple(float(math.sqrt(m) * u) for m, u in zip(means[:count], units, strict=True))
    spread = float(known[0])
    return float(means[1] * unit_of(units)), 1 - float(means[0]) / spread if spread > 0 else 0.0


#: Losses by name.
LOSSES: dict[str, Loss] = {
    "softmax": Loss(False, lambda outputs: 1 + 2 * outputs, _as_it_is, _accuracies, _shares),
    "binary": Loss(False, lambda outputs: 5, _as_it_is, _accuracies, _both_shares),
    "squared": Loss(True, lambda outputs: 2 * outputs, _root, _errors, _amounts),
    "logarithmic": Loss(True, lambda outputs: 2 * outputs, _root, _errors, _amounts, 3),
}


def known_of(loss: Loss, targets: NDArray[Any], outputs: int, curve: tuple[float,
                                                                           ...] = ()) -> Floats:
    """Return what metrics need to know of the targets (N,) or (N, T): shares of classes, or the
    variance.

    `curve` (3 T,) are scale, centre and spread of amounts that are trained on by their logarithm.
    """
    if loss.amounts:
        amounts = targets.astype(np.float64)
        if curve:
            scale, centre, spread = np.array(curve).reshape(3, -1)
            amounts = np.exp(np.minimum(amounts * scale + centre, LARGEST_LOG)) / spread
        return np.array([float(amounts.var())])
    return np.bincount(targets, minlength=max(outputs, 2)) / len(targets)
