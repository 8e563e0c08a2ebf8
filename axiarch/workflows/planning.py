"""What a search is going to try, and whether it fits the memory: known before anything is
trained.
"""

from __future__ import annotations

import os

from axiarch.data.dataset import Dataset
from axiarch.engine.memory import run_bytes
from axiarch.errors import RecipeError
from axiarch.recipes.recipe import Recipe, describe
from axiarch.recipes.searchfile import MethodChoice, SearchFile
from axiarch.runner.material import shape_of, worker_room
from axiarch.search.methods import make_method
from axiarch.text import count, memory

#: Recipes looked at; of more, these stand for all.
SAMPLED = 2000


def default_workers() -> int:
    """Return how many workers a search gets: one for each core this process may use."""
    return len(os.sched_getaffinity(0))


def planned_recipes(search: SearchFile) -> list[Recipe]:
    """Return the recipes that the method will propose, the first of very many.

    Of a method that learns, which are not known yet, recipes drawn at random stand for them.
    """
    method = make_method(search.method, search.space, search.seed)
    if method.learns:
        method = make_method(MethodChoice("random", {"recipes": max(method.expected, 1)}),
                             search.space, search.seed)
    recipes: list[Recipe] = []
    while len(recipes) < SAMPLED and (step := method.next()) is not None:
        recipes.append(step.recipe)
        method.take(step, len(recipes))
    return recipes


def check_memory(recipes: list[Recipe], data: Dataset, workers: int, room: int = 0) -> None:
    """Raise where the largest of some recipes does not fit into a worker's share of the memory,
    saying what would.

    Parameters
    ----------
    room : int
        Bytes a worker may take; by default its share of what is free now.

    Raises
    ------
    RecipeError
    """
    room, rows = room or worker_room(workers), data.rows["train"]
    largest = max(recipes, key=lambda r: run_bytes(shape_of(r, data), rows))
    needed = run_bytes(shape_of(largest, data), rows)
    if needed <= room:
        return
    batch = largest.whole("batch_size")
    while batch > 1 and run_bytes(shape_of(largest.changed({"batch_size": batch}), data),
                                       rows) > room:
        batch //= 2
    fits = run_bytes(shape_of(largest.changed({"batch_size": batch}), data), rows) <= room
    raise RecipeError(
        f"one run takes {memory(needed)}, and each of {count(workers, 'worker')} may take "
        f"{memory(room)}",
        describe(largest.difference(Recipe())),
        f"a batch size of {batch} would fit" if fits else "a smaller network, or fewer workers")
