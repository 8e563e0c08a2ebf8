"""Every epoch of a run in numbers."""

from __future__ import annotations

import math
from collections.abc import Sequence

from textual.app import ComposeResult
from textual.containers import Vertical
from textual.content import Content
from textual.screen import ModalScreen
from textual.widgets import Static

from axiarch.runs.curve import Curve
from axiarch.runs.steady import steady
from axiarch.text import loss, measured, number, seconds_text, shown
from axiarch.tui.plots.runs import Row, fit, right
from axiarch.tui.widgets.drawing import Drawing, Listing

_HEADS = (("epoch", 8), ("validation", 12), ("training", 12), ("gap", 12))
_TAILS = (("rate", 10), ("gradient", 10), ("dead", 6), ("saturated", 11), ("time", 9))
#: Cells of a metric.
_METRIC = 19


class _Heads(Drawing):
    """The names of the columns."""

    metrics: Sequence[str] = ()

    def draw(self, width: int, height: int) -> list[Row]:
        """Return one line."""
        names = [(shown(name, _METRIC - 1), _METRIC) for name in self.metrics]
        text = "".join(right(name, room) for name, room in (*_HEADS, *_TAILS, *names))
        return [[(fit(text, width), "faint")]]


class _Epochs(Listing):
    """One line an epoch."""

    curve = Curve()
    metrics: Sequence[str] = ()
    kept = 0

    def draw_line(self, index: int, width: int) -> Row:
        """Return the numbers of an epoch."""
        e = self.curve.epochs[index]
        mark = "◆" if e.epoch == self.kept else " "
        row: Row = [(f" {mark}", "lead"), (right(str(e.epoch), 6), "ink"),
                    (right(loss(e.validation_loss), 12), "lead"),
                    (right(loss(e.train_loss_eval), 12), "train"),
                    (right(loss(e.validation_loss - e.train_loss_eval), 12), "warn")]
        dead, saturated = (f"{max(layer[part] for layer in e.layers):.0%}" if e.layers else "–"
                           for part in (1, 3))
        cells = (number(e.learning_rate, 3), number(e.gradient_norm, 3), dead, saturated,
                 seconds_text(e.seconds))
        row += [(right(text, room), "faint")
                for text, (_, room) in zip(cells, _TAILS, strict=True)]
        return row + [(right(measured(name, value), _METRIC), "ink")
                      for name, value in zip(self.metrics, e.metrics, strict=False)]


class EpochTable(ModalScreen[None]):
    """Looks through the epochs of a recipe's runs, one run at a time."""

    DEFAULT_CSS = """
    EpochTable { align: center middle; background: $background 60%; }
    EpochTable > Vertical { width: 98%; max-width: 150; height: 92%; padding: 1 2;
        border: round $rule; background: $background; }
    EpochTable Static { height: auto; }
    EpochTable _Heads { height: 1; margin: 1 0 0 0; }
    EpochTable _Epochs { height: 1fr; margin: 0 0 1 0; }
    """
    BINDINGS = [("escape", "dismiss", "close"), ("left", "turn(-1)", "run before"),
                ("right", "turn(1)", "next run")]

    def __init__(self, recipe: int, runs: Sequence[tuple[str, Curve]], metrics: Sequence[str],
                 loss_name: str, epoch: int) -> None:
        super().__init__()
        self._recipe, self._runs, self._metrics = recipe, tuple(runs), tuple(metrics)
        self._loss, self._epoch, self._at = loss_name, epoch, 0

    def compose(self) -> ComposeResult:
        """Lay out words and table."""
        with Vertical():
            yield Static(id="title")
            heads = _Heads()
            heads.metrics = self._metrics
            yield heads
            yield _Epochs()
            turn = "left, right another run    " if len(self._runs) > 1 else ""
            yield Static(Content(f"◆ kept: lowest steady loss    dead and saturated units of the "
                                 f"worst layer    {turn}Esc closes"))

    def on_mount(self) -> None:
        """Show the first run, at the epoch that the strips read."""
        self._show()
        table = self.query_one(_Epochs)
        table.cursor = self._epoch - 1
        table.focus()

    def action_turn(self, by: int) -> None:
        """Show another run."""
        self._at = (self._at + by) % len(self._runs)
        self._show()

    def _show(self) -> None:
        name, curve = self._runs[self._at]
        table = self.query_one(_Epochs)
        kept, level = steady(curve.validation)
        table.curve, table.metrics = curve, self._metrics
        table.kept = kept if math.isfinite(level) else 0
        table.count = len(curve)
        table.redraw()
        self.query_one("#title", Static).update(Content(
            f"Recipe {self._recipe}, {name}: every epoch in numbers. Measured: "
            f"{shown(self._loss, 60)}."))
