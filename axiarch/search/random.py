"""Random: recipes drawn independently (Bergstra & Bengio, "Random search for hyper-parameter optimization", 2012)."""

from __future__ import annotations

from functools import cached_property

import numpy as np

from axiarch.recipes.recipe import Recipe
from axiarch.search.method import Method, Option

#: Draws tried for one proposal before the space counts as used up (repeats and broken constraints are redrawn).
_TRIES = 1000


class Random(Method):
    """Propose the base recipe, then recipes drawn at random from the space."""

    name = "random"
    summary = "a first look at any number of knobs; can be ended at any time"
    options = (Option("recipes", 40, 1, 1_000_000, "recipes in all, the base recipe included"),)

    @cached_property
    def expected(self) -> int:
        combinations = self.space.combinations
        wanted = self.values["recipes"]
        if combinations is None or combinations > wanted:
            return wanted
        base_is_extra = self.space.base not in set(self.space.grid(10**9))
        return min(wanted, combinations + (base_is_extra and self.space.allows(self.space.base)))

    def _next(self) -> Recipe | None:
        number = len(self._seen)
        if number >= self.values["recipes"]:
            return None
        if number == 0 and self.space.allows(self.space.base):
            return self.space.base
        rng = np.random.default_rng(np.random.SeedSequence(self.seed, spawn_key=(number,)))
        for _ in range(_TRIES):
            recipe = self.space.at(rng.random(len(self.space.knobs)).tolist())
            if recipe is not None and recipe not in self._seen:
                return recipe
        return None
