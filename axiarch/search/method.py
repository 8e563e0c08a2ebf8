"""The seam behind which every method stands: it proposes recipes and observes results.

A method is deterministic: what it proposes depends on the space, the seed, its options, and the
proposals and observations so far in their order. A search is replayed by making the method anew and
repeating them.
"""

from __future__ import annotations

from abc import ABC, abstractmethod
from collections.abc import Mapping
from dataclasses import dataclass
from typing import ClassVar

from axiarch.errors import RecipeError
from axiarch.recipes.recipe import Recipe
from axiarch.recipes.space import Space

OptionValue = int | float | str | bool


@dataclass(frozen=True)
class Option:
    """One option of a method: its name, default, bounds and what it does."""

    name: str
    default: int
    low: int
    high: int
    summary: str

    def check(self, value: object) -> int:
        """Return `value` as a whole number within bounds, or raise :class:`RecipeError`."""
        if isinstance(value, bool) or not isinstance(value, int) or not self.low <= value <= self.high:
            raise RecipeError(f"{value!r} does not fit", f"method option {self.name}",
                              f"give a whole number from {self.low} to {self.high}")
        return value


@dataclass(frozen=True)
class Observation:
    """What became of one recipe.

    Attributes
    ----------
    recipe : Recipe
    losses : tuple of float
        Steady loss of each of its runs that ended; not finite where a run diverged or failed.
    """

    recipe: Recipe
    losses: tuple[float, ...]


class Method(ABC):
    """A way to choose the recipes of a search.

    Parameters
    ----------
    space : Space
    seed : int
    options : mapping
        Values of the method's :attr:`options`, by name.

    Raises
    ------
    RecipeError
        On an unknown option or a value that does not fit.
    """

    #: What it is called in files and on screens.
    name: ClassVar[str]
    #: One line: when a practitioner wants it.
    summary: ClassVar[str]
    #: What can be set.
    options: ClassVar[tuple[Option, ...]] = ()

    def __init__(self, space: Space, seed: int, options: Mapping[str, OptionValue] | None = None) -> None:
        self.space = space
        self.seed = seed
        self.values = self._checked(options or {})
        self._seen: set[Recipe] = set()

    def _checked(self, options: Mapping[str, OptionValue]) -> dict[str, int]:
        known = {o.name: o for o in self.options}
        for name in options:
            if name not in known:
                cure = "known are " + ", ".join(known) if known else "it has no options"
                raise RecipeError(f"the method {self.name} has no option {name!r}", "[method]", cure)
        return {name: option.check(options.get(name, option.default)) for name, option in known.items()}

    def propose(self) -> Recipe | None:
        """Return the next recipe to train, never one it proposed before; None if there is none (now)."""
        recipe = self._next()
        if recipe is not None:
            self._seen.add(recipe)
        return recipe

    def observe(self, observation: Observation) -> None:
        """Take in what became of a recipe."""
        self._observe(observation)

    @property
    @abstractmethod
    def expected(self) -> int:
        """How many recipes it will propose in all, at the most."""

    @abstractmethod
    def _next(self) -> Recipe | None:
        """Return a recipe that is not in ``self._seen``, or None."""

    def _observe(self, observation: Observation) -> None:
        """Take in what became of a recipe; methods that do not learn ignore it."""
