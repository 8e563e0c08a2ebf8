"""How large a network must be: the knee, and what its curves show at each size."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from axiarch.ranking.rank import Difference, Ranked, Ranking

#: A network memorises where its training loss is below this share of the baseline and its gap
#: above the other one: it knows the rows, and not the rule.
MEMORISED, GAP = 0.05, 0.25
#: A network fails to train where its training loss stays above this share of the baseline.
FAILED = 0.97


@dataclass(frozen=True)
class Rung:
    """One size of a network.

    Attributes
    ----------
    row : Ranked
    roughness : float
        How much the validation loss jumps from epoch to epoch in the second half, as a share of
        its steady loss.
    memorises, fails : bool
        Whether it memorises its training rows, and whether it fails to train.
    """

    row: Ranked
    roughness: float
    memorises: bool
    fails: bool


def rung(row: Ranked, validation: Sequence[Sequence[float]], training: Sequence[Sequence[float]],
         baseline: float) -> Rung:
    """Return what the curves of a recipe's runs show.

    Parameters
    ----------
    validation, training : sequence of (E,) sequences
        Losses of each run, the training loss in inference mode.
    baseline : float
        The loss of the baseline.
    """
    ends = [losses[-1] for losses in training if losses and math.isfinite(losses[-1])]
    end = sum(ends) / len(ends) if ends else math.inf
    rough = [roughness(losses) for losses in validation]
    return Rung(row, sum(rough) / len(rough) if rough else 0.0,
                end < MEMORISED * baseline and row.loss - end > GAP * baseline,
                end > FAILED * baseline)


def roughness(losses: Sequence[float]) -> float:
    """Return how much a curve (E,) jumps from epoch to epoch over its second half, as a share of
    the mean loss there; 0 where it is too short.

    By second differences; by third ones where it only falls, which one that falls ever more slowly
    hardly has.
    """
    half = np.asarray(losses[len(losses) // 2:], np.float64)
    mean = float(half.mean()) if half.size else 0.0
    if not math.isfinite(mean) or mean <= 0:
        return 0.0
    order = 3 if (np.diff(half) < 0).all() else 2
    jumps = np.diff(half, order)
    if not jumps.size:
        return 0.0
    return math.sqrt(float((jumps**2).mean()) / _OF_ONE[order]) / mean


#: How many times the variance of one of independent jumps that of their differences is, by order.
_OF_ONE = {2: 6, 3: 20}


def knee(ranking: Ranking) -> tuple[Ranked, Difference | None] | None:
    """Return the smallest recipe tied with the best, and by how much the best is better than it
    (None where it is the best itself).

    Among many recipes one is tied that is worse by the interval of its difference alone: it is none
    to be content with, and left out. None where ties are unknown.
    """
    if ranking.evidence is None or not ranking.tied:
        return None
    leader = ranking.rows[0].recipe
    smallest = sorted(ranking.tied, key=lambda row: (row.parameters, row.place))
    pairs = ((row, None if row.recipe == leader else ranking.difference(leader, row.recipe))
             for row in smallest)
    return next((row, apart) for row, apart in pairs if apart is None or not apart.sure)
