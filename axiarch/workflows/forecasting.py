"""Say what a search will take before it starts, from real steps timed in a process of their own."""

from __future__ import annotations

from dataclasses import replace

from axiarch.data.dataset import Dataset
from axiarch.errors import RecipeError, TrainingError
from axiarch.insight.forecast import Forecast, forecast, to_measure
from axiarch.plain import count, memory
from axiarch.recipes.recipe import Recipe, describe
from axiarch.recipes.searchfile import MethodChoice, SearchFile
from axiarch.runner.material import shape_of, worker_room
from axiarch.search.methods import make_method
from axiarch.workflows.asking import ask
from axiarch.workflows.drafting import check_networks
from axiarch.workflows.starting import default_lanes

#: Recipes looked at; of more, the cost of these stands for all.
_SAMPLED = 2000
#: Runs side by side in a race, usually; and how much longer it takes because workers wait for each other's outcomes.
_RACED, _WAITING = 2, 2.0


def planned_recipes(search: SearchFile) -> list[Recipe]:
    """Return the recipes that the method will propose, the first of very many.

    Of a method that learns, which are not known yet, recipes drawn at random stand for them.
    """
    method = make_method(search.method, search.space, search.seed)
    if method.learns:
        method = make_method(MethodChoice("random", {"recipes": max(method.expected, 1)}), search.space, search.seed)
    recipes: list[Recipe] = []
    while len(recipes) < _SAMPLED and (step := method.next()) is not None:
        recipes.append(step.recipe)
        method.take(step, len(recipes))
    return recipes


def forecast_search(search: SearchFile, data: Dataset, lanes: int = 0) -> Forecast:
    """Return what `search` will take on `data` with `lanes` workers (0: one per core). Takes a few seconds.

    Raises
    ------
    TrainingError
        If the steps cannot be timed, or the space is empty.
    """
    check_networks(search, data)
    recipes = planned_recipes(search)
    if not recipes:
        raise TrainingError("no recipe of this space satisfies its constraints", "constraints", "loosen them")
    check_memory(recipes, data, lanes or default_lanes())
    picked = to_measure(recipes, data.shape, data.outputs)
    repeats = search.repeats * len(data.folds)
    method = make_method(search.method, search.space, search.seed, repeats)
    # A race hands out few runs of one shape at a time: its stacks are small.
    sizes = [min(n * repeats, _RACED) if method.learns else n * repeats for _, n in picked]
    request = {"data": str(data.folder), "recipes": [[dict(r), n] for (r, _), n in zip(picked, sizes, strict=True)]}
    answer = ask("measure", request=request)
    measured = [(int(w), float(s), int(b)) for w, s, b in answer["measured"]]
    found = forecast(recipes, repeats, data.rows["train"], data.shape, data.outputs,
                     lanes or default_lanes(), measured)
    if not method.learns and len(recipes) < _SAMPLED:
        return found
    epochs = method.expected_epochs if method.learns else found.epochs * method.expected / len(recipes)
    return replace(found, recipes=method.expected, runs=method.expected_runs, epochs=round(epochs),
                   low=found.low * epochs / found.epochs,
                   high=found.high * epochs / found.epochs * (_WAITING if method.learns else 1.0))


def check_memory(recipes: list[Recipe], data: Dataset, lanes: int, room: int = 0) -> None:
    """Raise where the largest of some recipes does not fit into a worker's share of the memory, saying what would.

    Parameters
    ----------
    room : int
        Bytes a worker may take; by default its share of what is free now.

    Raises
    ------
    RecipeError
    """
    room, rows = room or worker_room(lanes), data.rows["train"]
    largest = max(recipes, key=lambda r: shape_of(r, data).memory(1, rows))
    needed = shape_of(largest, data).memory(1, rows)
    if needed <= room:
        return
    batch = largest.whole("batch_size")
    while batch > 1 and shape_of(largest.changed({"batch_size": batch}), data).memory(1, rows) > room:
        batch //= 2
    fits = shape_of(largest.changed({"batch_size": batch}), data).memory(1, rows) <= room
    raise RecipeError(f"one run takes {memory(needed)}, and each of {count(lanes, 'worker')} may take {memory(room)}",
                      describe(largest.difference(Recipe())),
                      f"a batch size of {batch} would fit" if fits else "a smaller network, or fewer workers")
