"""What earlier searches of the workspace know of the same data: runs that need not be trained
again, and losses that a method learns from.

A run is a pure function of data, recipe, seed, fold and engine. Where a search that the same engine
trained holds it, its epochs are taken over, and its checkpoint with them. What a method learns from
is copied into the search at its start, so that the search replays whatever becomes of the others.
"""

from __future__ import annotations

import functools
from collections.abc import Mapping

from axiarch.data.dataset import Dataset
from axiarch.engine.checkpoint import encode_checkpoint, load_checkpoint
from axiarch.engine.run import RunSpec
from axiarch.engine.streams import Streams
from axiarch.errors import AxiarchError
from axiarch.journal.read import JournalReader
from axiarch.journal.records import EarlierRun, KnownRecipe
from axiarch.journal.workspace import Workspace
from axiarch.journal.write import JournalWriter
from axiarch.recipes.recipe import Recipe
from axiarch.recipes.searchfile import read_search
from axiarch.recipes.space import Space
from axiarch.runner.history import RunEntry
from axiarch.runner.material import shape_of
from axiarch.runner.store import FolderStore, key_of, latest, named
from axiarch.runs.states import RunState

#: Recipes of earlier searches that a method learns from at the most: those trained longest first.
MOST_KNOWN = 400
#: What fixes every bit of a run: the values of its recipe that have an effect, seed, repeat, fold.
_Key = tuple[object, int, int, int]


class EarlierRuns:
    """Runs of earlier searches on the same data, trained by the same engine.

    Parameters
    ----------
    workspace : Workspace
    number : int
        Of the search that asks: searches before it are looked at.
    dataset : Dataset
    engine : str
        Digest of all that bits depend on; empty where nothing is to be taken.
    """

    def __init__(self, workspace: Workspace, number: int, dataset: Dataset, engine: str) -> None:
        self._workspace, self._number = workspace, number
        self._dataset, self._engine = dataset, engine

    @functools.cached_property
    def _known(self) -> Mapping[_Key, EarlierRun]:
        """The run trained longest, by what fixes its bits."""
        if not self._engine:
            return {}
        reader = JournalReader(self._workspace.journal)
        try:
            found: dict[_Key, EarlierRun] = {}
            runs = reader.earlier_runs(self._number, self._dataset.fingerprint, self._engine)
            seeds = {s.number: read_search(s.file, "search.toml").seed for s in reader.searches()
                     if s.number in {run.search for run in runs}}
            for run in runs:
                key = (run.recipe.essence, seeds[run.search], run.repeat, run.fold)
                if key not in found or run.epochs > found[key].epochs:
                    found[key] = run
            return found
        finally:
            reader.close()

    def find(self, spec: RunSpec) -> EarlierRun | None:
        """Return an earlier run of the same bits; None where there is none."""
        if spec.recipe.real("max_seconds"):
            return None  # how far that comes depends on the clock
        streams = spec.streams
        return self._known.get((spec.recipe.essence, streams.seed, streams.repeat, streams.fold))

    def take(self, run: RunEntry, journal: JournalWriter, store: FolderStore, note: str) -> bool:
        """Take over the epochs of an earlier run, as far as the run is wanted; say whether nothing
        is left to train. Called within a transaction.
        """
        known = self.find(run.spec)
        if known is None or run.origin:
            return False
        last = min(known.epochs, run.until or known.epochs)
        ends = known.state == RunState.ENDED and last == known.epochs
        if last <= run.journalled or (ends and known.best_epoch and not self._keep(
                known, run, store, note)):
            return False
        if not ends:
            self._keep(known, run, store, note, last)
        journal.copy_epochs(known.id, run.id, last)
        journal.set_taken(run.id, last, known.id)
        run.losses = list(known.losses[:last])
        if ends:
            run.state, run.diverged = RunState.ENDED, known.reason == "diverged"
            journal.end_run(run.id, RunState.ENDED, known.reason, known.text, known.best_epoch)
            journal.copy_findings(known.id, run.id)
        elif run.until and last >= run.until:
            run.state = RunState.RESTING
            journal.set_runs([run.id], RunState.RESTING)
        return run.state != RunState.WAITING

    def _keep(self, known: EarlierRun, run: RunEntry, store: FolderStore, note: str,
              last: int = 0) -> bool:
        """Copy the checkpoint of an earlier run, where there is one of its first `last` epochs (0:
        of all); say whether there was.
        """
        folder = self._workspace.search(known.search).absolute() / "checkpoints"
        was = RunSpec(0, known.recipe, Streams(run.spec.streams.seed, known.repeat, known.fold))
        shape = shape_of(run.spec.recipe, self._dataset, known.fold)
        try:
            state = load_checkpoint(latest(folder, known.id), was, shape, self._dataset.fingerprint)
        except AxiarchError:
            return False
        if last and state.epoch > last:
            return False
        key = key_of(run.id, state.epoch)
        store.put(named(key), encode_checkpoint(run.spec, state, self._dataset.fingerprint, note))
        run.checkpoints.insert(0, key)
        return True


def known_recipes(reader: JournalReader, number: int, dataset: Dataset, space: Space
                  ) -> list[KnownRecipe]:
    """Return what earlier searches on the same data know of recipes of a space: those that differ
    from its base in nothing but its knobs, with values within their ranges.
    """
    found: dict[object, KnownRecipe] = {}
    for known in reader.known_recipes(number, dataset.fingerprint):
        if belongs(space, known.recipe):
            other = found.get(known.recipe.essence)
            if other is None or len(known.losses) > len(other.losses):
                found[known.recipe.essence] = known
    order = sorted(found.values(), key=lambda k: -len(k.losses))
    return order[:MOST_KNOWN]


def belongs(space: Space, recipe: Recipe) -> bool:
    """Say whether a recipe is one that a space may propose."""
    knobs = {k.name: k for k in space.knobs}
    return space.allows(recipe) and all(
        value in knobs[name].range if name in knobs else value == space.base[name]
        for name, value in recipe.items()
        if recipe.applies(name) or space.base.applies(name))
