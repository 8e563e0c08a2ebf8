"""Say what a search will take before it starts, from real steps timed in a process of their own."""

from __future__ import annotations

from contextlib import closing
from dataclasses import replace

from axiarch.data.dataset import Dataset
from axiarch.errors import TrainingError
from axiarch.insight.forecast import Forecast, forecast, to_measure
from axiarch.journal.read import JournalReader
from axiarch.journal.workspace import Workspace
from axiarch.recipes.searchfile import USE, SearchFile
from axiarch.runner.earlier import known_recipes
from axiarch.search.methods import make_method
from axiarch.workflows.asking import ask
from axiarch.workflows.drafting import check_networks
from axiarch.workflows.planning import SAMPLED, check_memory, default_workers, planned_recipes

#: How much longer a race may take because workers wait for each other's outcomes.
_WAITING = 2.0


def forecast_search(search: SearchFile, data: Dataset, workers: int = 0,
                    workspace: Workspace | None = None) -> Forecast:
    """Return what `search` will take on `data` with `workers` workers (0: one per core), and how
    many recipes of earlier searches in a workspace it starts from. Takes a few seconds.

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
    request = {"data": str(data.folder), "recipes": [dict(recipe) for recipe in picked]}
    answer = ask("measure", request=request)
    measured = [(int(w), float(s), int(b)) for w, s, b in answer["measured"]]
    found = forecast(recipes, repeats, data.rows["train"], data.shape, data.outputs,
                     workers or default_workers(), measured)
    if not method.learns and len(recipes) < SAMPLED:
        return found
    found = replace(found, earlier=_earlier(search, data, workspace) if method.learns else 0)
    epochs = method.expected_epochs if method.learns else found.epochs * method.expected / len(
        recipes)
    return replace(found, recipes=method.expected, runs=method.expected_runs, epochs=round(epochs),
                   low=found.low * epochs / found.epochs,
                   high=found.high * epochs / found.epochs * (_WAITING if method.learns else 1.0))


def _earlier(search: SearchFile, data: Dataset, workspace: Workspace | None) -> int:
    """Return how many recipes of earlier searches the method starts from."""
    if workspace is None or search.earlier != USE or search.start:
        return 0
    with closing(JournalReader(workspace.journal)) as reader:
        return len(known_recipes(reader, 2**62, data, search.space))
