"""Predict a file with a kept model: read as training rows were, in pieces, whatever its size."""

from __future__ import annotations

import time
from collections.abc import Callable
from pathlib import Path
from typing import Any

import numpy as np

from axiarch.data.checksums import row_hashes
from axiarch.data.newrows import NewRows, open_rows
from axiarch.data.predicted import ENDINGS, PredictionWriter
from axiarch.errors import not_written
from axiarch.export.models import Model
from axiarch.export.tables import check_place
from axiarch.files import draft_of, scratch_folder
from axiarch.text import count, shown

Tell = Callable[[str, float], None]


def predict_file(model: Model, source: Path, place: Path, force: bool = False,
                 on_progress: Tell = lambda step, done: None) -> dict[str, Any]:
    """Write the predictions for a file, and return what was found.

    Returns
    -------
    dict
        ``rows``, ``remarks`` (sentences), ``seconds``, and where the file holds the target:
        ``scored`` rows and ``metrics`` by name. Rows that the model was trained on, and sealed test
        rows, are predicted and not scored: the first would flatter it, the second are opened on the
        record only.

    Raises
    ------
    DataError
        If the file cannot be read or does not fit the model.
    InputError, WorkspaceReadOnly
        If the predictions cannot be written; nothing is left behind then.
    """
    check_place(place, ENDINGS, force)
    started = time.perf_counter()
    try:
        with scratch_folder(place.absolute().parent,
                            "predict") as scratch, draft_of(place) as draft:
            rows, remarks = open_rows(source, model.data, 0, scratch / "read", on_progress)
            writer = PredictionWriter(draft, scratch / "pieces", model.data.target)
            scores = _Scores(model)
            for piece in rows:
                predicted = model.predictor.predict(piece.inputs)
                writer.add(piece.carried, predicted)
                if piece.targets is not None:
                    scores.add(piece, predicted)
                on_progress("predicting", piece.done)
            writer.finish()
    except OSError as error:
        raise not_written("the predictions cannot be written", shown(place), error,
                          "choose another place; nothing was changed") from None
    lines = [*remarks.lines(model.data, model.data.encoding), *scores.remarks()]
    return {
        "rows": remarks.rows, "file": str(place), "remarks": lines,
        "seconds": time.perf_counter() - started, **scores.found()
    }


class _Scores:
    """Sums of errors over all rows whose target is known; metrics need no row to be kept."""

    def __init__(self, model: Model) -> None:
        self._model, self._target = model, model.data.target
        self._rows = self.trained = self.sealed = 0
        self._sums = np.zeros(2 * max(len(self._target.columns), 1))

    def add(self, piece: NewRows, predicted: np.ndarray) -> None:
        """Count some rows that the model has never seen."""
        hashes = row_hashes(piece.inputs)
        trained = piece.known & np.isin(hashes, self._model.trained)
        sealed = piece.known & np.isin(hashes, self._model.sealed) & ~trained
        self.trained += int(trained.sum())
        self.sealed += int(sealed.sum())
        own = piece.known & ~trained & ~sealed
        self._sum(predicted[own], np.asarray(piece.targets)[own])

    def remarks(self) -> list[str]:
        """Return what was left out, as sentences."""
        found = []
        if self.trained:
            found.append(
                f"{count(self.trained, 'row')} with the inputs of a training row: predicted, "
                "not scored")
        if self.sealed:
            found.append(
                f"{count(self.sealed, 'row')} with the inputs of a sealed test row: predicted, "
                "not scored; open the seal to score them")
        return found

    def _sum(self, predicted: np.ndarray, targets: np.ndarray) -> None:
        if not len(targets):
            return
        self._rows += len(targets)
        if self._target.classes:
            own = predicted[np.arange(len(targets)), targets]
            self._sums[0] += float((predicted.argmax(1) == targets).sum())
            self._sums[1] += float(-np.log(np.maximum(own, np.finfo(np.float64).tiny)).sum())
            return
        away = np.asarray(self._target.decode(predicted)) - np.asarray(self._target.decode(targets))
        amounts = len(self._target.columns)
        self._sums[:amounts] += (away**2).sum(0)
        self._sums[amounts:] += np.abs(away).sum(0)

    def found(self) -> dict[str, Any]:
        """Return the metrics, if a row had its target."""
        if not self._rows:
            return {"scored": 0, "metrics": {}}
        means = self._sums / self._rows
        if self._target.classes:
            return {"scored": self._rows, "metrics": {"accuracy": float(means[0]),
                                                      "log loss": float(means[1])}}
        amounts = len(self._target.columns)
        named = {}
        for i, name in enumerate(self._target.columns):
            named[f"RMSE of {name}"] = float(np.sqrt(means[i]))
            named[f"mean absolute error of {name}"] = float(means[amounts + i])
        return {"scored": self._rows, "metrics": named}
