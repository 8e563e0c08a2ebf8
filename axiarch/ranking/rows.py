"""What the validation rows leave uncertain: they are a sample, and every recipe is measured on it.

The loss of a row has a part that stays whatever the seed and one that changes with it. Seeds show
the second in the spread of runs already; what they cannot show is the first. It is what is left of
the variance over rows of the mean over seeds (a crossed design; Owen 2007). Losses that are no mean
over rows, such as the root of one, are read by their influence, row by row (Efron 1982).
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from functools import cached_property

import numpy as np
from numpy.typing import NDArray

from axiarch.ranking.doubt import Term

Floats = NDArray[np.float64]

#: Recipes whose losses are averaged to say what of a row's loss is its own difficulty, and from
#: which the part that changes with the seed is taken where a recipe has one seed.
BEST = 8


def influence(losses: NDArray[np.floating], root: bool) -> Floats:
    """Return what each row (n,) adds to or takes from a loss, zero on average.

    Parameters
    ----------
    root : bool
        Whether the loss is the root of the rows' mean.
    """
    values = losses.astype(np.float64)
    mean = float(values.mean())
    return (values - mean) / (2 * mean**0.5 if root and mean > 0 else 1.0)


@dataclass(frozen=True)
class RowTable:
    """The rows of all recipes' runs.

    Attributes
    ----------
    runs : sequence of mapping
        For each recipe, best first, by the number of the replicate: influences (n,).
    folds : sequence of int
        The fold of each replicate.
    totals : mapping of int to int
        Validation rows of each fold.
    cuts : int
        How often all rows were cut into folds: each cut measures the same rows again.
    """

    runs: Sequence[Mapping[int, Floats]]
    folds: Sequence[int]
    totals: Mapping[int, int]
    cuts: int = 1

    def level(self, recipe: int) -> Term | None:
        """Return the variance of a recipe's level over rows; None where rows are not known."""
        if recipe not in self._known:
            self._known[recipe] = self._variance(self.runs[recipe])
        return self._known[recipe]

    def difference(self, one: int, other: int) -> Term | None:
        """Return the variance over rows of the difference of two recipes, paired."""
        first, second = self.runs[one], self.runs[other]
        both = [r for r in first if r in second]
        if both:
            return self._variance({r: first[r] - second[r] for r in both}, 2.0)
        found = self.level(one), self.level(other)
        if found[0] is None or found[1] is None:
            return None
        return found[0][0] + found[1][0], min(found[0][1], found[1][1])

    def own(self, recipe: int) -> float:
        """Return the variance over rows of what tells a recipe from the best ones together."""
        runs = {r: own - self._means[r] for r, own in self.runs[recipe].items()
                if r in self._means}
        found = self._variance(runs) if runs else None
        return found[0] if found is not None else 0.0

    @cached_property
    def _known(self) -> dict[int, Term | None]:
        """What was worked out of levels before."""
        return {}

    @cached_property
    def _means(self) -> dict[int, Floats]:
        """The mean influences of the best recipes, by replicate."""
        best = [runs for runs in self.runs if runs][:BEST]
        places = {r for runs in best for r in runs}
        return {r: np.mean([runs[r] for runs in best if r in runs], axis=0) for r in places
                if sum(r in runs for runs in best) > 1}

    @cached_property
    def _typical(self) -> float:
        """The variance of a row's loss over seeds, a mean over the best recipes; 0 if unknown."""
        found = [_interaction(own) for runs in [runs for runs in self.runs if runs][:BEST]
                 for own in self._by_fold(runs).values() if len(own) > 1]
        return float(np.mean(found)) if found else 0.0

    def _by_fold(self, runs: Mapping[int, Floats]) -> dict[int, Floats]:
        """Return the influences (S, n) of each fold."""
        found: dict[int, list[Floats]] = {}
        for replicate in sorted(runs):
            found.setdefault(self.folds[replicate], []).append(runs[replicate])
        return {fold: np.array(own) for fold, own in found.items()}

    def _variance(self, runs: Mapping[int, Floats], times: float = 1.0) -> Term | None:
        """Return the variance over rows of the mean over runs, what seeds show taken off.

        `times` is how often the typical variance over seeds counts where there is one seed.
        """
        folds = self._by_fold(runs)
        if not folds or any(own.shape[1] < 2 for own in folds.values()):
            return None
        total, freedom = 0.0, 0.0
        for fold, own in folds.items():
            changing = _interaction(own) if len(own) > 1 else times * self._typical
            stays = max(float(own.mean(0).var(ddof=1)) - changing / len(own), 0.0)
            total += stays / self.totals[fold]
            freedom += own.shape[1] - 1
        return self.cuts * total / len(folds) ** 2, freedom


def _interaction(own: Floats) -> float:
    """Return the variance of a row's loss over seeds (S, n), S at least 2."""
    seeds, rows = own.shape
    squares = float(((own - own.mean(0)) ** 2).sum())
    return squares / float((seeds - 1) * (rows - 1))
