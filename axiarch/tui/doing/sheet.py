"""What a user does on the sheet: edit, start, keep versions."""

from __future__ import annotations

from axiarch import workflows
from axiarch.errors import AxiarchError
from axiarch.recipes.recipe import Recipe
from axiarch.tui import messages
from axiarch.tui.doing.asking import chosen, write
from axiarch.tui.doing.context import Context
from axiarch.tui.doing.work import later, start_search
from axiarch.tui.views.sheet import SheetView
from axiarch.tui.widgets.dialogs import Asked
from axiarch.tui.widgets.versions import Versions


def edit(c: Context) -> None:
    """Edit the value under the cursor."""
    c.widget(SheetView).edit()


def vary(c: Context) -> None:
    """Let the value under the cursor vary, or fix it."""
    c.widget(SheetView).vary()


def undo(c: Context) -> None:
    """Undo the last edit."""
    c.widget(SheetView).undo()


def redo(c: Context) -> None:
    """Redo what was undone."""
    c.widget(SheetView).redo()


def write_file(c: Context) -> None:
    """Write the search on the sheet as a file."""
    draft = c.state.draft
    if draft is not None:
        path = c.workspace.exports / "search.toml"
        write(c, [path], lambda force: [workflows.export_search(draft, path, force)])


def start(c: Context) -> None:
    """Start the search on the sheet."""
    if c.adding:
        later(c, lambda: start(c))
    elif c.state.draft is not None:
        c.say(("starting the search", "faint"))
        start_search(c)


def train_once(c: Context) -> None:
    """Train the base recipe once, and watch it."""
    if c.adding:
        later(c, lambda: train_once(c))
    elif c.state.draft is not None:
        c.say(("starting the training", "faint"))
        start_search(c, once=True)


def rebase(c: Context) -> None:
    """Make the recipe in front the base on the sheet."""
    s = c.state.snapshot
    number = chosen(c)
    if s is None or number not in s.recipes:
        return
    recipe = s.recipes[number].recipe
    c.go("sheet")
    c.widget(SheetView).rebase(recipe)
    c.post(
        messages.Noted(
            f"The base is recipe {number} of search {s.search.number} now; press u to undo."))


def keep_version(c: Context) -> None:
    """Ask for a note and keep the base recipe as a version."""
    draft = c.state.draft
    if draft is not None:
        base = draft.space.base
        c.ask(
            Asked(
                "Keep the base recipe as a version?",
                "It is kept with its time, what changed against the version before, and a "
                "note of yours.",
                "a note; or a name, a colon, and a note"), lambda note: None
            if note is None else keep_version_as(c, base, note))


def keep_version_as(c: Context, base: Recipe, note: str) -> None:
    try:
        version = workflows.keep_version(c.workspace, base, note)
    except AxiarchError as error:
        c.post(messages.ErrorRaised(error))
        return
    c.show(versions=workflows.versions(c.workspace))
    c.post(messages.Noted(f"Kept as version {version.number}: {version.name}."))


def versions(c: Context) -> None:
    """Look through the versions kept, beside the base recipe."""
    draft = c.state.draft
    if draft is None:
        return
    kept = workflows.versions(c.workspace)
    c.show(versions=kept)
    c.ask(Versions(kept, draft.space.base), lambda number: take_version(c, number))


def take_version(c: Context, number: str | None) -> None:
    if number:
        version = next(v for v in c.state.versions if v.number == int(number))
        c.widget(SheetView).rebase(version.recipe)
        c.post(messages.Noted(f"The base is version {number} now; press u to undo."))
