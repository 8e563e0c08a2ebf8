"""Spread: low-discrepancy points, which leave no large gap and no crowd (Sobol' 1967, scrambled
after Owen 1998).
"""

from __future__ import annotations

from typing import TYPE_CHECKING

from axiarch.recipes.recipe import Recipe
from axiarch.search.random import Random

if TYPE_CHECKING:
    from scipy.stats.qmc import Sobol

#: Points tried for one proposal before the space counts as used up (repeats and broken constraints
#: are passed over).
_TRIES = 1000


class Spread(Random):
    """Propose the base recipe, then recipes spread evenly over the space."""

    name = "spread"
    summary = "a first look that covers the space more evenly than chance; best with few knobs"

    _sobol: Sobol | None = None

    def _draw(self, number: int) -> Recipe | None:
        """Return the first recipe of the sequence that is not known yet; what was drawn is kept,
        to be asked again.
        """
        if not self.space.knobs:
            return None
        kept: list[Recipe] = self.__dict__.setdefault("_drawn", [])
        kept[:] = [recipe for recipe in kept if self.is_new(recipe)]
        if kept:
            return kept[0]
        for _ in range(_TRIES):
            recipe = self.space.at(self._next_point())
            if recipe is not None and self.is_new(recipe):
                kept.append(recipe)
                return recipe
        return None

    def _next_point(self) -> list[float]:
        if self._sobol is None:
            from scipy.stats.qmc import Sobol

            self._sobol = Sobol(len(self.space.knobs), scramble=True, rng=self.seed)
        point: list[float] = self._sobol.random(1)[0].tolist()
        return [min(u, 1.0 - 1e-12) for u in point]
