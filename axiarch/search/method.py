"""The seam behind which every method stands: it decides the next step, and observes what came of
earlier ones.

A method is deterministic: what it decides depends on the space, the seed, its options, and the
steps taken and outcomes observed so far in their order (see :mod:`axiarch.search.sequence`). It
keeps nothing else, so that a search goes on after a restart when it observes the same steps and
outcomes again.
"""

from __future__ import annotations

import math
from abc import ABC, abstractmethod
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import ClassVar, Literal

from axiarch.errors import RecipeError
from axiarch.recipes.recipe import Recipe
from axiarch.recipes.space import Space
from axiarch.runs.steady import steady

OptionValue = int | float | str | bool
Override = Literal["cut", "recipes"]

#: The window of a method that does not learn: it may decide everything at once.
ALL_AT_ONCE = 10**9


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
        if isinstance(value,
                      bool) or not isinstance(value, int) or not self.low <= value <= self.high:
            raise RecipeError(f"{value!r} does not fit", f"method option {self.name}",
                              f"give a whole number from {self.low} to {self.high}")
        return value


#: How far a method that learns runs ahead of what it knows.
WINDOW = Option("window", 3, 1, 10_000,
                "steps under way while the next is decided; if not given, three for two workers")


@dataclass(frozen=True)
class Step:
    """One step of a search: a recipe is trained up to some epoch.

    Attributes
    ----------
    recipe : Recipe
    number : int
        Of a recipe that the search knows already; 0 for a new one.
    until : int
        The epoch up to which it is trained now; 0 for all epochs that it says.
    replicates : int
        On how many of the replicates (first seed on each fold, second seed on each fold, …); 0 for
        all.
    parent : int
        For a new recipe, the number of the one whose weights it takes over; 0 for none.
    why : str
        In words.
    """

    recipe: Recipe
    number: int = 0
    until: int = 0
    replicates: int = 0
    parent: int = 0
    why: str = ""


@dataclass(frozen=True)
class Observation:
    """What came of one step.

    Attributes
    ----------
    number : int
    recipe : Recipe
    curves : tuple of tuple of float
        For each replicate the validation loss of each epoch (E,), up to the step's last one; empty
        where a run failed, not finite at its end where it diverged.
    ended : bool
        Whether the runs came to their own end, so that nothing more can come of them.
    """

    number: int
    recipe: Recipe
    curves: tuple[tuple[float, ...], ...]
    ended: bool = True

    @property
    def losses(self) -> tuple[float, ...]:
        """The steady loss of each replicate; infinite where it diverged or failed."""
        return tuple(steady_at(curve) for curve in self.curves)

    @property
    def loss(self) -> float:
        """The mean steady loss of the replicates."""
        return math.fsum(self.losses) / len(self.losses) if self.losses else math.inf


def steady_at(curve: tuple[float, ...], epoch: int = 0) -> float:
    """Return the steady loss of a curve (E,) after `epoch` epochs (0: all); infinite where it
    had diverged by then.
    """
    part = curve[:epoch] if epoch else curve
    return steady(part)[1] if part and math.isfinite(part[-1]) else math.inf


class Method(ABC):
    """A way to choose the recipes of a search and how long each is trained.

    Parameters
    ----------
    space : Space
    seed : int
    options : mapping
        Values of the method's :attr:`options`, by name.
    replicates : int
        Seeds times folds of the search.

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
    #: Steps that may be under way while the next one is decided (see :class:`StepSequence`). Fixed
    #: for a search.
    window: int = ALL_AT_ONCE
    #: Whether outcomes make it decide otherwise.
    learns: ClassVar[bool] = False

    def __init__(self, space: Space, seed: int, options: Mapping[str, OptionValue] | None = None,
                 replicates: int = 1) -> None:
        self.space = space
        self.seed = seed
        self.replicates = replicates
        self.values = self._checked(options or {})
        self.recipes: dict[int, Recipe] = {}
        self.window = self.values.get("window", self.window)
        self._seen: set[object] = set()
        self._barred: set[int] = set()

    def _checked(self, options: Mapping[str, OptionValue]) -> dict[str, int]:
        known = {o.name: o for o in self.options}
        for name in options:
            if name not in known:
                cure = "its options are " + ", ".join(known) if known else "it has no options"
                raise RecipeError(f"the method {self.name} has no option {name!r}", "[method]",
                                  cure)
        return {
            name: option.check(options.get(name, option.default)) for name, option in known.items()
        }

    @abstractmethod
    def next(self) -> Step | None:
        """Return the next step, or None if there is none before more outcomes are observed. Changes
        nothing.
        """

    def take(self, step: Step, number: int) -> None:
        """Take note that a step is taken: one of its own, or one by hand; `number` is its
        recipe's.
        """
        self.recipes[number] = step.recipe
        self._seen.add(step.recipe.essence)

    def is_new(self, recipe: Recipe) -> bool:
        """Say whether a recipe differs from all that are known in something that has an effect."""
        return recipe.essence not in self._seen

    def observe(self, observation: Observation) -> None:
        """Take in what came of a step; methods that do not learn ignore it."""

    def learn_from(self, known: Sequence[Observation]) -> None:
        """Take in what earlier searches know of recipes of the space, before the first step; only
        methods with a model of the loss make use of it.
        """

    def override(self, what: Override, value: int) -> None:
        """Obey a user: no further step for recipe `value` that was cut, or `value` recipes in
        all.
        """
        if what == "cut":
            self._barred.add(value)
        elif "recipes" in self.values:
            self.values["recipes"] = value

    @property
    @abstractmethod
    def expected(self) -> int:
        """How many recipes it will propose in all, at the most."""

    @property
    def expected_runs(self) -> int:
        """How many runs it will make of them, at the most."""
        return self.expected * self.replicates

    @property
    def expected_epochs(self) -> float:
        """About how many epochs it will train in all, at the most."""
        return float(self.expected * self.replicates * self.longest)

    @property
    def longest(self) -> int:
        """The most epochs that any recipe of the space says."""
        varied = self.space.varied("epochs")
        values = varied.range.grid(5) if varied else ()
        return max(
            [self.space.base.whole("epochs"), *(int(v) for v in values if not isinstance(v, str))])

    def cut_reason(self, number: int) -> str:
        """Say why a recipe was not trained further."""
        return "the search ended"
