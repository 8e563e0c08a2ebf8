"""Field: a search in progress, every run one thin line, money turning into loss."""

from __future__ import annotations

import numpy as np
from textual.app import ComposeResult

from axiarch.plain import count, loss
from axiarch.recipes.steady import steady
from axiarch.tui.plots.chart import Chart, Level, Series, draw_chart, loss_scale
from axiarch.tui.plots.runs import Row, Rows, fit, right
from axiarch.tui.plots.scale import Scale
from axiarch.tui.views.view import View
from axiarch.tui.widgets.drawing import Drawing
from axiarch.workflows.verdicts import changes_text, ranking_verdict, search_verdict
from axiarch.workflows.watching import Snapshot

#: Recipes drawn as leaders where none are tied.
_LEADERS = 3


class Lines(Drawing):
    """The runs of a search."""

    DEFAULT_CSS = "Lines { height: 1fr; }"

    snapshot: Snapshot | None = None
    by_epoch = False

    def draw(self, width: int, height: int) -> Rows:
        """Return the chart, with what the looks mean on top."""
        s = self.snapshot
        if s is None or not s.curves:
            return []
        leaders = {r.recipe for r in (s.ranking.tied or s.ranking.rows)[:_LEADERS]}
        series = [x for run in s.runs.values() if (x := self._series(s, run.id, run.recipe in leaders)) is not None]
        values = np.concatenate([x.y for x in series]) if series else np.zeros(0)
        end = max((float(x.x[-1]) for x in series), default=1.0)
        if not self.by_epoch:
            series.append(_best(s))
        chart = Chart(series, Scale(1 if self.by_epoch else 0, max(end, 2.0)),
                      loss_scale(values, s.dataset.floor.loss),
                      "epoch of each run" if self.by_epoch else "budget spent: epochs of all runs",
                      "validation loss (nats)", [Level(s.dataset.floor.loss, "floor")])
        return [_legend(self.by_epoch), *draw_chart(chart, width, height - 1)]

    def _series(self, s: Snapshot, run: int, leading: bool) -> Series | None:
        curve = s.curves.get(run)
        if curve is None:
            return None
        record = s.runs[run]
        x = np.arange(1, len(curve) + 1) if self.by_epoch else np.array(curve.spent)
        if record.state == "training":
            role, rank, end = "glow", 2, "•"
        elif leading:
            role, rank, end = "lead", 3, ""
        else:
            role, rank, end = "ghost", 0, "×" if record.reason == "diverged" else ""
        return Series(x.astype(np.float64), np.array(curve.validation), role, rank, end)


def _best(s: Snapshot) -> Series:
    """Return the lowest steady loss reached by any run against the budget, as steps."""
    ends = sorted((curve.spent[-1], steady(curve.validation)[1]) for run, curve in s.curves.items()
                  if s.runs[run].state == "ended" and s.runs[run].reason != "diverged")
    x, y = [], []
    best = np.inf
    for spent, level in ends:
        if level < best:
            x += [spent, spent]
            y += [best, level]
            best = level
    if x:
        x.append(max(c.spent[-1] for c in s.curves.values()))
        y.append(best)
    return Series(np.array(x[1:], dtype=np.float64), np.array(y[1:], dtype=np.float64), "second", 4)


def _legend(by_epoch: bool) -> Row:
    row: Row = [("         ", "ink"), ("━• training now", "glow"), ("   ", "ink"), ("━ leading", "lead"),
                ("   ", "ink"), ("━ ", "ghost"), ("ended", "faint")]
    return row if by_epoch else [*row, ("   ", "ink"), ("━ best steady loss", "second")]


class Workers(Drawing):
    """What each worker trains now, and what happened."""

    DEFAULT_CSS = "Workers { height: auto; max-height: 10; margin: 1 0; }"

    snapshot: Snapshot | None = None

    def get_content_height(self, container: object, viewport: object, width: int) -> int:
        """Return the lines it takes."""
        return len(self.draw(width, 0))

    def draw(self, width: int, height: int) -> Rows:
        """Return a line a worker, then the leader, then the last event."""
        s = self.snapshot
        if s is None:
            return []
        rows: Rows = []
        for lane in s.lanes[:4]:
            rows.append(self._lane(s, lane.number, lane.state, width))
        if len(s.lanes) > 4:
            rows.append([(f"          and {len(s.lanes) - 4} more workers", "faint")])
        rows += _leader(s, width)
        if s.events and (s.events[-1].kind in ("died", "failed") or s.over):
            rows.append([("     note ", "faint"), (fit(s.events[-1].text, width - 11).rstrip(), "warn"
                          if s.events[-1].kind in ("died", "failed") else "ink")])
        return rows

    def _lane(self, s: Snapshot, number: int, state: str, width: int) -> Row:
        runs = [r for r in s.runs.values() if r.lane == number and r.state == "training"]
        name: Row = [(right(f"worker {number + 1} ", 10), "faint")]
        if not runs:
            return [*name, ({"held": "paused", "idle": "nothing to do"}.get(state, state), "faint")]
        recipe = s.recipes[runs[0].recipe].recipe
        done = sum(len(s.curves.get(r.id, ())) for r in runs)
        of = len(runs) * recipe.whole("epochs")
        cells = 20
        full = min(round(done / of * cells), cells)
        stack = f"{count(len(runs), 'run')} side by side" if len(runs) > 1 else "1 run"
        shape = f"batch {recipe['batch_size']}, {recipe['depth']} × {recipe['width']} {recipe['activation']}"
        role = "lead" if state == "held" else "glow"
        return [*name, ("━" * full, role), ("─" * (cells - full), "grid"),
                (f"  {fit(stack, 21)}", "ink"), (fit(shape, max(width - 56, 8)).rstrip(), "faint")]


def _leader(s: Snapshot, width: int) -> Rows:
    if not s.ranking.rows:
        return []
    first = s.ranking.rows[0]
    text = f"recipe {first.recipe} at {loss(first.loss)}: {changes_text(s, first.recipe)}"
    return [[("   leader ", "faint"), (fit(text, width - 11).rstrip(), "lead")]]


class FieldView(View):
    """The third view."""

    DEFAULT_CSS = """
    FieldView #empty-field { height: 1fr; display: none; }
    FieldView.empty Lines, FieldView.empty Workers { display: none; }
    FieldView.empty #empty-field { display: block; }
    """

    def compose(self) -> ComposeResult:
        """Lay out the runs and the workers below."""
        yield Waiting(id="empty-field")
        yield Lines()
        yield Workers()

    def show(self) -> None:
        """Show the search."""
        s = self.state.snapshot
        self.set_class(s is None or not s.curves, "empty")
        lines, workers = self.query_one(Lines), self.query_one(Workers)
        lines.snapshot = workers.snapshot = s
        lines.redraw()
        workers.redraw()
        workers.refresh(layout=True)

    def turn_axis(self) -> None:
        """Draw against the budget, or against each run's own epochs."""
        lines = self.query_one(Lines)
        lines.by_epoch = not lines.by_epoch
        lines.redraw()

    def verdict(self) -> str:
        """Say how far the search is and who leads."""
        s = self.state.snapshot
        if s is None:
            return "No search has been started here. Put one together on the sheet (2) and start it with s."
        if not s.ranking.rows:
            return search_verdict(s)
        hint = " Next: n, the ladder." if s.search.state == "done" else ""
        return f"{search_verdict(s)} {ranking_verdict(s).split('. ')[0].rstrip('.')}.{hint}"


class Waiting(Drawing):
    """What is shown until the first epoch is journalled."""

    def draw(self, width: int, height: int) -> Rows:
        """Return one line in the middle."""
        return [[]] * max(height // 3, 0) + [[("the first epochs will be drawn here".center(width), "faint")]]

