"""The frame of the application: what stands around the views, which view is in front, and the
state it shows.
"""

from __future__ import annotations

from dataclasses import replace
from typing import ClassVar

from textual.app import App, ComposeResult
from textual.binding import Binding, BindingType
from textual.events import Event, InputEvent
from textual.widgets import ContentSwitcher

from axiarch.journal.workspace import Workspace
from axiarch.tui import messages
from axiarch.tui.actions import ACTIONS
from axiarch.tui.feed import Feed
from axiarch.tui.palette import DARK, LIGHT, theme
from axiarch.tui.quiet import LOOK, Tidier
from axiarch.tui.state import State
from axiarch.tui.views.data import DataView
from axiarch.tui.views.field import FieldView
from axiarch.tui.views.ladder import LadderView
from axiarch.tui.views.predictions import PredictionsView
from axiarch.tui.views.sheet import SheetView
from axiarch.tui.views.strips import StripsView
from axiarch.tui.views.view import View
from axiarch.tui.widgets.frame import Keys, Notice, Trail, Verdict


class FramedApp(App[str]):
    """An application of views on one workspace; it hands state down, and only the view in front
    draws.
    """

    CSS = """
    ContentSwitcher { height: 1fr; }
    CommandPalette SearchIcon { display: none; }
    CommandPalette > Vertical { width: 84; max-width: 94%; }
    """
    BINDINGS: ClassVar[list[BindingType]] = [
        Binding(key, action, words, show=False)
        for key, action, words in {
            (a.key, "quit" if a.name == "quit" else f"act({a.key!r})", "") for a in ACTIONS
            if a.name not in ("command_palette",)
        }
    ]

    def __init__(self, workspace: Workspace, view: str = "") -> None:
        super().__init__()
        for name in (DARK, LIGHT):
            self.register_theme(theme(name))
        self.theme = DARK
        self._workspace = workspace
        self._first_view = view
        self._state = State()
        self._past: list[str] = []
        self._tidier = Tidier()
        self._feed = Feed(workspace, lambda s: self.post_message(messages.SnapshotTaken(s)),
                          lambda e: self.post_message(messages.ErrorRaised(e)))

    def compose(self) -> ComposeResult:
        """Lay out the frame and the views in it."""
        yield Trail()
        yield Verdict()
        with ContentSwitcher(initial="data"):
            yield DataView("data")
            yield SheetView("sheet")
            yield FieldView("field")
            yield LadderView("ladder")
            yield StripsView("strips")
            yield PredictionsView("predictions")
        yield Notice()
        yield Keys()

    def on_mount(self) -> None:
        """Start watching."""
        self._feed.start()
        self.set_interval(LOOK, self._tidier.tidy)

    async def on_event(self, event: Event) -> None:
        """Take note of keys and the mouse on their way."""
        if isinstance(event, InputEvent):
            self._tidier.touch()
        await super().on_event(event)

    def on_unmount(self) -> None:
        """Stop watching."""
        self._feed.end()

    def get_theme_variable_defaults(self) -> dict[str, str]:
        """Return the variables of our style sheets before a theme is chosen."""
        return theme(DARK).variables

    @property
    def view(self) -> str:
        """The view in front."""
        return str(self.query_one(ContentSwitcher).current)

    def front(self) -> View:
        """Return the view in front."""
        return self.query_one(f"#{self.view}", View)

    def _show(self, **changes: object) -> None:
        """Change the state and hand it to what is in front."""
        self._state = replace(self._state, **changes)  # type: ignore[arg-type]
        if not self.query(Trail):  # the screen is being taken down
            return
        trail = self.query_one(Trail)
        trail.view, trail.state = self.view, self._state
        keys = self.query_one(Keys)
        keys.view = self.view
        keys.search = self._state.snapshot.search.state if self._state.snapshot else ""
        self.front().take(self._state)
        self.query_one(Verdict).text = self.front().verdict(
        ) if self._state.looked else "Reading the workspace."

    def _go(self, view: str, remember: bool = True) -> None:
        """Go to a view: the notice has been read."""
        if remember and view != self.view:
            self._past.append(self.view)
        self.query_one(Notice).say()
        self._bring(view)

    def _bring(self, view: str) -> None:
        """Bring a view to the front."""
        self.query_one(ContentSwitcher).current = view
        self._show()
        self.front().focus_main()
