"""Whether the ranking tells the truth, on made-up searches: ``python -m benchmarks.honesty [N]``.

Each scenario is a kind of search with a known truth; N searches of each (2,000 by default) are
ranked by the code that ranks real ones. Printed is how often intervals that state 95 % cover the
truth (of any level, of the leader's with its optimism taken off, of a difference of two recipes),
how often the best recipe is ruled out, how often any recipe is called worse than a leader that is
no better, by how much the leader is better than a base chosen beforehand (how often the interval
covers it, how often it is called better and is not), how often a single best is claimed, the
optimism that is stated and the true one, and how often skill over the baseline is claimed.

A loss of a row is the sum of a level, effects of the seed (shared by all recipes, and a recipe's
own), the row's difficulty (shared, and a recipe's own), and of both together. Options are read
from scenario to scenario; what is not named is as in the first.
"""

from __future__ import annotations

import sys
from collections.abc import Callable, Sequence
from concurrent.futures import ProcessPoolExecutor
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from axiarch.ranking.claims import claim
from axiarch.ranking.evidence import Design
from axiarch.ranking.rank import Ranking, RunResult, rank
from axiarch.runs.rows import RowLosses

Floats = NDArray[np.float64]

SEARCHES = 2000
#: Searches that a process makes at a time.
PIECE = 50


def even(size: int, rng: np.random.Generator) -> Floats:
    """Return levels that are all the same."""
    return np.zeros(size)


def normal(size: int, rng: np.random.Generator) -> Floats:
    """Return levels of a normal distribution."""
    return np.asarray(0.03 * rng.normal(size=size))


def clear(size: int, rng: np.random.Generator) -> Floats:
    """Return one level that is lower than all others, which are the same."""
    return np.where(np.arange(size) == 0, -0.07, 0.0)


def twins(size: int, rng: np.random.Generator) -> Floats:
    """Return two levels that are the same, lower than all others."""
    return np.where(np.arange(size) < 2, -0.07, 0.0)


def skewed(size: int, rng: np.random.Generator) -> Floats:
    """Return levels with a sharp lower edge and a long tail above."""
    return np.asarray(0.05 * rng.exponential(size=size))


@dataclass(frozen=True)
class Scenario:
    """A kind of search.

    Attributes
    ----------
    recipes, seeds, folds, rows : int
        Rows are those of a fold.
    levels : callable
        From a number of recipes to their true levels.
    own, shared : float
        Standard deviations of a recipe's own effect of a seed, and of the shared one.
    unequal : float
        Half of the recipes have so many times the own deviation.
    difficulty, taste, chance : float
        Standard deviations of a row's difficulty, of what it is to a recipe besides, and of what
        it is to a seed of a recipe.
    heavy : bool
        Whether rows and seeds have heavy tails: rows exponential, seeds Student's t with three
        degrees of freedom.
    finalists : int
        The first seed is raced: the better third of all is trained in full, and so many of them
        on all seeds; 0 trains all on all.
    skill : float
        Level of the baseline above the lowest true level; 0 is no skill at all.
    repeated : float
        Share of rows that are also in the training part, where networks memorise them.
    """

    name: str
    recipes: int = 10
    seeds: int = 3
    folds: int = 1
    rows: int = 600
    levels: Callable[[int, np.random.Generator], Floats] = normal
    own: float = 0.02
    shared: float = 0.0
    unequal: float = 1.0
    difficulty: float = 0.5
    taste: float = 0.15
    chance: float = 0.1
    heavy: bool = False
    finalists: int = 0
    skill: float = 0.0
    repeated: float = 0.0


SCENARIOS = (
    Scenario("plain"),
    Scenario("all recipes equal", levels=even),
    Scenario("one clear best, 5 seeds", seeds=5, levels=clear),
    Scenario("two best alike, 5 seeds", seeds=5, levels=twins),
    Scenario("2 recipes, 2 seeds", recipes=2, seeds=2),
    Scenario("5 recipes, 20 seeds", recipes=5, seeds=20),
    Scenario("200 recipes, 2 seeds", recipes=200, seeds=2, rows=200),
    Scenario("80 rows", rows=80),
    Scenario("5,000 rows", rows=4000, seeds=3),
    Scenario("seeds share 80 %", seeds=5, own=0.01, shared=0.02),
    Scenario("seeds share 95 %, 2 seeds", seeds=2, own=0.01, shared=0.0436),
    Scenario("5 folds share 80 %", seeds=1, folds=5, rows=120, own=0.01, shared=0.02),
    Scenario("noise unequal by 5, 5 seeds", seeds=5, own=0.01, unequal=5.0),
    Scenario("noise unequal by 5, 20 recipes", recipes=20, own=0.01, unequal=5.0),
    Scenario("heavy tails, 80 rows", rows=80, heavy=True, seeds=5),
    Scenario("a race of 60", recipes=60, finalists=5, rows=300, levels=skewed),
    Scenario("a race of 60 equal ones", recipes=60, finalists=5, rows=300, levels=even),
    Scenario("coin flips, rows repeated", levels=even, repeated=0.2),
)


@dataclass(frozen=True)
class Outcome:
    """What one ranking said, and whether it was so; None where nothing was said."""

    level: float
    leader: float
    difference: float
    best_out: float
    wrong: float
    single: float
    stated: float
    true: float
    skill: float
    worse: float
    gain: float
    vain: float


@dataclass(frozen=True)
class Made:
    """A ranking, the true levels (K,), the runs, the baseline's rows (F, N), which of them stand
    in training, and the error that all recipes share (S, F).
    """

    ranking: Ranking
    truth: Floats
    results: list[RunResult]
    baseline: Floats
    repeated: NDArray[np.bool_]
    common: Floats


def made(scenario: Scenario, rng: np.random.Generator) -> Made:
    """Return a search and its ranking."""
    s, k = scenario, scenario.recipes
    truth = s.levels(k, rng)
    own = s.own * np.where(rng.random(k) < 0.5, 1.0, s.unequal)

    def draws(*size: int) -> Floats:
        return np.asarray(rng.exponential(size=size) - 1 if s.heavy else rng.normal(size=size))

    def chances(*size: int) -> Floats:
        return np.asarray(rng.standard_t(3, size=size) / 3**0.5 if s.heavy
                          else rng.normal(size=size))

    hard = s.difficulty * draws(s.folds, s.rows)
    taste = s.taste * draws(k, s.folds, s.rows)
    seeds = own[:, None, None] * overlapping(chances(k, s.seeds, s.folds))
    shared = s.shared * overlapping(chances(s.seeds, s.folds))
    seeds += shared
    rows = truth[:, None, None, None] + seeds[..., None] + hard + taste[:, None]
    rows = rows + s.chance * rng.normal(size=rows.shape)
    repeated = rng.random((s.folds, s.rows)) < s.repeated
    rows = np.where(repeated, rows - 1.0, rows)
    runs = trained(s, truth, rows, rng)
    results = [RunResult(i, (float(rows[i, a, f].mean()),) * 3, (0.0,) * 3, ((),) * 3, 1.0, True,
                         (a, f), RowLosses.of(s.rows, rows[i, a, f])) for i, a, f in runs]
    design = Design(s.folds, 1, 1 / max(s.folds - 1, 1), (0, 0) if s.finalists else None)
    found = rank(results, dict.fromkeys(range(k), 1), design=design)
    baseline = s.skill + float(truth.min()) + hard + s.taste * draws(s.folds, s.rows)
    common = shared + (hard - repeated).mean(1) + s.repeated
    return Made(found, truth - s.repeated, results, baseline, repeated, common)


def overlapping(effects: Floats) -> Floats:
    """Return effects (…, F) of folds, correlated as their training rows overlap."""
    folds = effects.shape[-1]
    if folds == 1:
        return effects
    mean = effects.mean(-1, keepdims=True) * folds**0.5
    same = 1 / folds
    return np.asarray(same**0.5 * mean + (1 - same) ** 0.5 * effects)


def trained(s: Scenario, truth: Floats, rows: Floats, rng: np.random.Generator
            ) -> list[tuple[int, int, int]]:
    """Return the runs that came to their end: recipe, seed, fold."""
    everything = [(i, a, f) for i in range(s.recipes) for a in range(s.seeds)
                  for f in range(s.folds)]
    if not s.finalists:
        return everything
    first = rows[:, 0, 0].mean(1)
    early = first + 0.03 * rng.normal(size=s.recipes)
    full = np.argsort(early)[: s.recipes // 3]
    final = full[np.argsort(first[full])[: s.finalists]]
    return [(i, a, f) for i, a, f in everything
            if i in final or (i in full and a == 0 and f == 0)]


def outcome(scenario: Scenario, seed: int) -> Outcome:
    """Make a search, rank it, and compare with the truth."""
    rng = np.random.default_rng([seed, *map(ord, scenario.name)])
    search = made(scenario, rng)
    found, truth, results = search.ranking, search.truth, search.results
    rows, leader = found.rows, found.rows[0]
    one, other = rng.choice(len(rows), 2, replace=False).tolist()
    any_row = rows[one]
    level = abs(any_row.loss - truth[any_row.recipe]) <= (any_row.half_width or 0.0) \
        if one else float("nan")
    stated = found.optimism or 0.0
    right = abs(leader.loss + stated - truth[leader.recipe]) <= (leader.half_width or 0.0)
    pair = rows[one].recipe, rows[other].recipe
    difference = found.difference(*pair)
    assert difference is not None
    covered = abs(difference.better - (truth[pair[1]] - truth[pair[0]])) <= difference.half_width
    apart = {row.recipe for row in rows if row.standing == "apart"}
    best = int(min((row.recipe for row in rows), key=lambda i: truth[i]))
    wrong = any(truth[i] <= truth[leader.recipe] for i in apart)
    single = len(apart) == len(rows) - 1 and leader.recipe == best
    # The error that all recipes share is no optimism.
    own = [r.replicate for r in results if r.recipe == leader.recipe and r.replicate]
    common = float(np.mean([search.common[replicate] for replicate in own]))
    true = float(truth[leader.recipe]) - leader.loss + common
    skill = claim(found, 0, [r for r in results if r.recipe == leader.recipe],
                  dict(enumerate(search.baseline)), dict(enumerate(search.repeated)))
    said = skill.verdict if skill else "unknown"
    return Outcome(float(level), float(right), float(covered), float(best in apart), float(wrong),
                   float(single), stated, true, float(said == "better"), float(said == "worse"),
                   *_over_base(search))


def _over_base(search: Made) -> tuple[float, float]:
    """Return whether the leader's gain over a base (the last recipe, which is none of the best) is
    covered, and whether it is called better and is not.
    """
    leader, base = search.ranking.rows[0].recipe, len(search.truth) - 1
    gain = search.ranking.gain_over(base) if leader != base else None
    if gain is None:
        return float("nan"), 0.0
    true = float(search.truth[base] - search.truth[leader])
    better = gain.better > 0 and (gain.sure or gain.least > 0)
    return float(abs(gain.better - true) <= gain.half_width), float(better and true <= 0)


def outcomes(scenario: Scenario, first: int) -> list[Outcome]:
    """Return the outcomes of a piece of the searches."""
    return [outcome(scenario, first + i) for i in range(PIECE)]


def table(searches: int, scenarios: Sequence[Scenario]) -> None:
    """Print one line a scenario."""
    print("| scenario | level | leader | difference | gain over base | best ruled out | "
          "called worse, and is not | better than base, and is not | single best claimed | "
          "optimism stated | true | better than baseline |")
    print("|" + 12 * "---|")
    with ProcessPoolExecutor(2) as pool:
        for scenario in scenarios:
            found = [each for piece in pool.map(outcomes, [scenario] * (searches // PIECE),
                                                range(0, searches, PIECE)) for each in piece]
            columns = {name: np.array([getattr(each, name) for each in found])
                       for name in Outcome.__dataclass_fields__}
            shares = [f"{100 * np.nanmean(columns[name]):.1f}"
                      for name in ("level", "leader", "difference", "gain", "best_out", "wrong",
                                   "vain", "single")]
            error = columns["true"].std() / len(found) ** 0.5
            print(f"| {scenario.name} | {' | '.join(shares)} | {columns['stated'].mean():.4f} | "
                  f"{columns['true'].mean():.4f} ± {error:.4f} | "
                  f"{100 * columns['skill'].mean():.1f} |", flush=True)


if __name__ == "__main__":
    wanted = [s for s in SCENARIOS if len(sys.argv) < 3 or sys.argv[2] in s.name]
    table(int(sys.argv[1]) if len(sys.argv) > 1 else SEARCHES, wanted)
