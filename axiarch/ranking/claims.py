"""Claims of skill: better than the baseline or the linear model, only where that stands apart.

The difference is paired over validation rows. A winner's optimism is taken off, rows that stand in
the training part too are left out, and an interval that holds zero is no claim in either direction.

Where nothing was trained twice, a claim is of the leader's one run: how it compares on other rows.
Its interval holds for all recipes at once (Bonferroni), as the leader was chosen among them.
"""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Literal

import numpy as np
from numpy.typing import NDArray

from axiarch.ranking.best import CONFIDENCE, quantile
from axiarch.ranking.doubt import Doubt, reach
from axiarch.ranking.evidence import Evidence
from axiarch.ranking.rank import Ranking, RunResult
from axiarch.ranking.rows import RowTable, influence
from axiarch.runs.steady import steady

Floats = NDArray[np.float64]

#: Rows that a claim rests on at the least.
FEWEST_ROWS = 20


@dataclass(frozen=True)
class Claim:
    """How a recipe compares with a predictor that has no seed.

    Attributes
    ----------
    difference : float
        Loss of the recipe minus that of the other, the winner's optimism taken off.
    half_width : float
        Half the 95 % interval.
    rows, left_out : int
        Validation rows that it rests on, and those that stand in the training part too.
    one_run : bool
        Whether it is of a single run: it says nothing of other seeds.
    """

    difference: float
    half_width: float
    rows: int
    left_out: int
    one_run: bool = False

    @property
    def verdict(self) -> Literal["better", "worse", "unknown"]:
        """Whether the recipe is better or worse, where the interval leaves out zero."""
        if abs(self.difference) <= self.half_width:
            return "unknown"
        return "better" if self.difference < 0 else "worse"


def claim(ranking: Ranking, place: int, runs: Sequence[RunResult],
          others: Mapping[int, NDArray[np.floating]],
          repeated: Mapping[int, NDArray[np.bool_]], root: bool = False) -> Claim | None:
    """Compare the recipe at a place of the ranking (from 0) with another predictor.

    Parameters
    ----------
    runs : sequence of RunResult
        Its runs.
    others, repeated : mapping
        By fold: the other's losses of the rows that are kept (n,), and whether each of these rows
        stands in the training part too.
    root : bool
        Whether a loss is the root of the rows' mean.

    Returns
    -------
    Claim or None
        None where no rows were kept, or too few are left to judge.
    """
    known = [run for run in runs if run.rows is not None and run.ended]
    if not known or any(_fold(run) not in others for run in known):
        return None
    differences, influences, folds = [], {}, []
    rows = left_out = 0
    seen: set[int] = set()
    for i, run in enumerate(known):
        assert run.rows is not None
        fold = _fold(run)
        judged, other = ~repeated[fold], others[fold].astype(np.float64)
        own = run.rows.values[: len(other)].astype(np.float64)  # without those added in caution
        if judged.sum() < FEWEST_ROWS:
            return None
        luck = steady(run.validation)[1] - _loss(own, root)
        differences.append(_loss(own[judged], root) + luck - _loss(other[judged], root))
        influences[i] = influence(own[judged], root) - influence(other[judged], root)
        folds.append(fold)
        if fold not in seen:
            seen.add(fold)
            share = run.rows.total / len(own)
            rows += round(share * int(judged.sum()))
            left_out += round(share * int((~judged).sum()))
    difference, totals = float(np.mean(differences)), _totals(known, repeated)
    if ranking.evidence is None:
        half = _half_of_one(RowTable([influences], folds, totals), ranking)
        return Claim(difference, half, rows, left_out, one_run=True)
    return _claimed(ranking.evidence, place, difference,
                    RowTable([influences], folds, totals, ranking.evidence.design.cuts),
                    (ranking.optimism or 0.0) if place == 0 else 0.0, (rows, left_out))


def _half_of_one(table: RowTable, ranking: Ranking) -> float:
    """Return half the width of the interval of one run, by its rows, for all recipes at once."""
    chosen_from = len(ranking.rows) + len(ranking.partial)
    term = table.level(0)
    if term is None:
        return math.inf
    return reach((term,), lambda freedom: quantile(freedom, (1 - CONFIDENCE) / 2 / chosen_from))


def _claimed(evidence: Evidence, place: int, difference: float, table: RowTable, optimism: float,
             counts: tuple[int, int]) -> Claim:
    seeds = evidence.parts.level_terms(place, evidence.design.factor)
    term = table.level(0)
    half = Doubt(seeds, (term,) if term is not None else ()).half()
    return Claim(difference + optimism, math.hypot(half, optimism), *counts)


def _totals(runs: Sequence[RunResult], repeated: Mapping[int, NDArray[np.bool_]]
            ) -> dict[int, int]:
    """Return the rows of each fold that are judged."""
    found = {}
    for run in runs:
        assert run.rows is not None
        share = float((~repeated[_fold(run)]).mean())
        found[_fold(run)] = max(round(run.rows.total * share), 1)
    return found


def _fold(run: RunResult) -> int:
    return run.replicate[1] if run.replicate is not None else 0


def _loss(values: Floats, root: bool) -> float:
    mean = float(values.mean())
    return math.sqrt(mean) if root else mean
