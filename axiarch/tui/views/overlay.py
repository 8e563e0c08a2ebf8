"""Marked recipes side by side, differences first, and their curves over one another by epoch, step
or seconds.
"""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from numpy.typing import NDArray

from axiarch.tui.plots.chart import Chart, Series, draw_chart, loss_scale
from axiarch.tui.plots.runs import Row, Rows, fit
from axiarch.tui.plots.scale import Scale, span_of
from axiarch.tui.state import Marked
from axiarch.tui.views.field import baseline_levels, best_level
from axiarch.tui.widgets.drawing import Drawing
from axiarch.workflows.sidebyside import Comparison, differing
from axiarch.workflows.snapshot import Snapshot

#: The axes that they can be drawn against.
AXES = ("epoch", "step", "second")
_AXIS_WORDS = {"epoch": "epoch", "step": "step of the optimiser", "second": "seconds of training"}
#: Lines that the chart of losses takes at the least, and those of the rates; cells of a label.
_CHART, _RATES, _LABEL = 13, 7, 18
#: The look and the letter of each curve: colour never alone.
LETTERS = "ABCDEF"
_LOOKS = tuple(zip(("lead", "train", "second", "warn", "glow", "ink"), LETTERS, strict=True))


class Overlay(Drawing):
    """The marked recipes side by side: the values in which they differ, what came of each, and
    their curves, each with its letter.
    """

    DEFAULT_CSS = "Overlay { height: 1fr; display: none; }"

    snapshot: Snapshot | None = None
    marked: Sequence[Marked] = ()
    comparison: Comparison | str | None = None
    axis = "epoch"
    _has_rates = False

    def turn(self) -> None:
        """Draw against the next axis."""
        self.axis = AXES[(AXES.index(self.axis) + 1) % len(AXES)]
        self.redraw()

    def draw(self, width: int, height: int) -> Rows:
        """Return what differs and what came of it, then the curves."""
        shown, s = self.marked[: len(_LOOKS)], self.snapshot
        if s is None or not shown:
            text = "mark recipes with m, here or on the ladder, to compare them here"
            return [[]] * (height // 3) + [[(text.center(width), "faint")]]
        most = max(height - _CHART, height // 3)
        table = self._table(shown, width, most)
        left = height - len(table)
        self._has_rates = left >= _CHART + _RATES
        rates = self._rates(shown, width, _RATES) if self._has_rates else []
        return [*table, *self._losses(s, shown, width, left - len(rates)), *rates]

    def _losses(self, s: Snapshot, shown: Sequence[Marked], width: int, height: int) -> Rows:
        """Return the mean curves, and dotted the lowest and highest of the runs after each epoch.
        """
        series, values = [], []
        for (role, letter), each in zip(_LOOKS, shown, strict=False):
            x, y = self._places(each), np.array(each.mean)
            values.append(y)
            series.append(Series(x, y, role, 2, letter))
            if len(each.curves) > 1:
                runs = np.array([c.validation[: len(y)] for c in each.curves])
                series += [Series(x, edge, role, 1, dots=True)
                           for edge in (runs.min(0), runs.max(0))]
        return draw_chart(Chart(
            series, self._scale(shown),
            loss_scale(np.concatenate(values), s.dataset.baseline.loss, best=best_level(s),
                       lows=[float(np.nanmin(y, initial=np.inf)) for y in values]),
            "" if self._has_rates else _AXIS_WORDS[self.axis],
            f"validation {s.dataset.target.loss_name}: mean, and dotted the range of the runs",
            baseline_levels(s), ticks_below=not self._has_rates), width, height)

    def _rates(self, shown: Sequence[Marked], width: int, height: int) -> Rows:
        """Return the learning rate of the first run of each."""
        series = [Series(self._places(each), np.array(each.curves[0].learning_rate[
            : len(each.mean)]), role, 2, letter)
                  for (role, letter), each in zip(_LOOKS, shown, strict=False)]
        values = np.concatenate([one.y for one in series])
        positive = values[np.isfinite(values) & (values > 0)]
        log = bool(positive.size) and float(positive.max()) > 10 * float(positive.min())
        scale = span_of(positive, log=True) if log else span_of(
            positive if positive.size else np.zeros(1), margin=0.3)
        return draw_chart(Chart(series, self._scale(shown), scale, _AXIS_WORDS[self.axis],
                                "learning rate"), width, height)

    def _scale(self, shown: Sequence[Marked]) -> Scale:
        far = max((float(x[-1]) for x in map(self._places, shown) if len(x)), default=1.0)
        return Scale(0, max(far, 1e-6))

    def _table(self, shown: Sequence[Marked], width: int, most: int) -> Rows:
        """Return the values in which they differ, and what came of each, as many lines as fit."""
        wide = max((width - _LABEL - 2) // len(shown), 8)
        rows: Rows = [[(" " * _LABEL, "ink"), *(
            (fit(f"━{letter} {self._called(each)}", wide), role)
            for (role, letter), each in zip(_LOOKS, shown, strict=False))]]
        if len(shown) < 2:
            return rows
        differ = differing([each.values for each in shown])
        known = self.comparison if isinstance(self.comparison, Comparison) else None
        came = known.results() if known else []
        fewest = min(len(differ), max(most - 1 - len(came), 3))
        rows += [self._cells(label, cells, wide, "ink") for label, cells in differ[:fewest]]
        if fewest < len(differ):
            rows.append([(f"  and {len(differ) - fewest} more values; axiarch compare prints all",
                          "faint")])
        if not differ:
            rows.append([("  They are the same recipe.", "faint")])
        rows += [self._cells(label, cells, wide, "second") for label, cells in came]
        if isinstance(self.comparison, str):
            rows.append([("  " + fit(self.comparison, width - 4).rstrip(), "warn")])
        return [*rows[: most - 1], []]

    def _called(self, each: Marked) -> str:
        one = len({mark.search for mark in self.marked}) == 1
        return f"recipe {each.recipe}" if one else each.name

    def _cells(self, label: str, cells: Sequence[str], wide: int, role: str) -> Row:
        return [(fit(f"  {label}", _LABEL), "faint"),
                *((fit(cell, wide), role) for cell in cells)]

    def _places(self, each: Marked) -> NDArray[np.float64]:
        epochs = np.arange(1.0, len(each.mean) + 1)
        if self.axis == "step":
            return epochs * each.steps
        if self.axis == "epoch":
            return epochs
        taken = [np.cumsum(curve.seconds)[: len(epochs)] for curve in each.curves]
        return np.asarray(np.mean(taken, axis=0))


def distance(marked: Sequence[Marked], found: Comparison | str | None) -> str:
    """Say how the first of the marked recipes compares with each of the others."""
    if len(marked) < 2:
        return "One recipe is marked; mark another with m to compare the two."
    if isinstance(found, Comparison):
        return found.verdict()
    return f"The results cannot be compared: {found}." if found else "comparing the recipes …"
