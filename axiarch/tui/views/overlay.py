"""Trained recipes drawn over one another: validation loss by epoch, by step or by seconds."""

from __future__ import annotations

from collections.abc import Sequence
from itertools import pairwise

import numpy as np
from numpy.typing import NDArray

from axiarch.recipes.recipe import describe
from axiarch.text import loss, seconds_text
from axiarch.tui.plots.chart import MARGIN, Chart, Series, draw_chart, loss_scale
from axiarch.tui.plots.runs import Row, Rows, fit
from axiarch.tui.plots.scale import Scale
from axiarch.tui.state import Marked
from axiarch.tui.views.field import baseline_levels, best_level
from axiarch.tui.widgets.drawing import Drawing
from axiarch.workflows.watching import Snapshot

#: The axes that they can be drawn against.
AXES = ("epoch", "step", "second")
#: The look and the letter of each curve: colour never alone.
LETTERS = "ABCDEF"
_LOOKS = tuple(zip(("lead", "train", "second", "warn", "glow", "ink"), LETTERS, strict=True))


class Overlay(Drawing):
    """The marked recipes on one chart, each with its letter, and how each differs from the one
    before.
    """

    DEFAULT_CSS = "Overlay { height: 1fr; display: none; }"

    snapshot: Snapshot | None = None
    marked: Sequence[Marked] = ()
    axis = "epoch"

    def turn(self) -> None:
        """Draw against the next axis."""
        self.axis = AXES[(AXES.index(self.axis) + 1) % len(AXES)]
        self.redraw()

    def draw(self, width: int, height: int) -> Rows:
        """Return chart and legend."""
        shown, s = self.marked[: len(_LOOKS)], self.snapshot
        if s is None or not shown:
            text = "mark recipes with m, here or on the ladder, to draw them here"
            return [[]] * (height // 3) + [[(text.center(width), "faint")]]
        series, values = [], []
        for (role, letter), each in zip(_LOOKS, shown, strict=False):
            y = np.array(each.mean)
            x = self._places(each)
            values.append(y)
            series.append(Series(x, y, role, 2, letter))
        far = max(float(one.x[-1]) for one in series if len(one.x))
        chart = Chart(
            series, Scale(0, max(far, 1e-6)),
            loss_scale(np.concatenate(values), s.dataset.baseline.loss, best=best_level(s)),
            {"epoch": "epoch", "step": "step of the optimiser",
             "second": "seconds of training"}[self.axis],
            f"validation {s.dataset.target.loss_name}", baseline_levels(s))
        legend = [self._line(i, each, width) for i, each in enumerate(shown)]
        return [*draw_chart(chart, width, height - len(legend) - 1), [], *legend]

    def _places(self, each: Marked) -> NDArray[np.float64]:
        epochs = np.arange(1.0, len(each.mean) + 1)
        if self.axis == "step":
            return epochs * each.steps
        if self.axis == "epoch":
            return epochs
        taken = [np.cumsum(curve.seconds)[: len(epochs)] for curve in each.curves]
        return np.asarray(np.mean(taken, axis=0))

    def _line(self, index: int, each: Marked, width: int) -> Row:
        role, letter = _LOOKS[index]
        runs = "1 run" if len(each.curves) == 1 else f"mean of {len(each.curves)} runs"
        seconds = sum(curve.total_seconds for curve in each.curves) / len(each.curves)
        before = self.marked[index - 1].values if index else None
        change = describe(each.values.difference(
            before)) or "no change" if before is not None else "the first marked"
        text = f"  steady {loss(each.level)}, {runs}, {seconds_text(seconds)} a run   {change}"
        head = f"{each.name} "
        return [(" " * (MARGIN - 3), "ink"), (f"━{letter} ", role), (head, role),
                (fit(text, max(width - MARGIN - len(head) - 1, 0)).rstrip(), "ink")]


def distance(marked: Sequence[Marked]) -> str:
    """Say what the marked recipes have come to, best first."""
    ends = sorted((m.level, m.name) for m in marked)
    if len(ends) < 2:
        return "One recipe is marked; mark another with m to draw the two together."
    apart = ", ".join(f"{name} {loss(level)}" for level, name in ends)
    gaps = max(b[0] - a[0] for a, b in pairwise(ends))
    runs = sorted({len(m.curves) for m in marked})
    over = f"{runs[0]}" if len(runs) == 1 else f"{runs[0]} to {runs[-1]}"
    single = "" if runs[
        0] > 1 else " A single run proves nothing: the ladder shows which recipes differ."
    return (
        f"{len(ends)} recipes, each the mean of {over} run{'s' if runs[-1] > 1 else ''}: {apart}. "
        f"The widest step is {loss(gaps)}.{single}")
