"""Questions that several actions ask: which recipe, how many, whether to replace files."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

from axiarch.tui import messages
from axiarch.tui.doing.context import Context
from axiarch.tui.doing.work import write_beside
from axiarch.tui.views.ladder import LadderView
from axiarch.tui.widgets.dialogs import Asked, Question


def chosen(c: Context) -> int:
    """Return the recipe that is meant: under the cursor of the ladder, or the open one; 0 if
    there is none.
    """
    s = c.state.snapshot
    if s is None:
        return 0
    return c.widget(LadderView).selected() if c.view == "ladder" else c.state.open_recipe


def ask_number(c: Context, question: str, why: str, value: int, then: Callable[[int],
                                                                         object]) -> None:
    """Ask for a whole number, and call `then` with it."""

    def answered(text: str | None) -> None:
        if not text:
            return
        if text.isdecimal() and int(text) > 0:
            then(int(text))
        else:
            c.post(
                messages.Noted(f"{text!r} is not a whole number above 0; nothing was changed."))

    c.ask(Asked(question, why, "a whole number", str(value)), answered)


def replacing(c: Context, paths: list[Path], write: Callable[[bool], object]) -> None:
    """Call `write` with whether to replace files; asks first where some of `paths` exist."""
    there = [path.name for path in paths if path.exists()]
    if not there:
        write(False)
        return

    def answered(answer: str | None) -> None:
        if answer == "yes":
            write(True)

    c.ask(
        Question(f"Replace {', '.join(there)}?",
                 f"Exported before to {paths[0].parent}. What they hold now is lost."),
        answered)


def search_runs(c: Context) -> bool:
    s = c.state.snapshot
    if s is None or s.over:
        c.post(messages.Noted("This needs a running search."))
        return False
    return True


def write(c: Context, paths: list[Path], write: Callable[[bool], list[Path]]) -> None:
    """Write files, after asking where some of them are there already."""
    replacing(c, paths, lambda force: write_beside(c, lambda: write(force)))
