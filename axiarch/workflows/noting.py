"""Notes in words on searches and recipes."""

from __future__ import annotations

from contextlib import closing

from axiarch.errors import InputError, WorkspaceMissing
from axiarch.journal.read import JournalReader
from axiarch.journal.records import NoteRecord
from axiarch.journal.workspace import Workspace
from axiarch.journal.write import JournalWriter
from axiarch.text import shown
from axiarch.workflows.watching import newest

#: Characters of a note at the most.
MOST_TEXT = 2000


def keep_note(workspace: Workspace, text: str, search: int = 0, recipe: int = 0) -> NoteRecord:
    """Keep a note on a search (0: the newest), or on a recipe of it.

    Raises
    ------
    InputError
        If it says nothing, or too much.
    WorkspaceMissing
        If there is no such search or recipe.
    WorkspaceLocked
        While a search runs, which alone writes the journal then.
    """
    text = text.strip()
    if not text or len(text) > MOST_TEXT:
        what = "a note cannot be empty" if not text else f"a note of {len(text)} characters"
        raise InputError(what, "note", f"write up to {MOST_TEXT} characters")
    with closing(JournalReader(workspace.journal)) as reader:
        search = search or newest(reader, workspace)
        if reader.search(search) is None or (recipe and not reader.holds(search, recipe)):
            which = f"recipe {recipe} in search {search}" if recipe else f"search {search}"
            raise WorkspaceMissing(f"there is no {which}", shown(workspace.folder),
                                   "see axiarch status")
    with workspace.locked("keeping a note"):
        journal = JournalWriter(workspace.journal)
        try:
            with journal.transaction():
                number = journal.add_note(search, recipe, 0, text)
        finally:
            journal.close()
    return next(n for n in find_notes(workspace) if n.number == number)


def find_notes(workspace: Workspace, words: str = "") -> list[NoteRecord]:
    """Return the notes that hold all of some words, in any case; all notes where there are none."""
    wanted = words.casefold().split()
    with closing(JournalReader(workspace.journal)) as reader:
        return [note for note in reader.notes()
                if all(word in note.text.casefold() for word in wanted)]
