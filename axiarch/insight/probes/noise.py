"""How large a difference between two recipes can be seen, and with how many seeds."""

from __future__ import annotations

import math
from dataclasses import dataclass
from functools import cached_property

from axiarch.insight.probes.means import mean, standard_error
from axiarch.insight.proposal import Proposal
from axiarch.text import count, loss, number

#: Standard normal quantiles: two-sided 5 %, and a power of 80 %.
_Z95, _Z80 = 1.959964, 0.841621


@dataclass(frozen=True)
class NoiseProbe:
    """Seeds of one recipe, each on every fold, and of a rival.

    Attributes
    ----------
    losses : tuple of float
        Steady loss of each seed, the mean over folds.
    rows : int
        Validation rows of all folds.
    row_error : float
        Standard error of a level by the rows alone.
    pair_error : float
        Standard error, by the rows alone, of the difference from the rival.
    rival : str
        In what the rival differs; empty where it was not compared.
    folds : int
    deviation : float
        Standard deviation of a run about the mean of its fold; of the losses where there is one
        fold.
    overlap : float
        Validation rows of a fold per training row: what seeds do not make smaller is this share of
        the variance (Nadeau & Bengio 2003); 0 for a single fold.
    """

    losses: tuple[float, ...]
    rows: int
    row_error: float
    pair_error: float
    rival: str
    folds: int = 1
    deviation: float = 0.0
    overlap: float = 0.0

    @cached_property
    def spread(self) -> float:
        """The standard deviation of a run on one fold."""
        return self.deviation or standard_error(self.losses) * math.sqrt(len(self.losses))

    def visible(self, seeds: int) -> float:
        """Return the difference that two recipes need for it to be seen at 95 % in four of five
        cases, each on so many seeds.
        """
        return (_Z95 + _Z80) * math.sqrt(self._variance(seeds))

    def _variance(self, seeds: float) -> float:
        """Return the variance of a difference. The rows of folds are in the spread over folds, and
        count by themselves only where they are the larger doubt, as in the ranking.
        """
        own = 2 * self.spread**2 * (1 / (seeds * self.folds) + self.overlap)
        return own + self.pair_error**2 if self.folds == 1 else max(own, self.pair_error**2)

    def seeds_for(self, difference: float) -> int | None:
        """Return the seeds that a difference needs; None where no number of seeds shows it, for
        the rows hide it.
        """
        wanted = (difference / (_Z95 + _Z80)) ** 2
        if wanted <= self._variance(math.inf):
            return None
        left = wanted - (self.pair_error**2 if self.folds == 1 else 0.0)
        left -= 2 * self.spread**2 * self.overlap
        return max(math.ceil(2 * self.spread**2 / left / self.folds), 1)

    def verdict(self) -> str:
        """Say how large a difference can be seen."""
        level = mean(self.losses)
        if not math.isfinite(level):
            lost = sum(not math.isfinite(v) for v in self.losses)
            return (f"{count(lost, 'seed')} of {len(self.losses)} diverged: no difference can be "
                    "seen beside that. Probe the learning rate first.")
        parts = ", ".join(f"{number(self.visible(k), 2)} with {k}" for k in (1, 3, 5, 10))
        least = self.visible(10**9)
        over = f" on each of {self.folds} folds" if self.folds > 1 else ""
        rows = " or folds" if self.folds > 1 else ""
        bound = (f" Below {number(least, 2)} more seeds do not help: only more rows{rows} would."
                 if least > 0 else "")
        other = (f"a recipe with {self.rival}" if self.rival
                 else "another recipe, were these rows all there are,")
        return (f"{count(len(self.losses), 'seed')}{over} of this recipe come to {loss(level)}; "
                f"one run varies by a standard deviation of {number(self.spread, 2)}, and the "
                f"{number(self.rows)} validation rows add ± {number(_Z95 * self.row_error, 2)} to "
                f"any level. A difference from {other} is seen in four of five cases from {parts}, "
                f"each on as many seeds.{bound}")

    def proposal(self) -> Proposal | None:
        """Return nothing: seeds are the search's, not the recipe's."""
        return None

    def lines(self) -> list[str]:
        """Return what was measured as a table of text."""
        return [f"seed {i}  {loss(v)}" for i, v in enumerate(self.losses, 1)]
