"""Random: recipes drawn independently (Bergstra & Bengio, "Random search for hyper-parameter
optimization", 2012).
"""

from __future__ import annotations

from functools import cached_property
from typing import ClassVar

import numpy as np

from axiarch.recipes.recipe import Recipe
from axiarch.search.method import Method, Option, Step

#: Draws tried for one proposal before the space counts as used up (repeats and broken constraints
#: are redrawn).
_TRIES = 1000


class Drawn(Method):
    """A method that draws recipes from the space, the base recipe first, up to the number of its
    option `recipes`.
    """

    @cached_property
    def _smallest(self) -> int | None:
        """How many recipes there are in all, the base included; None where a knob is a
        continuum.
        """
        combinations = self.space.combinations
        if combinations is None or combinations > 10_000:
            return None
        base = self.space.base
        base_is_extra = self.space.allows(base) and all(
            recipe.essence != base.essence for recipe in self.space.grid(10_000))
        return combinations + base_is_extra

    @property
    def expected(self) -> int:
        wanted = self.values["recipes"]
        return wanted if self._smallest is None else min(wanted, self._smallest)

    def newcomer(self) -> Recipe | None:
        """Return the next recipe that is not known yet; None where so many were drawn, or there
        are no more.
        """
        number = len(self._seen)
        if number >= self.values["recipes"]:
            return None
        if number == 0 and self.space.allows(self.space.base):
            return self.space.base
        if self._used_up == number:
            return None
        recipe = self._draw(number)
        self._used_up = -1 if recipe is not None else number
        return recipe

    _used_up = -1  # the number of recipes known when no other was found

    def _draw(self, number: int) -> Recipe | None:
        """Return newcomer `number` (from 0)."""
        rng = np.random.default_rng(np.random.SeedSequence(self.seed, spawn_key=(number,)))
        for _ in range(_TRIES):
            recipe = self.space.at(self._point(rng))
            if recipe is not None and self.is_new(recipe):
                return recipe
        return None

    def _point(self, rng: np.random.Generator) -> list[float]:
        """Return a point of the unit cube, one coordinate a knob."""
        point: list[float] = rng.random(len(self.space.knobs)).tolist()
        return point


class Random(Drawn):
    """Propose the base recipe, then recipes drawn at random from the space."""

    name = "random"
    summary = "a first look at any number of knobs; you can stop it at any time"
    options: ClassVar[tuple[Option, ...]] = (Option("recipes", 40, 1, 1_000_000,
                                                    "recipes in all, the base recipe included"),)

    def next(self) -> Step | None:
        recipe = self.newcomer()
        return None if recipe is None else Step(recipe)
