"""The baseline: what a predictor that ignores the inputs scores."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass, field

import numpy as np
from numpy.typing import NDArray

from axiarch.data.target import Answers, Target
from axiarch.runs.lowered import APART, Lowered, scored, unscored


@dataclass(frozen=True)
class Baseline:
    """What is lowered and metrics on the validation rows, the metrics in the order of the target's.
    """

    loss: float
    metrics: tuple[float, ...] = field(default=())


def baseline_of(target: Target, train: Answers, validation: Answers) -> Baseline:
    """Return the baseline from the encoded targets of training and validation rows.

    For classes it is the loss of always answering with the training shares, and the accuracy (plain
    and balanced) or F1 of always answering with the commonest class; for amounts the root mean
    squared error of the training mean, and the mean absolute error of the training median. What is
    lowered comes first, the loss too may be one of the metrics.
    """
    found = (_amount_floor(target, target.in_units(train), target.in_units(validation))
             if target.task == "regression" else
             class_floor(train.astype(np.int64), validation.astype(np.int64), len(target.classes)))
    apart = (1 - float(baseline_rows(target, train, validation).mean())
             if target.measure in APART else math.nan)
    return Baseline(*scored(target.measure, found.loss, found.metrics, apart))


def baseline_rows(target: Target, train: Answers, validation: Answers) -> NDArray[np.float64]:
    """Return what the baseline adds to what is lowered in each validation row (N,), as
    :meth:`Target.lowered_rows`.
    """
    if target.task != "regression":
        shares = np.bincount(train.astype(np.int64), minlength=len(target.classes)) / len(train)
        losses = target.row_losses(np.broadcast_to(shares, (len(validation), len(shares))),
                                   validation)
        commonest = np.full(len(validation), shares.argmax())
        return target.lowered_rows(losses, validation, commonest)
    known = target.in_units(train)
    centre = known.mean(0) if target.root else np.median(known, axis=0)
    unit = target.units[0] if len(target.columns) == 1 else 1.0
    losses = (((target.in_units(validation) - centre) * unit) ** 2).mean(1)
    return target.lowered_rows(losses, validation, None)


def class_floor(train: NDArray[np.int64], validation: NDArray[np.int64], classes: int) -> Baseline:
    """Return the baseline from the class numbers (N,) of training and validation rows."""
    shares = np.bincount(train, minlength=classes) / len(train)
    with np.errstate(divide="ignore"):
        loss = -np.log(shares[validation]).mean()
    there = len(np.unique(validation))
    told = float(shares.argmax() in validation)
    return Baseline(float(loss), (float((validation == shares.argmax()).mean()), told / there))


def _amount_floor(target: Target, train: NDArray[np.float64],
                  validation: NDArray[np.float64]) -> Baseline:
    """Return the baseline from scaled amounts (N, T)."""
    units = np.array(target.units)
    squares = ((validation - train.mean(0)) ** 2).mean(0)
    if len(units) > 1:
        return Baseline(float(np.sqrt(squares.mean())),
                     tuple(float(x) for x in np.sqrt(squares) * units))
    error = float(np.abs(validation - np.median(train, axis=0)).mean() * units[0])
    spread = float(validation.var())
    return Baseline(float(np.sqrt(squares[0]) * units[0]),
                 (error, 1 - float(squares[0]) / spread if spread else 0.0))


def rescored(baseline: Baseline, before: Lowered, after: Lowered) -> Baseline:
    """Return a baseline by another measure than the one it was scored by: not one of those that are
    worked out apart.
    """
    if before == after:
        return baseline
    return Baseline(*scored(after, *unscored(before, baseline.loss, baseline.metrics)))


def mean_baseline(baselines: Sequence[Baseline]) -> Baseline:
    """Return the mean over folds."""
    return Baseline(float(np.mean([f.loss for f in baselines])),
                 tuple(float(x) for x in np.mean([f.metrics for f in baselines], axis=0)))
