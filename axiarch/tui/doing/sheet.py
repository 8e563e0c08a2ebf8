"""What a user does on the sheet: edit, start, keep versions."""

from __future__ import annotations

from axiarch import workflows
from axiarch.errors import AxiarchError
from axiarch.insight.proposal import Change
from axiarch.recipes.recipe import Recipe
from axiarch.recipes.searchfile import SearchFile
from axiarch.tui import messages
from axiarch.tui.doing.asking import chosen, write
from axiarch.tui.doing.context import Context
from axiarch.tui.doing.work import later, start_search
from axiarch.tui.views.sheet import SheetView
from axiarch.tui.widgets.dialogs import Asked, Question
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


def propose(c: Context, change: Change, search: SearchFile | None = None) -> None:
    """Show what a change would do on the sheet, and do it if that is wanted.

    Parameters
    ----------
    search : SearchFile, optional
        What is changed; by default the draft on the sheet.
    """
    search = search or c.state.draft
    if search is None:
        return
    lines = change.preview(search)
    if not lines:
        c.post(messages.Noted(f"{change.words}: the sheet has these values already."))
        return
    after = change.applied(search)
    c.ask(Question(f"{change.words}?", "\n".join([*lines, "", "u on the sheet undoes it."])),
          lambda answer: put_on_sheet(c, after, f"{change.words}: done. s starts the search, u "
                                      "undoes this.") if answer == "yes" else None)


def put_on_sheet(c: Context, draft: SearchFile, note: str) -> None:
    """Make a search the draft on the sheet, with the data set it is about; u undoes it."""
    dataset = c.state.dataset
    if dataset is None or dataset.name != draft.data:
        try:
            c.show(dataset=workflows.data_set(c.workspace, draft.data))
        except AxiarchError as error:
            c.post(messages.ErrorRaised(error))
            return
    c.go("sheet")
    c.widget(SheetView).put(draft)
    c.post(messages.Noted(note))


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
