"""Rank recipes by their steady losses, with intervals, ties and what cannot be said yet.

A level is what a mixed model makes of a recipe's runs (:mod:`axiarch.ranking.seeds`). Its interval
knows both doubts: that seeds differ, and that the validation rows are a sample
(:mod:`axiarch.ranking.rows`). A recipe stands *apart* from the leader where it is ruled out as the
best (:mod:`axiarch.ranking.best`). Of the others those with as many runs as the leader are *tied*,
and those with fewer are *not ruled out*. Where no recipe was trained twice, nothing is said.
"""

from __future__ import annotations

import math
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, field, replace
from functools import cached_property
from typing import Literal

import numpy as np

from axiarch.ranking.best import CONFIDENCE, quantile
from axiarch.ranking.evidence import Design, Evidence
from axiarch.ranking.rows import RowTable, influence
from axiarch.ranking.seeds import components
from axiarch.runs.rows import RowLosses
from axiarch.runs.steady import steady

#: How a recipe stands to the leader. *open* is not ruled out as the best, for want of runs.
Standing = Literal["leader", "tied", "open", "apart", "unknown"]
#: The order of the groups.
_GROUPS: dict[Standing, int] = {"leader": 0, "unknown": 0, "tied": 1, "open": 2, "apart": 3}
#: The same for people.
STANDING_WORDS: dict[Standing, str] = {
    "leader": "leader", "tied": "tied", "open": "not ruled out", "apart": "apart",
    "unknown": "unknown"}

#: Times that levels are worked out: seeds allowed for, the order may be another, and with it the
#: recipes that variances are taken from.
_TIMES = 3
#: Recipes that are advised on at the most, the best of those not told apart.
ADVISED = 5


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
    rows : RowLosses or None
        Losses of validation rows by the weights it kept.
    """

    recipe: int
    validation: Sequence[float]
    training: Sequence[float]
    metrics: Sequence[Sequence[float]]
    seconds: float
    ended: bool
    replicate: tuple[int, int] | None = None
    rows: RowLosses | None = None


@dataclass(frozen=True)
class Ranked:
    """One recipe in the ranking.

    Attributes
    ----------
    place : int
        From 1.
    recipe : int
    loss : float
        The level: the mean over runs (repeats and folds) of the steady validation loss, allowed
        for seeds and folds that other recipes were trained on besides.
    spread : float or None
        Standard deviation over runs; None for a single one.
    half_width : float or None
        Half the width of the 95 % interval of the level, with the doubt about seeds and the one
        about rows; None where no spread is known.
    seeds_half, rows_half : float or None
        The same by seeds and folds alone, and by rows alone.
    confirmed : (float, float, int) or None
        The loss on fresh seeds alone, which chose nothing, half its 95 % interval, and their runs.
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
    seeds_half: float | None = None
    rows_half: float | None = None
    confirmed: tuple[float, float, int] | None = None

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
class Difference:
    """By how much one recipe is better than another, paired over rows and replicates.

    Attributes
    ----------
    better, half_width : float
        With half its 95 % interval.
    least : float
        What the difference is at least, at 95 %: the end of a one-sided interval, which claims
        about the best one rest on.
    most : float
        What the differences to all other recipes are at most, at 95 % together: it holds for
        whichever of them is picked by what was found (Dunnett 1955).
    """

    better: float
    half_width: float
    least: float = -math.inf
    most: float = math.inf

    @property
    def sure(self) -> bool:
        """Whether the interval leaves out zero."""
        return abs(self.better) > self.half_width


@dataclass(frozen=True)
class Advice:
    """How many more seeds for which recipes would tell these from the leader, if differences stay
    as they are; no recipes where no number of seeds would.
    """

    recipes: tuple[int, ...]
    seeds: int


@dataclass(frozen=True)
class Ranking:
    """All recipes with at least one run that ended, and those that have none.

    The leader comes first, then those tied with it, then those not ruled out, then those that
    stand apart, and in each group the lowest loss first.

    Attributes
    ----------
    rows : tuple of Ranked
    broken : tuple of int
        Recipes all of whose ended runs diverged or failed.
    partial : tuple of Partial
        Recipes that were cut or still rest: those trained longest first, then by their loss at that
        epoch.
    optimism : float or None
        By how much the leader's level is expected to be too low, because it was chosen for being
        low.
    evidence : Evidence or None
        What intervals and ties rest on, its recipes by their losses; None where no recipe was
        trained twice.
    """

    rows: tuple[Ranked, ...]
    broken: tuple[int, ...]
    partial: tuple[Partial, ...] = ()
    optimism: float | None = None
    evidence: Evidence | None = field(default=None, compare=False, repr=False)

    @property
    def tied(self) -> tuple[Ranked, ...]:
        """The leader and those tied with it."""
        return tuple(r for r in self.rows if r.standing in ("leader", "tied"))

    @property
    def open(self) -> tuple[Ranked, ...]:
        """Those that were trained too little to be ruled out."""
        return tuple(r for r in self.rows if r.standing == "open")

    @cached_property
    def advice(self) -> Advice | None:
        """What it would take to conclude more; None where there is nothing more to conclude."""
        left = [row.recipe for row in (*self.tied[1:], *self.open)]
        if self.evidence is None or not left:
            return None
        places = self.evidence.recipes.index
        needed = {recipe: self.evidence.seeds_needed(places(recipe)) for recipe in left[:ADVISED]}
        known = [seeds for seeds in needed.values() if seeds is not None]
        if not known:
            return Advice((), 0)
        seeds = sorted(known)[(len(known) - 1) // 2]
        recipes = [recipe for recipe, n in needed.items() if n is not None and n <= seeds]
        # The leader needs more too unless all of these have fewer runs than it has.
        leader, runs = self.rows[0], {row.recipe: row.repeats for row in self.rows}
        short = any(runs[recipe] + seeds > leader.repeats for recipe in recipes)
        return Advice((leader.recipe, *recipes) if short else tuple(recipes), seeds)

    def difference(self, one: int, other: int) -> Difference | None:
        """Return how much lower the first of two recipes, by number, is; None if not known."""
        if self.evidence is None or not {one, other} <= set(self.evidence.recipes):
            return None
        i, j = map(self.evidence.recipes.index, (one, other))
        better, doubt = (float(self.evidence.levels[j] - self.evidence.levels[i]),
                         self.evidence.difference(i, j))
        return Difference(better, doubt.half(), better - doubt.half(_one_sided),
                          better + doubt.half(self.evidence.critical))

    def gain_over(self, recipe: int) -> Difference | None:
        """Return how much lower the leader is than a recipe that was not chosen by its loss, such
        as the base: the optimism of the leader's choice is taken off, and `least` is only known
        where the recipe stands apart. None if not known.
        """
        found, off = self.difference(self.rows[0].recipe, recipe), self.optimism or 0.0
        if found is None:
            return None
        return replace(found, better=found.better - off,
                       least=found.least - off if self.leads(recipe) else -math.inf)

    def leads(self, recipe: int) -> bool:
        """Whether the leader stands apart from a recipe."""
        return any(row.recipe == recipe and row.standing == "apart" for row in self.rows)


def _one_sided(freedom: float) -> float:
    return quantile(freedom, 1 - CONFIDENCE)


def rank(results: Iterable[RunResult], parameters: Mapping[int, int],
         broken: Iterable[int] = (), design: Design | None = None, root: bool = False) -> Ranking:
    """Rank the recipes of runs that have ended.

    Parameters
    ----------
    results : iterable of RunResult
        Runs in any order; those not `ended` count as failed.
    parameters : mapping
        Trainable parameters of each recipe.
    broken : iterable of int
        Recipe numbers of further runs that failed without any result.
    design : Design, optional
        How the rows were divided.
    root : bool
        Whether a loss is the root of the rows' mean.
    """
    good: dict[int, list[RunResult]] = {}
    failed: dict[int, int] = {}
    for result in results:
        if result.ended and math.isfinite(steady(result.validation)[1]):
            good.setdefault(result.recipe, []).append(result)
        else:
            failed[result.recipe] = failed.get(result.recipe, 0) + 1
    for recipe in broken:
        failed[recipe] = failed.get(recipe, 0) + 1
    rows = [_row(recipe, runs, failed.get(recipe, 0), parameters[recipe])
            for recipe, runs in good.items()]
    rows.sort(key=_order)
    for times in range(1, _TIMES + 1):
        # where every recipe has a failed run, none is the sounder one for it
        sound = sum(not row.failed for row in rows) or len(rows)
        evidence = gathered([good[row.recipe] for row in rows], sound, design or Design(), root)
        if evidence is None:
            break
        rows = [replace(row, loss=float(level))
                for row, level in zip(rows, evidence.levels, strict=True)]
        ordered = sorted(rows, key=_order)
        if rows == ordered or times == _TIMES:
            break
        rows = ordered
    lost = tuple(sorted(recipe for recipe in failed if recipe not in good))
    if evidence is None:
        placed = tuple(replace(row, place=i + 1, standing="unknown" if i else "leader")
                       for i, row in enumerate(rows))
        return Ranking(placed, lost)
    optimism = evidence.optimism
    known = [_known(i, row, rows[0], evidence, optimism) for i, row in enumerate(rows)]
    known.sort(key=lambda row: _GROUPS[row.standing])
    placed = tuple(replace(row, place=i + 1) for i, row in enumerate(known))
    return Ranking(placed, lost, optimism=optimism, evidence=evidence)


def _order(row: Ranked) -> tuple[bool, float, int, float, int]:
    return row.failed > 0, row.loss, row.parameters, row.seconds, row.recipe


def gathered(recipes: Sequence[Sequence[RunResult]], sound: int, design: Design, root: bool
             ) -> Evidence | None:
    """Return what is known of the levels of recipes, best first; None where no recipe was trained
    twice. The first `sound` of them have no failed run.
    """
    places: dict[tuple[int, ...], int] = {}
    folds: list[int] = []
    table: list[dict[int, RunResult]] = []
    for runs in recipes:
        own: dict[int, RunResult] = {}
        for i, run in enumerate(runs):
            key = run.replicate if run.replicate is not None else (run.recipe, i, -1)
            if key not in places:
                places[key] = len(folds)
                folds.append(run.replicate[1] if run.replicate is not None else 0)
            own[places[key]] = run
        table.append(own)
    losses = np.full((len(table), max(len(folds), 1)), np.nan)
    for i, own in enumerate(table):
        for place, run in own.items():
            losses[i, place] = steady(run.validation)[1]
    parts = components(losses, places.get(design.chose or (), -1))
    if parts is None:
        return None
    totals = {folds[place]: run.rows.total for own in table for place, run in own.items()
              if run.rows is not None}
    rows = [{place: influence(run.rows.values, root) for place, run in own.items()
             if run.rows is not None} for own in table]
    numbers = tuple(runs[0].recipe for runs in recipes)
    repeats = tuple(key[0] if len(key) == 2 else -1 for key in places)
    return Evidence(numbers, losses, repeats, parts, RowTable(rows, folds, totals, design.cuts),
                    sound, design)


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


def _known(i: int, row: Ranked, leader: Ranked, evidence: Evidence,
            optimism: float | None) -> Ranked:
    doubt = evidence.level(i)
    # of two runs alone, with other doubts beside them, less can come out together than apart
    half = max(doubt.half(), doubt.seeds_half(), doubt.rows_half() or 0.0)
    if i == 0 and optimism:
        half = math.hypot(half, optimism)  # what was taken off is no better known than its size
    row = replace(row, half_width=half, seeds_half=doubt.seeds_half(),
                  rows_half=doubt.rows_half(), confirmed=evidence.fresh(i))
    return replace(row, standing=_standing(i, row, leader, evidence))


def _standing(i: int, row: Ranked, leader: Ranked, evidence: Evidence) -> Standing:
    if i == 0:
        return "leader"
    if evidence.ruled_out[i] or (row.failed and not leader.failed):
        return "apart"
    return "tied" if row.repeats >= leader.repeats else "open"
