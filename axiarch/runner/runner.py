"""Run one search: propose, plan, train, journal, until nothing is left or somebody ends it.

The runner is the only writer of the journal. Everything it is told goes into the journal first, and it
holds nothing that it could not make again from there.
"""

from __future__ import annotations

import time
from collections.abc import Callable

from axiarch.data.dataset import Dataset
from axiarch.engine.network import StackShape
from axiarch.engine.run import EpochNumbers
from axiarch.errors import AxiarchError
from axiarch.journal.inbox import Request, receive
from axiarch.journal.read import JournalReader
from axiarch.journal.records import EpochRecord, SearchState
from axiarch.journal.workspace import Workspace
from axiarch.journal.write import JournalWriter
from axiarch.recipes.searchfile import SearchFile
from axiarch.runner.executor import Executor
from axiarch.runner.ledger import Ledger
from axiarch.runner.material import shape_of
from axiarch.runner.queue import Queue
from axiarch.runner.tasks import Died, Failed, Held, Ready, Report, Task, Trained, WantedRun
from axiarch.search.methods import make_method

#: Seconds the runner waits for a report before it looks for requests again.
_POLL = 0.1
#: Runs that may wait at once: enough to fill stacks of many shapes, few enough to plan quickly.
_AHEAD = 2000
#: Times a run's worker may die before the run counts as failed.
ATTEMPTS = 2


class Runner:
    """Runs the search `number` of a workspace, which must be locked.

    Parameters
    ----------
    workspace : Workspace
    number : int
    search : SearchFile
    dataset : Dataset
    journal : JournalWriter
    executor : Executor
    """

    def __init__(self, workspace: Workspace, number: int, search: SearchFile, dataset: Dataset,
                 journal: JournalWriter, executor: Executor,
                 clock: Callable[[], float] = time.monotonic) -> None:
        self._folder = workspace.search(number)
        self._number = number
        self._search = search
        self._dataset = dataset
        self._journal = journal
        self._executor = executor
        self._clock = clock
        self._queue = Queue(lambda run: shape_of(run.spec.recipe, dataset, run.spec.streams.fold))
        self._lanes: dict[int, set[int]] = {}
        # A lane whose runs have all ended is idle only when it says so: its session has yet to close.
        self._idle: set[int] = set()
        self._shapes: dict[int, StackShape] = {}
        self._pids: dict[int, int] = {}
        self._held: set[int] = set()
        self._state: SearchState = "preparing"
        self._wanted: SearchState = "running"
        self._exhausted = False
        self._stop_asked = False
        (self._folder / "checkpoints").mkdir(exist_ok=True)
        self._restore(workspace)

    def _restore(self, workspace: Workspace) -> None:
        reader = JournalReader(workspace.journal)
        known = reader.search(self._number)
        if known is None:
            with self._journal.transaction():
                self._journal.add_search(self._number, self._search.name,
                                         (self._folder / "search.toml").read_text(encoding="utf-8"),
                                         self._search.data, self._dataset.fingerprint)
        self._busy = known.busy if known else 0.0
        self._since: float | None = None
        self._ledger = Ledger.restore(self._search.seed, reader.changes(self._number))
        reader.close()
        self._method = make_method(self._search.method, self._search.space, self._search.seed)
        self._ledger.replay(self._method)
        waiting = [entry for entry in self._ledger.runs.values() if entry.state == "waiting"]
        for entry in waiting:
            self._queue.put(entry.wanted(), entry.attempts > 0)
        with self._journal.transaction():
            self._journal.set_runs([entry.spec.id for entry in waiting], "waiting")
            self._enter_state("preparing")

    # -- the loop --------------------------------------------------------------------------------

    def run(self) -> SearchState:
        """Run until the search is done or stopped; return its last state."""
        try:
            while not self._over():
                self.turn(_POLL)
        except AxiarchError as error:
            return self._close("failed", str(error))
        return self._close(*self._verdict())

    def turn(self, seconds: float) -> None:
        """Do what was asked, take in what was reported, hand out work: once."""
        for request in receive(self._folder):
            self._do(request)
        if self._stop_asked and self._wanted != "stopped":
            self._do("stop")
        for report in self._executor.poll(seconds):
            with self._journal.transaction():
                self._take(report)
        self._settle_pause()
        if self._wanted == "running":
            self._hand_out()

    def _over(self) -> bool:
        if self._wanted == "stopped":
            return not any(self._lanes.values())
        return self._exhausted and not self._queue and not any(self._lanes.values())

    def _verdict(self) -> tuple[SearchState, str]:
        if self._wanted == "stopped":
            return "stopped", "stopped by hand; it can be resumed"
        runs = self._ledger.runs.values()
        if runs and all(r.state == "failed" for r in runs):
            return "failed", "every run failed"
        return "done", "every run has ended"

    def _close(self, state: SearchState, why: str) -> SearchState:
        with self._journal.transaction():
            self._journal.set_runs([i for i, e in self._ledger.runs.items() if e.state == "training"], "waiting")
            self._enter_state(state, why)
            self._journal.add_event(self._number, state, why)
            self._journal.clear_lanes(self._number)
        return state

    # -- requests --------------------------------------------------------------------------------

    def stop(self) -> None:
        """Stop with the next turn, as if somebody had asked for it; safe to call from a signal handler."""
        self._stop_asked = True

    def _do(self, request: Request) -> None:
        if request == "pause" and self._wanted == "running":
            self._wanted = "paused"
            self._executor.hold()
        elif request == "resume" and self._wanted == "paused":
            self._wanted = "running"
            self._held.clear()
            self._executor.go()
            self._change("running", "resumed by hand")
        elif request == "stop":
            self._wanted = "stopped"
            self._held.clear()
            self._executor.drop()

    def _settle_pause(self) -> None:
        """The search counts as paused only when every busy lane stands still."""
        busy = {lane for lane, runs in self._lanes.items() if runs}
        if self._wanted == "paused" and self._state != "paused" and busy <= self._held:
            self._change("paused", "paused by hand")

    def _change(self, state: SearchState, why: str) -> None:
        with self._journal.transaction():
            self._enter_state(state, why)
            self._journal.add_event(self._number, state, why)

    def _enter_state(self, state: SearchState, why: str = "") -> None:
        now = self._clock()
        if self._since is not None:
            self._busy += now - self._since
        self._since = now if state == "running" else None
        self._state = state
        self._journal.set_search(self._number, state, why, self._busy)

    # -- reports ---------------------------------------------------------------------------------

    def _take(self, report: Report) -> None:
        if isinstance(report, Ready):
            self._take_ready(report)
        elif isinstance(report, Trained):
            self._take_trained(report)
        elif isinstance(report, Held):
            self._held.add(report.lane)
            self._journal.set_lane(self._number, report.lane, self._pids.get(report.lane, 0), "held")
        elif isinstance(report, Failed):
            self._take_failed(report.runs, report.cause)
            self._lanes[report.lane] -= set(report.runs)
        elif isinstance(report, Died):
            self._take_died(report)

    def _take_ready(self, report: Ready) -> None:
        left = self._lanes.get(report.lane, set())
        self._put_back(left)
        self._lanes[report.lane] = set()
        self._idle.add(report.lane)
        self._held.discard(report.lane)
        self._pids[report.lane] = report.pid
        self._journal.set_lane(self._number, report.lane, report.pid, "idle")
        if self._state == "preparing":
            self._enter_state("running")

    def _put_back(self, runs: set[int]) -> None:
        """Let runs wait again that a lane was given and did not end."""
        for run in sorted(runs):
            entry = self._ledger.runs[run]
            entry.state = "waiting"
            self._queue.put(entry.wanted(), entry.attempts > 0)
        self._journal.set_runs(sorted(runs), "waiting")

    def _take_trained(self, report: Trained) -> None:
        self._journal.add_epochs(_record(run, numbers) for run, numbers in report.epochs)
        for run, numbers in report.epochs:
            entry = self._ledger.runs[run]
            entry.journalled = max(entry.journalled, numbers.epoch)
        for run, end in report.ended:
            entry = self._ledger.runs[run]
            entry.state = "ended"
            entry.loss = float("inf") if end.reason == "diverged" else end.steady_loss
            self._journal.end_run(run, "ended", end.reason, end.text, end.best_epoch)
            self._lanes[report.lane].discard(run)
            self._observe(entry.recipe)
            if self._wanted == "running":
                self._extend(report.lane)

    def _take_failed(self, runs: tuple[int, ...], cause: str) -> None:
        for run in runs:
            entry = self._ledger.runs[run]
            entry.state = "failed"
            self._journal.end_run(run, "failed", "failed", cause)
            self._observe(entry.recipe)
        if runs:
            self._journal.add_event(self._number, "failed", f"{len(runs)} runs failed: {cause}")

    def _take_died(self, report: Died) -> None:
        """A worker is gone: its runs are tried again, each alone; those it happens to twice have failed."""
        self._held.discard(report.lane)
        self._idle.discard(report.lane)
        runs = self._lanes.get(report.lane, set())
        self._lanes[report.lane] = set()
        self._journal.add_event(self._number, "died", f"worker {report.lane + 1}: {report.cause}; "
                                f"{len(runs)} runs are tried again, each alone")
        self._journal.blame(sorted(runs))
        for run in runs:
            self._ledger.runs[run].attempts += 1
        given_up = {run for run in runs if self._ledger.runs[run].attempts >= ATTEMPTS}
        self._take_failed(tuple(sorted(given_up)), f"{report.cause}, twice")
        self._put_back(runs - given_up)

    def _observe(self, recipe: int) -> None:
        if self._ledger.finished(recipe):
            self._method.observe(self._ledger.observation(recipe))

    # -- work ------------------------------------------------------------------------------------

    def _hand_out(self) -> None:
        """Give every idle lane runs of one shape."""
        self._propose()
        idle = sorted(self._idle)
        for i, lane in enumerate(idle):
            taken = self._queue.take(len(idle) - i)
            if taken is None:
                return
            shape, runs = taken
            self._shapes[lane] = shape
            self._idle.discard(lane)
            self._assign(lane, runs)
            self._executor.submit(lane, Task(shape, len(runs), runs, self._dataset.folder,
                                             self._folder / "checkpoints"))

    def _extend(self, lane: int) -> None:
        """Fill the place that a run left in a lane's stack, if another of its shape waits."""
        if not self._lanes[lane]:
            return
        run = self._queue.take_like(self._shapes[lane])
        if run is not None:
            self._lanes[lane].add(run.spec.id)
            self._ledger.runs[run.spec.id].state = "training"
            self._journal.set_runs([run.spec.id], "training", lane)
            self._executor.extend(lane, run)

    def _assign(self, lane: int, runs: tuple[WantedRun, ...]) -> None:
        ids = [run.spec.id for run in runs]
        self._lanes[lane] = set(ids)
        for run in ids:
            self._ledger.runs[run].state = "training"
        with self._journal.transaction():
            self._journal.set_runs(ids, "training", lane)
            self._journal.set_lane(self._number, lane, self._pids.get(lane, 0), "training")

    def _propose(self) -> None:
        """Ask the method for recipes while there is room to plan with."""
        while not self._exhausted and len(self._queue) < _AHEAD:
            recipe = self._method.propose()
            if recipe is None:
                self._exhausted = True
                return
            number = len(self._ledger.recipes) + 1
            parameters = shape_of(recipe, self._dataset).trained
            self._ledger.recipes[number] = recipe
            with self._journal.transaction():
                runs = self._journal.add_recipe(self._number, number, recipe, parameters, self._search.repeats,
                                                len(self._dataset.folds))
            for run, repeat, fold in runs:
                self._queue.put(self._ledger.enter(run, number, repeat, fold).wanted())


def _record(run: int, n: EpochNumbers) -> EpochRecord:
    return EpochRecord(run, n.epoch, n.train_loss, n.train_loss_still, n.validation_loss, n.metrics,
                       n.learning_rate, n.gradient_norm, n.seconds, n.layers)
