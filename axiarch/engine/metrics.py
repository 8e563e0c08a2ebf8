"""What predictions are worth beside their loss: counts of classes told right and taken for another,
errors of amounts.

Labels (N,) are class numbers, shares (N, C) the probability given to each class; amounts are (N, T)
in their own unit.
"""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

Floats = NDArray[np.float64]
Labels = NDArray[np.integer]


def confusion(shares: Floats, labels: Labels) -> NDArray[np.int64]:
    """Return how many rows of each class (first axis) are taken for each class (second axis),
    (C, C).
    """
    classes = shares.shape[1]
    found = np.bincount(labels * classes + shares.argmax(axis=1), minlength=classes * classes)
    return found.astype(np.int64).reshape(classes, classes)


def accuracy(counts: NDArray[np.int64]) -> float:
    """Return the share of rows told right."""
    return float(np.trace(counts) / max(counts.sum(), 1))


def precision(counts: NDArray[np.int64]) -> Floats:
    """Return for each class (C,) the share of rows taken for it that are it; 0 where none is
    taken for it.
    """
    return _share(np.diag(counts), counts.sum(axis=0))


def recall(counts: NDArray[np.int64]) -> Floats:
    """Return for each class (C,) the share of its rows that are told; 0 where there are none."""
    return _share(np.diag(counts), counts.sum(axis=1))


def f1(counts: NDArray[np.int64]) -> Floats:
    """Return for each class (C,) the harmonic mean of precision and recall."""
    return _share(2 * np.diag(counts), counts.sum(axis=0) + counts.sum(axis=1))


def macro(values: Floats, counts: NDArray[np.int64]) -> float:
    """Return the mean of `values` (C,) over the classes that there are."""
    present = counts.sum(axis=1) > 0
    return float(values[present].mean()) if present.any() else 0.0


def top_k(shares: Floats, labels: Labels, k: int) -> float:
    """Return the share of rows whose class is among the `k` likeliest; of equal shares the first
    class counts more.
    """
    order = np.argsort(-shares, axis=1, kind="stable")[:, :k]
    return float((order == labels[:, None]).any(axis=1).mean())


def log_loss(shares: Floats, labels: Labels) -> float:
    """Return the mean negative logarithm of the share given to the true class, in nats."""
    own = shares[np.arange(len(labels)), labels]
    return float(-np.log(np.maximum(own, np.finfo(np.float64).tiny)).mean())


def roc_auc(scores: Floats, positive: NDArray[np.bool_]) -> float:
    """Return the chance that a positive row scores above a negative one, half of it where they are
    equal.

    The Mann-Whitney statistic over ranks (Hanley & McNeil 1982). Not a number where there is only
    one kind.
    """
    from scipy.stats import rankdata

    count = int(positive.sum())
    others = len(positive) - count
    if not count or not others:
        return float("nan")
    ranks = rankdata(scores)
    return float((ranks[positive].sum() - count * (count + 1) / 2) / (count * others))


def auc_of_classes(shares: Floats, labels: Labels) -> Floats:
    """Return the area under the curve of each class (C,) against all others."""
    return np.array([roc_auc(shares[:, c], labels == c) for c in range(shares.shape[1])])


def rmse(told: Floats, true: Floats) -> Floats:
    """Return the root mean squared error of each amount (T,)."""
    found: Floats = np.sqrt(((told - true) ** 2).mean(axis=0))
    return found


def mae(told: Floats, true: Floats) -> Floats:
    """Return the mean absolute error of each amount (T,)."""
    found: Floats = np.abs(told - true).mean(axis=0)
    return found


def median_error(told: Floats, true: Floats) -> Floats:
    """Return the median absolute error of each amount (T,): half of the rows are nearer."""
    return np.asarray(np.median(np.abs(told - true), axis=0))


def explained(told: Floats, true: Floats) -> Floats:
    """Return the share of the variance explained (R²) of each amount (T,); 0 where it does not
    vary.
    """
    spread = ((true - true.mean(axis=0)) ** 2).sum(axis=0)
    left = ((told - true) ** 2).sum(axis=0)
    found: Floats = np.where(spread > 0, 1 - left / np.where(spread > 0, spread, 1), 0.0)
    return found


def _share(part: NDArray[np.int64], whole: NDArray[np.int64]) -> Floats:
    return np.divide(part, whole, out=np.zeros(len(part)), where=whole > 0)
