"""Where predictions are worse: every group of rows against all others, and how sure that is.

Axes: N rows, C classes, T amounts.
"""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from typing import Any

import numpy as np
from numpy.typing import NDArray

from axiarch.insight.predicted import Run

Floats = NDArray[np.float64]
#: Rows that a group needs, and groups that are returned.
FEWEST, MOST = 5, 60


def worst_groups(runs: Sequence[Run], columns: Mapping[str, Mapping[int, Sequence[str]]],
                 classes: int) -> dict[str, Any]:
    """Return the groups of rows that are predicted worst, over all columns.

    Each group is compared with all other rows by the mean over runs of what a row is charged: 1 for
    a wrong class, or the squared error of the first amount. The test of the difference (over rows:
    Fisher's of 1935 for classes, Welch's of 1947 for amounts) is shared out over all groups
    (Bonferroni; Dunn 1961), because of many groups some look bad by chance.

    Parameters
    ----------
    columns : mapping
        By column, for each fold the name of each row's group (N,).
    classes : int
        C; 0 for amounts.

    Returns
    -------
    dict
        ``compared``: groups in all; ``groups``: for each ``column``, ``group``, ``rows``, ``value``
        and ``others`` (accuracy, or RMSE), ``apart``: worse than the others by more than chance.
        Those that stand apart come first.
    """
    charged, fold_of = _charged(runs, classes)
    found: list[dict[str, Any]] = []
    tests = 0
    rows = []
    for column, by_fold in columns.items():
        names = np.concatenate([np.asarray(by_fold[fold], object) for fold in fold_of])
        for name in sorted(set(names.tolist())):
            own = names == name
            if FEWEST <= int(own.sum()) <= len(own) - FEWEST:
                tests += 1
                rows.append((column, name, own))
    for column, name, own in rows:
        found.append({
            "column": column, "group": name, "rows": int(own.sum()), "value": _value(
                charged[own], classes), "others": _value(charged[~own], classes),
            "apart": _worse(charged[own], charged[~own], 0.05 / tests, classes)
        })
    found.sort(key=lambda g: (not g["apart"], g["value"]
                              if classes else -g["value"], g["column"], g["group"]))
    return {"compared": tests, "groups": found[:MOST]}


def _charged(runs: Sequence[Run], classes: int) -> tuple[Floats, list[int]]:
    """Return what each row is charged (N,), the mean over its fold's runs, and the folds in
    order.
    """
    folds = sorted({run.fold for run in runs})
    parts = []
    for fold in folds:
        each = [(run.predicted.argmax(1) != run.true).astype(np.float64) if classes else
                (run.predicted[:, 0] - run.true[:, 0])**2 for run in runs if run.fold == fold]
        parts.append(np.mean(each, axis=0))
    return np.concatenate(parts), folds


def _value(charged: Floats, classes: int) -> float:
    mean = float(charged.mean())
    return 1 - mean if classes else math.sqrt(mean)


def _worse(own: Floats, others: Floats, level: float, classes: int) -> bool:
    """Say whether the mean of `own` is above that of `others` at a two-sided level: of wrong rows
    by their number, as a few say nothing by how they vary; of errors by Welch's test.
    """
    from scipy.special import stdtrit

    if classes:
        from scipy.stats import hypergeom

        wrong = round(float(own.sum() + others.sum()))
        chance = hypergeom.sf(math.floor(own.sum() + 1e-9) - 1, len(own) + len(others), wrong,
                              len(own))
        return bool(chance <= level / 2)
    variances = own.var(ddof=1) / len(own), others.var(ddof=1) / len(others)
    total = float(sum(variances))
    away = float(own.mean() - others.mean())
    if total <= 0:
        return away > 0
    freedom = total**2 / (variances[0]**2 / (len(own) - 1) + variances[1]**2 / (len(others) - 1))
    return away > float(stdtrit(freedom, 1 - level / 2)) * math.sqrt(total)
