"""What functions of the application work on: its state, and what they may ask of its frame."""

from __future__ import annotations

import threading
from collections import deque
from collections.abc import Callable
from dataclasses import dataclass, field
from typing import Any, Protocol, TypeVar

from textual.message import Message
from textual.screen import Screen
from textual.timer import Timer
from textual.widget import Widget

from axiarch.data.dataset import Dataset
from axiarch.journal.workspace import Workspace
from axiarch.tui.action import Action
from axiarch.tui.feed import Feed
from axiarch.tui.state import State
from axiarch.tui.views.view import View
from axiarch.tui.widgets.frame import Notice
from axiarch.workflows.snapshot import Snapshot

_Widget = TypeVar("_Widget", bound=Widget)


class Frame(Protocol):
    """What is asked of the application around the views."""

    theme: str

    @property
    def view(self) -> str:
        """The view in front."""

    def front(self) -> View:
        """Return the view in front."""

    def show(self) -> None:
        """Hand the state to what is in front."""

    def bring(self, view: str) -> None:
        """Bring a view to the front."""

    def open_palette(self) -> None:
        """Find an action by words."""


@dataclass
class Context:
    """The state of the application, and its frame.

    Attributes
    ----------
    app : Any
        The application, for what Textual does.
    frame : Frame
        The same, for what is our own.
    actions : tuple of Action
    workspace : Workspace
    feed : Feed
    first_view : str
        The view that is shown first; empty for the one that fits.
    state : State
        What is shown, frozen.
    past : list of str
        Views to go back to.
    pending : deque of callable
        Keys that wait until the data set under way is there.
    decided : list of (Dataset, str)
        Data sets before each decision about them, the latest last, and the one that it made.
    adding : bool
        Whether a data set is being made.
    give_up : Event
        Set to cancel that.
    settling : Timer or None
        Runs out when the draft has not been edited for a moment.
    confirming : dict
        Of searches on fresh seeds: the search and the recipe that each confirms.
    predicting : (int, int, str) or None
        Search, recipe and part of the predictions under way.
    foreseen : int
        The search at whose end it was last worked out what is expected of other recipes.
    """

    app: Any
    frame: Frame
    actions: tuple[Action, ...]
    workspace: Workspace
    feed: Feed
    first_view: str = ""
    state: State = field(default_factory=State)
    past: list[str] = field(default_factory=list)
    pending: deque[Callable[[], None]] = field(default_factory=deque)
    decided: list[tuple[Dataset, str]] = field(default_factory=list)
    adding: bool = False
    give_up: threading.Event = field(default_factory=threading.Event)
    settling: Timer | None = None
    confirming: dict[int, tuple[Snapshot, int]] = field(default_factory=dict)
    predicting: tuple[int, int, str] | None = None
    foreseen: int = 0

    @property
    def view(self) -> str:
        """The view in front."""
        return self.frame.view

    def front(self) -> View:
        """Return the view in front."""
        return self.frame.front()

    def widget(self, kind: type[_Widget]) -> _Widget:
        """Return the one widget of a kind."""
        found: _Widget = self.app.query_one(kind)
        return found

    def show(self, **changes: object) -> None:
        """Change the state and hand it to what is in front."""
        from dataclasses import replace

        self.state = replace(self.state, **changes)  # type: ignore[arg-type]
        self.frame.show()

    def go(self, view: str, remember: bool = True) -> None:
        """Go to a view: the notice has been read."""
        if remember and view != self.view:
            self.past.append(self.view)
        self.say()
        self.frame.bring(view)

    def bring(self, view: str) -> None:
        """Bring a view to the front."""
        self.frame.bring(view)

    def say(self, *parts: tuple[str, str]) -> None:
        """Show a notice, or none."""
        self.widget(Notice).say(*parts)

    def post(self, message: Message) -> None:
        """Post a message, from any thread."""
        self.app.post_message(message)

    def ask(self, screen: Screen[Any], then: Callable[[Any], object] | None = None) -> None:
        """Show a screen in front, and take its answer."""
        self.app.push_screen(screen, then)

    def call(self, function: Callable[..., object], *arguments: object) -> None:
        """Call a function in the interface's loop, from a thread."""
        self.app.call_from_thread(function, *arguments)

    def after(self, seconds: float, function: Callable[[], None]) -> Timer:
        """Call a function after a while."""
        timer: Timer = self.app.set_timer(seconds, function)
        return timer

    def in_thread(self, job: Callable[[], None], group: str, exclusive: bool = True) -> None:
        """Do a job beside the interface's loop; with `exclusive`, in place of others of its group.
        """
        self.app.run_worker(job, thread=True, exclusive=exclusive, group=group)

    def in_thread_and_post(self, job: Callable[[], Message | None], group: str) -> None:
        """Do a job beside the interface's loop, and post what comes of it."""
        from axiarch.errors import AxiarchError
        from axiarch.tui import messages

        def work() -> None:
            try:
                done = job()
            except AxiarchError as error:
                done = messages.ErrorRaised(error)
            if done is not None:
                self.post(done)

        self.in_thread(work, group, False)
