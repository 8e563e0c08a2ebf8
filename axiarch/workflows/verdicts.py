"""The first lines of a view: what is known, how surely, and what to do next, in plain sentences."""

from __future__ import annotations

from functools import lru_cache

from axiarch.data.dataset import Dataset
from axiarch.engine.stopping import StoppingState
from axiarch.errors import TrainingError
from axiarch.insight.forecast import Forecast
from axiarch.recipes.recipe import Recipe
from axiarch.recipes.searchfile import SearchFile
from axiarch.runs.epoch import Epoch
from axiarch.runs.lowered import name_of
from axiarch.text import count, duration, loss, measured, memory, number, shown, span, time_left
from axiarch.workflows.snapshot import Snapshot


def unranked(s: Snapshot) -> TrainingError:
    """Return the error of a search that has no ranking, with what can be done about it."""
    number_ = s.search.number
    if s.ranking.broken:
        return TrainingError("no recipe has a result: all runs diverged or failed",
                             f"search {number_}", "see what is wrong: axiarch diagnose "
                             f"{s.ranking.broken[0]} --search {number_}")
    return TrainingError("no run has ended yet", f"search {number_}",
                         f"resume it: axiarch resume {number_}" if s.over else
                         "wait for the first results")


def unknown_recipe(s: Snapshot, recipe: int) -> TrainingError:
    """Return the error of a recipe that a search does not have."""
    return TrainingError(f"there is no recipe {recipe}", f"search {s.search.number}",
                         f"see axiarch ranking {s.search.number}")


def search_verdict(s: Snapshot) -> str:
    """Say how far a search is, and how long it still takes."""
    state, done, of = s.search.state, s.ended_runs, s.expected_runs
    failed = sum(r.state == "failed" for r in s.runs.values())
    diverged = sum(r.reason == "diverged" for r in s.runs.values())
    odd = ", ".join([
        *([f"{failed} failed"] if failed else []), *([f"{diverged} diverged"] if diverged else [])
    ])
    tail = f" ({odd})" if odd else ""
    if s.expected_epochs and state in ("running", "paused", "done"):
        return _race_verdict(s, tail)
    if state == "preparing":
        return ("Starting the workers. The first time on a machine this compiles the kernels, up "
                "to a minute.")
    if state == "running":
        return (f"{done} of {count(of, 'run')} ended{tail}, {time_left(s.seconds_left)}, "
                f"{duration(s.taken)} taken.")
    if state == "paused":
        return f"Paused with {done} of {count(of, 'run')} ended{tail}. Nothing is lost; p resumes."
    if state == "done":
        all_of_them = f"All {count(done, 'run')}" if done != 1 else "The run has"
        return (f"{all_of_them} ended{tail} in {duration(s.taken)}: {count(s.epochs, 'epoch')}."
                f"{_taken_over(s)}{account(s)}")
    if state == "failed":
        return f"The search failed after {count(done, 'run')}: {s.search.why}"
    how = "Stopped by hand" if state == "stopped" else ("Interrupted: the process that ran it is "
                                                        "gone")
    return f"{how}. {done} of {count(of, 'run')} had ended{tail}; press p to resume."


def account(s: Snapshot) -> str:
    """Hold what a search took against its forecast."""
    if s.forecast is None or not s.over:
        return ""
    used = f", memory {memory(s.memory)} of {memory(s.forecast.bytes)}" if s.memory else ""
    return f" The forecast was {span(s.forecast.low, s.forecast.high)}{used}."


def _race_verdict(s: Snapshot, tail: str) -> str:
    """Say how far a search is in which recipes are not all trained alike."""
    full, part = len(s.ranking.rows), len(s.ranking.partial)
    what = (f"{count(len(s.recipes), 'recipe')}: {full} trained in full, {part} "
            f"{'cut' if s.search.state == 'done' else 'cut or waiting'}{tail}")
    if s.search.state == "done":
        return (f"{what}; {count(s.epochs, 'epoch')} in {duration(s.taken)}."
                f"{_taken_over(s)}{account(s)}")
    if s.search.state == "paused":
        return f"Paused. {what}. Nothing is lost; p resumes."
    of = number(round(s.expected_epochs))
    return (f"{number(s.epochs)} of about {of} epochs, {time_left(s.seconds_left)}. {what}."
            f"{_taken_over(s)}")


def _taken_over(s: Snapshot) -> str:
    """Say how many epochs were not trained, because an earlier search holds them."""
    if not s.taken_over:
        return ""
    return f" {count(s.taken_over, 'epoch')} more came from earlier searches."


def draft_verdict(draft: SearchFile,
                  data: Dataset,
                  forecast: Forecast | None,
                  problem: str = "") -> str:
    """Say what varies in a search not yet started, how many runs that makes, and what they take."""
    knobs = len(draft.space.knobs)
    if problem:
        return f"This search cannot be run: {problem}."
    if forecast is None:
        return f"{count(knobs, 'knob')} vary; estimating the cost …" if knobs != 1 else (
            "1 knob varies; estimating the cost …")
    folds = f" × {len(data.folds)} folds" if len(data.folds) > 1 else ""
    vary = f"{count(knobs, 'knob')} {'varies' if knobs == 1 else 'vary'}" if knobs else ("Nothing "
                                                                                         "varies")
    combinations = draft.space.combinations
    of = ""
    if combinations and combinations > forecast.recipes:
        of = f" of {number(combinations)} combinations"
    sizes = number(forecast.smallest)
    if forecast.largest != forecast.smallest:
        sizes += f" to {number(forecast.largest)}"
    make = f"{count(forecast.recipes, 'recipe')}{of} × {count(draft.repeats, 'seed')}{folds} make "
    if forecast.runs < forecast.recipes * draft.repeats * len(data.folds):
        make = (
            f"a race of {count(forecast.recipes, 'recipe')}{of}, the best on "
            f"{count(draft.repeats, 'seed')}{folds}: about {number(forecast.epochs)} epochs in ")
    took = span(forecast.low, forecast.high)
    return (
        f"{vary}: {make}{count(forecast.runs, 'run')}, {took} with "
        f"{count(forecast.workers, 'worker')}. Networks of {sizes} parameters, at most "
        f"{memory(forecast.bytes)}.{_starts_from(forecast)} Next: s starts it.")


def _starts_from(forecast: Forecast) -> str:
    if not forecast.earlier:
        return ""
    return f" It starts from {count(forecast.earlier, 'recipe')} of earlier searches."


def recipe_verdict(s: Snapshot, recipe: int) -> str:
    """Say where a recipe stands and how its training went."""
    runs = s.runs_of(recipe)
    row = next((r for r in s.ranking.rows if r.recipe == recipe), None)
    if row is None:
        states = {r.state for r in runs}
        if states <= {"waiting"}:
            return f"Recipe {recipe} has not been trained yet."
        if recipe in s.ranking.broken:
            return f"Recipe {recipe} has no result: {runs[0].text}."
        epochs = max(len(s.curves.get(r.id, ())) for r in runs)
        partial = next((p for p in s.ranking.partial if p.recipe == recipe), None)
        if partial is not None and not states & {"training", "waiting"}:
            of = s.recipes[recipe].recipe.whole("epochs")
            how = "was cut" if "cut" in states else "rests"
            return (
                f"Recipe {recipe} {how} at {partial.epochs} of {count(of, 'epoch')}, with a steady "
                f"validation loss of {loss(partial.loss)}; the best recipe had "
                f"{loss(partial.best_then)} by then. It has no result of its "
                f"own{f': {runs[0].text}' if runs[0].text else ''}.")
        if states <= {"failed"}:
            return f"Recipe {recipe} failed: {runs[0].text}."
        return f"Recipe {recipe} is in training: {count(epochs, 'epoch')} so far."
    over = "run" if len(s.dataset.folds) > 1 else "seed"
    spread = ""
    if row.spread is not None:
        spread = f", spread {row.spread:.2g} over {count(row.repeats, over)}"
    target = s.dataset.target
    metric, gap = target.metrics[0], loss(abs(row.gap))
    return (
        f"Place {row.place} of {len(s.ranking.rows)}: steady validation {target.level_name} "
        f"{loss(row.loss)}{spread}, {shown(metric)} {measured(metric, row.metrics[0])}. Training "
        f"{name_of(target.measure)} is {gap} {'below' if row.gap >= 0 else 'above'} it.")


@lru_cache(256)
def patience_used(losses: tuple[float, ...], recipe: Recipe, units: tuple[float, ...]) -> int:
    """Return the epochs since the last one that was better by the recipe's least improvement.

    Parameters
    ----------
    losses : tuple of float
        Validation loss of each epoch (E,).
    units : tuple of float
        Of the targets, as the data set has them.
    """
    watch = StoppingState(unit=units[0] if len(units) == 1 else 1.0)
    for epoch, value in enumerate(losses, 1):
        watch.see(Epoch(0, epoch, 0.0, 0.0, value, (), 0.0, 0.0, 0.0), recipe)
    return len(losses) - watch.mark_epoch


def changes_text(s: Snapshot, recipe: int) -> str:
    """Say how a recipe differs from the base recipe."""
    return s.recipes[recipe].apart(s.file.space.base) or "the base recipe"
