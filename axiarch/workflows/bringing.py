"""Bring in finished trainings of other origin, so that they are ranked with those of a search,
and marked.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path

from axiarch.data.trainings import Training, read_trainings
from axiarch.errors import AxiarchError, InputError
from axiarch.journal.workspace import Workspace
from axiarch.journal.write import JournalWriter
from axiarch.recipes.fields import FIELDS
from axiarch.recipes.notation import fixed_values
from axiarch.recipes.recipe import Recipe
from axiarch.runs.epoch import Epoch
from axiarch.runs.states import RunState
from axiarch.runs.steady import steady
from axiarch.text import count, shown
from axiarch.workflows.snapshot import Snapshot
from axiarch.workflows.watching import snapshot_of

#: Characters of what is kept of the settings that are not ours.
_MOST_TEXT = 300


@dataclass(frozen=True)
class Brought:
    """What was brought in.

    Attributes
    ----------
    search : int
        The search that they are ranked in.
    recipes : tuple of int
        Their numbers there.
    runs : int
    known, left_out : tuple of str
        Columns read as values of a recipe, and columns of which nothing was kept.
    """

    search: int
    recipes: tuple[int, ...]
    runs: int
    known: tuple[str, ...]
    left_out: tuple[str, ...]

    def __str__(self) -> str:
        numbers = f"{self.recipes[0]} to {self.recipes[-1]}" if len(self.recipes) > 1 else str(
            self.recipes[0])
        known = (" Read as our settings: "
                 f"{', '.join(shown(n, 30) for n in self.known)}.") if self.known else ""
        left = (" Left out: "
                f"{', '.join(shown(n, 30) for n in self.left_out)}.") if self.left_out else ""
        return (f"{count(self.runs, 'training')} of other origin ranked in search {self.search} as "
                f"{'recipes' if len(self.recipes) > 1 else 'recipe'} {numbers}.{known}{left}")


def bring_in(workspace: Workspace, source: Path, number: int = 0) -> Brought:
    """Enter the trainings of a table into a finished search; 0 is the newest.

    Losses are taken as they are given: they must be the loss of the search, on the same validation
    rows.

    Raises
    ------
    DataError
        If the table cannot be read; see :func:`axiarch.data.trainings.read_trainings`.
    InputError
        If the search is not done.
    WorkspaceLocked, WorkspaceReadOnly
        Nothing has been changed then.
    """
    snapshot = snapshot_of(workspace, number)
    if snapshot.search.state != "done":
        raise InputError(f"search {snapshot.search.number} is {snapshot.search.state}", "search",
                         "bring trainings into a search that is done")
    trainings, left_out = read_trainings(source, snapshot.dataset.target.metrics)
    groups: dict[tuple[tuple[str, str], ...], list[Training]] = {}
    for training in trainings:
        groups.setdefault(tuple(training.settings.items()), []).append(training)
    known: list[str] = []
    first, entered = max(snapshot.recipes, default=0) + 1, []
    with workspace.locked("bringing in trainings"):
        journal = JournalWriter(workspace.journal)
        try:
            with journal.transaction():
                for at, (settings, own) in enumerate(groups.items()):
                    recipe, origin, ours = _recipe(dict(settings), source.name,
                                                   len(own[0].validation))
                    known += [name for name in ours if name not in known]
                    journal.add_recipe(snapshot.search.number, first + at, recipe, 0, origin)
                    entered.append(first + at)
                    _enter(journal, snapshot, first + at, own)
                journal.add_event(
                    snapshot.search.number, "brought in",
                    f"{count(len(trainings), 'training')} of other origin from "
                    f"{shown(source.name, 80)}"
                )
        finally:
            journal.close()
    return Brought(snapshot.search.number, tuple(entered), len(trainings), tuple(known),
                   tuple(left_out))


def _enter(journal: JournalWriter, snapshot: Snapshot, recipe: int,
           trainings: Sequence[Training]) -> None:
    """Enter the runs of one recipe; their epochs cost this search nothing."""
    metrics = snapshot.dataset.target.metrics
    for repeat, training in enumerate(trainings):
        epochs = len(training.validation)
        diverged = not math.isfinite(training.validation[-1])
        run = journal.add_run(snapshot.search.number, recipe, repeat, 0, epochs)
        unknown = (math.nan,) * epochs
        journal.add_epochs(
            Epoch(run, i + 1, training.training[i], training.training[i], training.validation[i],
                        tuple(training.metrics.get(name, unknown)[i]
                              for name in metrics), training.rates[i], 0.0,
                        training.seconds[i] if math.isfinite(training.seconds[i]) else 0.0)
            for i in range(epochs))
        journal.end_run(run, RunState.ENDED, "diverged" if diverged else "completed",
                        "trained elsewhere", 0 if diverged else steady(training.validation)[0])


def _recipe(settings: dict[str, str], file: str, epochs: int) -> tuple[Recipe, str, list[str]]:
    """Return what of some settings is a recipe of ours, the others as text, and the columns that
    were read.
    """
    values: dict[str, object] = {"epochs": epochs}
    words, ours = [], []
    for column, text in settings.items():
        name = column.strip().lower().replace(" ", "_").replace("-", "_")
        if name in FIELDS and text:
            try:
                values[name] = fixed_values([f"{name}={text}"])[name]
                ours.append(column)
                continue
            except AxiarchError:
                pass
        words.append(f"{column} {text or 'not given'}")
    try:
        recipe = Recipe(values)
    except AxiarchError:  # values that do not go together in our networks: all of them stay words
        recipe, ours = Recipe({"epochs": epochs}), []
        words = [f"{column} {text or 'not given'}" for column, text in settings.items()]
    return recipe, f"{file[:80]}: {', '.join(words)}"[:_MOST_TEXT], ours
