"""Divide rows into training, validation and test parts: by class, by groups, or by order."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from axiarch.data.plan import SplitPlan
from axiarch.errors import DataError

Rows = NDArray[np.int64]


@dataclass(frozen=True)
class Parts:
    """Row numbers of each part, in the order of the file: disjoint, and together all rows."""

    train: Rows
    validation: Rows
    test: Rows


def split(labels: NDArray[np.int64], plan: SplitPlan, groups: NDArray[np.int64] | None = None,
          order: NDArray[np.float64] | None = None) -> Parts:
    """Split N rows with class numbers `labels` (N,).

    Parameters
    ----------
    groups : (N,) array, optional
        Rows with the same number stay together.
    order : (N,) array, optional
        Rows are put in this order, and not mixed.

    Raises
    ------
    DataError
        If the rows, classes or groups are too few for three parts.
    """
    if order is not None:
        parts = _by_order(order, plan)
    elif groups is not None:
        parts = _by_groups(groups, plan)
    else:
        parts = _by_class(labels, plan)
    _check(parts, labels)
    return parts


def fewer(parts: Parts, labels: NDArray[np.int64], rows: int, seed: int) -> Parts:
    """Return the parts with at most about `rows` training rows, every class by the same share, one at least."""
    if rows == 0 or rows >= len(parts.train):
        return parts
    rng = np.random.default_rng(np.random.SeedSequence(seed, spawn_key=(2,)))
    share = rows / len(parts.train)
    kept = []
    for label in np.unique(labels[parts.train]):
        own = parts.train[labels[parts.train] == label]
        kept.append(rng.permutation(own)[: max(round(share * len(own)), 1)])
    return Parts(np.sort(np.concatenate(kept)), parts.validation, parts.test)


def _rng(plan: SplitPlan) -> np.random.Generator:
    return np.random.default_rng(np.random.SeedSequence(plan.seed, spawn_key=(1,)))


def _by_class(labels: NDArray[np.int64], plan: SplitPlan) -> Parts:
    """Give every class the same shares (stratified)."""
    rng = _rng(plan)
    parts: list[list[Rows]] = [[], [], []]
    for label in np.unique(labels):
        rows = rng.permutation(np.flatnonzero(labels == label))
        if len(rows) < 3:
            raise DataError(f"a class has only {len(rows)} rows", "target", "drop it, or give it three rows or more")
        n_validation = max(round(len(rows) * plan.validation), 1)
        n_test = max(round(len(rows) * plan.test), 1)
        if n_validation + n_test == len(rows):  # a class this small keeps one row to be learnt from
            n_validation, n_test = max(n_validation - 1, 1), n_test - (n_validation == 1)
        cuts = [len(rows) - n_validation - n_test, len(rows) - n_test]
        for part, piece in zip(parts, np.split(rows, cuts), strict=True):
            part.append(piece)
    return Parts(*(np.sort(np.concatenate(part)) for part in parts))


def _by_groups(groups: NDArray[np.int64], plan: SplitPlan) -> Parts:
    """Deal out whole groups, largest first among equals by chance, each to the part that lacks most."""
    names, counts = np.unique(groups, return_counts=True)
    if len(names) < 3:
        raise DataError(f"there are only {len(names)} groups", "split", "three or more are needed for three parts")
    wanted = np.array([1 - plan.validation - plan.test, plan.validation, plan.test]) * len(groups)
    have = np.zeros(3)
    chosen: list[list[int]] = [[], [], []]
    shuffled = _rng(plan).permutation(len(names))
    for i in sorted(shuffled, key=lambda j: -counts[j]):
        empty = [p for p in range(3) if not chosen[p]]
        remaining = len(names) - sum(map(len, chosen))
        lacking = empty if len(empty) == remaining else range(3)
        part = max(lacking, key=lambda p: (wanted[p] - have[p]) / wanted[p])
        chosen[part].append(names[i])
        have[part] += counts[i]
    return Parts(*(np.flatnonzero(np.isin(groups, part)) for part in chosen))


def _by_order(order: NDArray[np.float64], plan: SplitPlan) -> Parts:
    """Give the last rows to the test part and those before to validation."""
    if np.isnan(order).any():
        raise DataError(f"row {int(np.isnan(order).argmax()) + 1} has no value to put it in order", "split",
                        "fill the gap, or choose another column")
    rows = np.argsort(order, kind="stable")
    n_validation, n_test = round(len(rows) * plan.validation), round(len(rows) * plan.test)
    train, validation, test = np.split(rows, [len(rows) - n_validation - n_test, len(rows) - n_test])
    return Parts(np.sort(train), np.sort(validation), np.sort(test))


def _check(parts: Parts, labels: NDArray[np.int64]) -> None:
    for name, rows in (("training", parts.train), ("validation", parts.validation), ("test", parts.test)):
        if len(rows) == 0:
            raise DataError(f"the {name} part has no rows", "split", "give it a larger share, or more rows")
    if len(np.unique(labels[parts.train])) < 2:
        raise DataError("the training part has rows of one class only", "split", "split another way")
