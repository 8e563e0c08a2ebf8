"""A list to choose from: what is proposed, with what it would change."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from textual.app import ComposeResult
from textual.containers import Vertical
from textual.content import Content
from textual.screen import ModalScreen
from textual.widgets import Static

from axiarch.text import shown
from axiarch.tui.plots.runs import Row, Rows, fit, wrap
from axiarch.tui.widgets.drawing import Drawing, Listing


@dataclass(frozen=True)
class Choice:
    """One line of the list: what it does, and below the list why, and what it changes."""

    words: str
    reason: str
    details: tuple[str, ...]


class _Lines(Listing):
    """One line a choice."""

    choices: Sequence[Choice] = ()

    def draw_line(self, index: int, width: int) -> Row:
        """Return a choice."""
        return [(f"{index + 1:>3}  ", "lead"), (fit(self.choices[index].words, width - 5), "ink")]


class _Details(Drawing):
    """Why the choice under the cursor is proposed, and what it changes."""

    choice: Choice | None = None

    def draw(self, width: int, height: int) -> Rows:
        """Return the lines."""
        if self.choice is None:
            return []
        rows = [*wrap(self.choice.reason, width, "ink"), []]
        for line in self.choice.details:
            rows += wrap(line, width, "second")
        return rows[:height]


class Choices(ModalScreen[str]):
    """Chooses one of a list: enter starts it, s puts it on the sheet, escape changes nothing."""

    DEFAULT_CSS = """
    Choices { align: center middle; background: $background 60%; }
    Choices > Vertical { width: 96%; max-width: 110; height: 22; max-height: 92%; padding: 1 2;
        border: round $rule; background: $background; }
    Choices Static { height: auto; }
    Choices _Lines { height: auto; max-height: 8; margin: 1 0; }
    Choices _Details { height: 1fr; }
    """
    BINDINGS = [("escape", "dismiss('')", "close"), ("enter", "take('start')", "start"),
                ("s", "take('sheet')", "sheet")]

    def __init__(self, title: str, choices: Sequence[Choice],
                 keys: str = "Enter starts the follow-up search    s puts the change on the "
                             "sheet    Esc closes") -> None:
        super().__init__()
        self._title, self._choices, self._keys = title, tuple(choices), keys

    def compose(self) -> ComposeResult:
        """Lay out list and details."""
        with Vertical():
            yield Static(Content(shown(self._title, 300)))
            lines, details = _Lines(), _Details()
            lines.choices, lines.count = self._choices, len(self._choices)
            details.choice = self._choices[0] if self._choices else None
            yield lines
            yield details
            yield Static(Content(self._keys))

    def on_mount(self) -> None:
        """Give the keyboard to the list."""
        self.query_one(_Lines).focus()

    def on_listing_moved(self, event: Listing.Moved) -> None:
        """Explain the choice under the cursor."""
        details = self.query_one(_Details)
        details.choice = self._choices[self.query_one(_Lines).cursor]
        details.redraw()

    def on_listing_chosen(self, event: Listing.Chosen) -> None:
        """Take the choice clicked twice."""
        self.action_take("start")

    def action_take(self, how: str) -> None:
        """Take the choice under the cursor."""
        if self._choices:
            self.dismiss(f"{how} {self.query_one(_Lines).cursor}")
