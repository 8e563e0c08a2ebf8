"""Say what a search will take before it starts, from real steps timed in a process of their own."""

from __future__ import annotations

from itertools import islice

from axiarch.data.dataset import Dataset
from axiarch.errors import TrainingError
from axiarch.insight.forecast import Forecast, forecast, to_measure
from axiarch.recipes.recipe import Recipe
from axiarch.recipes.searchfile import SearchFile
from axiarch.search.methods import make_method
from axiarch.workflows.asking import ask
from axiarch.workflows.drafting import check_networks
from axiarch.workflows.starting import default_lanes

#: Recipes looked at; of more, the cost of these stands for all.
_SAMPLED = 2000


def planned_recipes(search: SearchFile) -> tuple[list[Recipe], int]:
    """Return the recipes that the method will propose (the first of very many), and how many in all."""
    method = make_method(search.method, search.space, search.seed)
    recipes = [r for r in islice(iter(method.propose, None), _SAMPLED) if r is not None]
    return recipes, max(method.expected, len(recipes)) if len(recipes) == _SAMPLED else len(recipes)


def forecast_search(search: SearchFile, data: Dataset, lanes: int = 0) -> Forecast:
    """Return what `search` will take on `data` with `lanes` workers (0: one per core). Takes a few seconds.

    Raises
    ------
    TrainingError
        If the steps cannot be timed, or the space is empty.
    """
    check_networks(search, data)
    recipes, total = planned_recipes(search)
    if not recipes:
        raise TrainingError("no recipe of this space satisfies its constraints", "constraints", "loosen them")
    picked = to_measure(recipes, data.shape, data.outputs)
    repeats = search.repeats * len(data.folds)
    request = {"data": str(data.folder), "recipes": [[dict(r), n * repeats] for r, n in picked]}
    answer = ask("measure", request=request)
    measured = [(int(w), float(s), int(b)) for w, s, b in answer["measured"]]
    found = forecast(recipes, repeats, data.rows["train"], data.shape, data.outputs,
                     lanes or default_lanes(), measured)
    return found if total == len(recipes) else _scaled(found, total / len(recipes))


def _scaled(found: Forecast, factor: float) -> Forecast:
    from dataclasses import replace

    return replace(found, recipes=round(found.recipes * factor), runs=round(found.runs * factor),
                   epochs=round(found.epochs * factor), low=found.low * factor, high=found.high * factor)
