"""Take steps: enter recipes and runs, and let the runs wait for a worker."""

from __future__ import annotations

from axiarch.engine.memory import run_bytes
from axiarch.errors import AxiarchError, TrainingError
from axiarch.journal.records import StepRecord
from axiarch.recipes.recipe import Recipe
from axiarch.runner.history import Replicate, RunEntry
from axiarch.runner.material import shape_of
from axiarch.runner.running import RunningSearch
from axiarch.runs.states import RunState
from axiarch.search.method import Step
from axiarch.text import count as counted
from axiarch.text import memory


def enter(search: RunningSearch, step: Step) -> None:
    """Take a step: enter it, and its recipe and runs where they are new, and let the runs wait."""
    history, journal = search.history, search.journal
    number = step.number or len(history.recipes) + 1
    try:
        with journal.transaction():
            if not step.number:
                history.recipes[number] = step.recipe
                parameters = shape_of(step.recipe, search.dataset).trained
                journal.add_recipe(search.number, number, step.recipe, parameters)
            journal.add_step(
                search.number,
                StepRecord(len(history.sequence.steps) + 1, number, step.until, step.replicates,
                           step.parent, history.sequence.observed, step.why))
            for replicate in history.first(step.replicates):
                _want(search, number, replicate, step)
    except AxiarchError:
        if not step.number:
            history.forget(number)
        raise
    for run in history.take(step, number):
        if run.state == RunState.WAITING:
            search.wait(run)


def _want(search: RunningSearch, number: int, replicate: Replicate, step: Step) -> None:
    """Let a recipe's run on a replicate be trained as far as a step says."""
    run = search.history.run_on(number, replicate)
    if run is None:
        run = _new_run(search, number, replicate, step)
    elif run.until:
        run.until = 0 if step.until == 0 else max(run.until, step.until)
    search.journal.set_until([run.id], run.until)
    if run.state == RunState.RESTING:
        run.state = RunState.WAITING
        search.journal.set_runs([run.id], RunState.WAITING)


def _new_run(search: RunningSearch, number: int, replicate: Replicate, step: Step) -> RunEntry:
    """Enter a run, with the weights and epochs of the one that it continues, if any."""
    start = search.start if number == 1 else None
    if step.parent:
        start = search.warm_starts.of_run(search.history, step.parent, replicate)
    state = search.warm_starts.state(start, step.recipe) if start else None
    if start is not None and state is None:
        gone = counted(start.epoch, "epoch")
        search.journal.add_event(
            search.number, "afresh",
            f"recipe {number} is trained from its beginning: of the {gone} it should have "
            "continued from, no checkpoint was kept")
    made = search.journal.add_run(search.number, number, *replicate, state.epoch if state else 0)
    run = search.history.enter(made, number, replicate)
    run.until = step.until
    if start is not None and state is not None:
        search.warm_starts.apply(start, state, run, search.journal)
    try:
        check_memory(search, step.recipe)
    except TrainingError as error:
        run.state = RunState.FAILED
        search.journal.end_run(made, RunState.FAILED, "failed", error.what)
    return run


def check_memory(search: RunningSearch, recipe: Recipe) -> None:
    """Raise where a worker cannot hold one run of a recipe.

    Raises
    ------
    TrainingError
    """
    if not search.room:
        return
    needed = run_bytes(shape_of(recipe, search.dataset), search.dataset.rows["train"])
    if needed > search.room:
        raise TrainingError(
            f"one run takes {memory(needed)} and a worker may take {memory(search.room)}", "",
            "use a smaller network or batch size")
