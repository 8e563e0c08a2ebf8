"""What predictions are worth, with intervals: of several runs, over the rows that they predicted.

Intervals rest on a bootstrap over rows (Efron 1979), 95 %: rows are drawn again with the same draw
for all runs of a fold, and a metric is the mean over the runs. So they hold the doubt that comes of
few rows, not the doubt that comes of few seeds. Axes: N rows, C classes, T amounts, B redraws.
"""

from __future__ import annotations

import math
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from axiarch.engine import metrics
from axiarch.insight.evidence import HEAVY, TAILED_ROWS, worst_share
from axiarch.insight.intervals import effective_rows, of_f1, of_level, of_mean, of_share
from axiarch.text import share, shown

Floats = NDArray[np.float64]
#: Redraws of the rows, and rows beyond which fewer are made.
REDRAWS, MANY_ROWS = 400, 20_000
#: Bins of confidence in a calibration curve.
BINS = 10
#: Points of a curve, rows drawn as points, and mistakes that are listed.
POINTS, DRAWN, LISTED = 60, 500, 60


@dataclass(frozen=True)
class Run:
    """What one run predicted on the rows of a fold.

    Attributes
    ----------
    fold : int
    predicted : (N, C) or (N, T) array
        Class probabilities, or amounts in their own unit.
    true : (N,) int array, or (N, T) array
    """

    fold: int
    predicted: Floats
    true: NDArray[Any]


def summary(runs: Sequence[Run], classes: int) -> dict[str, Any]:
    """Return everything that is shown of the predictions of some runs, as JSON holds it.

    Parameters
    ----------
    classes : int
        C; 0 for amounts.
    """
    made = _of_classes(runs, classes) if classes else _of_amounts(runs)
    folds = {run.fold: len(run.true) for run in runs}
    return {"runs": len(runs), "folds": len(folds), "rows": sum(folds.values()), **made}


# -- classes ---------------------------------------------------------------------------------------


def _of_classes(runs: Sequence[Run], classes: int) -> dict[str, Any]:
    best_of = [run.predicted.argmax(1) for run in runs]

    def measured(weights: dict[int, Floats]) -> Floats:
        """Return the metrics in a row: accuracy, balanced accuracy, log loss, then 3 C by class."""
        rows = []
        for run, best in zip(runs, best_of, strict=True):
            weight = weights[run.fold]
            counts = np.bincount(run.true * classes + best, weight, classes * classes)
            counts = counts.reshape(classes, classes)
            recall = metrics.recall(counts)
            own = run.predicted[np.arange(len(run.true)), run.true]
            cost = -np.log(np.maximum(own, np.finfo(np.float64).tiny))
            rows.append(np.concatenate((
                [metrics.accuracy(counts), metrics.macro(recall, counts),
                 float((cost * weight).sum() / weight.sum())],
                metrics.precision(counts), recall, metrics.f1(counts))))
        return np.asarray(np.mean(rows, axis=0))

    value, drawn = _redrawn(runs, measured)
    every = [metrics.confusion(run.predicted, run.true) for run in runs]
    counts = np.sum(every, axis=0)
    total, each = _rows(runs), len(runs) / len({run.fold for run in runs})
    of_class, taken, both = (np.asarray(n) / each
                             for n in (counts.sum(1), counts.sum(0), np.diag(counts)))
    at = {"precision": 3, "recall": 3 + classes, "f1": 3 + 2 * classes}

    def worth(place: int, rows: float) -> float:
        """Return the effective rows of the metric at a place, measured on `rows`."""
        return effective_rows(value[place], drawn[:, place], rows, math.ceil(each))

    precision, recall = ([worth(at[name] + i, n) for i, n in enumerate(known)]
                         for name, known in (("precision", taken), ("recall", of_class)))
    by_class = {
        "precision": [of_share(value[at["precision"] + i], n) for i, n in enumerate(precision)],
        "recall": [of_share(value[at["recall"] + i], n) for i, n in enumerate(recall)],
        "f1": [of_f1(value[at["f1"] + i], drawn[:, at["f1"] + i], n, math.ceil(each))
               for i, n in enumerate(of_class + taken - both)]}
    there = np.flatnonzero(of_class)
    return {
        "accuracy": of_share(value[0], worth(0, total)),
        "balanced_accuracy": [value[1], *of_mean(np.array([value[at["recall"] + i] for i in there]),
                                                 np.array(recall)[there])[1:]],
        "log_loss": of_level(value[2], drawn[:, 2], total),
        **by_class, "confusion": counts.tolist(), "calibration": _calibration(runs),
        "mistakes": _mistakes(runs, classes),
        **({"roc": _roc(runs), "thresholds": _thresholds(runs)} if classes == 2 else {})
    }


def _calibration(runs: Sequence[Run]) -> list[list[float]]:
    """Return for each bin of confidence its mean, how often it was right, and its rows a run."""
    sure = np.concatenate([run.predicted.max(1) for run in runs])
    right = np.concatenate([run.predicted.argmax(1) == run.true for run in runs])
    place = np.minimum((sure * BINS).astype(int), BINS - 1)
    found = []
    for each in range(BINS):
        own = place == each
        if own.any():
            found.append([float(sure[own].mean()), float(right[own].mean()),
                          float(own.sum() / len(runs))])
    return found


def _mistakes(runs: Sequence[Run], classes: int) -> list[dict[str, Any]]:
    """Return the rows that are predicted wrong, the most confident first, by the mean over runs."""
    found: list[dict[str, Any]] = []
    for fold, mean, true in _means(runs):
        best = mean.argmax(1)
        found += [{"fold": fold, "row": int(i), "true": int(true[i]), "predicted": int(best[i]),
                   "probabilities": [float(v) for v in mean[i]]}
                  for i in np.flatnonzero(best != true)]
    found.sort(key=lambda row: (-row["probabilities"][row["predicted"]], row["fold"], row["row"]))
    return found[:LISTED]


def _scored(runs: Sequence[Run]) -> tuple[Floats, NDArray[np.bool_]]:
    """Return the probability of the second class and whether it is true, of all runs in a row."""
    return (np.concatenate([run.predicted[:, 1] for run in runs]),
            np.concatenate([run.true == 1 for run in runs]))


def _counted(runs: Sequence[Run]) -> tuple[Floats, Floats, Floats]:
    """Return thresholds, falling, and how many true and false positives each lets through."""
    scores, positive = _scored(runs)
    order = np.argsort(-scores, kind="stable")
    scores, positive = scores[order], positive[order]
    last = np.append(np.diff(scores) != 0, True)
    return (scores[last], np.cumsum(positive)[last].astype(np.float64),
            np.cumsum(~positive)[last].astype(np.float64))


def _roc(runs: Sequence[Run]) -> dict[str, Any]:
    """Return the ROC and the precision-recall curve of the second class, all runs pooled."""
    _, hits, alarms = _counted(runs)
    some = np.unique(np.linspace(0, len(hits) - 1, POINTS).astype(int))
    false_rate, true_rate = alarms / max(alarms[-1], 1), hits / max(hits[-1], 1)
    scores, positive = _scored(runs)
    area = metrics.roc_auc(scores, positive)
    return {"area": area if np.isfinite(area) else None,
            "points": [[0.0, 0.0], *([float(false_rate[i]), float(true_rate[i])] for i in some)],
            "precision_recall": [[float(true_rate[i]), float(hits[i] / (hits[i] + alarms[i]))]
                                 for i in some]}


def _thresholds(runs: Sequence[Run]) -> list[list[float]]:
    """Return by how much dearer a missed second class is than a false alarm: the best threshold.

    Each is cost ratio, threshold, and rows missed and false alarms a run at it.
    """
    levels, hits, alarms = _counted(runs)
    levels = np.concatenate(([1.0], levels))
    hits, alarms = np.concatenate(([0.0], hits)), np.concatenate(([0.0], alarms))
    missed = hits[-1] - hits
    found = []
    for ratio in (0.1, 0.2, 0.5, 1.0, 2.0, 5.0, 10.0):
        best = int(np.argmin(ratio * missed + alarms))
        found.append([ratio, float(levels[best]), float(missed[best] / len(runs)),
                      float(alarms[best] / len(runs))])
    return found


# -- amounts ---------------------------------------------------------------------------------------


def _of_amounts(runs: Sequence[Run]) -> dict[str, Any]:
    targets = runs[0].true.shape[1]

    def measured(weights: dict[int, Floats]) -> Floats:
        """Return the metrics in a row: T each of RMSE, mean and median absolute error, R²."""
        rows = []
        for run in runs:
            weight = weights[run.fold][:, None]
            away = run.predicted - run.true
            total = weight.sum()
            mean = (run.true * weight).sum(0) / total
            square = (away**2 * weight).sum(0) / total
            spread = ((run.true - mean) ** 2 * weight).sum(0) / total
            rows.append(np.concatenate((
                np.sqrt(square), (np.abs(away) * weight).sum(0) / total,
                [_weighted_median(np.abs(away[:, t]), weight[:, 0]) for t in range(targets)],
                np.where(spread > 0, 1 - square / np.where(spread > 0, spread, 1), 0.0))))
        return np.asarray(np.mean(rows, axis=0))

    value, drawn = _redrawn(runs, measured)
    found = [of_level(value[i], drawn[:, i], _rows(runs)) for i in range(3 * targets)]
    for i in range(3 * targets, 4 * targets):  # by what is left unexplained
        _, low, high = of_level(1 - value[i], 1 - drawn[:, i], _rows(runs))
        found.append([value[i], 1 - high, 1 - low])
    names = ("rmse", "mae", "median_error", "r2")
    return {**{name: found[i * targets : (i + 1) * targets] for i, name in enumerate(names)},
            "worst_share": _worst_shares(runs), "points": _points(runs),
            "furthest": _furthest(runs)}


def _worst_shares(runs: Sequence[Run]) -> list[float]:
    """Return the share of the squared error of each amount (T,) that the worst hundredth of the
    rows has, a mean over the runs; 0 of few rows.
    """
    if min(len(run.true) for run in runs) < TAILED_ROWS:
        return [0.0] * runs[0].true.shape[1]
    each = [[worst_share(column) for column in ((run.predicted - run.true) ** 2).T]
            for run in runs]
    return [float(share) for share in np.mean(each, axis=0)]


def tails(found: Mapping[str, Any], names: Sequence[str]) -> list[str]:
    """Say of which amounts a few rows decide the error, whose interval is too narrow then.

    Parameters
    ----------
    found : mapping
        What :func:`summary` returns.
    """
    shares = found.get("worst_share", ())  # none in those of earlier versions
    return [f"{shown(name, 40)}: the worst hundredth of the rows has {share(part)} of the squared "
            "error. Other rows may well give an RMSE outside its interval; the mean absolute "
            "error is surer." for name, part in zip(names, shares, strict=False) if part >= HEAVY]


def _weighted_median(values: Floats, weights: Floats) -> float:
    order = np.argsort(values, kind="stable")
    passed = np.cumsum(weights[order])
    half = passed[-1] / 2
    low = int(np.searchsorted(passed, half))
    high = int(np.searchsorted(passed, half, side="right"))
    last = len(values) - 1
    return float((values[order[min(low, last)]] + values[order[min(high, last)]]) / 2)


def _means(runs: Sequence[Run]) -> list[tuple[int, Floats, NDArray[Any]]]:
    """Return for each fold the mean prediction over its runs, and the truth."""
    found = []
    for fold in sorted({run.fold for run in runs}):
        own = [run for run in runs if run.fold == fold]
        found.append((fold, np.asarray(np.mean([run.predicted for run in own],
                                               axis=0)), own[0].true))
    return found


def _points(runs: Sequence[Run]) -> list[list[list[float]]]:
    """Return for each amount some rows as [true, predicted], spread over the true values."""
    folds = _means(runs)
    found = []
    for t in range(runs[0].true.shape[1]):
        pairs = np.concatenate([np.stack((true[:, t], mean[:, t]), 1) for _, mean, true in folds])
        pairs = pairs[np.argsort(pairs[:, 0], kind="stable")]
        some = np.unique(np.linspace(0, len(pairs) - 1, min(len(pairs), DRAWN)).astype(int))
        found.append([[float(a), float(b)] for a, b in pairs[some]])
    return found


def _furthest(runs: Sequence[Run]) -> list[dict[str, Any]]:
    """Return the rows predicted worst, by the mean over runs: the furthest first."""
    found: list[dict[str, Any]] = []
    for fold, mean, true in _means(runs):
        spread = np.maximum(true.std(0), 1e-300)
        away = np.abs((mean - true) / spread).max(1)
        found += [{"fold": fold, "row": int(i), "true": [float(v) for v in true[i]],
                   "predicted": [float(v) for v in mean[i]], "away": float(away[i])}
                  for i in np.argsort(-away, kind="stable")[:LISTED]]
    found.sort(key=lambda row: (-row["away"], row["fold"], row["row"]))
    return found[:LISTED]


# -- intervals -------------------------------------------------------------------------------------


def _rows(runs: Sequence[Run]) -> int:
    """Return the rows of all folds."""
    return sum({run.fold: len(run.true) for run in runs}.values())


def _redrawn(runs: Sequence[Run], measured: Callable[[dict[int, Floats]], Floats]
             ) -> tuple[list[float], Floats]:
    """Return metrics (M,), and their redraws (B, M): rows are drawn again, the same for all runs of
    a fold.
    """
    sizes = {run.fold: len(run.true) for run in runs}
    value = measured({fold: np.ones(rows) for fold, rows in sizes.items()})
    rng = np.random.default_rng(np.random.SeedSequence([len(runs), *sizes.values()]))
    redraws = REDRAWS if sum(sizes.values()) * len(runs) <= MANY_ROWS else REDRAWS // 4
    drawn = []
    for _ in range(redraws):
        weights = {fold: np.bincount(rng.integers(0, rows, rows), minlength=rows).astype(np.float64)
                   for fold, rows in sizes.items()}
        drawn.append(measured(weights))
    return value.tolist(), np.array(drawn)


# -- by group --------------------------------------------------------------------------------------


def by_group(runs: Sequence[Run], groups: Mapping[int, Sequence[str]],
             classes: int) -> list[dict[str, Any]]:
    """Return how good the predictions are in each group of rows, the worst first.

    Parameters
    ----------
    groups : mapping
        For each fold the name of each row's group (N,).
    classes : int
        C; 0 for amounts.

    Returns
    -------
    list of dict
        ``group``, ``rows``, and ``value`` as [value, low, high]: the accuracy, or the RMSE of the
        first amount. Groups of fewer than two rows have no interval.
    """
    names = sorted({name for each in groups.values() for name in each})
    found: list[dict[str, Any]] = []
    for name in names:
        own = []
        for run in runs:
            here = np.array([group == name for group in groups[run.fold]])
            if here.any():
                own.append(Run(run.fold, run.predicted[here], run.true[here]))
        if not own:
            continue

        def measured(weights: dict[int, Floats], own: Sequence[Run] = own) -> Floats:
            each = []
            for run in own:
                weight = weights[run.fold]
                if classes:
                    each.append(
                        float(
                            (weight * (run.predicted.argmax(1) == run.true)).sum() / weight.sum()))
                else:
                    square = (run.predicted[:, 0] - run.true[:, 0]) ** 2
                    each.append(float(np.sqrt((weight * square).sum() / weight.sum())))
            return np.array([np.mean(each)])

        value, drawn = _redrawn(own, measured)
        rows, each = _rows(own), math.ceil(len(own) / len({run.fold for run in own}))
        interval = (of_share(value[0], effective_rows(value[0], drawn[:, 0], rows, each))
                    if classes else of_level(value[0], drawn[:, 0], rows))
        found.append({"group": name, "rows": rows, "value": interval})
    found.sort(key=lambda group: group["value"][0] if classes else -group["value"][0])
    return found
