"""What a recipe predicts, drawn: confusion, metrics by class, calibration, mistakes; errors of
amounts.

Everything is drawn from a summary as :func:`axiarch.insight.predicted.summary` makes it.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any

import numpy as np
from numpy.typing import NDArray

from axiarch.text import number, share, shown
from axiarch.tui.plots.bars import along
from axiarch.tui.plots.chart import Chart, Level, Series, draw_chart
from axiarch.tui.plots.runs import Row, Rows, cut, fit, fit_name, right
from axiarch.tui.plots.scale import Scale, span_of

Floats = NDArray[np.float64]

#: Rows of a bin below which a point of a calibration curve says little.
FEW = 10
#: By how much more one mistake costs than the other, of those for which a threshold is shown.
_COSTS = (0.2, 1.0, 5.0)
#: Ways to read a confusion matrix.
READINGS = ("rows", "shares of the true class", "shares of the predicted class")
_METRICS = ("precision", "recall", "f1")
_ERRORS = (("rmse", "RMSE"), ("mae", "mean absolute error"),
           ("median_error", "median absolute error"), ("r2", "R²"))
_NAMES = {"precision": "precision", "recall": "recall", "f1": "F1"}


def confusion(found: Mapping[str, Any], names: Sequence[str], reading: int, width: int,
              height: int) -> Rows:
    """Return a confusion matrix as shaded cells: true classes down, predicted classes across.

    Parameters
    ----------
    reading : int
        Which of :data:`READINGS` the cells show; the shade is always the share of the true class.
    """
    table = np.asarray(found["confusion"], np.float64)
    by_true = table / np.maximum(table.sum(1, keepdims=True), 1)
    by_predicted = table / np.maximum(table.sum(0, keepdims=True), 1)
    label = min(max(max((len(shown(n)) for n in names), default=5), 5), max(width // 4, 6))
    cell = max(min((width - label - 1) // max(len(names), 1), 12), 6)
    across = min(len(names), max((width - label - 1) // cell, 1))
    down = min(len(names), max(height - 3, 1))
    runs = found["runs"]
    summed = f", summed over {runs} runs" if reading == 0 and runs > 1 else ""
    rows: Rows = [[(fit(f"true ↓  predicted →   {READINGS[reading]}{summed}", width), "faint")],
                  [(" " * (label + 1), "ink"),
                   *((right(fit_name(n, cell - 2).strip(), cell - 1) + " ", "faint")
                     for n in names[:across])]]
    for i in range(down):
        row: Row = [(fit_name(names[i], label) + " ", "ink")]
        for j in range(across):
            text = (number(table[i, j]) if reading == 0 else
                    share((by_true if reading == 1 else by_predicted)[i, j]))
            shade = round(85 * float(by_true[i, j]))
            row.append((right(text, cell - 1) + " ", f"~{0 if shade > 45 else 100}/{shade}"))
        rows.append(row)
    if across < len(names) or down < len(names):
        rows.append(
            [(f"{down} × {across} of {len(names)} classes fit here; e exports all", "faint")])
    rows += [[], *_most_confused(by_true, names, width)]
    return [cut(row, width) for row in rows[:height]]


def _most_confused(by_true: Floats, names: Sequence[str], width: int) -> Rows:
    """Return the classes most often predicted as another one, in words."""
    away = by_true.copy()
    np.fill_diagonal(away, 0.0)
    rows: Rows = []
    for place in np.argsort(-away, axis=None, kind="stable")[:3]:
        i, j = divmod(int(place), len(names))
        if away[i, j] > 0:
            rows.append([(share(away[i, j]), "warn"),
                         (fit(f" of {shown(names[i], 20)} is predicted as {shown(names[j], 20)}",
                              width - 7), "ink")])
    return rows


def by_class(found: Mapping[str, Any], names: Sequence[str], width: int, height: int) -> Rows:
    """Return precision, recall and F1 of each class as dots with their 95 % intervals on one
    axis from 0 to 1.
    """
    label = min(max(max((len(shown(n)) for n in names), default=5), 5), max(width // 5, 6))
    track = max(width - label - 37, 8)
    rows: Rows = [[(fit(f"{'':{label}} {'':10} {'0':<{max(track - 5, 1)}}100 %    %  95 % interval",
                        width), "faint")]]
    fitting = max((height - 2) // 3, 1)
    for i, name in enumerate(names[:fitting]):
        for metric in _METRICS:
            value, low, high = (100 * v for v in found[metric][i])
            own = fit_name(name, label) if metric == "precision" else " " * label
            rows.append([(own + " ", "ink"), (f"{_NAMES[metric]:10} ", "faint"),
                         *interval(value, low, high, track),
                         (f" {value:6.1f}  [{low:.1f} to {high:.1f}]", "ink")])
    if fitting < len(names):
        rows.append([(f"{len(names) - fitting} more classes; e exports all", "faint")])
    return [cut(row, width) for row in rows]


def interval(value: float, low: float, high: float, width: int) -> Row:
    """Return a dot at `value` on its interval, all in percent, on a track of `width` cells."""
    first, last, place = (min(max(int(v / 100 * width), 0), width - 1) for v in (low, high, value))
    cells = ["─" if first <= i <= last else " " for i in range(width)]
    return [("".join(cells[:place]), "second"), ("●", "lead"),
            ("".join(cells[place + 1:]), "second")]


def calibration(found: Mapping[str, Any], width: int, height: int) -> Rows:
    """Return how often predictions are right against how sure they are; on the diagonal they are
    calibrated.
    """
    bins = found["calibration"]
    ends = np.array([0.0, 1.0])
    marks = [(sure, hits, "●" if rows >= FEW else "○", "lead" if rows >= FEW else "faint")
             for sure, hits, rows in bins]
    points = np.array([[sure, right_] for sure, right_, _ in bins])
    low = max(min(float(points.min()) - 0.05, 0.95), 0.0) if len(points) else 0.0
    scale = Scale(low, 1.0)
    chart = Chart([Series(ends, ends, "faint")], scale, scale, "predicted probability",
                  "share that is right", marks=marks)
    return [
        *draw_chart(chart, width, height - 1),
        [(fit(f"{'':10}○ fewer than {FEW} rows", width), "faint")]
    ]


def roc(found: Mapping[str, Any], width: int, height: int) -> Rows:
    """Return the ROC curve of the second class."""
    points = np.array(found["roc"]["points"])
    ends = np.array([0.0, 1.0])
    area = found["roc"]["area"]
    title = "true positives" + (f"; area {area:.3f}" if area is not None else "")
    return draw_chart(
        Chart([Series(ends, ends, "faint"),
               Series(points[:, 0], points[:, 1], "lead", 1)], Scale(0.0, 1.0), Scale(0.0, 1.0),
              "false positives", title), width, height)


def precision_recall(found: Mapping[str, Any], name: str, width: int, height: int) -> Rows:
    """Return precision against recall of the second class, and below it thresholds by cost."""
    points = np.array(found["roc"]["precision_recall"])
    costs: Rows = [[(fit(
        f"a missed {shown(name, 20)} costs {number(ratio)} x a false alarm: from {level:.2f} on, "
        f"{number(missed, 3)} missed, {number(alarms, 3)} alarms", width), "faint")]
                   for ratio, level, missed, alarms in found["thresholds"]
                   if ratio in _COSTS]
    chart = Chart([Series(points[:, 0], points[:, 1], "lead", 1)], Scale(0.0, 1.0), Scale(0.0, 1.0),
                  "recall", f"precision of {shown(name, 20)}")
    return [*draw_chart(chart, width, height - len(costs)), *costs]


def mistakes(found: Mapping[str, Any], names: Sequence[str], part: str, width: int,
             height: int) -> Rows:
    """Return the rows predicted wrong, the most confident first, with the probability of every
    class.
    """
    listed = found["mistakes"]
    if not listed:
        return [[(f"every {part} row is predicted right", "faint")]]
    folds = len({m["fold"] for m in listed}) > 1
    head = 12 if folds else 7
    cell = 12
    across = min(len(names), max((width - head) // cell, 1))
    rows: Rows = [[(fit(f"{part} rows predicted wrong, the most confident first: ",
                        width), "faint")],
                  [(fit("row", head), "faint"),
                   *((fit_name(n, cell - 2) + "  ", "faint") for n in names[:across])]]
    for m in listed[: max(height - 2, 1)]:
        place = f"{m['row'] + 1}" + (f" f{m['fold'] + 1}" if folds else "")
        row: Row = [(fit(place, head), "faint")]
        for c in range(across):
            value = m["probabilities"][c]
            true, told = c == m["true"], c == m["predicted"]
            role = "glow*" if true else "warn*" if told else "faint"
            mark = "✓" if true else "✗" if told else " "
            row.append(
                (f"{along(value if value >= 0.005 else 0.0, 1, 4)} {mark}{value:.2f}  ", role))
        rows.append(row)
    return [cut(row, width) for row in rows]


# -- amounts ---------------------------------------------------------------------------------------


def scatter(pairs: Sequence[Sequence[float]], name: str, width: int, height: int) -> Rows:
    """Return predicted against true amounts; on the diagonal they are equal."""
    points = np.array(pairs)
    scale = span_of(points)
    ends = np.array([scale.low, scale.high])
    return draw_chart(
        Chart(
            [Series(ends, ends, "faint"),
             Series(points[:, 0], points[:, 1], "lead", 1, dots=True)], scale, scale,
            f"true {shown(name, 30)}", f"predicted {shown(name, 30)}"), width, height)


def in_order(pairs: Sequence[Sequence[float]], name: str, width: int, height: int) -> Rows:
    """Return rows in the order of their true amounts, with the predictions laid over."""
    points = np.array(pairs)
    places = np.linspace(0, 100, len(points))
    return draw_chart(Chart([Series(places, points[:, 1], "lead", 0, dots=True),
                             Series(places, points[:, 0], "second", 1)],
                            Scale(0.0, 100.0), span_of(points), "rows by true amount, %",
                            f"{shown(name, 30)}: true as a line, predicted as dots"), width, height)


def residuals(pairs: Sequence[Sequence[float]], name: str, width: int, height: int) -> Rows:
    """Return the residual, predicted minus true, against the prediction."""
    points = np.array(pairs)
    away = points[:, 1] - points[:, 0]
    return draw_chart(
        Chart([Series(points[:, 1], away, "warn", 1, dots=True)], span_of(points[:, 1]),
              span_of(away, 0.0), f"predicted {shown(name, 30)}", "residual: predicted minus true",
              [Level(0.0, "0")]), width, height)


def furthest(found: Mapping[str, Any], names: Sequence[str], part: str, width: int,
             height: int) -> Rows:
    """Return the rows predicted worst."""
    rows: Rows = [[(fit(f"{part} rows predicted worst:", width), "faint")]]
    for m in found["furthest"][: max(height - 1, 1)]:
        words = "; ".join(
            f"{shown(name, 20)} true {number(true)}, predicted {number(told)}"
            for name, true, told in zip(names, m["true"], m["predicted"], strict=True))
        rows.append([(fit(f"{m['row'] + 1}", 7), "faint"), (fit(words, max(width - 7, 1)), "ink")])
    return rows


def errors(found: Mapping[str, Any], names: Sequence[str], width: int) -> Rows:
    """Return the metrics of amounts with their 95 % intervals."""
    rows: Rows = []
    for i, name in enumerate(names):
        for metric, words in _ERRORS:
            value, low, high = found[metric][i]
            own = fit_name(name, 16) if metric == "rmse" else " " * 16
            rows.append([(own + " ", "ink"), (f"{words:22}", "faint"),
                         (right(number(value), 9), "lead"),
                         (f"  [{number(low)} to {number(high)}]", "ink")])
    return [cut(row, width) for row in rows]
