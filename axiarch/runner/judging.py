"""Judge a trained run on its validation rows, by the weights of its best epoch."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import numpy as np

from axiarch.data.dataset import Dataset
from axiarch.engine import metrics
from axiarch.engine.checkpoint import load_checkpoint
from axiarch.engine.run import RunSpec
from axiarch.engine.stack import Stack
from axiarch.errors import TrainingError
from axiarch.runner.material import shape_of, training_data


def judge(dataset: Dataset, run: RunSpec, checkpoint: Path) -> dict[str, Any]:
    """Return every metric of a run: of classes the confusion and what follows from it, of amounts their errors.

    Raises
    ------
    TrainingError
        If there is no checkpoint, or it does not fit.
    """
    fold = run.streams.fold
    if not checkpoint.exists():
        raise TrainingError("the run has left no checkpoint yet", checkpoint.name, "train it for more epochs")
    shape, data = shape_of(run.recipe, dataset, fold), training_data(dataset, fold)
    state = load_checkpoint(checkpoint, run, shape, dataset.fingerprint)
    stack = Stack(shape, 1, data)
    stack.add(run, state)
    stack.look_at_best(0)
    told, true = stack.predict(0, data.validation_inputs), np.asarray(data.validation_targets)
    found: dict[str, Any] = {"epoch": state.watch.best_epoch, "rows": len(true)}
    if dataset.classes:
        return {**found, **_of_classes(told, true.astype(np.int64))}
    target = dataset.folds[fold].encoding.target
    return {**found, **_of_amounts(np.asarray(target.decode(told)), np.asarray(target.decode(true)))}


def _of_classes(shares: np.ndarray, labels: np.ndarray) -> dict[str, Any]:
    counts = metrics.confusion(shares, labels)
    classes = {"precision": metrics.precision(counts), "recall": metrics.recall(counts), "f1": metrics.f1(counts),
               "auc": metrics.auc_of_classes(shares, labels)}
    return {"confusion": counts.tolist(), "accuracy": metrics.accuracy(counts),
            "balanced_accuracy": metrics.macro(classes["recall"], counts),
            "top_2": metrics.top_k(shares, labels, 2), "top_3": metrics.top_k(shares, labels, 3),
            "log_loss": metrics.log_loss(shares, labels),
            "macro": {name: _known(metrics.macro(values, counts)) for name, values in classes.items()},
            **{name: [_known(float(v)) for v in values] for name, values in classes.items()}}


def _of_amounts(told: np.ndarray, true: np.ndarray) -> dict[str, Any]:
    return {"rmse": metrics.rmse(told, true).tolist(), "mae": metrics.mae(told, true).tolist(),
            "median_error": metrics.median_error(told, true).tolist(),
            "r2": metrics.explained(told, true).tolist()}


def _known(value: float) -> float | None:
    """Return a number as JSON has it: what is not known is null."""
    return value if np.isfinite(value) else None
