"""Methods against random search, plain halving and brackets on eighteen made-up losses: ``python -m
benchmarks.methods [SEEDS [tuned | held_out | fresh | all [METHOD ...]]]``.

What is printed is the regret: by how much the true loss of the recipe that a method would choose
is above the lowest there is, after the epochs of so many full trainings, median over seeds. All
methods see the same noise. What would be chosen is the recipe with the lowest loss so far, however
long it was trained: one that after few epochs is below all others at their end.

Plain halving is asynchronous (Li et al. 2020), recipes drawn at random: a recipe in the best third
of those that reached a round goes on to the next. Brackets are those of Li et al. (2018).
"""

from __future__ import annotations

import math
import os
import statistics
import sys
import time
from collections.abc import Callable, Iterator, Mapping
from concurrent.futures import ProcessPoolExecutor
from multiprocessing import get_context

import numpy as np

from axiarch.recipes.recipe import Recipe
from axiarch.recipes.searchfile import MethodChoice
from axiarch.recipes.space import Space
from axiarch.search.method import Observation, steady_at
from axiarch.search.methods import make_method
from axiarch.search.sequence import StepSequence, TakenStep
from benchmarks.simulated import EPOCHS
from benchmarks.surfaces import FRESH, HELD_OUT, SURFACES, TUNED, Surface

#: Full trainings after which the regret is taken.
BUDGETS = (3, 5, 10, 20, 50)
#: One recipe in so many continues, and the epochs at which rounds end.
_KEEP, _ROUNDS = 3, (1, 3, 9, EPOCHS)
_RECIPES = 2000

#: A recipe, and the epoch it is trained to.
Trained = tuple[Recipe, int]
#: From what was trained to its loss, to what is trained next.
Plan = Callable[[Space, np.random.Generator, Callable[[Recipe, int], float]], Iterator[Trained]]


def _draw(space: Space, rng: np.random.Generator) -> Recipe:
    while (found := space.at(rng.random(len(space.knobs)).tolist())) is None:
        pass
    return found


def random_search(space: Space, rng: np.random.Generator,
                  loss: Callable[[Recipe, int], float]) -> Iterator[Trained]:
    """Train every recipe in full."""
    while True:
        yield _draw(space, rng), EPOCHS


def halving(space: Space, rng: np.random.Generator,
            loss: Callable[[Recipe, int], float]) -> Iterator[Trained]:
    """Promote whatever stands in the best third of its round; else draw a new recipe."""
    rounds: list[list[Recipe]] = [[] for _ in _ROUNDS]
    gone: list[set[Recipe]] = [set() for _ in _ROUNDS]
    while True:
        for level in range(len(_ROUNDS) - 2, -1, -1):
            order = sorted(rounds[level], key=lambda r, at=level: loss(r, _ROUNDS[at]))
            best = [r for r in order[: len(order) // _KEEP] if r not in gone[level]]
            if best:
                gone[level].add(best[0])
                rounds[level + 1].append(best[0])
                yield best[0], _ROUNDS[level + 1]
                break
        else:
            recipe = _draw(space, rng)
            rounds[0].append(recipe)
            yield recipe, _ROUNDS[0]


def brackets(space: Space, rng: np.random.Generator,
             loss: Callable[[Recipe, int], float]) -> Iterator[Trained]:
    """Run brackets of ever fewer recipes that start ever longer, again and again."""
    top = len(_ROUNDS) - 1
    while True:
        for start in range(top + 1):
            count = math.ceil((top + 1) / (top - start + 1) * _KEEP ** (top - start))
            recipes = [_draw(space, rng) for _ in range(count)]
            for level in range(start, top + 1):
                for recipe in recipes:
                    yield recipe, _ROUNDS[level]
                recipes.sort(key=lambda r, at=level: loss(r, _ROUNDS[at]))
                recipes = recipes[: max(len(recipes) // _KEEP, 1)]


PLANS: Mapping[str, Plan] = {"random": random_search, "halving": halving, "brackets": brackets}
METHODS = (*PLANS, "racing", "guided_racing", "guided")


class _Account:
    """Counts epochs, and knows which recipe would be chosen."""

    def __init__(self, surface: Surface, seed: int) -> None:
        self._surface, self._seed = surface, seed
        self._curves: dict[Recipe, tuple[float, ...]] = {}
        self._until: dict[Recipe, int] = {}
        self._truths: dict[Recipe, float] = {}
        self.spent = 0
        self._best = math.inf
        self._chosen: Recipe | None = None
        self.trail: list[tuple[int, float]] = []

    def curve(self, recipe: Recipe) -> tuple[float, ...]:
        if recipe not in self._curves:
            self._curves[recipe] = self._surface.curve(recipe, self._seed)
        return self._curves[recipe]

    def loss(self, recipe: Recipe, until: int) -> float:
        return steady_at(self.curve(recipe), until)

    def train(self, recipe: Recipe, until: int) -> None:
        self.spent += max(until - self._until.get(recipe, 0), 0)
        self._until[recipe] = max(until, self._until.get(recipe, 0))
        known = self.loss(recipe, until)
        if known < self._best or self._chosen is None:
            self._best, self._chosen = known, recipe
            self.trail.append((self.spent, self._surface.truth(recipe)))

    def at(self, epochs: int) -> float:
        """Return the true loss of the recipe that would be chosen after this many epochs."""
        return next((loss for spent, loss in reversed(self.trail) if spent <= epochs), math.inf)


def regrets(name: str, method: str, seed: int) -> list[float]:
    """Return the true losses of what a method would choose after each budget."""
    surface = SURFACES[name]
    account = _Account(surface, seed)
    most = BUDGETS[-1] * EPOCHS
    if method in PLANS:
        rng = np.random.default_rng([seed, 1])
        for recipe, until in PLANS[method](surface.space, rng, account.loss):
            account.train(recipe, until)
            if account.spent >= most:
                break
        return [account.at(b * EPOCHS) for b in BUDGETS]
    driven = make_method(MethodChoice(method, {"recipes": _RECIPES}), surface.space, seed)

    def outcome(taken: TakenStep) -> Observation:
        until = taken.step.until or EPOCHS
        curve = account.curve(taken.step.recipe)[:until]
        gone = next((i + 1 for i, v in enumerate(curve) if not math.isfinite(v)), 0)
        return Observation(taken.number, taken.step.recipe, (curve[: gone or None],),
                           bool(gone) or until >= EPOCHS)

    sequence, numbers = StepSequence(driven, outcome), 0
    while account.spent < most and (step := sequence.decide()) is not None:
        numbers += not step.number
        sequence.take(step, step.number or numbers)
        account.train(step.recipe, step.until or EPOCHS)
    return [account.at(b * EPOCHS) for b in BUDGETS]


def main(seeds: int, names: tuple[str, ...], methods: tuple[str, ...]) -> None:
    """Print the table."""
    os.environ.setdefault("OPENBLAS_NUM_THREADS", "1")
    print(f"regret after {', '.join(map(str, BUDGETS))} full trainings, median of {seeds} seeds\n")
    print("| loss | " + " | ".join(methods) + " |\n|---|" + "---|" * len(methods), flush=True)
    with ProcessPoolExecutor(2, get_context("spawn")) as pool:
        for name in names:
            low, row = SURFACES[name].lowest(), []
            for method in methods:
                started = time.perf_counter()
                found = list(pool.map(regrets, [name] * seeds, [method] * seeds, range(seeds)))
                row.append(" ".join(f"{statistics.median(each) - low:.3f}"
                                    for each in zip(*found, strict=True)))
                print(f"{name} {method} {row[-1]} {time.perf_counter() - started:.0f} s",
                      file=sys.stderr)
            print(f"| {name} | " + " | ".join(row) + " |", flush=True)


if __name__ == "__main__":
    which = {"tuned": TUNED, "held_out": HELD_OUT, "fresh": FRESH, "all": tuple(SURFACES)}
    main(int(sys.argv[1]) if len(sys.argv) > 1 else 30,
         which[sys.argv[2] if len(sys.argv) > 2 else "all"], tuple(sys.argv[3:]) or METHODS)
