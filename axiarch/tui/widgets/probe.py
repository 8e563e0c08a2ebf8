"""What a probe found: its chart, what it says, and what it proposes."""

from __future__ import annotations

from textual.app import ComposeResult
from textual.containers import Vertical
from textual.content import Content
from textual.screen import ModalScreen
from textual.widgets import Static

from axiarch.insight.probes import Probe
from axiarch.text import shown
from axiarch.tui.plots.probes import draw_probe
from axiarch.tui.plots.runs import Rows
from axiarch.tui.widgets.drawing import Drawing
from axiarch.workflows.diagnosing import change_words


class _Chart(Drawing):
    """The chart."""

    probe: Probe | None = None

    def draw(self, width: int, height: int) -> Rows:
        """Return the chart."""
        return draw_probe(self.probe, width, height) if self.probe is not None else []


class ProbeScreen(ModalScreen[str]):
    """Shows a probe; enter puts what it proposes on the sheet, escape changes nothing."""

    DEFAULT_CSS = """
    ProbeScreen { align: center middle; background: $background 60%; }
    ProbeScreen > Vertical { width: 98%; max-width: 120; height: 96%; max-height: 40;
        padding: 0 1; border: round $rule; background: $background; }
    ProbeScreen Static { height: auto; }
    ProbeScreen _Chart { height: 1fr; margin: 1 0; }
    """
    BINDINGS = [("escape", "dismiss('')", "close"), ("enter", "dismiss('use')", "use")]

    def __init__(self, probe: Probe) -> None:
        super().__init__()
        self._probe = probe

    def compose(self) -> ComposeResult:
        """Lay out words and chart."""
        proposal = self._probe.proposal()
        with Vertical():
            yield Static(Content(shown(self._probe.verdict(), 2000)))
            chart = _Chart()
            chart.probe = self._probe
            yield chart
            if proposal is None or not proposal.changes:
                yield Static(Content("Esc closes"))
            else:
                change = proposal.changes[0]
                yield Static(Content(f"Enter puts it on the sheet: {shown(change_words(change))}"
                                     "    Esc closes"))
