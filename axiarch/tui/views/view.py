"""What all views have in common: they get the state, say their verdict, and draw only while in
front.
"""

from __future__ import annotations

from textual.containers import Vertical

from axiarch.tui.state import State


class View(Vertical):
    """One view; the app hands it the state and asks for its verdict."""

    DEFAULT_CSS = "View { height: 1fr; padding: 0; }"

    def __init__(self, id: str) -> None:
        super().__init__(id=id)
        self.state = State()

    def take(self, state: State) -> None:
        """Show another state; called only while the view is in front."""
        self.state = state
        self.show()

    def show(self) -> None:
        """Bring what is drawn up to date with the state."""

    def verdict(self) -> str:
        """Return the first lines of the view, in words."""
        return ""

    def focus_main(self) -> None:
        """Give the keyboard to the part that takes it."""
