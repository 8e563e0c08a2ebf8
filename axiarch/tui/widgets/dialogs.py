"""What stands over a view: a question, the help."""

from __future__ import annotations

from collections.abc import Sequence

from textual.app import ComposeResult
from textual.containers import Vertical, VerticalScroll
from textual.content import Content
from textual.screen import ModalScreen
from textual.widgets import Input, Static

from axiarch.text import shown
from axiarch.tui.action import VIEWS, Action
from axiarch.tui.terms import ABOUT, TERMS


def harmless(text: str) -> Content:
    """Return text of several lines without markup, its control characters shown."""
    return Content("\n".join(map(shown, text.split("\n"))))


class _Dialog(ModalScreen[str]):
    """A framed box in the middle; escape closes it without an answer."""

    DEFAULT_CSS = """
    _Dialog { align: center middle; background: $background 60%; }
    _Dialog > Vertical { width: 76; max-width: 94%; height: auto; max-height: 90%; padding: 1 2;
        border: round $rule; background: $background; }
    _Dialog Static { width: 100%; height: auto; }
    _Dialog .faint { color: $faint; }
    """

    BINDINGS = [("escape", "dismiss('')", "close")]


class Question(_Dialog):
    """Asks before something that cannot simply be undone; y answers yes."""

    BINDINGS = [("y", "dismiss('yes')", "yes"), ("n", "dismiss('')", "no")]

    def __init__(self, question: str, consequence: str) -> None:
        super().__init__()
        self._question, self._consequence = question, consequence

    def compose(self) -> ComposeResult:
        """Lay out the question."""
        with Vertical():
            yield Static(harmless(self._question))
            yield Static(harmless(self._consequence), classes="faint")
            yield Static(Content("\ny yes    esc no"), classes="faint")


class Message(_Dialog):
    """Shows lines of text; any of its keys closes it."""

    DEFAULT_CSS = """
    Message > Vertical { width: 96%; max-width: 120; }
    Message VerticalScroll { height: auto; max-height: 24; }
    """
    BINDINGS = [("enter", "dismiss('')", "close")]

    def __init__(self, title: str, text: str) -> None:
        super().__init__()
        self._title, self._text = title, text

    def compose(self) -> ComposeResult:
        """Lay out title and text."""
        with Vertical():
            yield Static(harmless(self._title))
            with VerticalScroll():
                yield Static(harmless(self._text), classes="faint")
            yield Static(Content("\nesc closes"), classes="faint")


class Asked(_Dialog):
    """Asks for a line of text; empty if it is left."""

    DEFAULT_CSS = ("Asked Input, Asked Input:focus { border: none; height: 1; padding: 0; "
                   "background: $select; }")

    def __init__(self, question: str, consequence: str, hint: str, value: str = "") -> None:
        super().__init__()
        self._question, self._consequence = question, consequence
        self._hint, self._value = hint, value

    def compose(self) -> ComposeResult:
        """Lay out question and line."""
        with Vertical():
            yield Static(harmless(self._question))
            yield Static(harmless(self._consequence + "\n"), classes="faint")
            yield Input(self._value, placeholder=self._hint, max_length=300)
            yield Static(Content("\nEnter accepts    Esc cancels"), classes="faint")

    def on_input_submitted(self, event: Input.Submitted) -> None:
        """Answer with the line."""
        self.dismiss(event.value.strip())


class Help(_Dialog):
    """Explains the view in front, its keys and its terms."""

    BINDINGS = [("question_mark,q", "dismiss('')", "close")]
    DEFAULT_CSS = ("Help VerticalScroll { height: auto; max-height: 30; padding-right: 1; "
                   "scrollbar-size-vertical: 1; }")

    def __init__(self, view: str, actions: Sequence[Action]) -> None:
        super().__init__()
        self._view, self._actions = view, actions

    def compose(self) -> ComposeResult:
        """Lay out the help."""
        question = next(q for _, name, q in VIEWS if name == self._view)
        with Vertical(), VerticalScroll():
            yield Static(
                Content.assemble((self._view.capitalize(), "bold"), ("  " + question, "$primary")))
            yield Static(Content("\n" + ABOUT[self._view]))
            keys = [(f"\n{a.shown_key:>6}  ", a.words) for a in self._actions]
            yield Static(
                Content.assemble("\nKeys",
                                 *(p for k, w in keys for p in ((k, "$primary"), shown(w)))))
            terms = [(f"\n{term}", f": {text}") for term, text in TERMS[self._view]]
            yield Static(
                Content.assemble("\nTerms", *(p for t, x in terms for p in ((t, "$secondary"), x))))
            yield Static(Content("\nesc closes this"), classes="faint")
