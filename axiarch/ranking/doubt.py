"""Uncertainty of an estimate: independent variances, each with its degrees of freedom."""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import dataclass

from axiarch.ranking.best import quantile

#: A variance, and the degrees of freedom that it is known from.
Term = tuple[float, float]


@dataclass(frozen=True)
class Doubt:
    """The uncertainty of an estimate, by its sources.

    Attributes
    ----------
    seeds : tuple of (float, float)
        Variances that stem from seeds and folds, each with its freedom.
    rows : tuple of (float, float)
        Variances that stem from the validation rows being a sample; none where that is not known.
    """

    seeds: tuple[Term, ...]
    rows: tuple[Term, ...] = ()

    def half(self, critical: Callable[[float], float] = quantile) -> float:
        """Return half the width of the interval with both doubts.

        `critical` turns degrees of freedom into the multiple of the standard error.
        """
        return reach((*self.seeds, *self.rows), critical)

    def seeds_half(self) -> float:
        """Return half the width of the interval that knows seeds and folds alone."""
        return reach(self.seeds)

    def rows_half(self) -> float | None:
        """Return half the width of the interval that knows the rows alone; None if not known."""
        return reach(self.rows) if self.rows else None


def reach(terms: tuple[Term, ...], critical: Callable[[float], float] = quantile) -> float:
    """Return half the width of an interval by several variances.

    The geometric mean of two ways to put them together: by Satterthwaite's (1946) freedom, which
    is too bold where the variance that matters is known from one or two degrees of freedom (87 %
    of intervals cover instead of 95), and by squares of the separate halves (Graybill & Wang
    1980; Zou & Donner 2008), which is too timid there (98 %). For a single variance both are the
    same, and exact.
    """
    total = math.fsum(variance for variance, _ in terms)
    squares = math.fsum(variance**2 / freedom for variance, freedom in terms)
    if total <= 0:
        return 0.0
    bold = critical(total**2 / squares if squares > 0 else math.inf) ** 2 * total
    timid = math.fsum(critical(freedom) ** 2 * variance for variance, freedom in terms)
    return float((bold * timid) ** 0.25)
