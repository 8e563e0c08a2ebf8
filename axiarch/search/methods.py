"""All methods by name. A method is added by one file and one entry here."""

from __future__ import annotations

from collections.abc import Mapping

from axiarch.errors import RecipeError
from axiarch.recipes.searchfile import MethodChoice
from axiarch.recipes.space import Space
from axiarch.search.grid import Grid
from axiarch.search.method import Method
from axiarch.search.random import Random
from axiarch.search.spread import Spread

METHODS: Mapping[str, type[Method]] = {method.name: method for method in (Random, Spread, Grid)}


def make_method(choice: MethodChoice, space: Space, seed: int) -> Method:
    """Return the method a search asks for, fresh.

    Raises
    ------
    RecipeError
        If no method is called so, or an option does not fit.
    """
    if choice.name not in METHODS:
        raise RecipeError(f"no method is called {choice.name!r}", "[method] name", "known are " + ", ".join(METHODS))
    return METHODS[choice.name](space, seed, choice.options)
