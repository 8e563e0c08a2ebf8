"""All methods by name. A method is added by one file and one entry here."""

from __future__ import annotations

from collections.abc import Mapping

from axiarch.errors import RecipeError
from axiarch.recipes.searchfile import MethodChoice
from axiarch.recipes.space import Space
from axiarch.search.capacity import Capacity
from axiarch.search.grid import Grid
from axiarch.search.guided import Guided, GuidedRacing
from axiarch.search.method import Method
from axiarch.search.population import Population
from axiarch.search.racing import Racing
from axiarch.search.random import Random
from axiarch.search.spread import Spread
from axiarch.search.staged import Staged
from axiarch.search.zoom import Zoom

METHODS: Mapping[str, type[Method]] = {method.name: method for method in (
    GuidedRacing, Racing, Guided, Random, Spread, Grid, Staged, Zoom, Capacity, Population)}


def make_method(choice: MethodChoice, space: Space, seed: int, replicates: int = 1) -> Method:
    """Return the method a search asks for, fresh.

    Raises
    ------
    RecipeError
        If there is no method called so, or an option does not fit.
    """
    if choice.name not in METHODS:
        raise RecipeError(f"there is no method called {choice.name!r}", "[method] name",
                          "choose one of " + ", ".join(METHODS))
    return METHODS[choice.name](space, seed, choice.options, replicates)
