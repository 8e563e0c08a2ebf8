"""Measures that recipes are ranked by besides their loss, row by row.

Each gives the value of a run, and what each row adds to it:
numbers whose mean is the value, and whose variance over rows is that of the value (for measures
that are no mean over rows, by their influence: Efron 1982; for the area under the curve after
DeLong, DeLong & Clarke-Pearson 1988).

Axes: n validation rows, C classes.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

Floats = NDArray[np.float64]

#: Log-odds from float32 losses are rounded by less than this share of 1 and their size.
_ROUNDED = 3e-7
#: Losses of rows that are surely right, and surely wrong.
_ENDS = (1e-30, 700.0, 1e-30, 700.0)
#: Measures that are made of counts of right rows.
_COUNTED = ("accuracy", "balanced accuracy", "F1")


@dataclass(frozen=True)
class Rows:
    """What is known of the validation rows of a run.

    Attributes
    ----------
    losses : (n,) array
        Cross-entropies, or squared errors.
    labels, predicted : (n,) arrays
        Class numbers; empty for amounts.
    classes : int
        C; 0 for amounts.
    unit : float
        The spread of the target, in which the width of the Huber loss is given.
    huber_width : float
    """

    losses: Floats
    labels: NDArray[np.int64]
    predicted: NDArray[np.int64]
    classes: int = 0
    unit: float = 1.0
    huber_width: float = 1.0


@dataclass(frozen=True)
class Measure:
    """A measure.

    Attributes
    ----------
    amounts : bool
        Whether it is one of amounts, or else of classes.
    higher : bool
        Whether more is better.
    rows : callable
        From :class:`Rows` to what each row adds (n,): the mean is the measure.
    """

    amounts: bool
    higher: bool
    rows: Callable[[Rows], Floats]


def _right(r: Rows) -> Floats:
    return np.asarray(r.predicted == r.labels, np.float64)


def _balanced(r: Rows) -> Floats:
    """Recall of each class, meant over the classes that there are."""
    right, found = _right(r), np.zeros(len(r.labels))
    present = [c for c in range(r.classes) if (r.labels == c).any()]
    for c in present:
        own = r.labels == c
        recall = float(right[own].mean())
        found[own] += len(own) / own.sum() * (right[own] - recall) / len(present)
        found += recall / len(present)
    return found


def _f1(r: Rows) -> Floats:
    """F1 of each class, meant over the classes that there are, with each row's influence on it."""
    found = np.zeros(len(r.labels))
    present = [c for c in range(r.classes) if (r.labels == c).any()]
    for c in present:
        truly, named = r.labels == c, r.predicted == c
        twice = 2.0 * (truly & named)
        both = truly.astype(np.float64) + named
        value = float(twice.sum() / both.sum())
        found += (value + (twice - value * both) / both.mean()) / len(present)
    return found


def _auc(r: Rows) -> Floats:
    """Area under the curve of two classes."""
    from scipy.stats import rankdata

    score = _log_odds(r)
    positive = r.labels == 1
    n1, n0 = int(positive.sum()), int((~positive).sum())
    if not n1 or not n0:
        return np.full(len(score), np.nan)
    ranks = rankdata(score)
    above = (ranks[positive] - rankdata(score[positive])) / n0
    below = 1 - (ranks[~positive] - rankdata(score[~positive])) / n1
    value = float(above.mean())
    found = np.full(len(score), value)
    found[positive] += (above - value) * len(score) / n1
    found[~positive] += (below - value) * len(score) / n0
    return found


def _log_odds(r: Rows) -> Floats:
    """Return places in the order of the log-odds of the second class (n,), from losses: those that
    differ by no more than float32 losses are rounded by are one place.
    """
    with np.errstate(divide="ignore"):
        odds = -r.losses - np.log(-np.expm1(-r.losses))  # of the true class
    score = np.where(r.labels == 1, odds, -odds)
    order = np.argsort(score, kind="stable")
    ordered = score[order]
    with np.errstate(invalid="ignore"):
        apart = np.diff(ordered) > _ROUNDED * (1 + np.abs(ordered[1:]))
    place = np.zeros(len(score))
    place[order[1:]] = np.cumsum(apart)
    return place


def _losses(r: Rows) -> Floats:
    return r.losses


def _absolute(r: Rows) -> Floats:
    return np.asarray(np.sqrt(r.losses))


def _huber(r: Rows) -> Floats:
    """The Huber loss in spreads of the target, as it is trained on."""
    away = np.sqrt(r.losses) / r.unit
    width = r.huber_width
    return np.where(away <= width, 0.5 * away**2, width * (away - 0.5 * width))


#: Measures by name.
MEASURES: dict[str, Measure] = {
    "accuracy": Measure(False, True, _right),
    "balanced accuracy": Measure(False, True, _balanced),
    "F1": Measure(False, True, _f1),
    "AUC": Measure(False, True, _auc),
    "loss": Measure(False, False, _losses),
    "mean absolute error": Measure(True, False, _absolute),
    "mean squared error": Measure(True, False, _losses),
    "Huber loss": Measure(True, False, _huber),
}


def lowered_rows(name: str, rows: Rows) -> Floats:
    """Return what each row (n,) adds to what is to be lowered: the mean is its level."""
    measure = MEASURES[name]
    found = measure.rows(rows)
    return 1 - found if measure.higher else found


def cautious_rows(name: str, rows: Rows) -> Floats:
    """Return what each row adds to what is to be lowered (n,), followed by two rows that are right
    and two that are wrong of each class, or for the accuracy of one: without them, rows that are
    all right would leave no doubt about others (Agresti & Coull 1998). For the area under the
    curve, one row of each class is ahead of all others, and one behind.
    """
    if name == "AUC":
        return lowered_rows(name, Rows(np.concatenate((rows.losses, _ENDS)),
                                       np.concatenate((rows.labels, (0, 0, 1, 1))),
                                       np.concatenate((rows.predicted, (0, 1, 1, 0))),
                                       rows.classes))
    if name not in _COUNTED:
        return lowered_rows(name, rows)
    each = np.unique(rows.labels)[: 1 if name == "accuracy" else None]
    labels = np.repeat(each, 4)
    wrong = np.tile((0, 0, 1, 1), len(each))
    more = Rows(np.concatenate((rows.losses, np.ones(len(labels)))),
                np.concatenate((rows.labels, labels)),
                np.concatenate((rows.predicted, (labels + wrong) % max(rows.classes, 2))),
                rows.classes)
    return lowered_rows(name, more)
