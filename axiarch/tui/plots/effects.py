"""Effects: for each knob its share of the variance, and the loss by its values with the recipes."""

from __future__ import annotations

import numpy as np

from axiarch.recipes.fields import FIELDS
from axiarch.text import loss, share, shown
from axiarch.tui.plots.chart import Chart, Series, draw_chart
from axiarch.tui.plots.runs import Row, Rows, fit, right, row_width
from axiarch.tui.plots.scale import Scale
from axiarch.workflows.explaining import Axis, KnobEffects

#: Lines of one knob at the least, and cells of one column.
_LINES, _COLUMN = 9, 58
#: Cells of a bar of shares.
_BAR = 14


def draw_effects(found: KnobEffects, width: int, height: int) -> Rows:
    """Return one panel a knob, those that matter most first, as many as there is room for."""
    columns = max(width // _COLUMN, 1)
    lines = max(min(height // max(-(-len(found.order) // columns), 1), 14), _LINES)
    wide = width // columns - 2
    low = min(float(curve[1].min()) for curve in found.found.curves)
    high = max(float(curve[2].max()) for curve in found.found.curves)
    best = min(point.loss for axis in found.axes for point in axis.points)
    scale = Scale(min(low, best), max(high, low + 1e-9))
    rows: Rows = []
    shown_ = found.order[: columns * max(height // lines, 1)]
    for start in range(0, len(shown_), columns):
        panels = [_panel(found, k, scale, wide, lines) for k in shown_[start:start + columns]]
        for line in range(lines):
            row: Row = []
            for panel in panels:
                own = panel[line] if line < len(panel) else []
                row += [*own, (" " * max(wide + 2 - row_width(own), 0), "ink")]
            rows.append(row)
    left = len(found.order) - len(shown_)
    if left:
        rows[-1] = [(f" {left} more that matter less: axiarch effects", "faint")]
    return rows


def _panel(found: KnobEffects, k: int, scale: Scale, width: int, height: int) -> Rows:
    axis, own = found.axes[k], found.found.shares[k]
    full = round(own.value * _BAR)
    head: Row = [
        (" " + fit(shown(FIELDS[axis.name].label), 20), "ink*"),
        ("█" * full, "lead"), ("░" * max(round(own.high * _BAR) - full, 0), "faint"),
        (f" {share(own.value)}", "ink"), (f" ({share(own.low)} to {share(own.high)})", "faint"),
    ]
    edge: Row = [(f" ▸ best at the {axis.edge} end: widen the range", "warn")] if axis.edge else []
    body = height - 2 - bool(edge)
    words = any(isinstance(value, str) for value in axis.values)
    drawn = _words(axis, found, k, scale, width, body) if words else _curve(
        axis, found, k, scale, width, body)
    return [head, *([edge] if edge else []), *drawn, []]


def _curve(axis: Axis, found: KnobEffects, k: int, scale: Scale, width: int, height: int) -> Rows:
    """Return the mean loss by a knob's values with its band, and the recipes as points."""
    x = np.array([float(value) for value in axis.values])
    low, high = float(x[0]), float(x[-1])
    across = Scale(low, high if high > low else low + 1, axis.log and 0 < low < high)
    mean, below, above = found.found.curves[k]
    series = [Series(x, below, "faint"), Series(x, above, "faint"), Series(x, mean, "lead", 2)]
    for whole, role in ((True, "second"), (False, "ghost")):
        points = [p for p in axis.points if p.cell >= 0 and p.whole == whole]
        if points:
            series.append(Series(x[[p.cell for p in points]], np.array([p.loss for p in points]),
                                 role, 1, dots=True))
    chart = Chart(series, across, scale, FIELDS[axis.name].unit, "")
    return draw_chart(chart, width, height)


def _words(axis: Axis, found: KnobEffects, k: int, scale: Scale, width: int, height: int) -> Rows:
    """Return the mean loss of each word with its interval."""
    mean, below, above = found.found.curves[k]
    track, rows = max(width - 28, 8), []
    for i in np.argsort(mean)[:height].tolist():
        cells: list[tuple[str, str]] = [(" ", "ink")] * track
        spots = [min(max(int(float(scale.at(v)) * track), 0), track - 1)
                 for v in (below[i], mean[i], above[i])]
        for column in range(spots[0], spots[2] + 1):
            cells[column] = ("─", "faint")
        cells[spots[1]] = ("●", "lead")
        rows.append([("  " + fit(shown(str(axis.values[i])), 14), "ink"),
                     (right(loss(float(mean[i])), 8), "ink"), ("  ", "ink"), *cells])
    return rows
