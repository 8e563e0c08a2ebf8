"""The application: the frame around the views, and the routing of keys and messages.

What keys do and what messages bring is in functions of :mod:`axiarch.tui.doing`.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping
from typing import Any, ClassVar

from textual.app import App, ComposeResult
from textual.binding import Binding, BindingType
from textual.events import Event, InputEvent
from textual.message import Message
from textual.widgets import ContentSwitcher

from axiarch import workflows
from axiarch.journal.workspace import Workspace
from axiarch.tui import messages
from axiarch.tui.action import Action
from axiarch.tui.actions import ACTIONS, actions_of
from axiarch.tui.doing import moving, probing, recipes, taking, work
from axiarch.tui.doing.context import Context
from axiarch.tui.farewell import last_words
from axiarch.tui.feed import Feed
from axiarch.tui.palette import DARK, LIGHT, theme
from axiarch.tui.quiet import LOOK, Tidier
from axiarch.tui.search import ActionFinder
from axiarch.tui.state import State
from axiarch.tui.views.data import DataView
from axiarch.tui.views.field import FieldView
from axiarch.tui.views.ladder import LadderView
from axiarch.tui.views.predictions import PredictionsView
from axiarch.tui.views.sheet import SheetView
from axiarch.tui.views.strips import StripsView
from axiarch.tui.views.view import View
from axiarch.tui.widgets.frame import Keys, Notice, Trail, Verdict


class AxiarchApp(App[str]):
    """The full-screen application on one workspace; it hands state down, and only the view in
    front draws.
    """

    TITLE = "Axiarch"
    ENABLE_COMMAND_PALETTE = True
    COMMANDS = {ActionFinder}
    CSS = """
    ContentSwitcher { height: 1fr; }
    CommandPalette SearchIcon { display: none; }
    CommandPalette > Vertical { width: 84; max-width: 94%; }
    """
    BINDINGS: ClassVar[list[BindingType]] = [
        Binding(key, action, words, show=False)
        for key, action, words in {
            (a.key, "quit" if a.name == "quit" else f"act({a.key!r})", "")
            for a in ACTIONS if a.name != "command_palette"}
    ]

    def __init__(self, workspace: Workspace, view: str = "") -> None:
        super().__init__()
        for name in (DARK, LIGHT):
            self.register_theme(theme(name))
        self.theme = DARK
        self._tidier = Tidier()
        feed = Feed(workspace, lambda s: self.post_message(messages.SnapshotTaken(s)),
                    lambda e: self.post_message(messages.ErrorRaised(e)))
        self.context = Context(self, self, ACTIONS, workspace, feed, view)

    # -- the frame -------------------------------------------------------------------------------

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
        """Start watching, and look at the workspace."""
        workflows.keep_engine()
        self.context.feed.start()
        self.set_interval(LOOK, self._tidier.tidy)
        work.load(self.context)

    async def on_event(self, event: Event) -> None:
        """Take note of keys and the mouse on their way."""
        if isinstance(event, InputEvent):
            self._tidier.touch()
        await super().on_event(event)

    def on_unmount(self) -> None:
        """Stop watching."""
        self.context.feed.end()

    def get_theme_variable_defaults(self) -> dict[str, str]:
        """Return the variables of our style sheets before a theme is chosen."""
        return theme(DARK).variables

    @property
    def state(self) -> State:
        """What is shown."""
        return self.context.state

    @property
    def view(self) -> str:
        """The view in front."""
        return str(self.query_one(ContentSwitcher).current)

    def front(self) -> View:
        """Return the view in front."""
        return self.query_one(f"#{self.view}", View)

    def show(self) -> None:
        """Hand the state to what is in front."""
        if not self.query(Trail):  # the screen is being taken down
            return
        state, trail, keys = self.context.state, self.query_one(Trail), self.query_one(Keys)
        trail.view, trail.state = self.view, state
        keys.actions = actions_of(self.view)
        keys.search = state.snapshot.search.state if state.snapshot else ""
        self.front().take(state)
        words = self.front().verdict() if state.looked else "Reading the workspace."
        self.query_one(Verdict).text = words

    def bring(self, view: str) -> None:
        """Bring a view to the front."""
        self.query_one(ContentSwitcher).current = view
        self.show()
        self.front().focus_main()

    def open_palette(self) -> None:
        """Find an action by words."""
        self.action_command_palette()

    # -- keys ------------------------------------------------------------------------------------

    def action_act(self, key: str) -> None:
        """Do what a key means in the view in front."""
        for action in ACTIONS:
            if action.key == key and action.here(self.view):
                action.do(self.context)
                return

    def perform(self, action: Action) -> None:
        """Do one action of the table, in a view where it can be done."""
        if not action.here(self.view):
            self.context.go(action.views[0])
        action.do(self.context)

    async def action_quit(self) -> None:
        """Leave."""
        moving.leave(self.context)

    def _fatal_error(self) -> None:
        """Leave after an internal error: in words, and with where it happened, but not with the
        values of variables, which are thousands and hold texts of others.
        """
        self.panic(last_words(self._exception))


#: What takes each message.
ROUTES: Mapping[type[Message], Callable[[Context, Any], None]] = {
    messages.SnapshotTaken: taking.snapshot_taken,
    messages.ErrorRaised: taking.error_raised,
    messages.Noted: taking.noted,
    messages.StepTaken: taking.step_taken,
    messages.ViewWanted: taking.view_wanted,
    messages.RecipePointed: taking.recipe_pointed,
    messages.RecipeOpened: taking.recipe_opened,
    messages.PredictionsWanted: taking.predictions_wanted,
    messages.PredictionsMade: taking.predictions_made,
    messages.EffectsMade: taking.effects_made,
    messages.Compared: recipes.compared,
    messages.Foreseen: taking.foreseen,
    messages.Probed: probing.probed,
    messages.DraftEdited: taking.draft_edited,
    messages.ForecastMade: taking.forecast_made,
    messages.SearchStarted: taking.search_started,
    messages.DataAdded: taking.data_added,
    messages.SealOpened: taking.seal_opened,
}


def _handler(take: Callable[[Context, Any], None]) -> Callable[[AxiarchApp, Message], None]:

    def handle(app: AxiarchApp, message: Message) -> None:
        if app.query(ContentSwitcher):  # or the screen is being taken down
            take(app.context, message)

    return handle


for _message, _take in ROUTES.items():
    setattr(AxiarchApp, _message.handler_name, _handler(_take))
