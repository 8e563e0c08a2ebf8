"""Judge trained runs on rows that they were not trained on, by the weights of their best epoch."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import asdict, dataclass
from pathlib import Path
from typing import Any, Literal

import numpy as np

from axiarch.data.baseline import baseline_of, mean_baseline
from axiarch.data.dataset import Dataset, Part, check_part
from axiarch.data.encoding import NumberCode, OrderCode, TextCode
from axiarch.data.linear import fit_linear
from axiarch.data.sealed import sealed_part
from axiarch.engine import metrics
from axiarch.engine.checkpoint import load_checkpoint
from axiarch.engine.predictor import Predictor
from axiarch.engine.run import RunSpec
from axiarch.errors import InputError, TrainingError
from axiarch.export.models import network_of, score
from axiarch.export.responses import residuals, responses
from axiarch.insight.groups import worst_groups
from axiarch.insight.predicted import Run, by_group, summary
from axiarch.text import number, shown

#: The rows that are predicted. Test rows are asked for only after their opening has been
#: journalled.
PartName = Literal["validation", "test", "train"]


@dataclass(frozen=True)
class Trained:
    """A run of a recipe and the checkpoint that it left."""

    run: RunSpec
    checkpoint: Path


def judge(dataset: Dataset, trained: Sequence[Trained], part: PartName = "validation",
          by: str = "", inputs: bool = False) -> dict[str, Any]:
    """Return the metrics of each run (``judged``), and a summary of all of them together.

    Parameters
    ----------
    by : str, optional
        An input column: ``groups`` then says how good the predictions are for each of its values.
    inputs : bool
        Whether the summary also says how predictions depend on each input column (``responses``),
        which groups of rows are predicted worst (``worst``), and for amounts residuals by input
        (``residuals``).

    Raises
    ------
    TrainingError
        If there is no checkpoint, or it does not fit.
    """
    parts: dict[int, Part] = {}
    judged, runs = [], []
    networks: dict[int, list[Predictor]] = {}
    for each in trained:
        fold = each.run.streams.fold
        if fold not in parts:
            parts[fold] = _rows(dataset, part, fold)
        predictor, epoch = best_of(dataset, each)
        networks.setdefault(fold, []).append(predictor)
        target = dataset.folds[fold].encoding.target
        told, true = predictor.predict(parts[fold].inputs), np.asarray(parts[fold].targets)
        value, _ = score(predictor, target, parts[fold])
        known = {"epoch": epoch, "rows": len(true), "loss": value}
        if dataset.classes:
            judged.append({**known, **_of_classes(told, true.astype(np.int64))})
            runs.append(Run(fold, told, true.astype(np.int64)))
        else:
            amounts = np.asarray(target.decode(told)), np.asarray(target.decode(true))
            judged.append({**known, **_of_amounts(*amounts)})
            runs.append(Run(fold, *amounts))
    found: dict[str, Any] = {"judged": judged, "summary": summary(runs, len(dataset.classes))}
    if by:
        groups = {fold: _groups(dataset, fold, parts[fold].inputs, by) for fold in parts}
        found["groups"] = by_group(runs, groups, len(dataset.classes))
    if inputs and part != "test":
        found["summary"] |= _by_inputs(dataset, parts, networks, runs)
    return found


#: Columns of which groups are compared.
_MOST_COLUMNS = 100


def _by_inputs(dataset: Dataset, parts: dict[int, Part], networks: dict[int, list[Predictor]],
               runs: Sequence[Run]) -> dict[str, Any]:
    """Return what is known of predictions by input column, on the first fold where there are
    several.
    """
    fold = min(parts)
    part = parts[fold]
    inputs = np.asarray(part.inputs)
    columns = [code.name for code in dataset.folds[fold].encoding.codes
               if isinstance(code, NumberCode | OrderCode | TextCode)][:_MOST_COLUMNS]
    groups = {
        name: {f: _groups(dataset, f, parts[f].inputs, name) for f in parts} for name in columns
    }
    found: dict[str, Any] = {
        "responses": responses(dataset, fold, networks[fold], inputs, np.asarray(part.targets)),
        "worst": worst_groups(runs, groups, len(dataset.classes))
    }
    if not dataset.classes:
        own = [run for run in runs if run.fold == fold]
        away = np.mean([run.predicted[:, 0] for run in own], axis=0) - own[0].true[:, 0]
        found["residuals"] = residuals(dataset, fold, inputs, away)
    return found


def _groups(dataset: Dataset, fold: int, inputs: np.ndarray, column: str) -> list[str]:
    """Return the group of each row (N,): its category, or the quarter of the training range of its
    number.

    Raises
    ------
    InputError
        If the column is no input, or a picture or date.
    """
    place = 0
    for code in dataset.folds[fold].encoding.codes:
        width = len(code.inputs)
        if code.name == column:
            own = np.asarray(inputs[:, place : place + width], np.float64)
            if isinstance(code, TextCode | OrderCode):
                return [
                    shown(text) if text is not None else "missing or rare"
                    for text in code.decode(own)
                ]
            if isinstance(code, NumberCode):
                train = dataset.part("train", fold).inputs[:, place : place + width]
                own, known = (code.decode(np.asarray(part, np.float64)) for part in (own, train))
                if not code.log:  # encoded inputs are float32: what was 0 comes back as 1e-8
                    near = 1e-6 * code.scale
                    own, known = np.round(own / near) * near, np.round(known / near) * near
                return _quarters(own, known)
            raise InputError("rows can be grouped by text and numbers alone",
                             f"column {shown(column)!r}", "name a column of text or numbers")
        place += width
    names = ", ".join(code.name for code in dataset.encoding.codes)
    raise InputError(f"no input is called {shown(column)!r}", "--by",
                     "name one of " + shown(names, 200))


def _quarters(values: np.ndarray, train: np.ndarray) -> list[str]:
    """Return which quarter of the training rows each number falls in, as its range."""
    known = train[~np.isnan(train)]
    edges = np.unique(np.quantile(known, (0.25, 0.5, 0.75))) if known.size else np.zeros(0)
    ends = [number(float(edge)) for edge in edges]
    names = [
        f"{i + 1}. up to {ends[i]}" if i == 0 else
        f"{i + 1}. {ends[i - 1]} to {ends[i]}" if i < len(ends) else f"{i + 1}. above {ends[-1]}"
        for i in range(len(ends) + 1)
    ] if ends else ["all"]
    return ["missing" if np.isnan(v) else names[int(np.searchsorted(edges, v))] for v in values]


def baselines(dataset: Dataset) -> dict[str, Any]:
    """Return what the baseline and a linear model, learnt from training rows, score on the test
    rows.

    Means over the folds, as on the validation rows. The linear model's ridge is chosen on folds of
    the training rows.
    """
    baselines, linears = [], []
    for i, fold in enumerate(dataset.folds):
        train, test, target = dataset.part("train", i), sealed_part(dataset,
                                                                    i), fold.encoding.target
        baselines.append(baseline_of(target, np.asarray(train.targets), test.targets))
        linears.append(
            fit_linear(target, (train.inputs, train.targets),
                       (test.inputs, test.targets))[0])
    known = [linear for linear in linears if linear is not None]
    linear = mean_baseline(known) if len(known) == len(linears) else None
    return {
        "baseline": asdict(mean_baseline(baselines)), "linear": asdict(linear) if linear else None
    }


def best_of(dataset: Dataset, trained: Trained) -> tuple[Predictor, int]:
    """Return the network of a run's best epoch, and that epoch.

    Raises
    ------
    TrainingError
    """
    if not trained.checkpoint.exists():
        raise TrainingError("the run has left no checkpoint yet", trained.checkpoint.name,
                            "train it for more epochs")
    shape = network_of(trained.run.recipe, dataset, trained.run.streams.fold)
    state = load_checkpoint(trained.checkpoint, trained.run, shape, dataset.fingerprint)
    return Predictor(shape, state.best_parameters), state.watch.best_epoch


def _rows(dataset: Dataset, part: PartName, fold: int) -> Part:
    if part == "test":
        return sealed_part(dataset, fold)
    found = dataset.part(part, fold)
    check_part(found, dataset, part, fold)
    return found


def _of_classes(shares: np.ndarray, labels: np.ndarray) -> dict[str, Any]:
    counts = metrics.confusion(shares, labels)
    classes = {
        "precision": metrics.precision(counts), "recall": metrics.recall(counts),
        "f1": metrics.f1(counts), "auc": metrics.auc_of_classes(shares, labels)
    }
    return {
        "confusion": counts.tolist(), "accuracy": metrics.accuracy(counts),
        "balanced_accuracy": metrics.macro(classes["recall"], counts), "top_2": metrics.top_k(
            shares, labels, 2), "top_3": metrics.top_k(shares, labels, 3),
        "log_loss": metrics.log_loss(shares, labels), "macro": {
            name: _known(metrics.macro(values, counts)) for name, values in classes.items()
        }, **{name: [_known(float(v)) for v in values] for name, values in classes.items()}
    }


def _of_amounts(told: np.ndarray, true: np.ndarray) -> dict[str, Any]:
    return {"rmse": metrics.rmse(told, true).tolist(), "mae": metrics.mae(told, true).tolist(),
            "median_error": metrics.median_error(told, true).tolist(),
            "r2": metrics.explained(told, true).tolist()}


def _known(value: float) -> float | None:
    """Return a number as JSON has it: what is not known is null."""
    return value if np.isfinite(value) else None
