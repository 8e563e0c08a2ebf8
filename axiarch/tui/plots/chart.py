"""A chart of curves: round ticks, units, level lines with their names, a cursor that reads
values.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field

import numpy as np
from numpy.typing import NDArray

from axiarch.tui.plots.canvas import Canvas
from axiarch.tui.plots.runs import Row, Rows, cut, right
from axiarch.tui.plots.scale import Scale, span_of

Floats = NDArray[np.float64]

#: Cells left of the plot for tick labels.
MARGIN = 9


@dataclass(frozen=True)
class Series:
    """One curve: places (M,), its role, and its rank where curves cross.

    Attributes
    ----------
    end : str
        A mark at the last point, or nothing.
    dots : bool
        Whether the points stand alone and are not joined.
    """

    x: Floats
    y: Floats
    role: str = "second"
    rank: int = 0
    end: str = ""
    dots: bool = False


@dataclass(frozen=True)
class Level:
    """A named level line across the chart."""

    y: float
    name: str
    role: str = "faint"


@dataclass(frozen=True)
class Chart:
    """What a chart shows.

    Attributes
    ----------
    series : sequence of Series
    x, y : Scale
    x_name, y_name : str
        With units.
    levels : sequence of Level
    cursor : float or None
        Where the upright cursor line stands, in x.
    marks : sequence of (float, float, str, str)
        Single marks: place in x and y, symbol, role.
    """

    series: Sequence[Series]
    x: Scale
    y: Scale
    x_name: str
    y_name: str
    levels: Sequence[Level] = field(default_factory=tuple)
    cursor: float | None = None
    ticks_below: bool = True
    marks: Sequence[tuple[float, float, str, str]] = field(default_factory=tuple)


def draw_chart(chart: Chart, width: int, height: int) -> Rows:
    """Return a chart in `width` by `height` cells."""
    rows_below = 2 if chart.ticks_below else 0
    cols, rows = width - MARGIN - 1, height - rows_below - 1
    if cols < 8 or rows < 2:
        return [[("too small to draw", "faint")]]
    canvas = Canvas(cols, rows)
    for series in chart.series:
        join = canvas.points if series.dots else canvas.line
        join(chart.x.at(series.x), chart.y.at(series.y), series.role, series.rank)
    if chart.marks:
        across = chart.x.at(np.array([mark[0] for mark in chart.marks])).tolist()
        up = chart.y.at(np.array([mark[1] for mark in chart.marks])).tolist()
        for x, y, (_, _, symbol, role) in zip(across, up, chart.marks, strict=True):
            canvas.mark(x, y, symbol, role)
    for series in chart.series:
        if series.end and len(series.x):
            canvas.mark(float(chart.x.at(series.x[-1])), float(chart.y.at(series.y[-1])),
                        series.end, series.role)
    if chart.cursor is not None:
        canvas.upright(float(chart.x.at(chart.cursor)), "│", "ink")
    for level in chart.levels:
        canvas.level(float(chart.y.at(level.y)), "┄", level.role)
    body = canvas.drawn()
    labels = _y_labels(chart.y, rows, chart.levels)
    out: Rows = [_names(chart, width)]
    out += [[(right(labels.get(i, ("", ""))[0], MARGIN - 1), labels.get(i, ("", "faint"))[1]),
             (" ", "ink"), ("┤" if i in labels else "│", "grid"), *row]
            for i, row in enumerate(body)]
    if chart.ticks_below:
        out += _x_axis(chart.x, cols)
    return [cut(row, width) for row in out]


def _y_labels(scale: Scale, rows: int, levels: Sequence[Level]) -> dict[int, tuple[str, str]]:
    """Return the text and role beside each row that has one: names of levels, the first of those
    that share a row, then ticks that leave them room.
    """
    labels: dict[int, tuple[str, str]] = {}
    for level in levels:
        place = float(scale.at(level.y))
        if 0 <= place <= 1:
            labels.setdefault(min(int((1 - place) * rows), rows - 1), (level.name, level.role))
    for tick, label in scale.labels(max(rows // 3 if rows > 9 else rows // 2, 2)):
        place = float(scale.at(tick))
        if 0 <= place <= 1:
            labels.setdefault(min(int((1 - place) * rows), rows - 1), (label, "faint"))
    return labels


def _names(chart: Chart, width: int) -> Row:
    """Return the row above a plot: the name of the upright axis, and at the far end that of the
    other.
    """
    row: Row = [(f" {chart.y_name}", "faint")]
    room = width - len(chart.y_name) - 3
    if chart.ticks_below and chart.x_name and room > len(chart.x_name) + 3:
        row.append((right(f"{chart.x_name} →", room), "faint"))
    return row


def _x_axis(scale: Scale, cols: int) -> Rows:
    """Return the line under a plot, with ticks, and the row of their labels."""
    line = ["─"] * cols
    text = [" "] * cols
    free = 0
    for tick, label in scale.labels(max(cols // 10, 2)):
        place = float(scale.at(tick))
        column = min(int(place * cols), cols - 1)
        start = min(max(column - len(label) // 2, 0), cols - len(label))
        if not 0 <= place <= 1 or start < free or start + len(label) > cols:
            continue
        line[column] = "┴"
        text[start : start + len(label)] = label
        free = start + len(label) + 2
    pad = " " * MARGIN
    return [[(pad + "└" + "".join(line), "grid")], [(pad + " " + "".join(text).rstrip(), "faint")]]


#: A loss that is so many times the baseline is no longer drawn for its own sake.
_MOST_BASELINES = 4.0


def loss_scale(values: Floats,
               baseline: float,
               log: bool = False,
               best: float | None = None,
               lows: Sequence[float] = ()) -> Scale:
    """Return an axis for losses: from the lowest, or the `best` there can be, to a little above
    the baseline, or above the lowest where that is higher.

    The lowest of each curve, `lows`, are on it too, up to a few times the baseline.
    """
    finite = values[np.isfinite(values)]
    if finite.size == 0:
        return Scale(0.0, baseline * 1.1)
    seen = [low for low in lows if low < _MOST_BASELINES * baseline]
    top = min(float(finite.max()), max(baseline * 1.12, 1.15 * max([float(finite.min()), *seen])))
    low = float(finite.min()) if best is None else min(float(finite.min()), best)
    if top <= low:
        top = low * 1.1 + 1e-9
    return span_of(np.array([low, top]), log=log)
