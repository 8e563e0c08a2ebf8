"""Methods against random search on losses with a known truth: ``python -m benchmarks.methods [SEEDS
[METHOD ...]]``.

Every method gets the same problems and seeds. Random search trains every recipe in full, on as many
seeds as the problem says. The target is the true loss of what random search would choose after 200
trainings; what is printed is the median over seeds of the epochs that a method spends until the
recipe it would choose is as good, as a share of those of random search. What random search reaches
and needs is the median over 300 seeds of its own: over a few dozen it moves by a factor of two from
one set of seeds to another, and every share with it.
"""

from __future__ import annotations

import math
import os
import statistics
import sys
import time
from collections.abc import Mapping
from concurrent.futures import ProcessPoolExecutor
from multiprocessing import get_context

import numpy as np
from numpy.typing import NDArray

from axiarch.recipes.searchfile import MethodChoice
from axiarch.search.methods import make_method
from benchmarks.simulated import EPOCHS, PROBLEMS, Driven, drive

Floats = NDArray[np.float64]

#: Recipes of random search whose loss is to be reached.
TRAININGS = 200
#: Random search is given up after so many recipes, other methods after this share of what it
#: needed.
_MOST, _ENOUGH = 500, 1.3
#: Seeds that the target and the needs of random search are taken over.
_SEEDS = 300
#: Recipes that other methods may propose.
_RECIPES = 1000
METHODS: Mapping[str, Mapping[str, int]] = {
    "random": {}, "spread": {}, "racing": {}, "guided": {}, "guided_racing": {}, "staged": {},
}


def driven(problem: str, name: str, seed: int, recipes: int, most_epochs: float = math.inf,
           enough: float = -math.inf) -> Driven:
    """Run a method on a problem."""
    known = PROBLEMS[problem]
    method = make_method(MethodChoice(name, {"recipes": recipes, **METHODS[name]}), known.space,
                         seed, known.replicates)
    return drive(method,
                 lambda r, b: known.curve(r, 1000 * seed + b),
                 known.truth,
                 known.replicates,
                 most_epochs=most_epochs,
                 enough=enough)


def by_random(problem: str, seed: int) -> Floats:
    """Return the true loss (R,) of what random search would choose after each recipe, on seeds
    of its own.
    """
    return np.array(driven(problem, "random", 7000 + seed, _MOST).best)


def of_random(losses: Floats) -> tuple[float, float]:
    """Return the loss to be reached, and how many recipes random search needs for it, of its
    losses (S, R).
    """
    target = float(np.median(losses[:, TRAININGS - 1]))
    needs = np.where((losses <= target).any(1), (losses <= target).argmax(1) + 1.0, np.inf)
    return target, float(np.median(needs))


def cost(problem: str, name: str, seed: int, target: float, most: float) -> float:
    """Return the epochs that a method spends to reach the target."""
    return driven(problem, name, seed, _RECIPES, most, target).cost_of(target)


def main(seeds: int, names: list[str]) -> None:
    """Print the table."""
    os.environ.setdefault("OPENBLAS_NUM_THREADS", "1")
    print(
        f"median over {seeds} seeds of the epochs to reach what random search reaches in "
        f"{TRAININGS} trainings,"
    )
    print(
        "as a share of random search's; — where it was not reached in the median within "
        f"{_ENOUGH:g} times that\n"
    )
    print("| problem | " + " | ".join(names) + " |\n|---|" + "---|" * len(names))
    with ProcessPoolExecutor(2, get_context("spawn")) as pool:
        for problem, known in PROBLEMS.items():
            losses = np.array(
                list(pool.map(by_random, [problem] * _SEEDS, range(_SEEDS), chunksize=10)))
            target, needed = of_random(losses)
            plain = needed * EPOCHS * known.replicates
            print(f"{problem}: {target:.4g}, which random search reaches in {needed:g} trainings",
                  file=sys.stderr)
            row = []
            for name in names:
                started = time.perf_counter()
                found = list(
                    pool.map(cost, [problem] * seeds, [name] * seeds, range(seeds),
                             [target] * seeds, [_ENOUGH * plain] * seeds))
                share = statistics.median(found) / plain
                row.append(f"{share:.2f}" if math.isfinite(share) else "—")
                print(f"{problem} {name} {row[-1]} {time.perf_counter() - started:.0f} s",
                      file=sys.stderr)
            print(f"| {problem} | " + " | ".join(row) + " |", flush=True)


if __name__ == "__main__":
    main(
        int(sys.argv[1]) if len(sys.argv) > 1 else 20, sys.argv[2:]
        or [n for n in METHODS if n != "random"])
