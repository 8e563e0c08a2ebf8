"""What is expected of a recipe before it is trained, from all that earlier searches on the same
data came to.

A Gaussian process over every value in which their recipes differ (see :mod:`axiarch.search.model`)
predicts the logarithm of the steady loss. Its intervals are widened by how far recipes left out one
by one came to lie from what the others predict of them.
"""

from __future__ import annotations

import math
from contextlib import closing
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from axiarch.data.dataset import Dataset
from axiarch.errors import AxiarchError
from axiarch.journal.read import JournalReader
from axiarch.journal.workspace import Workspace
from axiarch.recipes.conditions import Value
from axiarch.recipes.fields import FIELDS
from axiarch.recipes.ranges import OneOf, Range, Span, Whole
from axiarch.recipes.recipe import Recipe
from axiarch.recipes.space import Knob, Space
from axiarch.runner.material import effort_of
from axiarch.runs.steady import steady
from axiarch.search.model import Features, Model, Observed
from axiarch.text import duration, loss

Floats = NDArray[np.float64]

#: Recipes trained in full from which anything is expected of others, and those used at the most.
FEWEST, MOST = 10, 150
#: Ratio of a value's ends from which it is taken by its logarithm.
_LOG = 20.0
#: Where the surrogate knows less than this share of what it does not know before any result,
#: nothing like the recipe was tried.
_UNKNOWN = 0.75


@dataclass(frozen=True)
class Expected:
    """What a recipe is expected to come to.

    Attributes
    ----------
    loss, low, high : float
        The steady loss of one run, and its 95 % interval.
    seconds : float
        Of one run.
    alike : bool
        Whether something like it was tried.
    recipes : int
        That this was learnt from.
    """

    loss: float
    low: float
    high: float
    seconds: float
    alike: bool
    recipes: int

    def __str__(self) -> str:
        tail = "" if self.alike else "; nothing like it was tried"
        return (f"expected loss {loss(self.loss)} ({loss(self.low)} to {loss(self.high)}), "
                f"{duration(self.seconds)} a run{tail}")


class Foresight:
    """What earlier searches let one expect of other recipes on the same data.

    Parameters
    ----------
    recipes : list of Recipe
        N of them, trained in full.
    losses, seconds : (N,) arrays
        Steady loss and time of a run of each.
    effort : callable
        From a recipe and epochs to how long they take, in any unit.
    """

    def __init__(self, recipes: list[Recipe], losses: Floats, seconds: Floats,
                 effort: object) -> None:
        from scipy.special import ndtri, stdtrit

        self._effort = effort
        self._space = _space_of(recipes)
        self._features = Features(self._space)
        x = np.array([self._features.of(recipe) for recipe in recipes])
        count = len(recipes)
        zero = np.zeros(count)
        self._model = Model(Observed(x, zero, losses, zero, np.arange(count)), self._features.owner)
        self._centre, self._scale = self._model.units
        z = self._model.left_out()
        # The lengths were fitted to the same few results: two of them a knob, say.
        freedom = max(count - 2 * len(self._space.knobs), 2)
        # Of few that are left out, the quantile lies among the largest (Vovk et al. 2005).
        part = min(math.ceil(0.95 * (count + 1)) / count, 1.0)
        rough = float(np.quantile(np.abs(z), part)) / float(ndtri(0.975))
        # The surrogate was fitted to those that are left out too: the fewer a knob, the closer.
        few = 1 + len(self._space.knobs) / count
        self._reach = float(stdtrit(freedom, 0.975)) * max(rough, 1.0) * few
        self._pace = float(np.median(
            seconds / [self._spent(r, r.whole("epochs")) for r in recipes]))
        self.recipes = count

    def _spent(self, recipe: Recipe, epochs: int) -> float:
        assert callable(self._effort)
        return float(self._effort(recipe, epochs))

    def of(self, recipe: Recipe) -> Expected:
        """Return what a recipe is expected to come to."""
        mean, deviation = self._model.predict(self._features.of(recipe)[None])
        beyond = any(self._beyond(recipe, knob) for knob in self._space.knobs)
        fixed = any(recipe[name] != value for name, value in self._space.base.items()
                    if self._space.varied(name) is None and recipe.applies(name))
        spread = math.hypot(float(deviation[0]), self._model.noise)
        centre = self._centre + self._scale * float(mean[0])
        reach = self._reach * self._scale * spread
        known = float(deviation[0]) < _UNKNOWN and not beyond and not fixed
        return Expected(math.exp(centre), math.exp(centre - reach), math.exp(centre + reach),
                        self._pace * self._spent(recipe, recipe.whole("epochs")), known,
                        self.recipes)

    @staticmethod
    def _beyond(recipe: Recipe, knob: Knob) -> bool:
        """Whether a value lies outside all that were tried."""
        value = recipe[knob.name]
        return recipe.applies(knob.name) and value not in knob.range


def foresight(workspace: Workspace, dataset: Dataset) -> Foresight | None:
    """Return what searches on a data set let one expect; None where they are too few.

    Recipes trained elsewhere, and runs that continue others, are left out.
    """
    with closing(JournalReader(workspace.journal)) as reader:
        known = reader.known_recipes(2**62, dataset.fingerprint)
        times = reader.run_seconds(dataset.fingerprint)
    found: dict[object, tuple[Recipe, float, float]] = {}
    for each in known:
        level = steady(each.losses)[1] if math.isfinite(each.losses[-1]) else math.inf
        if each.ended and math.isfinite(level) and level > 0:
            found[each.recipe.essence] = (each.recipe, level, times.get(each.run, 0.0))
    if len(found) < FEWEST:
        return None
    best = sorted(found.values(), key=lambda each: each[1])[:MOST]
    try:
        return Foresight([recipe for recipe, _, _ in best], np.array([v for _, v, _ in best]),
                         np.array([t for _, _, t in best]), effort_of(dataset))
    except (AxiarchError, ArithmeticError, ValueError, AssertionError):
        return None


def _space_of(recipes: list[Recipe]) -> Space:
    """Return the smallest space that holds recipes: a knob for each value in which they differ."""
    knobs = []
    for name in FIELDS:
        values = {recipe[name] for recipe in recipes if recipe.applies(name)}
        if len(values) > 1:
            knobs.append(Knob(name, _range_of(values, name)))
    return Space(recipes[0], tuple(knobs))


def _range_of(values: set[Value], name: str) -> Range:
    if any(isinstance(value, str) for value in values):
        return OneOf(tuple(sorted(values, key=str)))
    low, high = (float(each) for each in (min(values, key=float), max(values, key=float)))
    log = low > 0 and high / low > _LOG
    if FIELDS[name].kind == "whole":
        return Whole(int(low), int(high), log)
    return Span(low, high, log)
