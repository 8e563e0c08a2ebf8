"""Divide rows into training, validation and test parts: by class, by groups, or by order."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from axiarch.data.plan import SplitPlan
from axiarch.errors import DataError
from axiarch.text import count

Rows = NDArray[np.int64]


@dataclass(frozen=True)
class Parts:
    """Row numbers of each part, in the order of the file.

    Disjoint and together all rows, but where validation rows train too.
    """

    train: Rows
    validation: Rows
    test: Rows


@dataclass(frozen=True)
class SplitKeys:
    """What a split goes by.

    Attributes
    ----------
    strata : (N,) array
        The number of each row's class, or of the band its amount lies in: every part gets its share
        of each.
    classes : bool
        Whether they are classes, of which every part needs some.
    groups : (N,) array, optional
        Rows with the same number stay together.
    order : (N,) array, optional
        Rows are put in this order, and not mixed.
    part : (N,) array of int, optional
        0 train, 1 validation, 2 test, as given.
    """

    strata: NDArray[np.int64]
    classes: bool = True
    groups: NDArray[np.int64] | None = None
    order: NDArray[np.float64] | None = None
    part: NDArray[np.int64] | None = None


#: Bands of as many rows that amounts are cut into, to be shared out like classes.
BANDS = 10


def bands(values: NDArray[np.float64]) -> NDArray[np.int64]:
    """Return the number of the band (N,) that each amount (N,) lies in: ten of as many rows,
    fewer for few rows.
    """
    rank = np.empty(len(values), np.int64)
    rank[np.argsort(values, kind="stable")] = np.arange(len(values))
    return rank * max(min(BANDS, len(values) // 6), 1) // max(len(values), 1)


def split(known: SplitKeys, plan: SplitPlan) -> tuple[Parts, ...]:
    """Split N rows: into three parts, or with folds into as many splits, all of the same test part.

    Raises
    ------
    DataError
        If the rows, classes or groups are too few.
    """
    parts = _three(known, plan)
    _check(parts, known)
    if plan.all_open:
        return (Parts(np.sort(np.concatenate([parts.train, parts.validation])), parts.validation,
                      parts.test), )
    if not plan.folds:
        return (parts,)
    made = tuple(fold for repeat in range(plan.fold_repeats)
                 for fold in _folds(parts, known, plan, repeat))
    for fold in made:
        _check(fold, known)
    return made


def _three(known: SplitKeys, plan: SplitPlan) -> Parts:
    if known.part is not None:
        return _as_given(known, plan)
    if known.order is not None:
        return _by_order(known.order, plan)
    if known.groups is not None:
        return _by_groups(known.groups, plan)
    return _by_class(known.strata, plan)


def _as_given(known: SplitKeys, plan: SplitPlan) -> Parts:
    """Take the parts as they are given; one that is not is cut from the training rows by its
    share.
    """
    assert known.part is not None
    train, validation, test = (np.flatnonzero(known.part == i) for i in range(3))
    if len(validation) and len(test):
        return Parts(train, validation, test)
    rest = _by_class(known.strata[train], plan)
    if not len(validation) and not len(test):
        return Parts(train[rest.train], train[rest.validation], train[rest.test])
    if len(validation):
        return Parts(train[np.sort(np.concatenate([rest.train, rest.validation]))], validation,
                     train[rest.test])
    return Parts(train[np.sort(np.concatenate([rest.train, rest.test]))], train[rest.validation],
                 test)


def _folds(parts: Parts, known: SplitKeys, plan: SplitPlan, repeat: int) -> list[Parts]:
    """Cut the open rows into folds: each validates once a network trained on the others."""
    rows = np.sort(np.concatenate([parts.train, parts.validation]))
    rng = np.random.default_rng(np.random.SeedSequence(plan.seed, spawn_key=(3, repeat)))
    if known.order is not None:
        blocks = np.array_split(rows[np.argsort(known.order[rows], kind="stable")], plan.folds + 1)
        return [Parts(np.sort(np.concatenate(blocks[:i])), np.sort(blocks[i]), parts.test)
                for i in range(1, plan.folds + 1)]
    fold = _grouped_folds(known.groups[rows], plan.folds, rng) if known.groups is not None else (
        _stratified_folds(known.strata[rows], plan.folds, rng))
    return [Parts(rows[fold != i], rows[fold == i], parts.test) for i in range(plan.folds)]


def _stratified_folds(strata: NDArray[np.int64], folds: int,
                      rng: np.random.Generator) -> NDArray[np.int64]:
    """Deal out the rows (N,) of each stratum like cards, going on where the one before ended."""
    if len(strata) < 2 * folds:
        raise DataError(f"{len(strata)} rows are too few for {folds} folds", "split",
                        "take fewer folds")
    order = rng.permutation(len(strata))
    order = order[np.argsort(strata[order], kind="stable")]
    fold = np.empty(len(strata), np.int64)
    fold[order] = np.arange(len(strata)) % folds
    return fold


def _grouped_folds(groups: NDArray[np.int64], folds: int,
                   rng: np.random.Generator) -> NDArray[np.int64]:
    """Deal out whole groups, the largest first, each to the fold with the fewest rows."""
    names, own, counts = np.unique(groups, return_inverse=True, return_counts=True)
    if len(names) < folds:
        raise DataError(
            f"{folds} folds need as many groups; outside the test part there "
            f"{'is' if len(names) == 1 else 'are'} {len(names)}", "split", "take fewer folds")
    sizes = np.zeros(folds)
    fold_of = np.empty(len(names), np.int64)
    for i in sorted(rng.permutation(len(names)), key=lambda j: -counts[j]):
        fold_of[i] = int(sizes.argmin())
        sizes[fold_of[i]] += counts[i]
    return fold_of[own]


def fewer(parts: Parts, strata: NDArray[np.int64], rows: int, seed: int) -> Parts:
    """Return the parts with at most about `rows` training rows, every stratum by the same share,
    one at least.
    """
    if rows == 0 or rows >= len(parts.train):
        return parts
    rng = np.random.default_rng(np.random.SeedSequence(seed, spawn_key=(2,)))
    share = rows / len(parts.train)
    kept = []
    for stratum in np.unique(strata[parts.train]):
        own = parts.train[strata[parts.train] == stratum]
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
            raise DataError(f"a class has only {count(len(rows), 'row')}", "target",
                            "drop it, or give it three rows or more")
        n_validation = max(round(len(rows) * plan.validation), 1)
        n_test = max(round(len(rows) * plan.test), 1)
        if n_validation + n_test == len(rows):  # a class this small keeps one row to be learnt from
            n_validation, n_test = max(n_validation - 1, 1), n_test - (n_validation == 1)
        cuts = [len(rows) - n_validation - n_test, len(rows) - n_test]
        for part, piece in zip(parts, np.split(rows, cuts), strict=True):
            part.append(piece)
    return Parts(*(np.sort(np.concatenate(part)) for part in parts))


def _by_groups(groups: NDArray[np.int64], plan: SplitPlan) -> Parts:
    """Deal out whole groups, largest first among equals by chance, each to the part that lacks
    most.
    """
    names, counts = np.unique(groups, return_counts=True)
    if len(names) < 3:
        raise DataError(f"there {'is' if len(names) == 1 else 'are'} only "
                        f"{count(len(names), 'group')}", "split",
                        "three or more are needed for three parts")
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
        raise DataError(f"row {int(np.isnan(order).argmax()) + 1} has no value to put it in order",
                        "split", "fill the gap, or choose another column")
    rows = np.argsort(order, kind="stable")
    n_validation, n_test = round(len(rows) * plan.validation), round(len(rows) * plan.test)
    train, validation, test = np.split(
        rows,
        [len(rows) - n_validation - n_test, len(rows) - n_test])
    return Parts(np.sort(train), np.sort(validation), np.sort(test))


def _check(parts: Parts, known: SplitKeys) -> None:
    for name, rows in (("training", parts.train), ("validation", parts.validation), ("test",
                                                                                     parts.test)):
        if len(rows) == 0:
            raise DataError(f"the {name} part has no rows", "split",
                            "give it a larger share, or more rows")
    if known.classes and len(np.unique(known.strata[parts.train])) < 2:
        raise DataError("the training part has rows of one class only", "split",
                        "split another way")
