"""Carry out what a user asks of a running search: one case a kind of request."""

from __future__ import annotations

from axiarch.errors import AxiarchError, NoSpace, TrainingError
from axiarch.journal.inbox import (
    Add,
    Budget,
    Cut,
    Keep,
    More,
    Note,
    Pause,
    Request,
    Resume,
    Seeds,
    Stop,
    Workers,
    words,
)
from axiarch.journal.records import OverrideRecord
from axiarch.recipes.recipe import Recipe
from axiarch.runner.material import worker_room
from axiarch.runner.running import RunningSearch
from axiarch.runner.steps import check_memory, enter
from axiarch.runs.states import OVER, RunState, SearchState
from axiarch.runs.steady import steady
from axiarch.search.method import Step
from axiarch.text import count as counted

#: Workers that a search may be given.
MOST_WORKERS = 256
#: Seeds of a recipe at the most.
MOST_SEEDS = 200


def obey(search: RunningSearch, request: Request) -> None:
    """Do what was asked; what cannot be done is said in the journal, and changes nothing.

    Raises
    ------
    NoSpace
        A full disk is no fault of the request: it ends the search as everywhere.
    """
    try:
        carry_out(search, request)
    except NoSpace:
        raise
    except (AxiarchError, ArithmeticError, ValueError, TypeError) as error:
        search.note("refused", f"{words(request)}: {error}")


def carry_out(search: RunningSearch, request: Request) -> None:
    """Do what was asked.

    Raises
    ------
    AxiarchError
        If it cannot be done.
    """
    match request:
        case Pause():
            search.pause("paused by hand")
        case Resume():
            _resume(search)
        case Stop():
            stop(search)
        case Cut(recipe):
            _cut(search, known(search, recipe))
        case Keep(recipe):
            _keep(search, known(search, recipe))
        case More(recipe, epochs):
            _train_more(search, known(search, recipe), epochs)
        case Add(values):
            _add(search, Recipe(values))
        case Budget(recipes):
            _set_budget(search, recipes)
        case Workers(count):
            _set_workers(search, count)
        case Note(about, recipe, run, text):
            with search.journal.transaction():
                search.journal.add_note(about, recipe, run, text)
        case Seeds(recipes, count):
            _add_seeds(search, [known(search, recipe) for recipe in recipes], count)


def known(search: RunningSearch, recipe: int) -> int:
    """Return the number of a recipe that there is.

    Raises
    ------
    TrainingError
        If there is none of that number.
    """
    if recipe not in search.history.recipes:
        raise TrainingError(f"there is no recipe {recipe}", f"search {search.number}",
                            "see the ranking")
    return recipe


def stop(search: RunningSearch) -> None:
    """Let all workers give back what they train; the search ends when they have."""
    search.wanted = SearchState.STOPPED
    search.executor.drop()


def _resume(search: RunningSearch) -> None:
    if search.wanted != SearchState.PAUSED:
        return
    search.wanted = SearchState.RUNNING
    search.executor.go()
    search.change(SearchState.RUNNING, "resumed by hand")
    with search.journal.transaction():
        for number in search.crew.workers:
            search.crew.set(number, held=False)


def _cut(search: RunningSearch, recipe: int) -> None:
    """End all runs of a recipe."""
    for run in search.history.every_run_of(recipe):
        if run.state in OVER:
            continue
        search.queue.remove(run.id)
        holder = search.crew.holder(run.id)
        if holder is not None:
            search.executor.release(holder, run.id)
        run.state = RunState.CUT
        with search.journal.transaction():
            search.journal.end_run(run.id, RunState.CUT, "cut", "cut by hand",
                                   steady(run.losses)[0])
    _override(search, "cut", recipe, f"recipe {recipe} was cut by hand")


def _keep(search: RunningSearch, recipe: int) -> None:
    """Let a recipe train to its own end, whatever the others do."""
    first = search.history.runs_of(recipe, 1)[0]
    if first.state in OVER:
        raise TrainingError(f"recipe {recipe} is over ({first.state})", f"search {search.number}",
                            "give it more epochs")
    enter(search, Step(search.history.recipes[recipe], recipe, 0, 1, why="kept by hand"))
    search.note("kept", f"recipe {recipe} is trained to its end, by hand")


def _train_more(search: RunningSearch, recipe: int, epochs: int) -> None:
    """Give a recipe more epochs than its round; one that has ended continues as a new recipe with
    more epochs.
    """
    first, old = search.history.runs_of(recipe, 1)[0], search.history.recipes[recipe]
    more = counted(epochs, "epoch")
    if first.state in OVER:
        longer = old.changed({"epochs": first.journalled + max(epochs, 1)})
        check_memory(search, longer)
        if longer in search.history.recipes.values():
            raise TrainingError(f"recipe {recipe} has been given {more} more already",
                                f"search {search.number}", "see the ranking")
        enter(search, Step(longer, 0, 0, 1, recipe, f"{more} more than recipe {recipe}, by hand"))
    elif not first.until:
        raise TrainingError(f"recipe {recipe} is being trained to its end",
                            f"search {search.number}", "ask again when it has finished")
    else:
        until = max(first.until, first.journalled) + max(epochs, 1)
        until = 0 if until >= old.whole("epochs") else until
        enter(search, Step(old, recipe, until, 1, why=f"{more} more, by hand"))
    search.note("more", f"recipe {recipe} is given {more} more, by hand")


def _add(search: RunningSearch, recipe: Recipe) -> None:
    """Take in a recipe by hand, trained in full on every replicate."""
    number = next((n for n, r in search.history.recipes.items() if r == recipe), 0)
    check_memory(search, recipe)
    enter(search, Step(recipe, number, why="added by hand"))
    search.note("added", f"recipe {number or len(search.history.recipes)} was added by hand")


def _add_seeds(search: RunningSearch, recipes: list[int], count: int) -> None:
    """Train recipes in full on more seeds than each has been, on every fold."""
    history = search.history
    if search.start is not None:
        raise TrainingError("a search that continues another one has one seed",
                            f"search {search.number}", "start a new search of the recipe")
    folds = len({fold for _, fold in history.replicates})
    for recipe in recipes:
        seeds = 1 + max(run.spec.streams.repeat for run in history.every_run_of(recipe))
        if not 1 <= count <= MOST_SEEDS - seeds:
            raise TrainingError(f"{count} more seeds cannot be trained", f"recipe {recipe}",
                                f"give a number from 1 to {MOST_SEEDS - seeds}")
        enter(search, Step(history.recipes[recipe], recipe, 0, (seeds + count) * folds,
                           why=f"on {counted(count, 'more seed')}, by hand"))
    many = f"recipes {', '.join(map(str, recipes))}" if len(recipes) > 1 else f"recipe {recipes[0]}"
    search.note("seeds", f"{many}: {counted(count, 'more seed')}, by hand")


def _set_budget(search: RunningSearch, recipes: int) -> None:
    method = search.history.method
    option = next((o for o in method.options if o.name == "recipes"), None)
    if option is None:
        raise TrainingError(f"the method {method.name} takes no number of recipes", "",
                            "it tries all there are")
    proposed = len(search.history.recipes)
    if not proposed <= recipes <= option.high:
        raise TrainingError(
            f"a budget of {recipes} recipes does not fit", "",
            f"give a number from {proposed}, which are proposed already, to {option.high}")
    _override(search, "recipes", recipes,
              f"{counted(recipes, 'recipe')} in all from now on, by hand")


def _set_workers(search: RunningSearch, workers: int) -> None:
    """Set the number of workers, each with its share of the memory."""
    if not 1 <= workers <= MOST_WORKERS:
        raise TrainingError(f"{workers} workers cannot be used", "",
                            f"give a number from 1 to {MOST_WORKERS}")
    search.executor.resize(workers)
    search.room = worker_room(workers) if search.room else 0
    search.note("workers", f"{counted(workers, 'worker')} from now on, by hand")


def _override(search: RunningSearch, what: str, value: int, text: str) -> None:
    """Let the method obey, and keep that for a later sitting."""
    sequence = search.history.sequence
    with search.journal.transaction():
        search.journal.add_override(search.number,
                                    OverrideRecord(len(sequence.steps), what, value))
        search.journal.add_event(search.number, what, text)
    sequence.override(what, value)  # type: ignore[arg-type]
