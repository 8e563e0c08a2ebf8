"""Field: a search in progress, every run one thin line, money turning into loss."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray
from textual.app import ComposeResult

from axiarch.journal.records import WorkerRecord
from axiarch.runs.lowered import name_of
from axiarch.text import count, loss, memory, shown
from axiarch.tui.plots.chart import Chart, Level, Series, draw_chart, loss_scale
from axiarch.tui.plots.runs import Row, Rows, cut, fit, right, row_width
from axiarch.tui.plots.scale import Scale
from axiarch.tui.views.view import View
from axiarch.tui.widgets.drawing import Drawing, TallDrawing
from axiarch.workflows.exporting import baselines_of
from axiarch.workflows.leading import ranking_verdict
from axiarch.workflows.snapshot import Snapshot
from axiarch.workflows.verdicts import changes_text, search_verdict

Floats = NDArray[np.float64]

#: What a worker does that trains nothing, as it is said.
_WORKER_STATES = {"held": "paused", "idle": "nothing to do", "training": "beginning a run",
                "compiling": "compiling the engine, once: about a minute and a half",
                "silent": "no answer; its run is given to others after a minute"}
#: Lines for workers, or for machines where there are more workers.
_ROWS = 4
#: Events that are warnings.
_WRONG = ("died", "failed", "refused", "executor")
#: Recipes drawn as leaders where none are tied.
_LEADERS = 3
#: A point that is nowhere: it breaks a line.
_BREAK = (np.array([np.nan]), np.array([np.nan]))


def baseline_levels(s: Snapshot) -> list[Level]:
    """Return what every chart of losses is read against."""
    return [Level(level, name) for name, level in baselines_of(s.dataset)]


def best_level(s: Snapshot) -> float | None:
    """Return the loss of the noise in generated data."""
    return s.dataset.noise_floor.loss if s.dataset.noise_floor else None


#: Runs from which on they are drawn beside the event loop.
_MANY = 300


class Lines(Drawing):
    """The runs of a search."""

    DEFAULT_CSS = "Lines { height: 1fr; }"

    snapshot: Snapshot | None = None
    by_epoch = False
    cursor: float | None = None

    def long(self) -> bool:
        """Thousands of runs take longer to draw than a key may wait."""
        return self.snapshot is not None and len(self.snapshot.curves) > _MANY

    def end(self) -> float:
        """Return where the horizontal axis ends."""
        if self.snapshot is None or not self.snapshot.curves:
            return 2.0
        curves = self.snapshot.curves.values()
        return max(2.0, max(float(len(c) if self.by_epoch else c.spent[-1]) for c in curves))

    def draw(self, width: int, height: int) -> Rows:
        """Return the chart, with what the looks mean on top."""
        s = self.snapshot
        if s is None or not s.curves:
            return []
        leaders = {r.recipe for r in (s.ranking.tied or s.ranking.rows)[:_LEADERS]}
        series = self._series(s, leaders)
        values = np.concatenate([x.y for x in series]) if series else np.zeros(0)
        if not self.by_epoch:
            series.append(_best(s))
        chart = Chart(series,
                      Scale(1 if self.by_epoch else 0, self.end(), whole=True),
                      loss_scale(values, s.dataset.baseline.loss, best=best_level(s)),
                      "epoch of each run" if self.by_epoch else "budget spent: epochs of all runs",
                      f"validation {s.dataset.target.loss_name}",
                      baseline_levels(s),
                      self.cursor,
                      marks=self._cuts(s))
        reading = [] if self.cursor is None else [self._reading(s)]
        return [_legend(self.by_epoch, self._ends_alone(s)),
                *draw_chart(chart, width, height - 1 - len(reading)), *reading]

    def _cuts(self, s: Snapshot) -> list[tuple[float, float, str, str]]:
        """Return a mark where each run ended that was cut or rests."""
        if self._ends_alone(s):
            return []
        found = []
        for run in s.runs.values():
            curve = s.curves.get(run.id)
            if run.state in ("cut", "resting") and curve is not None:
                at = float(len(curve) if self.by_epoch else curve.spent[-1])
                found.append(
                    (at, curve.validation[-1], "╷", "faint" if run.state == "resting" else "ghost"))
        return found

    def _ends_alone(self, s: Snapshot) -> bool:
        """Say whether runs that have ended are drawn by what they came to alone: so many curves
        would be one mass.
        """
        return not self.by_epoch and len(s.curves) > _MANY

    def _reading(self, s: Snapshot) -> Row:
        """Return what stands under the cursor, in numbers."""
        at = self.cursor or 0.0
        if self.by_epoch:
            losses = [c.validation[int(at) - 1] for c in s.curves.values() if len(c) >= at]
            return [("   cursor ", "faint"), (f"epoch {int(at)}", "ink*"),
                    ("   runs that got there ", "faint"), (str(len(losses)), "ink"),
                    (f"   lowest validation {name_of(s.dataset.target.measure)} ", "faint"),
                    (loss(min(losses, default=None)), "lead")]
        ended = [s.curves[r.id].steady for r in s.runs.values() if r.state == "ended"
                 and r.reason != "diverged" and r.id in s.curves and s.curves[r.id].spent[-1] <= at]
        return [("   cursor ", "faint"), (f"{count(int(at), 'epoch')} spent", "ink*"),
                ("   runs ended by then ", "faint"), (str(len(ended)), "ink"),
                ("   best steady loss by then ", "faint"), (loss(min(ended,
                                                                     default=None)), "second")]

    def _series(self, s: Snapshot, leaders: set[int]) -> list[Series]:
        """Return the runs as curves; those that have ended and do not lead are one curve with
        breaks.
        """
        faded: list[tuple[Floats, Floats]] = []
        found = []
        ends = self._ends_alone(s)
        for run in s.runs.values():
            curve = s.curves.get(run.id)
            if curve is None:
                continue
            spent, loss_of = curve.against_budget
            x = np.arange(1.0, len(curve) + 1) if self.by_epoch else spent
            if run.state == "training":
                found.append(Series(x, loss_of, "glow", 2, "•"))
            elif run.recipe in leaders:
                found.append(Series(x, loss_of, "lead", 3))
            elif ends:
                faded += [(np.repeat(x[-1:], 2), np.repeat(loss_of[-1:], 2)), _BREAK]
            elif run.reason == "diverged":
                found.append(Series(x, loss_of, "ghost", 0, "×"))
            else:
                faded += [(x, loss_of), _BREAK]
        if faded:
            found.append(
                Series(np.concatenate([x for x, _ in faded]), np.concatenate([y for _, y in faded]),
                       "ghost"))
        return found


def _best(s: Snapshot) -> Series:
    """Return the lowest steady loss reached by any run against the budget, as steps."""
    return Series(*s.best_so_far, "second", 4)


def _legend(by_epoch: bool, ends_alone: bool = False) -> Row:
    row: Row = [("      ", "ink"), ("━• training now", "glow"), ("   ", "ink"),
                ("━ leading", "lead")]
    if ends_alone:
        row += [("   ", "ink"), ("⠂ ", "ghost"), ("what each other run came to", "faint")]
    else:
        row += [("   ", "ink"), ("━ ", "ghost"), ("ended", "faint"), ("   ", "ink"),
                ("╷ ", "faint"), ("cut or waiting", "faint")]
    return row if by_epoch else [*row, ("   ", "ink"), ("━ best so far", "second")]


class Workers(TallDrawing):
    """What each worker trains now, and what happened."""

    DEFAULT_CSS = "Workers { height: auto; max-height: 10; margin: 1 0; }"

    snapshot: Snapshot | None = None

    def draw(self, width: int, height: int) -> Rows:
        """Return a line a worker, then the leader, then the last event."""
        s = self.snapshot
        if s is None:
            return []
        rows: Rows = []
        if s.over or s.search.state == "interrupted":
            pass  # what is journalled of its workers is what they did last
        elif len(s.workers) <= _ROWS:
            rows += [self._worker(s, worker, width) for worker in s.workers]
        else:
            rows += _machines(s, width)
        rows += [*_rounds(s, width), *_leader(s, width)]
        if s.events and (s.events[-1].kind in (*_WRONG, "afresh") or s.over):
            rows.append([("     note ", "faint"),
                         (fit(s.events[-1].text, width - 11).rstrip(),
                          "warn" if s.events[-1].kind in _WRONG else "ink")])
        return rows

    def _worker(self, s: Snapshot, worker: WorkerRecord, width: int) -> Row:
        runs = [r for r in s.runs.values() if r.worker == worker.number and r.state == "training"]
        name: Row = [(right(f"worker {worker.number + 1} ", 10), "faint")]
        if not runs:
            return [*name, (_WORKER_STATES.get(worker.state, worker.state), "faint")]
        run = runs[0]
        recipe = s.recipes[run.recipe].recipe
        cells = 20
        full = min(round(len(s.curves.get(run.id, ())) / recipe.whole("epochs") * cells), cells)
        trains = f"recipe {run.recipe}, {s.run_name(run)}"
        line = recipe.word("network")
        layers = shown(line)
        if line == "hidden":
            layers = f"{recipe['depth']} × {recipe['width']} {recipe['activation']}"
        shape = f"batch {recipe['batch_size']}, {layers}"
        role = "lead" if worker.state == "held" else "glow"
        notes = [shown(worker.machine, 24)] if worker.machine else []
        notes += [f"{round(100 * worker.busy)} % busy"] if worker.busy else []
        took: Row = [(f"  {', '.join(notes)}", "faint")] if notes else []
        return [*name, ("━" * full, role), ("─" * (cells - full), "grid"),
                (f"  {fit(trains, 27)}", "ink"),
                (fit(shape, max(width - 62 - row_width(took), 8)).rstrip(), "faint"), *took]


def _machines(s: Snapshot, width: int) -> Rows:
    """Return a line a machine: what each of its workers does, and how busy they are."""
    machines: dict[str, list[WorkerRecord]] = {}
    for worker in s.workers:
        machines.setdefault(worker.machine, []).append(worker)
    rows: Rows = []
    for machine, workers in list(machines.items())[:_ROWS]:
        marks, role_of = [], {"training": ("■", "glow"), "held": ("‖", "lead"),
                              "silent": ("?", "warn"), "compiling": ("…", "faint")}
        for worker in workers[:32]:
            marks.append(role_of.get(worker.state, ("□", "faint")))
        training = sum(worker.state == "training" for worker in workers)
        busy = sum(worker.busy for worker in workers) / len(workers)
        text = f"  {training} of {count(len(workers), 'worker')} train"
        silent = sum(worker.state == "silent" for worker in workers)
        text += f", {silent} silent" if silent else ""
        text += f", {round(100 * busy)} % busy" if busy else ""
        taken = sum(worker.memory for worker in workers)
        text += f", {memory(taken)}" if taken else ""
        name = shown(machine, 18) if machine else "this machine"
        row: Row = [(right(f"{name} ", 20), "faint"), *marks, (text, "ink")]
        rows.append(cut(row, width))
    if len(machines) > _ROWS:
        more = list(machines.values())[_ROWS:]
        rows.append([(f"          and {count(len(more), 'machine')} more with "
                      f"{count(sum(map(len, more)), 'worker')}", "faint")])
    return rows


def _rounds(s: Snapshot, width: int) -> Rows:
    """Return how many recipes were let train how far, where that differs, and when the best last
    fell.
    """
    first = {
        r.recipe: r for r in sorted(s.runs.values(), key=lambda r: (r.repeat, r.fold), reverse=True)
    }
    until = {n: r.until or s.recipes[n].recipe.whole("epochs") for n, r in first.items()}
    ends = sorted(set(until.values()))
    if len(ends) < 2 or not s.expected_epochs:
        return []
    row: Row = [("   rounds ", "faint")]
    for end in ends:
        reached = sum(u >= end for u in until.values())
        row += [(f"{count(end, 'epoch')} ", "faint"), (str(reached), "ink"), ("   ", "ink")]
    best = _best(s)
    if len(best.y) >= 2:
        falls = np.flatnonzero(np.diff(best.y) < 0)
        if falls.size:
            at, by = best.x[falls[-1] + 1], best.y[falls[-1]] - best.y[falls[-1] + 1]
            ago = f"fell {count(round(s.epochs - at), 'epoch')} ago"
            said = f"the best last {ago}, by {loss(float(by))}"
            row.append((said if row_width(row) + len(said) <= width else f"best {ago}", "faint"))
    return [cut(row, width)]


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

    def turn_axis(self) -> None:
        """Draw against the budget, or against each run's own epochs."""
        lines = self.query_one(Lines)
        lines.by_epoch = not lines.by_epoch
        lines.cursor = None
        lines.redraw()

    def move(self, by: int) -> None:
        """Move the reading cursor: an epoch, or a sixtieth of the budget spent."""
        lines = self.query_one(Lines)
        end = lines.end()
        step = 1.0 if lines.by_epoch else max(end / 60, 1.0)
        lines.cursor = min(max((end if lines.cursor is None else lines.cursor) + by * step, 1.0),
                           end)
        lines.redraw()

    def verdict(self) -> str:
        """Say how far the search is and who leads."""
        s = self.state.snapshot
        if s is None:
            return self.state.no_search
        if not s.ranking.rows:
            return search_verdict(s)
        hint = " Next: n, the ladder." if s.search.state == "done" else ""
        return f"{search_verdict(s)} {ranking_verdict(s).split('. ')[0].rstrip('.')}.{hint}"


class Waiting(Drawing):
    """What is shown until the first epoch is journalled."""

    def draw(self, width: int, height: int) -> Rows:
        """Return one line in the middle."""
        return [[]] * max(height // 3, 0) + [[
            ("the first epochs will be drawn here".center(width), "faint")
        ]]
