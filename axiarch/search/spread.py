"""Spread: low-discrepancy points, which leave no large gap and no crowd (Sobol' 1967, scrambled after Owen 1998)."""

from __future__ import annotations

from typing import TYPE_CHECKING

from axiarch.recipes.recipe import Recipe
from axiarch.search.random import Random

if TYPE_CHECKING:
    from scipy.stats.qmc import Sobol

#: Points tried for one proposal before the space counts as used up (repeats and broken constraints are passed over).
_TRIES = 1000


class Spread(Random):
    """Propose the base recipe, then recipes spread evenly over the space."""

    name = "spread"
    summary = "a first look that covers the space more evenly than chance; best with few knobs"

    _points: Sobol | None = None

    def _next(self) -> Recipe | None:
        number = len(self._seen)
        if number >= self.values["recipes"]:
            return None
        if number == 0 and self.space.allows(self.space.base):
            return self.space.base
        if not self.space.knobs:
            return None
        for _ in range(_TRIES):
            recipe = self.space.at(self._point())
            if recipe is not None and recipe not in self._seen:
                return recipe
        return None

    def _point(self) -> list[float]:
        """Return the next point of the unit cube, one coordinate a knob."""
        if self._points is None:
            from scipy.stats.qmc import Sobol

            self._points = Sobol(len(self.space.knobs), scramble=True, rng=self.seed)
        point: list[float] = self._points.random(1)[0].tolist()
        return [min(u, 1.0 - 1e-12) for u in point]
