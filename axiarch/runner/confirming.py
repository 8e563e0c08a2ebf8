"""Measure the winner again: when nothing else is left, the leader and what is tied with it are
trained on fresh seeds, which chose nothing (Andrews, Kitagawa & McCloskey 2024).
"""

from __future__ import annotations

from axiarch.ranking.evidence import Design
from axiarch.ranking.rank import RunResult, rank
from axiarch.runner.material import shape_of
from axiarch.runner.running import RunningSearch
from axiarch.runner.steps import enter
from axiarch.runs.states import OVER, RunState
from axiarch.search.method import Step
from axiarch.text import count as counted

#: Recipes that are confirmed at the most, and what their steps say.
MOST, WHY = 5, "confirmed on fresh seeds"


def confirm(search: RunningSearch) -> bool:
    """Let the best recipes train on fresh seeds, once a search; say whether there was anything to
    confirm.
    """
    history, seeds = search.history, search.file.confirm
    if not seeds or search.start is not None or any(
            taken.step.why == WHY for taken in history.sequence.steps):
        return False
    chosen = _best(search)
    folds = len({fold for _, fold in history.replicates})
    for recipe in chosen:
        known = 1 + max(run.spec.streams.repeat for run in history.every_run_of(recipe))
        known = max(known, search.file.repeats)
        enter(search, Step(history.recipes[recipe], recipe, 0, (known + seeds) * folds, why=WHY))
    if chosen:
        search.note("confirming", f"{counted(len(chosen), 'recipe')} on "
                                  f"{counted(seeds, 'fresh seed')} each")
    return bool(chosen)


def _best(search: RunningSearch) -> list[int]:
    """Return the leader and the recipes tied with it, the best few, by the losses of their runs."""
    history = search.history
    results, broken = [], []
    for run in history.runs.values():
        if run.state not in OVER or run.state == RunState.CUT or not run.losses:
            continue
        if run.state == RunState.FAILED:
            broken.append(run.recipe)
            continue
        streams = run.spec.streams
        results.append(RunResult(run.recipe, run.losses, run.losses, ((),) * len(run.losses), 0.0,
                                 not run.diverged, (streams.repeat, streams.fold)))
    parameters = {n: shape_of(r, search.dataset).trained for n, r in history.recipes.items()}
    chose = (0, 0) if history.method.learns else None
    ranking = rank(results, parameters, broken, Design(chose=chose))
    tied = ranking.tied or ranking.rows[:1]
    return [row.recipe for row in tied[:MOST]]
