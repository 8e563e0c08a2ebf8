"""Rank recipes by the mean of their runs' steady losses, with the spread over repeats and honest
ties.

The interval of a mean uses one spread, pooled over the better quarter of the recipes (at least
eight) as in a one-way analysis of variance, because two or three repeats alone say almost nothing
about their own spread. Runs of different recipes share seeds and folds, so differences are judged
by what is left of the spread when each seed and fold has been allowed for (a two-way analysis of
variance without interaction): a fold that is hard for all says nothing about any of them. A recipe
is *tied* with the leader unless the interval of the difference excludes zero at the stated
confidence, shared out over all comparisons (Bonferroni; Dunn 1961). Where repeats are too few to
know any spread, nothing is told apart, and no tie is claimed either.
"""

from __future__ import annotations

import math
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, replace
from functools import lru_cache
from typing import Literal

import numpy as np

from axiarch.runs.steady import steady

Standing = Literal["leader", "tied", "apart", "unknown"]

#: Confidence of intervals and ties.
CONFIDENCE = 0.95
#: Times that the means are drawn again.
_RESAMPLES = 2000
#: Numbers drawn in all, about.
_DRAWN = 400_000
#: A recipe whose own spread is so many times the pooled one is on another scale: its own is used.
#: By chance that happens to one recipe in four hundred with two repeats, and hardly ever with more.
_WILD = 3.0


@dataclass(frozen=True)
class RunResult:
    """What ranking needs of one run.

    Attributes
    ----------
    recipe : int
        The recipe's number.
    validation, training : tuple of float
        Loss of each epoch (E,), both in inference mode.
    metrics : tuple of tuple of float
        What else was measured on the validation rows, for each epoch (E,).
    seconds : float
        Time it took.
    ended : bool
        Whether it trained to its own end (not to divergence or failure).
    replicate : (int, int) or None
        Its repeat and fold, which runs of other recipes share; None if they do not.
    """

    recipe: int
    validation: Sequence[float]
    training: Sequence[float]
    metrics: Sequence[Sequence[float]]
    seconds: float
    ended: bool
    replicate: tuple[int, int] | None = None


@dataclass(frozen=True)
class Ranked:
    """One recipe in the ranking.

    Attributes
    ----------
    place : int
        From 1.
    recipe : int
    loss : float
        Mean over runs (repeats and folds) of the steady validation loss.
    spread : float or None
        Standard deviation over runs; None for a single one.
    half_width : float or None
        Half the width of the interval of the mean; None where no spread is known.
    training : float
        Mean training loss at the chosen epochs.
    metrics : tuple of float
        Mean of each metric at the chosen epochs.
    raw_best : float
        Mean over repeats of the lowest validation loss of any epoch.
    epoch : float
        Mean chosen epoch.
    repeats, failed : int
        Runs counted, and runs that diverged or failed.
    seconds : float
        Mean time of a run.
    parameters : int
    standing : str
    """

    place: int
    recipe: int
    loss: float
    spread: float | None
    half_width: float | None
    training: float
    metrics: tuple[float, ...]
    raw_best: float
    epoch: float
    repeats: int
    failed: int
    seconds: float
    parameters: int
    standing: Standing = "unknown"

    @property
    def gap(self) -> float:
        """Validation loss above training loss."""
        return self.loss - self.training


@dataclass(frozen=True)
class Partial:
    """A recipe none of whose runs came to its own end: what is known of it, not to be read as a
    result.

    Attributes
    ----------
    recipe : int
    epochs : int
        That it was trained for.
    loss : float
        Its steady loss by then.
    best_then : float
        The lowest steady loss of any recipe after as many epochs.
    """

    recipe: int
    epochs: int
    loss: float
    best_then: float


@dataclass(frozen=True)
class Ranking:
    """All recipes with at least one run that ended, best first, and those that have none.

    Attributes
    ----------
    rows : tuple of Ranked
    broken : tuple of int
        Recipes all of whose ended runs diverged or failed.
    pooled : float or None
        The spread over runs that the intervals of means use.
    paired : float or None
        The spread of differences, seeds and folds allowed for, that ties are judged by; None if it
        is not known.
    partial : tuple of Partial
        Recipes that were cut or still rest: those trained longest first, then by their loss at that
        epoch.
    optimism : float or None
        By how much the leader's mean is expected to be too low, because it was chosen for being
        low.
    """

    rows: tuple[Ranked, ...]
    broken: tuple[int, ...]
    pooled: float | None
    paired: float | None = None
    partial: tuple[Partial, ...] = ()
    optimism: float | None = None

    @property
    def tied(self) -> tuple[Ranked, ...]:
        """The leader and those not told apart from it."""
        return tuple(r for r in self.rows if r.standing in ("leader", "tied"))


def rank(results: Iterable[RunResult], parameters: Mapping[int, int],
         broken: Iterable[int] = ()) -> Ranking:
    """Rank the recipes of runs that have ended.

    Parameters
    ----------
    results : iterable of RunResult
        Runs in any order; those not `ended` count as failed.
    parameters : mapping
        Trainable parameters of each recipe.
    broken : iterable of int
        Recipe numbers of further runs that failed without any result.
    """
    good: dict[int, list[RunResult]] = {}
    failed: dict[int, int] = {}
    for result in results:
        if result.ended and result.validation:
            good.setdefault(result.recipe, []).append(result)
        else:
            failed[result.recipe] = failed.get(result.recipe, 0) + 1
    for recipe in broken:
        failed[recipe] = failed.get(recipe, 0) + 1
    rows = [
        _row(recipe, runs, failed.get(recipe, 0), parameters[recipe])
        for recipe, runs in good.items()
    ]
    rows.sort(key=lambda r: (r.failed > 0, r.loss, r.parameters, r.seconds, r.recipe))
    pooled, freedom = _pooled_spread(rows)
    paired = _paired_spread([good[r.recipe] for r in _better(rows)])
    placed = tuple(_placed(i, row, rows, pooled, freedom, paired) for i, row in enumerate(rows))
    return Ranking(placed,
                   tuple(sorted(r for r in failed if r not in good)),
                   pooled,
                   paired[0] if paired else None,
                   optimism=optimism(rows, pooled))


def optimism(rows: Sequence[Ranked], pooled: float | None) -> float | None:
    """Return by how much the lowest of the means is expected to be too low.

    The optimism of the minimum, by the parametric bootstrap (Efron & Tibshirani 1993): means are
    drawn again around those found, drawn in towards each other by what is noise in their spread,
    and the one that comes out lowest is held against what it was drawn around. None where no spread
    is known.
    """
    good = [r for r in rows if not r.failed and math.isfinite(r.loss)]
    if pooled is None or not math.isfinite(pooled) or len(good) < 2:
        return None
    means = np.array([r.loss for r in good])
    errors = np.array([_error(r, pooled) for r in good])
    centre = float(means.mean())
    noise = float((errors**2).mean())
    kept = math.sqrt(max(1.0 - noise / max(float(means.var()), 1e-300), 0.0))
    truth = centre + kept * (means - centre)
    # Of many recipes fewer draws do: each draw is a minimum over all of them, which varies little.
    draws = max(min(_RESAMPLES, _DRAWN // len(good)), _RESAMPLES // 10)
    drawn = truth + errors * np.random.default_rng(0).normal(size=(draws, len(good)))
    lowest = drawn.argmin(axis=1)
    return float((truth[lowest] - drawn[np.arange(draws), lowest]).mean())


def partials(first: Mapping[int, Sequence[float]], full: Iterable[int]) -> tuple[Partial, ...]:
    """Return what is known of the recipes that were not trained to an end of their own.

    Parameters
    ----------
    first : mapping
        The validation losses (E,) of each recipe's first run.
    full : iterable of int
        Recipes that have a result.
    """
    left = {n: curve for n, curve in first.items() if n not in set(full) and curve}
    best = {
        epochs: min(steady(curve[:epochs])[1]
                    for curve in first.values()
                    if len(curve) >= epochs)
        for epochs in {len(curve) for curve in left.values()}
    }
    found = [
        Partial(n, len(curve),
                steady(curve)[1], best[len(curve)]) for n, curve in left.items()
    ]
    return tuple(sorted(found, key=lambda p: (-p.epochs, p.loss, p.recipe)))


def _row(recipe: int, runs: Sequence[RunResult], failed: int, parameters: int) -> Ranked:
    chosen = [steady(run.validation) for run in runs]
    losses = [level for _, level in chosen]
    mean = _mean(losses)
    spread = None
    if len(losses) > 1:
        spread = math.sqrt(math.fsum((x - mean) ** 2 for x in losses) / (len(losses) - 1))
    return Ranked(
        place=0,
        recipe=recipe,
        loss=mean,
        spread=spread,
        half_width=None,
        training=_mean([run.training[e - 1] for run, (e, _) in zip(runs, chosen, strict=True)]),
        metrics=tuple(
            map(
                _mean,
                zip(*(run.metrics[e - 1] for run, (e, _) in zip(runs, chosen, strict=True)),
                    strict=True))),
        raw_best=_mean([min(run.validation) for run in runs]),
        epoch=_mean([float(e) for e, _ in chosen]),
        repeats=len(runs),
        failed=failed,
        seconds=_mean([run.seconds for run in runs]),
        parameters=parameters,
    )


def _mean(values: Sequence[float]) -> float:
    return math.fsum(values) / len(values)


def _better(rows: Sequence[Ranked]) -> Sequence[Ranked]:
    """Return the better quarter of the recipes, eight at least."""
    return rows[: max(len(rows) // 4, min(len(rows), 8))]


def _paired_spread(recipes: Sequence[Sequence[RunResult]]) -> tuple[float, int] | None:
    """Return the spread left when the mean of each recipe and of each replicate is taken out, and
    its freedom.

    None unless at least two recipes were run on the same replicates, at least two of them.
    """
    replicates = {run.replicate for run in recipes[0]} if recipes else set()
    alike = [
        runs for runs in recipes
        if len(runs) == len(replicates) and {run.replicate for run in runs} == replicates
    ]
    if None in replicates or len(replicates) < 2 or len(alike) < 2:
        return None
    table = [[steady(run.validation)[1]
              for run in sorted(runs, key=lambda r: r.replicate or (0, 0))]
             for runs in alike]
    means = [_mean(row) for row in table]
    columns = [_mean([row[b] for row in table]) for b in range(len(replicates))]
    grand = _mean(means)
    freedom = (len(table) - 1) * (len(replicates) - 1)
    squares = math.fsum((x - means[i] - columns[b] + grand) ** 2
                        for i, row in enumerate(table) for b, x in enumerate(row))
    return math.sqrt(squares / freedom), freedom


def _pooled_spread(rows: Sequence[Ranked]) -> tuple[float | None, int]:
    """Return the spread over repeats of the better quarter, and its degrees of freedom."""
    known = [r for r in _better(rows) if r.spread is not None]
    freedom = sum(r.repeats - 1 for r in known)
    if freedom == 0:
        return None, 0
    return math.sqrt(math.fsum(
        (r.repeats - 1) * (r.spread or 0.0)**2 for r in known) / freedom), freedom


def _placed(i: int, row: Ranked, rows: Sequence[Ranked], pooled: float | None, freedom: int,
            paired: tuple[float, int] | None) -> Ranked:
    if pooled is None:
        return replace(row, place=i + 1, standing="leader" if i == 0 else "unknown")
    error = _error(row, pooled)
    half = _t(freedom, 1) * error
    if i == 0:
        return replace(row, place=1, half_width=half, standing="leader")
    leader = rows[0]
    if paired is not None and row.repeats == leader.repeats and not _is_wild(row, pooled):
        reach = _t(paired[1], len(rows) - 1) * paired[0] * math.sqrt(2 / row.repeats)
    else:
        reach = _t(freedom, len(rows) - 1) * math.hypot(error, _error(leader, pooled))
    standing: Standing = "apart" if row.failed or row.loss - leader.loss > reach else "tied"
    return replace(row, place=i + 1, half_width=half, standing=standing)


def _error(row: Ranked, pooled: float) -> float:
    """Return the standard error of a recipe's mean: by the pooled spread, or its own where that
    is far wider.
    """
    return ((row.spread or 0.0) if _is_wild(row, pooled) else pooled) / math.sqrt(row.repeats)


def _is_wild(row: Ranked, pooled: float) -> bool:
    """Say whether a recipe's own spread is on another scale than the pooled one."""
    return (row.spread or 0.0) > _WILD * pooled


@lru_cache(1024)
def _t(freedom: int, comparisons: int) -> float:
    """Return the two-sided quantile of Student's t for :data:`CONFIDENCE`, shared over
    `comparisons`.
    """
    from scipy.special import stdtrit

    return float(stdtrit(freedom, 1 - (1 - CONFIDENCE) / (2 * comparisons)))
