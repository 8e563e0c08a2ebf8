"""How predictions depend on the inputs, drawn: one small chart a column, residuals, and where they
are worse.

Everything is drawn from what :mod:`axiarch.export.responses` and :mod:`axiarch.insight.groups` have
found.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from typing import Any

import numpy as np
from numpy.typing import NDArray

from axiarch.text import count, number, share, shown
from axiarch.tui.plots.chart import Chart, Level, Series, draw_chart
from axiarch.tui.plots.runs import Row, Rows, beside, cut, fit, fit_name, right, wrap
from axiarch.tui.plots.scale import Scale, span_of

Floats = NDArray[np.float64]

#: The looks of classes; each has a letter too.
_ROLES = ("lead", "train", "second", "warn", "glow", "ink")
#: Classes that are drawn in one small chart, and cells that a small chart wants.
_MOST_CLASSES = 6
_CELLS, _LINES = 44, 10
Draw = Callable[[int, int], Rows]


def tiles(draws: Sequence[Draw], width: int, height: int) -> Rows:
    """Return as many small drawings as fit, side by side and one above the other."""
    if not draws:
        return [[("there is nothing to draw here", "faint")]]
    across = max(min(width // _CELLS, len(draws)), 1)
    down = max(height // _LINES, 1)
    wide, tall = (width - 2 * (across - 1)) // across, height // min(down, -(-len(draws) // across))
    rows: Rows = []
    for start in range(0, min(len(draws), across * down), across):
        line: Rows = []
        for i, draw in enumerate(draws[start : start + across]):
            drawn = draw(wide, tall)[:tall]
            line = beside(line, drawn, i * (wide + 2) - 2) if i else drawn
        rows += [*line, *[[]] * (tall - len(line))]
    return rows[:height]


def fitting(width: int, height: int) -> int:
    """Return how many small drawings fit."""
    return max(width // _CELLS, 1) * max(height // _LINES, 1)


def dependence(found: Mapping[str, Any], names: Sequence[str], classes: bool, target: int,
               width: int, height: int, page: int) -> Rows:
    """Return small charts of the mean prediction along each input column, the strongest first.

    Parameters
    ----------
    target : int
        Which amount is drawn.
    page : int
        From 0: of the small charts that do not all fit at once.
    """
    known = found["responses"]
    columns = known["columns"]
    head = _heading(known, names, classes, target, width)
    if known["plane"] is not None and page == 0 and not classes:
        room = height - len(head)
        plane = _plane(known["plane"], names[target], target, width // 2 - 1, room)
        side = tiles([_one(c, names, classes, target) for c in columns], width - width // 2 - 1,
                     room)
        return [*head, *beside(plane, side, width // 2 - 1)]
    room = fitting(width, height - len(head))
    first = (page * room) % max(len(columns), 1) // room * room
    return [
        *head, *tiles([_one(c, names, classes, target)
                       for c in columns[first:first + room]], width, height - len(head))
    ]


def _heading(known: Mapping[str, Any], names: Sequence[str], classes: bool, target: int,
             width: int) -> Rows:
    many = len(known["columns"]) + known["left_out"]
    what = "probability of each class" if classes else f"predicted {shown(names[target], 30)}"
    left = f" {count(known['left_out'], 'column')} that matter less are not drawn." if known[
        "left_out"] else ""
    text = (
        f"Mean {what} along each of {count(many, 'input column')}, the others as in "
        f"{count(known['rows'], 'row')}, the strongest first.{left}")
    truth = known["truth"]
    if truth is not None:
        unit = "nats (Kullback-Leibler)" if classes else "RMSE"
        text += (f" Distance from the true rule, without its noise: {number(truth['distance'])} "
                 f"{unit}.")
    rows = wrap(text, width, "faint")
    legend: Row = []
    if classes:
        for i, name in enumerate(names[:26]):
            legend.append((f"{_letter(i)} {fit_name(name, 14).strip()}  ", _role(i)))
        legend.append(("dots: the true rule", "faint") if truth is not None else ("", "faint"))
    else:
        many = len(known["columns"][0]
                   ["low"]) and known["columns"][0]["low"] != known["columns"][0]["high"]
        legend = [("predicted  ", "lead"), ("lowest and highest run  " if many else "", "ghost"),
                  ("rows  " if known["columns"][0]["points"] else "", "faint"),
                  ("T true rule" if truth is not None else "", "second")]
    return [*rows, cut(legend, width)]


def _letter(i: int) -> str:
    return chr(ord("A") + i) if i < 26 else "·"


def _role(i: int) -> str:
    return _ROLES[i % len(_ROLES)]


def _one(column: Mapping[str, Any], names: Sequence[str], classes: bool, target: int) -> Draw:
    """Return what draws one column."""
    if column["kind"] == "text":
        return lambda width, height: _categories(column, names, classes, target, width, height)
    if classes:
        return lambda width, height: _of_classes(column, width, height)
    return lambda width, height: _of_amount(column, target, width, height)


def _title(column: Mapping[str, Any], width: int) -> str:
    days = f", days from {column['from']}" if column["kind"] == "date" else ""
    return shown(column["column"], max(width - 12 - len(days), 4)) + days


def _of_classes(column: Mapping[str, Any], width: int, height: int) -> Rows:
    x, y = np.array(column["places"]), np.array(column["predicted"])
    chosen = np.argsort(-np.ptp(y, axis=0), kind="stable")[:_MOST_CLASSES]
    series = [Series(x, y[:, i], _role(i), 1, _letter(i)) for i in sorted(chosen.tolist())]
    if column["truth"] is not None:
        true = np.array(column["truth"])
        series += [Series(x, true[:, i], _role(i), 0, dots=True) for i in chosen.tolist()]
    top = max(float(y.max()) * 1.05, 0.05)
    return draw_chart(
        Chart(series, span_of(x), Scale(0.0, min(top, 1.0)), "", _title(column, width)), width,
        height)


def _of_amount(column: Mapping[str, Any], target: int, width: int, height: int) -> Rows:
    x = np.array(column["places"])
    mean, low, high = (np.array(column[name])[:, target] for name in ("predicted", "low", "high"))
    series = [Series(x, low, "ghost", 1), Series(x, high, "ghost", 1), Series(x, mean, "lead", 3)]
    seen = [mean, low, high]
    if column["truth"] is not None:
        true = np.array(column["truth"])[:, target]
        series.append(Series(x, true, "second", 2, "T"))
        seen.append(true)
    points = np.array(column["points"]) if column["points"] and target == 0 else np.zeros((0, 2))
    if len(points):
        inside = (points[:, 0] >= x.min()) & (points[:, 0] <= x.max())
        series.append(Series(points[inside, 0], points[inside, 1], "faint", 0, dots=True))
        seen.append(points[inside, 1])
    return draw_chart(
        Chart(series, span_of(x), span_of(np.concatenate(seen)), "", _title(column, width)), width,
        height)


def _categories(column: Mapping[str, Any], names: Sequence[str], classes: bool, target: int,
                width: int, height: int) -> Rows:
    """Return one line a category: a letter for each class, or a dot, on a shared track."""
    label = max(min(max((len(shown(p)) for p in column["places"]), default=5), width // 3), 5)
    y = np.array(column["predicted"])
    values = y if classes else y[:, target : target + 1]
    low, high = (0.0, min(max(float(y.max()) * 1.05, 0.05), 1.0)) if classes else (
        float(values.min()), float(values.max()))
    end = 8 if not classes else 0
    track = max(width - label - end - 3, 8)
    form = share if classes else number
    rows: Rows = [[(fit(f" {shown(column['column'])}", width), "faint")],
                  [(" " * (label + 2) + fit(form(low), 8) + right(form(high), max(track - 8, 1)),
                    "faint")]]
    for name, own in zip(column["places"], values, strict=True):
        cells: list[tuple[str, str]] = [("·", "grid")] * track
        for i, value in enumerate(own.tolist()):
            place = min(max(int((value - low) / max(high - low, 1e-300) * track), 0), track - 1)
            cells[place] = (_letter(i), _role(i)) if classes else ("●", "lead")
        rows.append([(fit_name(name, label) + "  ", "ink"), *cells,
                     *([] if classes else [(right(number(float(own[0])), end), "ink")])])
    if len(rows) > height:
        rows = [
            *rows[:height - 1], [(fit(f"{len(rows) - height + 1} more categories", width), "faint")]
        ]
    return [cut(row, width) for row in rows]


def _plane(plane: Mapping[str, Any], name: str, target: int, width: int, height: int) -> Rows:
    """Return the predicted amount over two number columns as shaded cells."""
    values = np.array(plane["predicted"])[..., target]
    low, high = float(values.min()), float(values.max())
    shade = np.rint(85 * (values - low) / max(high - low, 1e-300)).astype(int)
    lines = max(min(height - 4, 24), 2)
    cols = max(min(width - 12, 48), 4)
    rows: Rows = [[(fit(f"predicted {shown(name, 20)}: {number(low)} light to {number(high)} dark",
                        width), "faint")],
                  [(fit(f"↑ {shown(plane['columns'][1], 20)}   → {shown(plane['columns'][0], 20)}",
                        width), "faint")]]
    for i in range(lines):
        j = round((len(shade) - 1) * (1 - i / max(lines - 1, 1)))
        ticks = {0: plane["y"][-1], lines - 1: plane["y"][0]}
        row: Row = [(right(number(ticks[i]) if i in ticks else "", 9) + " ", "faint")]
        row += [(" ", f"~0/{shade[j, round((shade.shape[1] - 1) * k / max(cols - 1, 1))]}")
                for k in range(cols)]
        rows.append(row)
    ends = fit(number(plane["x"][0]), 10) + right(number(plane["x"][-1]), max(cols - 10, 1))
    rows.append([(" " * 10 + ends, "faint")])
    return [cut(row, width) for row in rows]


def by_input(found: Mapping[str, Any], name: str, width: int, height: int, page: int) -> Rows:
    """Return residuals, predicted minus true, against every number column."""
    known = found["residuals"]
    head = wrap(
        f"Residuals of {shown(name, 30)} (predicted minus true, mean over runs) against each "
        "number column: a slope or a bend is something that has not been learnt.", width, "faint")
    room = fitting(width, height - len(head))
    first = (page * room) % max(len(known), 1) // room * room
    return [
        *head, *tiles([_residual(c) for c in known[first:first + room]], width, height - len(head))
    ]


def _residual(column: Mapping[str, Any]) -> Draw:
    def draw(width: int, height: int) -> Rows:
        points = np.array(column["points"]).reshape(-1, 2)
        if not len(points):
            return [[(fit(f"{shown(column['column'])}: no value", width), "faint")]]
        return draw_chart(
            Chart([Series(points[:, 0], points[:, 1], "warn", 1, dots=True)], span_of(points[:, 0]),
                  span_of(points[:, 1], 0.0), "", shown(column["column"], width - 12),
                  [Level(0.0, "0")]), width, height)

    return draw


def worst(found: Mapping[str, Any], classes: bool, width: int, height: int) -> Rows:
    """Return the groups of rows that are predicted worst, and which of them by more than chance."""
    known = found["worst"]
    apart = sum(group["apart"] for group in known["groups"])
    form = share if classes else number
    what = "accuracy" if classes else "RMSE"
    stand = "stands" if apart == 1 else "stand"
    verdict = (
        f"{count(apart, 'group')} of {known['compared']} {stand} apart: worse than all other rows "
        "by more than chance." if apart else
        f"None of {count(known['compared'], 'group')} is worse than all other rows by more than "
        "chance."
    )
    rows = [
        *wrap(
            f"{verdict} Groups are the categories of each input column, and the quarters of its "
            "range (95 %, shared out over all groups).", width, "ink"), []
    ]
    label = max(min(width - 42, 50), 12)
    track = width - label - 36 if width - label - 36 >= 12 else 0
    head = f"   ● {what}   ○ all other rows" if track else ""
    rows.append(
        [(fit("  column: group", label) + f"{'rows':>8}{what:>12}{'others':>12}" + head, "faint")])
    groups = known["groups"][: max(height - len(rows), 1)]
    seen = np.array([[group["value"], group["others"]] for group in groups])
    for group in groups:
        text = (f"{'▸' if group['apart'] else ' '} {shown(group['column'], 30)}: "
                f"{shown(group['group'], 40)}")
        rows.append([(fit(text, label), "warn" if group["apart"] else "ink"),
                     (f"{number(group['rows']):>8}", "faint"),
                     (f"{form(group['value']):>12}", "warn*" if group["apart"] else "ink"),
                     (f"{form(group['others']):>12}", "faint"), *_two(group, seen, track)])
    return [cut(row, width) for row in rows]


def _two(group: Mapping[str, Any], seen: Floats, width: int) -> Row:
    """Return a group and all other rows as two marks on the axis of all groups (G, 2), in
    `width` cells.
    """
    if width <= 4:
        return []
    low, high = float(seen.min()), float(seen.max())
    own, others = (min(max(int((group[name] - low) / max(high - low, 1e-300) * (width - 4)), 0),
                       width - 4) for name in ("value", "others"))
    cells: Row = [("·" if i < min(own, others) or i > max(own, others) else "─", "grid")
                  for i in range(width - 3)]
    cells[others] = ("○", "faint")
    cells[own] = ("●", "warn" if group["apart"] else "lead")
    return [("   ", "ink"), *cells]
