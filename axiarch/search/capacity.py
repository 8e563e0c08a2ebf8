"""Capacity: the base recipe with ever larger networks, from a linear model upwards.

The rungs of this ladder are what a practitioner climbs by hand: no hidden layer; one layer of 1, 2,
3, … units; then more layers, as wide as each other or each half as wide as the one before. Every
rung is trained in full on all seeds and folds.
"""

from __future__ import annotations

from collections.abc import Mapping
from functools import cached_property

from axiarch.errors import RecipeError
from axiarch.recipes.network import HIDDEN, parse_network
from axiarch.recipes.recipe import Recipe
from axiarch.recipes.space import Space
from axiarch.search.method import Method, Option, OptionValue, Step

#: Widths of one layer: every one at first, then two to a doubling; and of several layers.
_NARROW, _DEEP = (1, 2, 3, 4, 6), 4


class Capacity(Method):
    """Propose the base recipe, then the rungs, smallest first."""

    name = "capacity"
    summary = ("how large the network must be: a ladder from a linear model upwards, all else as "
               "in the base recipe")
    options = (
        Option("widest", 128, 1, 16384, "units of the widest layer"),
        Option("deepest", 4, 0, 64, "hidden layers of the deepest network"),
    )

    def __init__(self, space: Space, seed: int, options: Mapping[str, OptionValue] | None = None,
                 replicates: int = 1) -> None:
        super().__init__(space, seed, options, replicates)
        if HIDDEN not in parse_network(space.base.word("network")):
            raise RecipeError("a ladder of capacity changes depth and width, which have no effect "
                              "in this network line", "network", "put hidden into it")

    @cached_property
    def rungs(self) -> tuple[Recipe, ...]:
        """The recipes of the ladder, those that satisfy the constraints, smallest first."""
        widest, deepest = self.values["widest"], self.values["deepest"]
        widths = [w for w in _NARROW if w <= widest]
        width = 8
        while width <= widest:
            widths += [w for w in (width, width * 3 // 2) if w <= widest]
            width *= 2
        found: list[dict[str, int | str]] = [{"depth": 0}]
        found += [{"depth": 1, "width": w} for w in widths] if deepest else []
        wide = [w for w in widths if w >= _DEEP and w & (w - 1) == 0][::2]
        for depth in range(2, deepest + 1):
            for shape in ("constant", "funnel"):
                found += [{"depth": depth, "width": w, "shape": shape} for w in wide]
        rungs: dict[object, Recipe] = {}
        for values in found:
            recipe = self.space.base.changed(values)
            if self.space.allows(recipe):
                rungs.setdefault(recipe.essence, recipe)
        return tuple(rungs.values())

    def next(self) -> Step | None:
        if not self._seen and self.space.allows(self.space.base):
            return Step(self.space.base)
        rung = next((recipe for recipe in self.rungs if self.is_new(recipe)), None)
        return Step(rung) if rung is not None else None

    @property
    def expected(self) -> int:
        base = self.space.base
        extra = self.space.allows(base) and all(r.essence != base.essence for r in self.rungs)
        return len(self.rungs) + extra
