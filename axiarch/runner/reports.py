"""Take in what workers report: one case a kind of report. Called within a transaction."""

from __future__ import annotations

from collections.abc import Iterable

from axiarch.journal.records import ExampleRecord
from axiarch.runner.history import RunEntry
from axiarch.runner.running import RunningSearch
from axiarch.runner.store import named
from axiarch.runner.tasks import (
    Compiling,
    Failed,
    Heard,
    Held,
    Joined,
    Left,
    Load,
    Remark,
    Report,
    Returned,
    Silent,
    Stuck,
    Trained,
)
from axiarch.runs.states import OVER, RunState, SearchState
from axiarch.text import count as counted
from axiarch.text import shown

#: Times a run's worker may die, without a new epoch of the run between, before the run counts as
#: failed.
ATTEMPTS = 2
#: Checkpoints of a run that are kept: the latest, and the one before, which is surely within the
#: journal after an interruption.
_KEPT = 2


def take(search: RunningSearch, report: Report) -> None:
    """Take in one report."""
    match report:
        case Joined(worker, machine, room):
            put_back(search, search.crew.join(worker, machine))
            if room:  # every recipe must fit the smallest worker, whoever trains it
                search.room = min(search.room or room, room)
            if search.state == SearchState.PREPARING:
                search.enter_state(SearchState.RUNNING)
        case Compiling(worker, machine):
            search.crew.compiling(worker, machine)
        case Load(worker, memory, busy):
            search.crew.weigh(worker, memory, busy)
        case Silent(worker):
            search.crew.set(worker, silent=True)
        case Heard(worker):
            search.crew.set(worker, silent=False)
        case Held(worker):
            search.crew.set(worker, held=True)
        case Trained():
            _take_trained(search, report)
        case Returned(worker, runs):
            _take_back(search, worker, runs)
        case Failed(worker, run, cause):
            if _holds(search, worker, run):
                _let_go(search, worker, run)
                fail(search, (run,), cause)
        case Stuck(worker, runs, cause):
            _take_back(search, worker, runs)
            search.pause(cause)
        case Left(worker, cause):
            _take_left(search, worker, cause)
        case Remark(text):
            search.journal.add_event(search.number, "executor", text)


def put_back(search: RunningSearch, runs: Iterable[int]) -> None:
    """Let runs wait again that a worker had and did not end."""
    known = search.history.runs
    back = [known[run] for run in sorted(runs) if known[run].state not in OVER]
    for run in back:
        run.state = RunState.WAITING
        search.queue.put(run)
    search.journal.set_runs([run.id for run in back], RunState.WAITING)


def fail(search: RunningSearch, runs: Iterable[int], cause: str) -> None:
    """Enter that runs have failed."""
    failed = [search.history.runs[run] for run in runs]
    for run in failed:
        if run.state != RunState.CUT:
            run.state = RunState.FAILED
            search.journal.end_run(run.id, RunState.FAILED, "failed", cause)
    if failed:
        search.journal.add_event(search.number, "failed",
                                 f"{counted(len(failed), 'run')} failed: {cause}")


def _holds(search: RunningSearch, worker: int, run: int) -> bool:
    """Whether a worker has a run in its hands: what others say of it is late, and left out."""
    known = search.crew.workers.get(worker)
    return known is not None and run in known.runs


def _let_go(search: RunningSearch, worker: int, run: int) -> None:
    """Take a run from a worker's hands; to the journal, the next one begins."""
    begins = search.crew.take(worker, (run,))
    if begins:
        search.journal.set_runs([begins], RunState.TRAINING, worker)


def _take_back(search: RunningSearch, worker: int, runs: tuple[int, ...]) -> None:
    ours = [run for run in runs if _holds(search, worker, run)]
    for run in ours:
        _let_go(search, worker, run)
    put_back(search, ours)


def _take_trained(search: RunningSearch, report: Trained) -> None:
    if not _holds(search, report.worker, report.run):
        return
    run = search.history.runs[report.run]
    if run.state != RunState.CUT:
        _add_epochs(search, run, report)
    if report.end is None and not report.rests:
        return
    _let_go(search, report.worker, run.id)
    if run.state == RunState.CUT:
        return
    if report.epochs and report.epochs[-1].epoch > run.journalled:
        put_back(search, (run.id,))  # epochs before these were lost on the way
    elif report.end is not None:
        run.state, run.diverged = RunState.ENDED, report.end.reason == "diverged"
        search.journal.end_run(run.id, RunState.ENDED, report.end.reason, report.end.text,
                               report.end.best_epoch)
        if report.rows is not None:
            search.journal.set_rows(run.id, report.rows)
    else:
        _rest(search, run)


def _add_epochs(search: RunningSearch, run: RunEntry, report: Trained) -> None:
    known = run.journalled
    for epoch in report.epochs:
        if epoch.epoch == run.journalled + 1:
            run.losses.append(epoch.validation_loss)
    if run.journalled > known:
        search.journal.add_epochs(e for e in report.epochs if known < e.epoch <= run.journalled)
        if run.attempts:
            run.attempts = 0
            search.journal.reset_attempts([run.id])
    if report.examples:
        search.journal.set_example(ExampleRecord(run.id, run.journalled, report.examples))
    if report.checkpoint and report.checkpoint not in run.checkpoints:
        run.checkpoints.insert(0, report.checkpoint)
        for key in run.checkpoints[_KEPT:]:
            search.store.remove(named(key))
        del run.checkpoints[_KEPT:]


def _rest(search: RunningSearch, run: RunEntry) -> None:
    """Enter that a run has come as far as was wanted; one that more is wanted of waits again."""
    if run.until == 0 or run.until > run.journalled:
        run.state = RunState.WAITING
        search.queue.put(run)
    else:
        run.state = RunState.RESTING
    search.journal.set_runs([run.id], run.state)


def _take_left(search: RunningSearch, worker: int, cause: str) -> None:
    """A worker is gone. Where that was not wanted, its runs are tried again, one at a time; those
    that get no further twice have failed.
    """
    known = search.crew.workers.get(worker)
    name = f"worker {worker + 1}"
    if known is not None and known.machine:
        name += f" on {shown(known.machine, 40)}"
    runs = search.crew.leave(worker)
    if not cause:
        put_back(search, runs)
        return
    tried = ""
    if runs:
        tried = "; its run is tried again" if len(runs) == 1 else (
            f"; its {len(runs)} runs are tried again, one at a time")
    search.journal.add_event(search.number, "died", f"{name}: {cause}{tried}")
    search.journal.add_attempt(sorted(runs))
    for run in runs:
        search.history.runs[run].attempts += 1
    given_up = {run for run in runs if search.history.runs[run].attempts >= ATTEMPTS}
    fail(search, sorted(given_up), f"{cause}, twice")
    put_back(search, set(runs) - given_up)
