"""Runs that go on from what another run left: from an earlier search, or from another recipe of
the same one.
"""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path

from axiarch.data.dataset import Dataset
from axiarch.engine.checkpoint import carry_over, encode_checkpoint
from axiarch.engine.run import RunSpec
from axiarch.engine.state import TrainingState
from axiarch.engine.streams import Streams
from axiarch.engine.warmstart import first_state, fold_of
from axiarch.errors import InputError, TrainingError
from axiarch.journal.read import JournalReader
from axiarch.journal.workspace import Workspace
from axiarch.journal.write import JournalWriter
from axiarch.recipes.recipe import Recipe
from axiarch.recipes.searchfile import Start, read_search
from axiarch.runner.history import History, Replicate, RunEntry
from axiarch.runner.material import shape_of
from axiarch.runner.store import FolderStore, first_model, latest, named, origin_of
from axiarch.text import shown


@dataclass(frozen=True)
class WarmStart:
    """A run that another goes on from, after the given epoch at the latest, or a model that it
    starts from.

    Its checkpoints are in `folder`. Where there is none of so early an epoch, the other is trained
    `afresh`, if that may be. A `model` is a file in the folder of the search.
    """

    spec: RunSpec
    folder: Path
    replicate: Replicate
    epoch: int
    best: bool
    afresh: bool = False
    model: Path | None = None


class WarmStarts:
    """Finds the runs that others go on from, and hands on what they left."""

    def __init__(self, workspace: Workspace, store: FolderStore, reader: JournalReader,
                 dataset: Dataset, seed: int) -> None:
        self._workspace = workspace
        self._reader = reader
        self._dataset = dataset
        self._seed = seed
        self._store = store

    def of_search(self, start: Start) -> WarmStart:
        """Return the run of an earlier search that this one starts from.

        Raises
        ------
        InputError
            If there is no such run, or it was trained on other data.
        """
        if start.model:
            return self._of_model(start)
        where = f"[start], search {start.search}, run {start.run}"
        known = self._reader.search(start.search)
        changes = self._reader.changes(start.search)
        run = next((r for r in changes.runs if r.id == start.run), None)
        if known is None or run is None:
            raise InputError("there is no such run to start from", where,
                             "name one of a search in this workspace, or leave [start] out")
        if known.data_fingerprint != self._dataset.fingerprint:
            raise InputError("that run was trained on other data", where,
                             "name a run on the same data, or leave [start] out")
        recipe = next(r.recipe for r in changes.recipes if r.number == run.recipe)
        seed = read_search(known.file, "search.toml").seed
        spec = RunSpec(run.id, recipe, Streams(seed, run.repeat, run.fold))
        epochs = sum(e.run == run.id for e in changes.epochs)
        folder = self._workspace.search(start.search) / "checkpoints"
        best = start.at == "best"
        return WarmStart(spec, folder, (run.repeat, run.fold), run.best_epoch if best else epochs,
                      best, not best)

    def _of_model(self, start: Start) -> WarmStart:
        """Return the model that this search starts from: the copy of it in the search's own folder.

        Raises
        ------
        InputError
            If it cannot be used.
        """
        path = first_model(self._store.checkpoints.parent)
        try:
            fold = fold_of(path)
        except TrainingError as error:
            raise InputError(error.what, f"[start], model {shown(start.model, 60)!r}",
                             error.remedy) from None
        if fold >= len(self._dataset.folds):
            raise InputError("the model was made for other data",
                             f"[start], model {shown(start.model, 60)!r}",
                             "start from a model of this data set")
        replicate = (0, fold)
        return WarmStart(RunSpec(0, Recipe({}), Streams(self._seed, *replicate)),
                      self._store.checkpoints,
                      replicate,
                      0,
                      False,
                      model=path)

    def of_run(self, history: History, recipe: int, replicate: Replicate) -> WarmStart:
        """Return the run of another recipe of this search on the same replicate."""
        entry = history.run_on(recipe, replicate)
        if entry is None:
            raise TrainingError(f"recipe {recipe} has no run to continue from", "",
                                "train it first")
        return WarmStart(entry.spec, self._store.checkpoints, replicate, entry.journalled, False)

    def state(self, was: WarmStart, recipe: Recipe) -> TrainingState | None:
        """Return where a run of `recipe` starts that goes on from the run `was`; None if at its
        beginning.

        Where that was stopped short of its last checkpoint's next one, a few epochs are trained
        again.

        Raises
        ------
        TrainingError
            If the networks differ, or there is no checkpoint of such an epoch.
        """
        fold = was.replicate[1]
        if was.model is not None:
            return first_state(was.model, shape_of(recipe, self._dataset, fold),
                               self._dataset.fingerprint)
        run = RunSpec(0, recipe, was.spec.streams)
        kept = FolderStore(was.folder, was.folder)
        for path in map(kept.checkpoint, kept.keys().get(was.spec.id, [])):
            state = carry_over(path, was.spec, shape_of(was.spec.recipe, self._dataset, fold), run,
                               shape_of(recipe, self._dataset, fold), self._dataset.fingerprint,
                               was.epoch, was.best)
            if state is not None:
                return state
        if was.afresh:
            return None
        raise TrainingError(f"no checkpoint of its first {was.epoch} epochs was kept",
                            shown(latest(was.folder, was.spec.id)),
                            "train the recipe from scratch: make it the base of a search")

    def apply(self, was: WarmStart, state: TrainingState, to: RunEntry,
              journal: JournalWriter) -> None:
        """Give a new run the weights and the epochs of the one that it continues."""
        to.origin = origin_of(to.id)
        self._store.put(named(to.origin),
                        encode_checkpoint(to.spec, state, self._dataset.fingerprint))
        if state.epoch:
            journal.copy_epochs(was.spec.id, to.id, state.epoch)
        to.losses = list(state.watch.losses)
