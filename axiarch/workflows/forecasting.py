"""Say what a search will take before it starts, from real steps timed in a process of their own."""

from __future__ import annotations

import time
from collections.abc import Hashable, Sequence
from contextlib import closing
from dataclasses import replace

from axiarch.data.dataset import Dataset
from axiarch.errors import TrainingError
from axiarch.insight.forecast import Forecast, forecast, to_measure
from axiarch.journal.read import JournalReader
from axiarch.journal.workspace import Workspace
from axiarch.recipes.fields import FIELDS
from axiarch.recipes.recipe import Recipe
from axiarch.recipes.searchfile import USE, SearchFile
from axiarch.runner.earlier import known_recipes
from axiarch.search.methods import make_method
from axiarch.workflows.asking import ask
from axiarch.workflows.drafting import check_networks
from axiarch.workflows.planning import SAMPLED, check_memory, default_workers, planned_recipes

#: Arithmetic, seconds and bytes of a step.
Step = tuple[int, float, int]
#: How much longer a race may take because workers wait for each other's outcomes.
_WAITING = 2.0
#: Seconds for which steps once timed are not timed again, and what they took, by data set and pace.
_HOLDS = 600.0
_TIMED: dict[tuple[str, Hashable], tuple[float, Step]] = {}


def forecast_search(search: SearchFile, data: Dataset, workers: int = 0,
                    workspace: Workspace | None = None) -> Forecast:
    """Return what `search` will take on `data` with `workers` workers (0: one per core), and how
    many recipes of earlier searches in a workspace it starts from. Takes a few seconds where steps
    are to be timed.

    Raises
    ------
    TrainingError
        If the steps cannot be timed, or the space is empty.
    """
    check_networks(search, data)
    recipes = planned_recipes(search)
    if not recipes:
        raise TrainingError("no recipe of this space satisfies its constraints", "constraints",
                            "loosen them")
    check_memory(recipes, data, workers or default_workers())
    picked = to_measure(recipes, data.shape, data.outputs)
    repeats = search.repeats * len(data.folds)
    method = make_method(search.method, search.space, search.seed, repeats)
    found = forecast(recipes, repeats, data.rows["train"], data.shape, data.outputs,
                     workers or default_workers(), _timed(picked, data))
    if not method.learns and len(recipes) < SAMPLED:
        return found
    found = replace(found, earlier=_earlier(search, data, workspace) if method.learns else 0)
    epochs = method.expected_epochs if method.learns else found.epochs * method.expected / len(
        recipes)
    return replace(found, recipes=method.expected, runs=method.expected_runs, epochs=round(epochs),
                   low=found.low * epochs / found.epochs,
                   high=found.high * epochs / found.epochs * (_WAITING if method.learns else 1.0))


def _timed(recipes: Sequence[Recipe], data: Dataset) -> list[Step]:
    """Return arithmetic, seconds and bytes of a step of each recipe, timed in a process of its own
    unless they are known from a short while ago.
    """
    now = time.monotonic()
    paces = [(data.fingerprint, pace_of(recipe)) for recipe in recipes]
    known = {pace: step for pace, (timed, step) in _TIMED.items() if now - timed < _HOLDS}
    left = {pace: recipe for pace, recipe in zip(paces, recipes, strict=True) if pace not in known}
    if left:
        request = {"data": str(data.folder), "recipes": [dict(r) for r in left.values()]}
        answer = ask("measure", request=request)["measured"]
        for pace, (work, seconds, size) in zip(left, answer, strict=True):
            known[pace] = int(work), float(seconds), int(size)
            _TIMED[pace] = now, known[pace]
    return [known[pace] for pace in paces]


def pace_of(recipe: Recipe) -> Hashable:
    """Return what the time of a step depends on: the same for recipes that differ in how much a
    rate or a regulariser is, in their schedule, or in when they stop.
    """
    found: list[tuple[str, object]] = []
    for name, value in recipe.essence:
        group = FIELDS[name].group
        if name == "epochs" or group in ("schedule", "stopping"):
            continue
        amount = not isinstance(value, str) and group not in ("network", "batches")
        found.append((name, bool(value) if amount else value))
    return tuple(found)


def _earlier(search: SearchFile, data: Dataset, workspace: Workspace | None) -> int:
    """Return how many recipes of earlier searches the method starts from."""
    if workspace is None or search.earlier != USE or search.start:
        return 0
    with closing(JournalReader(workspace.journal)) as reader:
        return len(known_recipes(reader, 2**62, data, search.space))
