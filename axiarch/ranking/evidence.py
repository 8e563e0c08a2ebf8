"""What is known of the levels of recipes and of their differences, and how surely."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass
from functools import cached_property

import numpy as np
from numpy.typing import NDArray

from axiarch.ranking.best import critical, quantile
from axiarch.ranking.doubt import Doubt, Term
from axiarch.ranking.optimism import optimism
from axiarch.ranking.rows import RowTable
from axiarch.ranking.seeds import Components

Floats = NDArray[np.float64]

#: Recipes at the top that another one is compared with to rule it out as the best.
RIVALS = 5
#: Recipes whose differences are paired over rows, as those from the leader are; the rows of those
#: further down are bounded.
PAIRED = 64
#: Seeds that are proposed at the most.
MOST_SEEDS = 60


def _alone(freedom: float) -> float:
    """Return the critical value of the claim that the leader is the single best."""
    return quantile(freedom, 0.02)


@dataclass(frozen=True)
class Design:
    """How the rows were divided.

    Attributes
    ----------
    folds : int
        Folds of one cut; 1 is a single validation part.
    cuts : int
        How often the rows were cut into folds.
    overlap : float
        Validation rows per training row: the training rows of folds overlap.
    chose : (int, int) or None
        The repeat and fold whose losses chose which recipes are trained on others.
    repeats : int
        Seeds of the search itself; those beyond them are fresh: they chose nothing. 0 if unknown.
    """

    folds: int = 1
    cuts: int = 1
    overlap: float = 0.0
    chose: tuple[int, int] | None = None
    repeats: int = 0

    @property
    def factor(self) -> float:
        """The variance that overlapping training rows add, per variance of a replicate."""
        return self.overlap if self.folds > 1 else 0.0


@dataclass(frozen=True)
class Evidence:
    """Levels of K recipes, best first, and what they rest on.

    Attributes
    ----------
    recipes : tuple of int
        Their numbers.
    losses : (K, R) array
        Steady losses, NaN where a recipe was not trained.
    repeats : tuple of int
        The repeat of each replicate; -1 where it is none of the search's.
    parts : Components
    rows : RowTable
    sound : int
        Recipes without a failed run, those after them are never the best; all where each has one.
    design : Design
    """

    recipes: tuple[int, ...]
    losses: Floats
    repeats: tuple[int, ...]
    parts: Components
    rows: RowTable
    sound: int
    design: Design = Design()

    @property
    def levels(self) -> Floats:
        """The level of each recipe (K,)."""
        return self.parts.levels

    def level(self, recipe: int) -> Doubt:
        """Return the doubt about a recipe's level."""
        seeds = self.parts.level_terms(recipe, self.design.factor)
        return self._together(seeds, self.rows.level(recipe))

    def difference(self, one: int, other: int) -> Doubt:
        """Return the doubt about the difference of two recipes' levels, paired over rows and
        replicates.
        """
        pair = min(one, other), max(one, other)
        if pair not in self._differences:
            self._differences[pair] = self._difference(*pair)
        return self._differences[pair]

    @cached_property
    def _differences(self) -> dict[tuple[int, int], Doubt]:
        """What was worked out before."""
        return {}

    def _difference(self, one: int, other: int) -> Doubt:
        seeds = self.parts.difference_terms(one, other, self.design.factor)
        if one == 0 or other < PAIRED:
            return self._together(seeds, self.rows.difference(one, other))
        apart = self.rows.level(one), self.rows.level(other)
        if apart[0] is None or apart[1] is None:
            return self._together(seeds, None)
        bound = (math.sqrt(apart[0][0]) + math.sqrt(apart[1][0])) ** 2
        return self._together(seeds, (bound, min(apart[0][1], apart[1][1])))

    def _together(self, seeds: tuple[Term, ...], rows: Term | None) -> Doubt:
        """Return both doubts. Every fold has rows of its own: their doubt is in the spread over
        folds, and counts by itself only where it is the larger one.
        """
        if rows is None:
            return Doubt(seeds)
        if self.design.folds == 1:
            return Doubt(seeds, (rows,))
        spread = math.fsum(variance for variance, _ in seeds)
        left = max(rows[0] - spread, 0.0)
        return Doubt(seeds, ((left, rows[1]),))

    def fresh(self, recipe: int) -> tuple[float, float, int] | None:
        """Return a recipe's loss on fresh seeds alone, half its 95 % interval, and how many runs
        that are; None for fewer than two.
        """
        own = [place for place, repeat in enumerate(self.repeats)
               if self.parts.present[recipe, place] and 0 < self.design.repeats <= repeat]
        if len(own) < 2:
            return None
        variance = self.parts.own[recipe] + self.parts.shared
        freedom = min(self.parts.own_freedom[recipe], len(own) - 1.0 if self.parts.shared else 1e9)
        seeds = ((float(variance * (1 / len(own) + self.design.factor)), float(freedom)),)
        doubt = self._together(seeds, self.rows.level(recipe))
        return float(self.losses[recipe, own].mean()), doubt.half(), len(own)

    @cached_property
    def ruled_out(self) -> tuple[bool, ...]:
        """Whether each recipe is ruled out as the best (Hsu 1984; Edwards & Hsu 1983), or all but
        the leader (Gutmann & Maymin 1987).
        """
        if self.stands_alone:
            return tuple(i > 0 for i in range(len(self.levels)))
        return tuple(any(self._beats(rival, i) for rival in self._rivals if rival != i)
                     and self._worse_than_leader(i) for i in range(len(self.levels)))

    @cached_property
    def stands_alone(self) -> bool:
        """Whether the leader is the single best: better than each other by more than the half width
        of their difference alone, at 96 %.

        That it was chosen for being lowest, and from how many, needs no further allowance: the
        claim is wrong most often where two are equal and all others far worse, and then as often as
        that of a single difference (Gutmann & Maymin 1987). Stated are 95 %; the rest is for
        variances that are estimated.
        """
        return len(self.levels) > 1 and all(
            float(self.levels[i] - self.levels[0]) > self.difference(0, i).half(_alone)
            for i in range(1, len(self.levels)))

    def _worse_than_leader(self, recipe: int) -> bool:
        """Whether a recipe is worse than the leader as it is expected to be: its optimism off."""
        apart = float(self.levels[recipe] - self.levels[0]) - (self.optimism or 0.0)
        return apart > self.difference(0, recipe).half(self.critical)

    @cached_property
    def _rivals(self) -> Sequence[int]:
        """The recipes that others are compared with: the best, and the best of those known best.
        """
        count = self.sound
        known = [i for i in range(count) if self.parts.counts[i] == self.parts.counts.max()]
        return sorted({*range(min(RIVALS, count)), *known[:RIVALS]})

    def _beats(self, one: int, other: int) -> bool:
        apart = float(self.levels[other] - self.levels[one])
        return apart > 0 and apart > self.difference(one, other).half(self.critical)

    def critical(self, freedom: float) -> float:
        """Return the one-sided critical value for comparing one recipe with all others."""
        return critical(len(self.levels) - 1, freedom)

    @cached_property
    def optimism(self) -> float | None:
        """By how much the leader's level is expected to be too low."""
        parts = self.parts
        own = parts.own * (1 / parts.counts + self.design.factor)
        if self.design.folds == 1:
            own = own + np.array([self.rows.own(i) if i < PAIRED else 0.0
                                  for i in range(len(own))])
        first = slice(self.sound)
        return optimism(self.levels[first], np.sqrt(own)[first], parts.own_freedom[first])

    def seeds_needed(self, recipe: int) -> int | None:
        """Return how many more replicates of a recipe would rule it out, if the difference stays as
        it is; None where no number would.

        The leader gets as many where it has no more than the recipe already.
        """
        apart = float(self.levels[recipe] - self.levels[0])
        now = self.difference(0, recipe)
        first, own = (int(count) for count in self.parts.counts[[0, recipe]])
        for more in range(1, MOST_SEEDS + 1):
            counts = (max(first, own + more), own + more)
            terms = tuple((float((1 / count + self.design.factor) * self.parts.own[i]),
                           float(self.parts.own_freedom[i] + more))
                          for i, count in zip((0, recipe), counts, strict=True))
            fewer = own / (own + more)
            if apart - (self.optimism or 0.0) * fewer > Doubt(terms, now.rows).half(self.critical):
                return more
        return None
