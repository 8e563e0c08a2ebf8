"""How predictions depend on one input column: the function that was learnt, on average over rows.

A column is given one value after another in every row, the others stay as they are, and the
predictions are averaged (partial dependence: Friedman 2001). With one input column that is the
learnt function itself. Where inputs go together in the data, some of these rows are ones that never
occur. Axes: R rows, D inputs, G places of a grid, K classes or amounts, M networks.
"""

from __future__ import annotations

import datetime
import math
from collections.abc import Callable, Sequence
from typing import Any

import numpy as np
from numpy.typing import NDArray

from axiarch.data.dataset import Dataset
from axiarch.data.encoding import Code, DateCode, NumberCode, OrderCode, PictureCode, TextCode
from axiarch.data.rules import RULES
from axiarch.data.table import frame_of
from axiarch.engine.predictor import Predictor

Floats = NDArray[np.float64]
#: Rows that are averaged over, places of a grid, columns that are drawn, and points of data beside
#: them.
ROWS, GRID, MOST, POINTS = 200, 25, 40, 300
#: Places of a coarse grid and rows, by which the columns that matter most are found among many.
_COARSE, _COARSE_ROWS = 4, 30
#: The side of the grid over two inputs.
_PLANE = 24
Predict = Callable[[NDArray[np.float32]], Floats]


def responses(dataset: Dataset, fold: int, networks: Sequence[Predictor],
              inputs: NDArray[np.float32], targets: NDArray[Any]) -> dict[str, Any]:
    """Return how the mean prediction of some networks depends on each input column, the strongest
    first.

    Parameters
    ----------
    inputs : (N, D) array
        The rows; a few hundred of them are averaged over.
    targets : (N,) or (N, T) array

    Returns
    -------
    dict
        ``columns``: for each ``column``, ``kind``, ``places`` (G,) (of dates, days from ``from``),
        ``predicted``, ``low`` and ``high`` over networks (G, K), ``truth`` (G, K) or None, and
        ``points``, the raw value and true amount of some rows, where it is the only column;
        ``rows`` averaged over; ``left_out``: columns that are not drawn; ``truth``: how far
        predictions are from the rule behind the data, where that is known; ``plane``: the function
        of two number columns, where there are no others.
    """
    encoding = dataset.folds[fold].encoding
    target = encoding.target
    some = np.unique(np.linspace(0, len(inputs) - 1, min(len(inputs), ROWS)).astype(int))
    base = np.asarray(inputs[some], np.float32)

    def predict(network: Predictor) -> Predict:
        return lambda x: network.predict(x) if target.classes else np.asarray(
            target.decode(network.predict(x)))

    own = [predict(network) for network in networks]
    truth = _Truth(dataset, fold)
    places, start = [], 0
    for code in encoding.codes:
        if not isinstance(code, PictureCode):
            places.append((code, start))
        start += len(code.inputs)
    chosen = places
    if len(places) > MOST:
        few = base[:: max(len(base) // _COARSE_ROWS, 1)]
        strength = [
            _strength(
                _along(code, at, few, own[:1],
                       *_grid(dataset, fold, code, at, _COARSE)[1:])[0]) for code, at in places
        ]
        chosen = [places[i] for i in np.argsort(-np.array(strength), kind="stable")[:MOST]]
    found = []
    for code, at in chosen:
        shown, values, encoded = _grid(dataset, fold, code, at, GRID)
        mean, low, high = _along(code, at, base, own, values, encoded)
        found.append({
            "column": code.name, "kind": _kind(code), "from": str(values[0])[:10], "places": shown,
            "predicted": mean.tolist(), "low": low.tolist(), "high": high.tolist(),
            "truth": truth.along(base, code.name, values),
            "points": _points(code, inputs, targets, target) if len(places) == 1 else []
        })
    found.sort(key=lambda each: -_strength(np.array(each["predicted"])))
    return {
        "columns": found, "rows": len(base), "left_out": len(places) - len(chosen),
        "truth": truth.distance(np.asarray(inputs, np.float32),
                                own), "plane": _plane(dataset, fold, own)
    }


def _strength(predicted: Floats) -> float:
    """Return by how much predictions (G, K) change along a grid at the most."""
    return float(np.ptp(predicted, axis=0).max()) if len(predicted) else 0.0


def _kind(code: Code) -> str:
    return "number" if isinstance(code,
                                  NumberCode) else "date" if isinstance(code, DateCode) else "text"


def _grid(dataset: Dataset, fold: int, code: Code, at: int, size: int
          ) -> tuple[list[Any], list[Any], NDArray[np.float32]]:
    """Return the places of a column as they are drawn, as raw values, and encoded (G, width)."""
    def encoded(values: list[Any], kind: str) -> NDArray[np.float32]:
        return code.encode(frame_of({code.name: values},
                                    {code.name: kind})[code.name]).astype(np.float32)

    if isinstance(code, TextCode | OrderCode):
        values: list[Any] = list(code.categories[:size])
        return values, values, encoded(values, "text")
    column = next(column for column in dataset.columns if column.name == code.name)
    if isinstance(code, DateCode):
        first, last = (datetime.datetime.fromisoformat(str(end))
                       for end in _dates(dataset, code.name))
        values = [first + (last - first) * i / max(size - 1, 1) for i in range(size)]
        drawn = [(value - first).total_seconds() / 86_400 for value in values]
        return drawn, values, encoded(values, "moment")
    assert isinstance(code, NumberCode)
    train = np.asarray(dataset.part("train", fold).inputs[:, at:at + len(code.inputs)], np.float64)
    known = code.decode(train)
    known = known[np.isfinite(known)]
    low, high = np.quantile(known,
                            (0.01, 0.99)) if len(known) else (column.low or 0.0, column.high or 1.0)
    distinct = np.unique(known)
    values = (distinct
              if len(distinct) <= size else np.linspace(float(low), float(high), size)).tolist()
    return values, values, encoded(values, "number")


def _dates(dataset: Dataset, name: str) -> tuple[Any, Any]:
    """Return the first and last date of a column among the examples that are kept of training
    rows.
    """
    series = dataset.examples[name].drop_nulls()
    return (series.min(), series.max()) if len(series) else ("2000-01-01", "2000-12-31")


def _along(code: Code, at: int, base: NDArray[np.float32], networks: Sequence[Predict],
           values: Sequence[Any], encoded: NDArray[np.float32]) -> tuple[Floats, Floats, Floats]:
    """Return the mean prediction at each place of a grid (G, K), and the lowest and highest of a
    network.
    """
    rows, width = len(base), encoded.shape[1]
    x = np.repeat(base[None], len(values), axis=0)
    x[:, :, at : at + width] = encoded[:, None]
    flat = x.reshape(len(values) * rows, -1)
    each = np.stack([network(flat).reshape(len(values), rows, -1).mean(1) for network in networks])
    return each.mean(0), each.min(0), each.max(0)


def _points(code: Code, inputs: NDArray[Any], targets: NDArray[Any],
            target: Any) -> list[list[float]]:
    """Return some rows as raw value and true amount, where both are numbers."""
    if target.classes or not isinstance(code, NumberCode):
        return []
    some = np.unique(np.linspace(0, len(inputs) - 1, min(len(inputs), POINTS)).astype(int))
    x = code.decode(np.asarray(inputs[some], np.float64))
    y = np.asarray(target.decode(np.asarray(targets)[some]))[:, 0]
    return [[float(a), float(b)] for a, b in zip(x, y, strict=True) if math.isfinite(a)]


def _plane(dataset: Dataset, fold: int, networks: Sequence[Predict]) -> dict[str, Any] | None:
    """Return the mean prediction over two number columns, where they are all there is."""
    encoding = dataset.folds[fold].encoding
    if len(encoding.codes) != 2 or not all(isinstance(code, NumberCode) for code in encoding.codes):
        return None
    (first, second), at = encoding.codes, len(encoding.codes[0].inputs)
    x, _, across = _grid(dataset, fold, first, 0, _PLANE)
    y, _, up = _grid(dataset, fold, second, at, _PLANE)
    cells = np.concatenate(
        [np.repeat(across[None], len(y), axis=0),
         np.repeat(up[:, None], len(x), axis=1)], axis=2)
    flat = cells.reshape(len(x) * len(y), -1).astype(np.float32)
    mean = np.mean([network(flat) for network in networks], axis=0)
    return {"columns": [first.name, second.name], "x": x, "y": y,
            "predicted": mean.reshape(len(y), len(x), -1).tolist()}


class _Truth:
    """What a predictor that knew the rule behind generated data would say."""

    def __init__(self, dataset: Dataset, fold: int) -> None:
        self._rule = RULES.get(dataset.rule)
        self._encoding = dataset.folds[fold].encoding
        self._classes = dataset.classes

    def of(self, inputs: NDArray[np.float32], column: str = "", value: Any = None) -> Floats | None:
        """Return what the rule says of rows (R, K), NaN where it cannot; None where there is no
        rule.
        """
        if self._rule is None:
            return None
        columns: dict[str, Any] = {}
        place = 0
        for code in self._encoding.codes:
            own = np.asarray(inputs[:, place : place + len(code.inputs)], np.float64)
            place += len(code.inputs)
            if not isinstance(code, DateCode | PictureCode):
                columns[code.name] = code.decode(own)
        if column in columns:
            columns[column] = [value] * len(inputs)
        try:
            found, names = self._rule(columns)
        except (KeyError,
                ValueError):  # a column of the rule was left out, or a category is missing
            return None
        return found[:, [names.index(name) for name in self._classes]] if names else found

    def along(self, base: NDArray[np.float32], column: str,
              values: Sequence[Any]) -> list[list[float]] | None:
        """Return the mean of the rule at each place of a grid (G, K), over rows that it can
        take.
        """
        found = []
        for value in values:
            each = self.of(base, column, value)
            if each is None or not np.isfinite(each).all(axis=1).any():
                return None
            found.append(each[np.isfinite(each).all(axis=1)].mean(0).tolist())
        return found

    def distance(self, inputs: NDArray[np.float32],
                 networks: Sequence[Predict]) -> dict[str, Any] | None:
        """Return how far predictions are from the rule itself: no noise in it.

        For classes the mean Kullback-Leibler divergence from the true probabilities in nats, for
        amounts the root mean squared difference; the mean over networks.
        """
        true = self.of(inputs)
        if true is None:
            return None
        known = np.isfinite(true).all(axis=1)
        if not known.any():
            return None
        away = []
        for network in networks:
            predicted = network(np.asarray(inputs)[known])
            if self._classes:
                tiny = np.finfo(np.float64).tiny
                ratio = np.log(np.maximum(true[known], tiny)) - np.log(np.maximum(predicted, tiny))
                away.append(float((true[known] * ratio).sum(1).mean()))
            else:
                away.append(float(np.sqrt(((predicted - true[known]) ** 2).mean())))
        return {"rows": int(known.sum()), "distance": float(np.mean(away))}


def residuals(dataset: Dataset, fold: int, inputs: NDArray[np.float32],
              away: Floats) -> list[dict[str, Any]]:
    """Return residuals of the first amount (N,) against every number column: some rows of each."""
    found: list[dict[str, Any]] = []
    place = 0
    some = np.unique(np.linspace(0, len(inputs) - 1, min(len(inputs), POINTS)).astype(int))
    for code in dataset.folds[fold].encoding.codes:
        width = len(code.inputs)
        if isinstance(code, NumberCode):
            x = code.decode(np.asarray(inputs[some, place : place + width], np.float64))
            found.append({
                "column": code.name, "points": [[float(a), float(b)]
                                                for a, b in zip(x, away[some], strict=True)
                                                if math.isfinite(a)]
            })
        place += width
    return found[:MOST]
