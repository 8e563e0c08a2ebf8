"""Hand out runs to workers, and decide what comes next."""

from __future__ import annotations

import time

from axiarch.errors import TrainingError
from axiarch.runner.history import RunEntry
from axiarch.runner.reports import fail
from axiarch.runner.running import RunningSearch
from axiarch.runner.steps import check_memory, enter
from axiarch.runner.tasks import Task
from axiarch.runs.states import RunState

#: Runs that may wait at once.
_AHEAD = 2000
#: A run is short if its training takes less than so many times what a report takes; and about how
#: many multiplications a worker does in a second.
_SHORT, _A_SECOND = 20.0, 5e10
#: Seconds of deciding between two looks at what workers report.
_DECIDING = 0.003


def hand_out(search: RunningSearch) -> bool:
    """Keep the workers busy, and decide for a moment what they train next; say whether more may be
    decided at once.

    What is decided is handed out before the next is: a decision takes as long as a short training.
    """
    end = time.perf_counter() + _DECIDING
    give(search)
    while propose(search):
        give(search)
        if time.perf_counter() >= end:
            return True
    return False


def propose(search: RunningSearch) -> bool:
    """Ask the method for a step, where there is room to plan with; say whether there was one."""
    if len(search.queue) >= _AHEAD:
        return False
    step = search.history.sequence.decide()
    search.nothing_now = step is None
    if step is not None:
        enter(search, step)
    return step is not None


def give(search: RunningSearch) -> None:
    """Give workers that have none a run, then some that wait behind short ones."""
    crew = search.crew
    idle = [n for n in crew.hungry if not crew.workers[n].runs]
    for number in sorted(idle):
        run = _next(search)
        if run is None:
            return
        _submit(search, number, run)
    for number in sorted(crew.hungry) if search.queue else ():
        if not _extend(search, number):
            crew.hungry.pop(number, None)
        if not search.queue:
            return


def _extend(search: RunningSearch, number: int) -> bool:
    """Let runs wait behind those that a worker has, where these are short: by the time a report has
    come, it would have waited for more. Say whether it can take more later.
    """
    worker = search.crew.workers[number]
    if not worker.runs:
        return True
    if worker.alone or not worker.short or len(worker.runs) > search.executor.ahead:
        return False
    while len(worker.runs) <= search.executor.ahead and worker.short:
        run = _next(search, behind=True)
        if run is None:
            return True
        _submit(search, number, run)
    return False


def _next(search: RunningSearch, behind: bool = False) -> RunEntry | None:
    """Take the next run from the queue; those that no worker can hold have failed."""
    while (run := search.queue.take(behind)) is not None:
        try:
            check_memory(search, run.spec.recipe)
            return run
        except TrainingError as error:
            with search.journal.transaction():
                fail(search, (run.id,), error.what)
    return None


def _submit(search: RunningSearch, number: int, run: RunEntry) -> None:
    """Let a worker train a run, after those it has."""
    begins = not search.crew.workers[number].runs
    run.state = RunState.TRAINING
    with search.journal.transaction():
        if begins:  # to the journal, one behind another still waits
            search.journal.set_runs([run.id], RunState.TRAINING, number)
        search.crew.give(number, run.id, run.alone, _short(search, run))
    search.executor.submit(number, task_of(search, run))


def task_of(search: RunningSearch, run: RunEntry) -> Task:
    """Return a run as a worker is asked for it."""
    return Task(run.spec, run.journalled, run.until, search.dataset.fingerprint,
                tuple(run.checkpoints) if run.journalled else (), run.origin, search.watched,
                f"search {search.number}, {search.file.name}")


def _short(search: RunningSearch, run: RunEntry) -> bool:
    """Say whether a run will soon have come as far as it is wanted."""
    recipe = run.spec.recipe
    left = (run.until or recipe.whole("epochs")) - run.journalled
    return search.effort(recipe, left) < _SHORT * search.executor.latency * _A_SECOND
