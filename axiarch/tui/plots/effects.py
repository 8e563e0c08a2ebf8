"""Effects: for each knob its share of the variance, and the loss by its values with the recipes;
for two knobs the loss by the values of both.
"""

from __future__ import annotations

import numpy as np

from axiarch.recipes.conditions import Value
from axiarch.recipes.fields import FIELDS
from axiarch.recipes.recipe import short
from axiarch.text import loss, share, shown
from axiarch.tui.plots.chart import MARGIN, Chart, Series, draw_chart
from axiarch.tui.plots.runs import Row, Rows, fit, right, row_width
from axiarch.tui.plots.scale import Scale
from axiarch.workflows.explaining import Axis, KnobEffects

#: Lines of one knob at the least, and cells of one column.
_LINES, _COLUMN = 9, 58
#: Cells of a bar of shares.
_BAR = 14
#: Maps of two knobs that are drawn at the most, those whose knobs explain most together.
_MAPS = 6


def draw_effects(found: KnobEffects, width: int, height: int, page: int = 0) -> Rows:
    """Return a page: panels of knobs, those that matter most first, as many as there is room for;
    then maps of two knobs.
    """
    columns = max(width // _COLUMN, 1)
    height -= 1  # of the line that says how to turn the page
    lines = max(min(height // max(-(-len(found.order) // columns), 1), 14), _LINES)
    per_page = columns * max(height // lines, 1)
    of_knobs = -(-len(found.order) // per_page)
    maps = _maps(found)
    across = min(columns, 2)
    of_maps = -(-len(maps) // across)
    pages = of_knobs + of_maps
    page %= pages
    wide = width // columns - 2
    if page < of_knobs:
        scale = _scale(found)
        panels = [_panel(found, k, scale, wide, lines)
                  for k in found.order[page * per_page:(page + 1) * per_page]]
        rows = _side_by_side(panels, columns, wide, lines)
    else:
        some = maps[(page - of_knobs) * across:][:across]
        wide = width // across - 2
        rows = _side_by_side([_map(found, *pair, wide, height) for pair in some], across, wide,
                             height)
    what = "maps of two knobs" if page >= of_knobs else "knobs"
    note = f" page {page + 1} of {pages}: {what}; space turns the page" if pages > 1 else ""
    return [*rows[:height], [(note, "faint")]]


def _scale(found: KnobEffects) -> Scale:
    """Return the axis of losses that all panels share."""
    low = min(float(curve[1].min()) for curve in found.found.curves)
    high = max(float(curve[2].max()) for curve in found.found.curves)
    best = min(point.loss for axis in found.axes for point in axis.points)
    return Scale(min(low, best), max(high, low + 1e-9))


def _side_by_side(panels: list[Rows], columns: int, wide: int, lines: int) -> Rows:
    rows: Rows = []
    for start in range(0, len(panels), columns):
        beside = panels[start:start + columns]
        for line in range(lines):
            row: Row = []
            for panel in beside:
                own = panel[line] if line < len(panel) else []
                row += [*own, (" " * max(wide + 2 - row_width(own), 0), "ink")]
            rows.append(row)
    return rows


def _maps(found: KnobEffects) -> list[tuple[int, int]]:
    """Return the pairs of knobs that explain most, each alone and both together."""
    shares, pairs = found.found.shares, found.found.pairs

    def explained(pair: tuple[int, int]) -> float:
        return shares[pair[0]].value + shares[pair[1]].value + pairs[pair].value

    return sorted(found.found.maps, key=lambda pair: -explained(pair))[:_MAPS]


def _map(found: KnobEffects, a: int, b: int, width: int, height: int) -> Rows:
    """Return the loss by two knobs as shades, the lower the brighter, and the recipes that may be
    the best as marks.
    """
    across, up = (found.axes[a], found.axes[b]) if a in found.order[:1] or len(
        found.axes[a].values) >= len(found.axes[b].values) else (found.axes[b], found.axes[a])
    losses = found.found.maps[a, b]
    losses = losses if across is found.axes[a] else losses.T
    cols, rows = max(width - MARGIN - 2, 8), max(height - 6, 4)
    low, high = float(losses.min()), float(losses.max())
    shade = 100 * (high - losses) / ((high - low) or 1.0)
    at_x = np.minimum(np.arange(cols) * len(across.values) // cols, len(across.values) - 1)
    at_y = np.minimum(np.arange(2 * rows) * len(up.values) // (2 * rows), len(up.values) - 1)[::-1]
    pair = found.found.pairs[a, b]
    drawn: Rows = [[(" " + fit(f"{_label(up)} ↑ by {_label(across)} →", width - 2), "ink*")],
                   [(" " + fit(f"bright {loss(low)}, dark {loss(high)}; together "
                               f"{share(pair.value)} more ({share(pair.low)} to "
                               f"{share(pair.high)})", width - 2), "faint")]]
    best = np.unravel_index(int(losses.argmin()), losses.shape)
    mark = (int(np.median(np.flatnonzero(at_x == best[0]))),
            int(np.median(np.flatnonzero(at_y == best[1]))) // 2)
    for line in range(rows):
        top, bottom = at_y[2 * line], at_y[2 * line + 1]
        label = _tick(up.values[top]) if line in (0, rows - 1) else ""
        row: Row = [(right(label, MARGIN - 1) + " ", "faint")]
        for column in range(cols):
            x = at_x[column]
            one, other = int(shade[x, top]), int(shade[x, bottom])
            if (column, line) == mark:
                row.append(("◆", "glow*"))
            else:
                row.append(("▀", f"~{one}/{other}"))
        drawn.append(row)
    ends = _tick(across.values[0]), _tick(across.values[-1])
    gap = max(cols - len(ends[0]) - len(ends[1]), 1)
    drawn.append([(" " * MARGIN + ends[0] + " " * gap + ends[1], "faint")])
    drawn.append([(" " * MARGIN, "ink"), ("◆ ", "glow*"),
                  (f"lowest mean loss: {_label(across)} {_tick(across.values[best[0]])}, "
                   f"{_label(up)} {_tick(up.values[best[1]])}", "faint")])
    return drawn


def _label(axis: Axis) -> str:
    return shown(FIELDS[axis.name].label)


def _tick(value: Value) -> str:
    if isinstance(value, float):
        value = float(f"{value:.2g}")
    return fit(short(value), MARGIN - 1).strip()


def _panel(found: KnobEffects, k: int, scale: Scale, width: int, height: int) -> Rows:
    axis, own = found.axes[k], found.found.shares[k]
    full = round(own.value * _BAR)
    head: Row = [
        (" " + fit(shown(FIELDS[axis.name].label), 20), "ink*"),
        ("█" * full, "lead"), ("░" * max(round(own.high * _BAR) - full, 0), "faint"),
        (f" {share(own.value)}", "ink"), (f" ({share(own.low)} to {share(own.high)})", "faint"),
    ]
    edge: Row = []
    if axis.edge:
        edge = [(f" ▸ best at the {axis.edge} end: W widens the range", "warn")]
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
