"""Moving between views, help, and the theme."""

from __future__ import annotations

from collections.abc import Callable

from axiarch.tui.action import VIEWS, Action
from axiarch.tui.doing.context import Context
from axiarch.tui.palette import DARK, LIGHT
from axiarch.tui.widgets.dialogs import Help
from axiarch.tui.widgets.frame import Notice

_NAMES = tuple(name for _, name, _ in VIEWS)


def command_palette(c: Context) -> None:
    """Find an action by words."""
    c.frame.open_palette()


def next_step(c: Context) -> None:
    """Show the next view in the order of the work."""
    c.go(_NAMES[min(_NAMES.index(c.view) + 1, len(_NAMES) - 1)])


def back(c: Context) -> None:
    """End the work on data, close the notice, or go back to the view before."""
    notice = c.widget(Notice)
    if c.adding:
        c.pending.clear()
        c.give_up.set()
    elif notice.display:
        notice.say()
    elif c.past:
        c.go(c.past.pop(), remember=False)


def toggle_theme(c: Context) -> None:
    """Turn from dark to light or back."""
    c.frame.theme = LIGHT if c.frame.theme == DARK else DARK
    for each in c.app.query("*"):
        each.refresh()


def explain(c: Context) -> None:
    """Explain the view in front."""
    c.ask(Help(c.view, _actions(c)))


def to(view: str) -> Callable[[Context], None]:
    """Return what goes to a view."""
    return lambda c: c.go(view)


def leave(c: Context) -> None:
    """Quit, and print which searches keep running in the background."""
    c.app.exit(farewell(c))


def farewell(c: Context) -> str:
    """Return what to print about a search that keeps running when the user quits."""
    s = c.state.snapshot
    if s is None or s.search.state not in ("running", "preparing", "paused"):
        return ""
    stays = "keeps running in the background"
    if s.search.state == "paused":
        stays = "stays paused"
    return f"Search {s.search.number} {stays}. To see it, open {c.workspace.folder} again."


def _actions(c: Context) -> list[Action]:
    """Return what can be done in the view in front, its own actions first."""
    own = [action for action in c.actions if c.view in action.views]
    return own + [action for action in c.actions if not action.views]
