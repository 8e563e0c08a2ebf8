"""Strips: one recipe as a recorder's paper, thin bands over one common axis of epochs."""

from __future__ import annotations

from collections.abc import Callable, Sequence

import numpy as np
from numpy.typing import NDArray
from textual.app import ComposeResult

from axiarch.insight.proposal import Proposal
from axiarch.runs.curve import Curve
from axiarch.runs.lowered import name_of
from axiarch.runs.steady import steady
from axiarch.text import loss, measured, number, seconds_text, shown
from axiarch.tui.plots.chart import MARGIN, Chart, Level, Series, draw_chart, loss_scale
from axiarch.tui.plots.runs import Row, Rows, fit, in_columns, right
from axiarch.tui.plots.scale import Scale, span_of
from axiarch.tui.views.field import baseline_levels, best_level
from axiarch.tui.views.overlay import LETTERS, Overlay, distance
from axiarch.tui.views.strips_words import Facts, Findings, Telling
from axiarch.tui.views.view import View
from axiarch.tui.widgets.drawing import Drawing
from axiarch.workflows.diagnosing import diagnosis, faults
from axiarch.workflows.snapshot import Snapshot
from axiarch.workflows.verdicts import recipe_verdict

Floats = NDArray[np.float64]


#: Layers from which gradients are drawn as a map.
_MANY = 5
#: How the gradient of the first, a middle and the last layer is drawn.
_LAYER_ROLES = ("train", "second", "lead")


class Paper(Drawing):
    """The bands."""

    DEFAULT_CSS = "Paper { height: 1fr; }"

    snapshot: Snapshot | None = None
    recipe = 0
    cursor = 0
    other = False
    found: tuple[Proposal, ...] = ()

    def curves(self) -> list[tuple[str, Curve]]:
        """Return the curves of the recipe's runs with the name of each."""
        s = self.snapshot
        if s is None:
            return []
        return [(s.run_name(r), s.curves[r.id]) for r in s.runs_of(self.recipe) if r.id in s.curves]

    def draw(self, width: int, height: int) -> Rows:
        """Return all bands, then what the cursor reads."""
        s, curves = self.snapshot, self.curves()
        if s is None or not curves:
            return [[]] * (height // 3) + [[
                ("this recipe has not been trained yet".center(width), "faint")
            ]]
        last = max(len(c) for _, c in curves)
        x = Scale(1, max(last, 2), whole=True)
        reading = self._reading(s, curves, width)
        heights = _share(height - 1 - len(reading))
        bands = (self._gap, self._rate, self._gradients, self._dead)
        if self.other:
            bands, below = (self._metric, self._time, self._dead, self._dead), sum(heights[1:])
            heights = (heights[0], *((below - 9, 4, 5, 0) if below >= 14 else (below, 0, 0, 0)))
        rows = self._losses(s, curves, x, width, heights[0])
        used = [(band, tall) for band, tall in zip(bands, heights[1:], strict=True) if tall]
        for i, (band, tall) in enumerate(used):
            rows += band(curves, x, width, tall, below=i == len(used) - 1)
        return [_legend(self._lowered), *rows, *reading]

    def _at(self, last: int) -> int:
        return min(self.cursor or last, last)

    def _line(self, curves: list[tuple[str, Curve]]) -> float:
        return float(self._at(max(len(c) for _, c in curves)))

    def _losses(self, s: Snapshot, curves: list[tuple[str, Curve]], x: Scale, width: int,
                height: int) -> Rows:
        series = []
        for _, c in curves:
            series.append(Series(_epochs(c), np.array(c.validation), "lead", 2))
            series.append(Series(_epochs(c), np.array(c.train_loss_eval), "train", 1))
            kept, _ = steady(c.validation)
            if kept:
                series.append(
                    Series(np.array([float(kept)]), np.array([c.validation[kept - 1]]), "lead", 3,
                           "◆"))
        scale = loss_scale(np.concatenate([y.y for y in series]),
                           s.dataset.baseline.loss,
                           best=best_level(s),
                           lows=[min(c.validation, default=np.inf) for _, c in curves])
        chart = Chart(series, x, scale, "epoch", s.dataset.target.loss_name, baseline_levels(s),
                      self._line(curves), ticks_below=False,
                      marks=self._marks(curves[0][1], scale))
        return draw_chart(chart, width, height)

    def _marks(self, curve: Curve, scale: Scale) -> list[tuple[float, float, str, str]]:
        """Return where above the first curve findings show, each by its number."""
        above = 0.15 * (scale.high - scale.low)
        return [(float(each.epoch), min(curve.validation[each.epoch - 1] + above, scale.high),
                 str(i), "warn*")
                for i, each in enumerate(self.found[:3], 1) if 0 < each.epoch <= len(curve)]

    @property
    def _lowered(self) -> str:
        assert self.snapshot is not None
        return name_of(self.snapshot.dataset.target.measure)

    def _gap(self, curves: list[tuple[str, Curve]], x: Scale, width: int, height: int,
             below: bool) -> Rows:
        with np.errstate(invalid="ignore"):  # both are infinite where a training diverged
            series = [Series(_epochs(c), np.array(c.validation) - np.array(c.train_loss_eval),
                             "warn") for _, c in curves]
        finite = np.concatenate([y.y for y in series])
        finite = finite[np.isfinite(finite)]
        top = float(np.quantile(finite, 0.98)) if finite.size else 1.0
        scale = span_of(np.array([0.0, top, float(finite.min()) if finite.size else 0.0]))
        chart = Chart(series,
                      x,
                      scale,
                      "epoch",
                      f"gap: validation minus training {self._lowered}", [Level(0.0, "0")],
                      self._line(curves),
                      ticks_below=below)
        return draw_chart(chart, width, height)

    def _metric(self, curves: list[tuple[str, Curve]], x: Scale, width: int, height: int,
                below: bool) -> Rows:
        assert self.snapshot is not None
        data = self.snapshot.dataset
        baseline = [Level(data.baseline.metrics[0], "baseline")] if data.baseline.metrics else []
        return self._band(curves, lambda c: [each[0] for each in c.metrics],
                          f"validation {data.target.metrics[0]}", "lead", x, width, height, below,
                          baseline)

    def _time(self, curves: list[tuple[str, Curve]], x: Scale, width: int, height: int,
              below: bool) -> Rows:
        assert self.snapshot is not None
        steps = self.snapshot.steps(self.recipe)
        return self._band(curves,
                          lambda c: [1e3 * each / steps for each in c.seconds],
                          "milliseconds a step",
                          "second",
                          x,
                          width,
                          height,
                          below,
                          most=0.9)

    def _rate(self, curves: list[tuple[str, Curve]], x: Scale, width: int, height: int,
              below: bool) -> Rows:
        return self._band(curves, lambda c: c.learning_rate, "learning rate", "train", x, width,
                          height, below)

    def _dead(self, curves: list[tuple[str, Curve]], x: Scale, width: int, height: int,
              below: bool) -> Rows:
        return self._band(curves, lambda c: c.dead,
                          "dead or saturated units, share of the worst layer", "warn", x, width,
                          height, below)

    def _band(self,
              curves: list[tuple[str, Curve]],
              read: Callable[[Curve], Sequence[float]],
              title: str,
              role: str,
              x: Scale,
              width: int,
              height: int,
              below: bool,
              levels: Sequence[Level] = (),
              most: float = 1.0) -> Rows:
        """Return one band; `most` is the quantile of the values at its top."""
        series = [Series(_epochs(c), np.array(read(c)), role) for _, c in curves]
        values = np.concatenate([np.array([level.y for level in levels]), *(y.y for y in series)])
        finite = values[np.isfinite(values)]
        shown_values = finite[finite <= np.quantile(finite, most)] if finite.size else np.zeros(1)
        scale = span_of(shown_values, margin=0.3 if np.ptp(shown_values) == 0 else 0.08)
        chart = Chart(series,
                      x,
                      scale,
                      "epoch",
                      title,
                      levels,
                      self._line(curves),
                      ticks_below=below)
        return draw_chart(chart, width, height)

    def _gradients(self, curves: list[tuple[str, Curve]], x: Scale, width: int, height: int,
                   below: bool) -> Rows:
        """Return the size of the gradient: layer by layer where it was measured so, of the first
        run.
        """
        layers = curves[0][1].layers
        deep = len(layers[-1]) if layers else 0
        if not deep >= 2 or len(layers) < len(curves[0][1]):
            return self._band(curves, lambda c: c.gradient_norm,
                              "gradient norm at the epoch's last step", "second", x, width, height,
                              below)
        if deep >= _MANY:
            return self._gradient_map(layers, curves[0][0], x, width, height, below)
        at = _epochs(curves[0][1])
        series = [
            Series(at, np.array([epoch[i][0] for epoch in layers]),
                   _LAYER_ROLES[0 if i == 0 else 2 if i == deep - 1 else 1]) for i in range(deep)
        ]
        values = np.concatenate([y.y for y in series])
        positive = values[np.isfinite(values) & (values > 0)]
        scale = span_of(positive, log=True) if positive.size and np.ptp(positive) > 0 else span_of(
            values, margin=0.3)
        title = f"gradient norm of each layer, {curves[0][0]}: first blue, last yellow"
        return draw_chart(
            Chart(series, x, scale, "epoch", title, (), self._line(curves), ticks_below=below),
            width, height)

    def _gradient_map(self, layers: Sequence[Sequence[Sequence[float]]], name: str, x: Scale,
                      width: int, height: int, below: bool) -> Rows:
        """Return the gradient of every layer over time as shades, the larger the brighter, even in
        the logarithm; the first layer on top.
        """
        norms = np.array([[layer[0] for layer in epoch] for epoch in layers]).T
        with np.errstate(all="ignore"):
            logs = np.log10(np.where(norms > 0, norms, np.nan))
        known = logs[np.isfinite(logs)]
        low, high = (float(known.min()), float(known.max())) if known.size else (0.0, 1.0)
        shade = np.nan_to_num(100 * (logs - low) / ((high - low) or 1.0), nan=0.0)
        cols = max(width - MARGIN - 2, 8)
        rows = max(height - 1 - (2 if below else 0), 1)
        at_epoch = np.minimum(np.arange(cols) * shade.shape[1] // cols, shade.shape[1] - 1)
        at_layer = np.minimum(np.arange(2 * rows) * len(shade) // (2 * rows), len(shade) - 1)
        title = (f" gradient norm by layer, {name}: bright {number(10**high, 2)}, dark "
                 f"{number(10**low, 2)}")
        drawn: Rows = [[(fit(title, width), "faint")]]
        for line in range(rows):
            one, other = at_layer[2 * line], at_layer[2 * line + 1]
            label = f"layer {one + 1}" if line == 0 else (
                f"{len(shade)}" if line == rows - 1 else "")
            drawn.append([(right(label, MARGIN - 1) + "  ", "faint"), *(
                ("▀", f"~{int(shade[one, e])}/{int(shade[other, e])}") for e in at_epoch.tolist())])
        axis = draw_chart(Chart([], x, Scale(0, 1), "epoch", ""), width, 6)[-2:] if below else []
        return [*drawn, *axis]

    def _reading(self, s: Snapshot, curves: list[tuple[str, Curve]], width: int) -> Rows:
        """Return what the cursor reads: a line for each run, or all of it in two where there is
        but one.
        """
        steps = s.steps(self.recipe)
        metrics = s.dataset.target.metrics
        first: list[list[Row]] = []
        more: list[list[Row]] = []
        for name, c in curves[:3]:
            at = self._at(len(c)) - 1
            first.append([
                [(f"  {name}", "faint"), ("  epoch ", "faint"), (str(at + 1), "ink*")],
                [("validation ", "faint"), (loss(c.validation[at]), "lead")],
                [("training ", "faint"), (loss(c.train_loss_eval[at]), "train")],
                [("gap ", "faint"), (loss(c.validation[at] - c.train_loss_eval[at]), "warn")],
                [(f"{shown(metrics[0], 22)} ", "faint"),
                 (measured(metrics[0], c.metrics[at][0]), "ink")],
                [("rate ", "faint"), (number(c.learning_rate[at]), "ink")]])
            more.append([
                [("gradient ", "faint"), *_gradient_text(c, at)],
                _idle_text(c, at),
                [("an epoch ", "faint"), (seconds_text(c.seconds[at]), "ink")],
                [("a step ", "faint"), (seconds_text(c.seconds[at] / steps), "ink")],
                [(f"waiting for rows {c.waited[at] / max(c.seconds[at], 1e-9):.0%}", "faint")]])
        if len(curves) == 1:
            return [*in_columns(first, width), *([("  ", "ink"), *row]
                                                 for row in in_columns(more, width - 2))]
        return in_columns([[*one, *two] for one, two in zip(first, more, strict=True)], width)


def _idle_text(c: Curve, at: int) -> Row:
    """Return the share of dead units of the worst layer, or of saturated ones if they are more."""
    layers = c.layers[at] if at < len(c.layers) else ()
    dead, saturated = (max((layer[part] for layer in layers), default=0.0) for part in (1, 3))
    name = "saturated" if saturated > dead else "dead"
    return [(f"{name} ", "faint"), (f"{max(dead, saturated):.0%}" if layers else "–", "ink")]


def _gradient_text(c: Curve, at: int) -> Row:
    """Return the gradient's norm, and what the loss alone made of it where clipping or L1
    changed that.
    """
    taken, own = c.gradient_norm[at], c.loss_gradient[at]
    if not own or abs(own - taken) <= 1e-3 * max(own, taken):
        return [(number(taken), "ink")]
    how = "clipped from" if taken < own else "with L1, from"
    return [(number(taken), "ink"), (f" {how} {number(own)}", "warn")]


def _legend(lowered: str) -> Row:
    return [(" " * MARGIN, "ink"), (f"━ validation {lowered}", "lead"), ("   ", "ink"),
            (f"━ training {lowered}", "train"), ("   ", "ink"), ("◆ kept epoch", "lead"),
            ("   ", "ink"), ("│ cursor", "ink")]


def _epochs(curve: Curve) -> Floats:
    return np.arange(1, len(curve) + 1, dtype=np.float64)


def _share(height: int) -> tuple[int, int, int, int, int]:
    """Return the rows of each band; where there are few, the last ones are left out."""
    if height < 18:
        return max(height - 7, 5), 7, 0, 0, 0
    if height < 31:
        small = max(height // 6, 4)
        return height - 3 * small - 2, small, small, small + 2, 0
    small = max(height // 7, 5)
    return height - 4 * small - 2, small, small, small, small + 2


class StripsView(View):
    """The fifth view."""

    DEFAULT_CSS = """
    StripsView.short Facts, StripsView.short Telling { display: none; }
    StripsView.short Findings { display: none; }
    StripsView.over Paper, StripsView.over Facts, StripsView.over Telling { display: none; }
    StripsView.over Findings { display: none; }
    StripsView.over Overlay { display: block; }
    """

    def __init__(self, id: str) -> None:
        super().__init__(id=id)
        self._diagnosed: tuple[object, tuple[Proposal, ...]] = (None, ())

    def on_resize(self) -> None:
        """Leave out the facts where the bands need their room."""
        self.set_class(self.size.height < 24, "short")

    def compose(self) -> ComposeResult:
        """Lay out paper and facts."""
        yield Paper()
        yield Overlay()
        yield Telling()
        yield Findings()
        yield Facts()

    def show(self) -> None:
        """Show the open recipe."""
        paper, facts = self.query_one(Paper), self.query_one(Facts)
        if paper.recipe != self.state.open_recipe:
            paper.cursor = 0
        paper.snapshot = facts.snapshot = self.state.snapshot
        paper.recipe = facts.recipe = self.state.open_recipe
        telling, overlay = self.query_one(Telling), self.query_one(Overlay)
        telling.snapshot, telling.recipe = self.state.snapshot, self.state.open_recipe
        overlay.snapshot, overlay.marked = self.state.snapshot, self.state.marked
        overlay.comparison = self.state.comparison
        findings = self.query_one(Findings)
        findings.found = paper.found = self._found()
        for each in (paper, facts, telling, overlay, findings):
            each.redraw()
        telling.refresh(layout=True)

    def _found(self) -> tuple[Proposal, ...]:
        """Return what is found in the open recipe, worked out again where it has trained on."""
        s, recipe = self.state.snapshot, self.state.open_recipe
        if s is None or recipe not in s.recipes:
            return ()
        key = (s.search.number, recipe, len(s.ranking.rows),
               tuple((r.id, r.state, len(s.curves.get(r.id, ()))) for r in s.runs_of(recipe)))
        if key != self._diagnosed[0]:
            self._diagnosed = key, diagnosis(s, recipe)
        return self._diagnosed[1]

    def turn_overlay(self) -> None:
        """Draw the marked recipes over one another, or the open one as strips again."""
        self.toggle_class("over")

    def turn_bands(self) -> None:
        """Draw the other bands below the losses: metric and time, or gap, rate and gradient."""
        paper = self.query_one(Paper)
        paper.other = not paper.other
        paper.redraw()

    def turn_axis(self) -> None:
        """Draw the marked recipes against epochs, steps or seconds."""
        self.set_class(True, "over")
        self.query_one(Overlay).turn()

    @property
    def reading(self) -> tuple[list[tuple[str, Curve]], int]:
        """The curves of the open recipe's runs, and the epoch that is read."""
        paper = self.query_one(Paper)
        curves = paper.curves()
        last = max((len(c) for _, c in curves), default=0)
        return curves, min(paper.cursor or last, last)

    def move(self, by: int) -> None:
        """Move the reading cursor by epochs."""
        paper = self.query_one(Paper)
        last = max((len(c) for _, c in paper.curves()), default=0)
        if last:
            paper.cursor = max(1, min((paper.cursor or last) + by, last))
            paper.redraw()

    def verdict(self) -> str:
        """Say where the recipe stands."""
        s = self.state.snapshot
        if self.has_class("over"):
            return distance(self.state.marked, self.state.comparison)
        if s is None:
            return self.state.no_search
        if not self.state.open_recipe:
            return "No recipe has been trained yet."
        marks = [letter for m, letter in zip(self.state.marked, LETTERS, strict=False)
                 if (m.search, m.recipe) == (s.search.number, self.state.open_recipe)]
        marked = f" (marked {marks[0]}; v overlays)" if marks else ""
        wrong = faults(self._found())
        title = wrong[0].title if wrong else ""
        first = f" {title[0].upper()}{title[1:]}: ! shows remedies." if title else ""
        return (f"Recipe {self.state.open_recipe}{marked}. "
                f"{recipe_verdict(s, self.state.open_recipe)}{first}")
