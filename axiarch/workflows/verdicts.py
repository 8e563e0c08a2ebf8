"""The first lines of a view: what is known, how surely, and what to do next, in plain sentences."""

from __future__ import annotations

from functools import lru_cache

from axiarch.data.dataset import Dataset
from axiarch.engine.stopping import StoppingState
from axiarch.insight.forecast import Forecast
from axiarch.recipes.recipe import Recipe
from axiarch.recipes.searchfile import SearchFile
from axiarch.runs.epoch import Epoch
from axiarch.text import count, duration, loss, measured, memory, number, shown, span, time_left
from axiarch.workflows.watching import Snapshot


def ranking_verdict(s: Snapshot) -> str:
    """Say who leads, by how much over the base recipe and the baseline, and who is tied."""
    rows = s.ranking.rows
    if not rows:
        if s.ranking.broken:
            return (f"No recipe has a result: all runs of {count(len(s.ranking.broken), 'recipe')} "
                    "diverged or failed.")
        return "No run has ended yet."
    first = rows[0]
    if s.dataset.plan.split.all_open:
        return (
            f"Trained on training and validation rows together for {number(first.epoch, 3)} "
            "epochs: no loss here says how good it is. Open the seal to score it once on the test "
            "rows.")
    reach = f" ± {first.half_width:.2g}" if first.half_width is not None else ""
    tied = len(s.ranking.tied)
    if first.standing == "leader" and s.ranking.pooled is None:
        lead = (
            f"Recipe {first.recipe} has the lowest loss, {loss(first.loss)}; with one seed per "
            "recipe the uncertainty is unknown.")
    elif tied > 1:
        lead = (f"{count(tied, 'recipe')} are tied at {loss(first.loss)}{reach}; recipe "
                f"{first.recipe} leads by mean.")
    else:
        lead = f"Recipe {first.recipe} stands apart at {loss(first.loss)}{reach}."
    broken = len(s.ranking.broken)
    none = (f" {count(broken, 'recipe')} {'has' if broken == 1 else 'have'} no "
            "result.") if broken else ""
    if first.loss > s.dataset.baseline.loss - (first.half_width or 0.0):
        return (
            f"{lead} That is not below the baseline of {loss(s.dataset.baseline.loss)}: nothing "
            "here "
            f"has learnt anything yet.{none}")
    return f"{lead}{_optimism(s)} {_against_base(s)}{none}{_elsewhere(s)}"


def _elsewhere(s: Snapshot) -> str:
    """Say what is to be known of recipes that were trained elsewhere."""
    found = sum(bool(s.recipes[row.recipe].origin) for row in s.ranking.rows)
    if not found:
        return ""
    return (
        f" {count(found, 'recipe')} trained elsewhere: "
        f"{'its losses are' if found == 1 else 'their losses are'} as given, not checked here.")


def _optimism(s: Snapshot) -> str:
    """Say how much too low the leader's loss is expected to be, where that is worth saying."""
    found, half = s.ranking.optimism, s.ranking.rows[0].half_width
    if found is None or half is None or found < 0.1 * half:
        return ""
    return (f" Expect about {number(found, 2)} worse on new data: the best of many looks better "
            "than it is.")


def _against_base(s: Snapshot) -> str:
    first = s.ranking.rows[0]
    beaten = _beaten(s)
    base = next((r for r in s.ranking.rows if s.recipes[r.recipe].recipe == s.file.space.base
                 and not s.recipes[r.recipe].origin), None)
    if base is None:
        return beaten
    if base.recipe == first.recipe:
        return f"It is the base recipe. {beaten}"
    if base.standing == "tied":
        return f"The base recipe, at {loss(base.loss)}, is statistically tied with it. {beaten}"
    return f"That is {loss(base.loss - first.loss)} below the base recipe. {beaten}"


def _beaten(s: Snapshot) -> str:
    """Say what the leader is compared with: the baseline, a linear model, the noise of the data."""
    first, linear, best = s.ranking.rows[0], s.dataset.linear, s.dataset.noise_floor
    half = first.half_width or 0.0
    known = [f"Baseline {loss(s.dataset.baseline.loss)}"]
    if linear is None or first.loss < linear.loss - half:
        known += [f"linear model {loss(linear.loss)}"] if linear else []
        linear = None
    known += [f"noise of the data {loss(best.loss)}"] if best else []
    worse = linear is not None and first.loss > linear.loss + half
    how = "is better" if worse else "is statistically tied with it"
    simple = f" A linear model, at {loss(linear.loss)}, {how}." if linear else ""
    return f"{', '.join(known)}.{simple}"


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
        return f"{all_of_them} ended{tail} in {duration(s.taken)}: {s.epochs} epochs.{account(s)}"
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
        return f"{what}; {number(s.epochs)} epochs in {duration(s.taken)}.{account(s)}"
    if s.search.state == "paused":
        return f"Paused. {what}. Nothing is lost; p resumes."
    of = number(round(s.expected_epochs))
    return f"{number(s.epochs)} of about {of} epochs, {time_left(s.seconds_left)}. {what}."


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
        f"{memory(forecast.bytes)}. Next: s starts it.")


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
    unit = "" if s.dataset.target.task != "regression" else " RMSE"
    metric = s.dataset.target.metrics[0]
    return (
        f"Place {row.place} of {len(s.ranking.rows)}: steady validation{unit or ' loss'} "
        f"{loss(row.loss)}{spread}, {shown(metric)} {measured(metric, row.metrics[0])}. Training "
        f"loss is {loss(abs(row.gap))} {'below' if row.gap >= 0 else 'above'} it.")


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
