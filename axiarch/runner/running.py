"""One search while it runs: what it consists of, and its state as the journal has it.

Requests, reports and steps are functions of this value, each in a file of its own.
"""

from __future__ import annotations

import time
from collections.abc import Callable

from axiarch.data.dataset import Dataset
from axiarch.errors import InputError, TrainingError
from axiarch.journal.read import JournalReader, guarded
from axiarch.journal.workspace import Workspace
from axiarch.journal.write import JournalWriter
from axiarch.recipes.searchfile import USE, SearchFile
from axiarch.runner.crew import Crew
from axiarch.runner.earlier import EarlierRuns, known_recipes
from axiarch.runner.executors import Executor
from axiarch.runner.history import History, Replicate, RunEntry
from axiarch.runner.material import effort_of
from axiarch.runner.queue import Queue
from axiarch.runner.signature import circumstances
from axiarch.runner.store import FolderStore, origin_of
from axiarch.runner.warmstarts import WarmStart, WarmStarts
from axiarch.runs.states import RunState, SearchState
from axiarch.search.method import Observation
from axiarch.search.methods import make_method
from axiarch.text import count as counted
from axiarch.text import shown

#: A search of at most so many recipes is watched: its runs report their predictions for so many
#: validation rows.
WATCHED, EXAMPLES = 3, 8


class RunningSearch:
    """A search that runs: its values, and changes of its state.

    Parameters
    ----------
    workspace : Workspace
        Locked.
    number : int
    file : SearchFile
    dataset : Dataset
    journal : JournalWriter
    executor : Executor
    room : int
        Bytes that a worker may take for a run; 0 for as many as it needs.
    clock : callable
    """

    def __init__(self, workspace: Workspace, number: int, file: SearchFile, dataset: Dataset,
                 journal: JournalWriter, executor: Executor,
                 clock: Callable[[], float] = time.monotonic, room: int = 0) -> None:
        self.number, self.file, self.dataset = number, file, dataset
        self.journal, self.executor, self.room, self.clock = journal, executor, room, clock
        self.folder = workspace.search(number)
        self.store = store_of(workspace, number, dataset)
        self.store.checkpoints.mkdir(exist_ok=True)
        self.queue = Queue()
        self.crew = Crew(journal, number)
        self.state = SearchState.PREPARING
        self.wanted, self.why_paused = SearchState.RUNNING, ""
        # Whether no step could be decided when that was last tried.
        self.nothing_now = False
        self._restore(workspace)

    def _restore(self, workspace: Workspace) -> None:
        reader = JournalReader(workspace.journal)
        known, file = reader.search(self.number), self.file
        self.warm_starts = WarmStarts(workspace, self.store, reader, self.dataset, file.seed)
        # Where it starts from is found before anything is entered: a search that cannot start
        # leaves no trace.
        self.start: WarmStart | None = None
        if file.start:
            self.start = self.warm_starts.of_search(file.start)
            if known is None:
                self._check_start(self.start)
        engine = "" if file.members() else circumstances()
        method = make_method(file.method, file.space, file.seed, self._replicates_of(file))
        with self.journal.transaction():
            if known is None:
                self.journal.add_search(self.number, file.name,
                                        (self.folder / "search.toml").read_text(encoding="utf-8"),
                                        file.data, self.dataset.fingerprint, engine)
                if method.learns and file.earlier == USE and not file.start:
                    self.journal.add_known(self.number, known_recipes(
                        reader, self.number, self.dataset, file.space))
            self.journal.mix_engines(self.number, engine)
        learnt = reader.known_to(self.number)
        method.learn_from([Observation(0, each.recipe, (each.losses,), each.ended)
                           for each in learnt])
        self.earlier = EarlierRuns(workspace, self.number, self.dataset,
                                   engine if file.earlier == USE else "")
        self._busy = known.busy if known else 0.0
        self._since: float | None = None
        replicates: list[Replicate] = [(r, f) for r in range(file.repeats)
                                       for f in range(len(self.dataset.folds))]
        replicates = [self.start.replicate] if self.start else replicates
        self.watched = EXAMPLES if method.expected <= WATCHED else 0
        self.effort = effort_of(self.dataset)
        self.history = History(file.seed, replicates, method, self.effort)
        with guarded(workspace.journal):
            self.history.restore(reader.changes(self.number), reader.steps(self.number),
                                 reader.overrides(self.number))
        reader.close()
        self._find_checkpoints()
        if known is not None and known.state == SearchState.DONE:
            self._reopen()
        waiting = [run for run in self.history.runs.values() if run.state == RunState.WAITING]
        with self.journal.transaction():
            self.journal.set_runs([run.id for run in waiting], RunState.WAITING)
            if known is None and learnt:
                searches = sorted({each.source for each in learnt})
                self.journal.add_event(
                    self.number, "earlier",
                    f"the method starts from {counted(len(learnt), 'recipe')} of "
                    f"{'searches' if len(searches) > 1 else 'search'} "
                    f"{', '.join(map(str, searches))}")
            self.enter_state(SearchState.PREPARING)
        for run in waiting:
            self.wait(run)

    def wait(self, run: RunEntry) -> None:
        """Let a run wait for a worker, unless an earlier search holds all that is wanted of it."""
        with self.journal.transaction():
            taken = self.earlier.take(run, self.journal, self.store,
                                      f"search {self.number}, {self.file.name}")
        if not taken:
            self.queue.put(run)

    def _replicates_of(self, file: SearchFile) -> int:
        return 1 if self.start else file.repeats * len(self.dataset.folds)

    def _reopen(self) -> None:
        """Let runs rest again that were cut only because the search was over."""
        cut = [run.id for run in self.history.runs.values()
               if run.state == RunState.CUT and run.recipe not in self.history.cut_by_hand]
        for run in cut:
            self.history.runs[run].state = RunState.RESTING
        with self.journal.transaction():
            self.journal.reopen_runs(cut)

    def _find_checkpoints(self) -> None:
        for number, keys in self.store.keys().items():
            run = self.history.runs.get(number)
            if run is not None:
                origin = origin_of(number)
                run.checkpoints = [key for key in keys if key != origin]
                run.origin = origin if origin in keys else ""

    def _check_start(self, start: WarmStart) -> None:
        """Raise where the base recipe cannot continue from the run that the search file names."""
        try:
            self.warm_starts.state(start, self.file.space.base)
        except TrainingError as error:
            model = self.file.start.model if self.file.start else ""
            where = f"model {shown(model, 60)!r}" if model else error.where
            raise InputError(error.what, f"[start], {where}", error.remedy) from None

    # -- its state -------------------------------------------------------------------------------

    def pause(self, why: str) -> None:
        """Ask all workers to pause; the search counts as paused when they have."""
        if self.wanted == SearchState.RUNNING:
            self.wanted, self.why_paused = SearchState.PAUSED, why
            self.executor.hold()

    def settle_pause(self) -> None:
        """Enter that the search is paused, once every worker with a run has paused."""
        waits = self.wanted == SearchState.PAUSED and self.state != SearchState.PAUSED
        if waits and self.crew.all_held:
            self.change(SearchState.PAUSED, self.why_paused)

    def note(self, kind: str, text: str) -> None:
        """Enter something that happened."""
        with self.journal.transaction():
            self.journal.add_event(self.number, kind, text)

    def change(self, state: SearchState, why: str) -> None:
        """Enter a new state, and that it was entered."""
        with self.journal.transaction():
            self.enter_state(state, why)
            self.journal.add_event(self.number, state, why)

    def enter_state(self, state: SearchState, why: str = "") -> None:
        """Enter a new state, within a transaction."""
        now = self.clock()
        if self._since is not None:
            self._busy += now - self._since
        self._since = now if state == SearchState.RUNNING else None
        self.state = state
        self.journal.set_search(self.number, state, why, self._busy)


def store_of(workspace: Workspace, number: int, dataset: Dataset) -> FolderStore:
    """Return the store of a search: its own folder, and its data set in the workspace."""
    return FolderStore(workspace.search(number).absolute() / "checkpoints",
                       workspace.search(number).absolute() / "data",
                       {dataset.fingerprint: dataset.folder.absolute()})
