"""Grid: every combination."""

from __future__ import annotations

from collections.abc import Mapping
from functools import cached_property

from axiarch.errors import RecipeError
from axiarch.recipes.bounds import MOST_COMBINATIONS
from axiarch.recipes.recipe import Recipe
from axiarch.recipes.space import Space
from axiarch.search.method import Method, Option, OptionValue, Step


class Grid(Method):
    """Propose the base recipe, then every combination of the knobs' values, the last knob
    turning fastest.
    """

    name = "grid"
    summary = "two or three knobs with few values each, all combinations"
    options = (Option("points", 5, 2, 1000, "values taken from a continuous range"),)

    def __init__(self, space: Space, seed: int, options: Mapping[str, OptionValue] | None = None,
                 replicates: int = 1) -> None:
        super().__init__(space, seed, options, replicates)
        size = space.grid_size(self.values["points"])
        if size > MOST_COMBINATIONS:
            raise RecipeError(
                f"the grid has {size:,} combinations", "[method] name",
                f"at most {MOST_COMBINATIONS:,} can be tried: use random, or vary less")
        self._waiting = space.grid(self.values["points"])
        self._upcoming: Recipe | None = None

    @cached_property
    def expected(self) -> int:
        size = self.space.grid_size(self.values["points"])
        base = self.space.base
        on_grid = size <= 20_000 and any(recipe.essence == base.essence for recipe in
                                         self.space.grid(self.values["points"]))
        return size + (self.space.allows(base) and not on_grid)

    def next(self) -> Step | None:
        if not self._seen and self.space.allows(self.space.base):
            return Step(self.space.base)
        if self._upcoming is None or not self.is_new(self._upcoming):
            self._upcoming = next((recipe for recipe in self._waiting if self.is_new(recipe)),
                                  None)
        return Step(self._upcoming) if self._upcoming is not None else None
