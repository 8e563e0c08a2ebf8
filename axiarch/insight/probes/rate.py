"""In which band of learning rates the loss falls, and where training breaks."""

from __future__ import annotations

import math
from dataclasses import dataclass
from functools import cached_property

from axiarch.insight.proposal import Change, Proposal, Sure
from axiarch.recipes.conditions import written
from axiarch.text import count, loss, number

#: Share of the fall at the best rate that another must reach to be in the band.
_BAND = 0.3
#: A loss this much above where it began has broken.
_BROKEN = 1.2


@dataclass(frozen=True)
class RatePoint:
    """One learning rate: the training loss after a short training, on each seed; infinite where it
    broke.
    """

    rate: float
    losses: tuple[float, ...]

    @property
    def loss(self) -> float:
        """The mean over seeds."""
        return math.fsum(self.losses) / len(self.losses)


@dataclass(frozen=True)
class RateProbe:
    """Learning rates, each trained afresh for as many steps (after Smith 2017, who raises one
    training's rate: here no rate inherits what a higher or lower one has done).

    Attributes
    ----------
    points : tuple of RatePoint
        Rising.
    start : float
        The training loss before any step, or the baseline if that is lower.
    steps : int
    optimiser : str
    rate : float
        Of the recipe.
    """

    points: tuple[RatePoint, ...]
    start: float
    steps: int
    optimiser: str
    rate: float

    @cached_property
    def smooth(self) -> tuple[float, ...]:
        """Mean losses over three neighbours, in the logarithm; infinite where any of them broke."""
        logs = [math.log(p.loss) if 0 < p.loss < math.inf else math.inf for p in self.points]
        found = []
        for i in range(len(logs)):
            near = logs[max(i - 1, 0):i + 2]
            found.append(math.exp(sum(near) / len(near)) if all(map(math.isfinite, near))
                         else math.inf)
        return tuple(found)

    @cached_property
    def best(self) -> int:
        """The place of the rate with the lowest smoothed loss."""
        return min(range(len(self.smooth)), key=lambda i: (self.smooth[i], i))

    @property
    def learns(self) -> bool:
        """Whether the loss falls at any rate."""
        return self.smooth[self.best] < 0.99 * self.start

    @cached_property
    def breaks(self) -> float | None:
        """The lowest rate above the best at which a seed breaks; None where none does."""
        for point in self.points[self.best + 1:]:
            if any(not math.isfinite(v) or v > _BROKEN * self.start for v in point.losses):
                return point.rate
        return None

    @cached_property
    def band(self) -> tuple[float, float]:
        """The rates between which the loss falls by a fair share of its fall at the best one."""
        wanted = self.start - _BAND * (self.start - self.smooth[self.best])
        inside = [i for i, v in enumerate(self.smooth) if v <= wanted]
        low = high = self.best
        while low - 1 in inside:
            low -= 1
        while high + 1 in inside:
            high += 1
        return self.points[low].rate, self.points[high].rate

    def verdict(self) -> str:
        """Say in which band the loss falls, and where it breaks."""
        seeds = count(len(self.points[0].losses), "seed")
        over = f"({count(self.steps, 'step')} from scratch at each rate, {seeds})"
        if not self.learns:
            return (f"At no learning rate does the training loss fall within "
                    f"{count(self.steps, 'step')} {over}: the fault lies elsewhere.")
        low, high = self.band
        broken = (f" From {number(self.breaks, 2)} on training breaks." if self.breaks else
                  " No rate that was tried breaks it.")
        here = "inside" if low <= self.rate <= high else "below" if self.rate < low else "above"
        return (f"The training loss falls between rates of {number(low, 2)} and {number(high, 2)}, "
                f"fastest at {number(self.points[self.best].rate, 2)} {over}.{broken} The recipe's "
                f"{number(self.rate)} is {here} that band. A short training favours high rates: a "
                "whole one often ends best somewhat below.")

    def proposal(self) -> Proposal | None:
        """Return the range that is proposed; None where nothing learns."""
        if not self.learns:
            return None
        best = self.points[self.best].rate
        low, high = best / 30, best * 1.5
        if self.breaks is not None:
            high = min(high, self.breaks / 2)
        ends = (written(float(f"{v:.1g}")) for v in (low, max(high, low * 3)))
        text = f"{' .. '.join(ends)} log"
        return Proposal("probe_rate", "a range for the learning rate", self.verdict(), Sure.LIKELY,
                        (Change("Vary the learning rate where it works", {},
                                {"learning_rate": text}),))

    def lines(self) -> list[str]:
        """Return what was measured as a table of text."""
        return ["     rate  training loss"] + [
            f"{number(p.rate, 2):>9}  {loss(p.loss) if math.isfinite(p.loss) else 'broke':>13}"
            + ("  ◂ lowest" if i == self.best and self.learns else "")
            for i, p in enumerate(self.points)]
