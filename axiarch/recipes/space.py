"""A space: the knobs that vary in one search, around a base recipe."""

from __future__ import annotations

import itertools
import math
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from functools import cached_property

from axiarch.errors import RecipeError
from axiarch.recipes.bounds import MOST_CONSTRAINTS
from axiarch.recipes.conditions import Condition, Value
from axiarch.recipes.constraints import Constraint
from axiarch.recipes.fields import FIELDS, field_named
from axiarch.recipes.notation import parse_range
from axiarch.recipes.ranges import Range
from axiarch.recipes.recipe import Recipe

#: Combinations counted one by one at the most; beyond it the count is the plain product.
_COUNTED = 200_000


@dataclass(frozen=True)
class Knob:
    """One value of a recipe together with the values it may take, and when it exists at all."""

    name: str
    range: Range
    when: Condition | None = None

    def __str__(self) -> str:
        return f"{self.range} when {self.when}" if self.when else str(self.range)


def knob(name: str, text: str) -> Knob:
    """Return the knob that `text` describes (see :mod:`axiarch.recipes.notation`)."""
    found, when = parse_range(name, text)
    return Knob(field_named(name).name, found, when)


@dataclass(frozen=True)
class Space:
    """What one search may vary.

    Attributes
    ----------
    base : Recipe
        Gives every value that does not vary, and the value of a knob where its condition does not
        hold.
    knobs : tuple of Knob
    constraints : tuple of Constraint
    """

    base: Recipe = field(default_factory=Recipe)
    knobs: tuple[Knob, ...] = ()
    constraints: tuple[Constraint, ...] = ()

    def __post_init__(self) -> None:
        names = [k.name for k in self.knobs]
        if len(self.constraints) > MOST_CONSTRAINTS:
            raise RecipeError(f"{len(self.constraints)} constraints are too many", "constraints",
                              f"give at most {MOST_CONSTRAINTS}")
        for name in names:
            if names.count(name) > 1:
                raise RecipeError("varies twice", name, "give one range")
        _ = self._ordered

    @cached_property
    def _ordered(self) -> tuple[Knob, ...]:
        """The knobs, each after those that its condition looks at."""
        waiting = list(self.knobs)
        done: list[Knob] = []
        names = {k.name for k in self.knobs}
        while waiting:
            settled = {k.name for k in done}
            free = [
                k for k in waiting
                if k.when is None or k.when.name not in names or k.when.name in settled
            ]
            if not free:
                raise RecipeError("these conditions wait for each other",
                                  ", ".join(k.name for k in waiting), "drop one of the conditions")
            done += free
            waiting = [k for k in waiting if k not in free]
        return tuple(done)

    def recipe(self, values: Mapping[str, Value]) -> Recipe | None:
        """Return the base with `values` of knobs put in where their conditions hold.

        None if a constraint is broken.
        """
        current: dict[str, Value] = dict(self.base)
        for each in self._ordered:
            if each.name in values and (each.when is None or each.when.holds(current)):
                current[each.name] = values[each.name]
        recipe = Recipe(current)
        return recipe if self.allows(recipe) else None

    def allows(self, recipe: Recipe) -> bool:
        """Say whether a recipe satisfies all constraints."""
        return all(c.holds(recipe) for c in self.constraints)

    def at(self, point: Sequence[float]) -> Recipe | None:
        """Return the recipe at a point of the unit cube, one coordinate a knob in their order."""
        return self.recipe({k.name: k.range.at(u) for k, u in zip(self.knobs, point, strict=True)})

    def grid(self, points: int) -> Iterator[Recipe]:
        """Yield every recipe of the grid once, those that differ in nothing of effect too; a
        continuum takes `points` values.
        """
        seen: set[object] = set()
        for values in itertools.product(*(k.range.grid(points) for k in self.knobs)):
            recipe = self.recipe(dict(zip((k.name for k in self.knobs), values, strict=True)))
            if recipe is not None and recipe.essence not in seen:
                seen.add(recipe.essence)
                yield recipe

    def grid_size(self, points: int) -> int:
        """Return how many recipes :meth:`grid` yields (the plain product, if there are very
        many).
        """
        product = math.prod(len(k.range.grid(points)) for k in self.knobs)
        return product if product > _COUNTED else sum(1 for _ in self.grid(points))

    @cached_property
    def combinations(self) -> int | None:
        """The number of different recipes, or None where a knob is a continuum."""
        sizes = [k.range.size for k in self.knobs]
        product = 1
        for size in sizes:
            if size is None:
                return None
            product *= size
        return product if product > _COUNTED else sum(1 for _ in self.grid(_COUNTED))

    def varied(self, name: str) -> Knob | None:
        """Return the knob called `name`, if it varies."""
        return next((k for k in self.knobs if k.name == name), None)


def space(base: Mapping[str, object] | None = None, vary: Mapping[str, str] | None = None,
          constraints: Sequence[str] = ()) -> Space:
    """Build a space from plain Python values and texts in the short notation."""
    from axiarch.recipes.constraints import parse_constraint

    return Space(Recipe(base), tuple(knob(name, text) for name, text in (vary or {}).items()),
                 tuple(parse_constraint(text) for text in constraints))


def inactive_knobs(space: Space) -> tuple[str, ...]:
    """Return the knobs that no recipe of the space can feel, such as momentum where only adam is
    used.
    """
    return tuple(k.name for k in space.knobs if not _felt(space, k))


def _felt(space: Space, k: Knob) -> bool:
    needs = FIELDS[k.name].needs
    if needs is None:
        return True
    other = space.varied(needs.name)
    values = other.range.grid(5) if other else (space.base[needs.name],)
    return any(needs.holds({needs.name: v}) for v in values)
