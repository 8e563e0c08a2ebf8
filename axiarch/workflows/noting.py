"""Notes in words on searches, recipes and single runs."""

from __future__ import annotations

import re
import time
from contextlib import closing

from axiarch.errors import InputError, WorkspaceLocked, WorkspaceMissing
from axiarch.journal.inbox import MOST_NOTE, Note, send
from axiarch.journal.read import JournalReader
from axiarch.journal.records import NoteRecord
from axiarch.journal.workspace import Workspace
from axiarch.journal.write import JournalWriter
from axiarch.text import moment, shown
from axiarch.workflows.watching import newest

#: Seconds that the runner of a search is given to write a note.
_WRITTEN = 10.0


def keep_note(workspace: Workspace, text: str, search: int = 0, recipe: int = 0, seed: int = 0,
              fold: int = 1) -> NoteRecord:
    """Keep a note on a search (0: the newest), on a recipe of it, or on one of the recipe's runs.

    While a search runs, its runner writes the note.

    Parameters
    ----------
    seed, fold : int
        Which run, both counted from 1; with seed 0 the note is on the recipe as a whole.

    Raises
    ------
    InputError
        If it says nothing, or too much, or a run is named without a recipe.
    WorkspaceMissing
        If there is no such search, recipe or run.
    WorkspaceLocked
        While another process that is no search writes the workspace.
    """
    text = text.strip()
    if not text or len(text) > MOST_NOTE:
        what = "a note cannot be empty" if not text else f"a note of {len(text)} characters"
        raise InputError(what, "note", f"write up to {MOST_NOTE} characters")
    if seed and not recipe:
        raise InputError("a run is one of a recipe", "note", "name the recipe too")
    with closing(JournalReader(workspace.journal)) as reader:
        search = search or newest(reader, workspace)
        if reader.search(search) is None or (recipe and not reader.holds(search, recipe)):
            which = f"recipe {recipe} in search {search}" if recipe else f"search {search}"
            raise WorkspaceMissing(f"there is no {which}", shown(workspace.folder),
                                   "see axiarch status")
        run = _run(reader, search, recipe, seed, fold) if seed else 0
    note = Note(search, recipe, run, text)
    owner = workspace.owner()
    running = re.fullmatch(r"search (\d+)", owner.what) if owner else None
    before = {n.number for n in find_notes(workspace)}
    if running:
        send(workspace.search(int(running[1])), note)
    else:
        with workspace.locked("keeping a note"):
            journal = JournalWriter(workspace.journal)
            try:
                with journal.transaction():
                    journal.add_note(search, recipe, run, text)
            finally:
                journal.close()
    return _written(workspace, before, note)


def _run(reader: JournalReader, search: int, recipe: int, seed: int, fold: int) -> int:
    """Return the number of a run of a recipe."""
    for run in reader.changes(search).runs:
        if (run.recipe, run.repeat + 1, run.fold + 1) == (recipe, seed, fold):
            return run.id
    raise WorkspaceMissing(f"recipe {recipe} has no run of seed {seed}, fold {fold}",
                           f"search {search}", "count seeds and folds from 1")


def _written(workspace: Workspace, before: set[int], note: Note) -> NoteRecord:
    """Wait until a note is in the journal."""
    until = time.monotonic() + _WRITTEN
    while True:
        for found in find_notes(workspace):
            if found.number not in before and (found.search, found.text) == (note.search,
                                                                             note.text):
                return found
        if time.monotonic() > until:
            raise WorkspaceLocked("the search that runs has not written the note yet",
                                  shown(workspace.folder),
                                  "look for it with axiarch notes in a moment")
        time.sleep(0.05)


def about_words(workspace: Workspace, note: NoteRecord) -> str:
    """Say what a note is about."""
    words = f"search {note.search}"
    if note.recipe:
        words += f", recipe {note.recipe}"
    if note.run:
        with closing(JournalReader(workspace.journal)) as reader:
            run = next((r for r in reader.changes(note.search).runs if r.id == note.run), None)
        if run is not None:
            words += f", seed {run.repeat + 1}" + (f", fold {run.fold + 1}" if run.fold else "")
    return words


def find_notes(workspace: Workspace, words: str = "") -> list[NoteRecord]:
    """Return the notes that hold all of some words, in any case; all notes where there are none."""
    wanted = words.casefold().split()
    with closing(JournalReader(workspace.journal)) as reader:
        return [note for note in reader.notes()
                if all(word in note.text.casefold() for word in wanted)]


def note_lines(workspace: Workspace, words: str = "") -> list[str]:
    """Return the notes that hold all of some words as lines of text, oldest first."""
    lines = [f"{each.number:>4}  {moment(each.at)}  {about_words(workspace, each)}: "
             f"{shown(each.text, 300)}" for each in find_notes(workspace, words)]
    return lines or ["No note holds these words." if words.strip() else "No note has been kept."]
