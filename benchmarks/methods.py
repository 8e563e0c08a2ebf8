"""Methods against random search on losses with a known truth: ``python -m benchmarks.methods [SEEDS [METHOD ...]]``.

Every method gets the same problems and seeds. Random search trains every recipe in full, on as many seeds as the
problem says. The target is the true loss of what random search would choose, in the median over seeds, after 200
trainings; what is printed is the median over seeds of the epochs that a method spends until the recipe it would choose
is as good, as a share of those of random search.
"""

from __future__ import annotations

import math
import statistics
import sys
import time
from collections.abc import Mapping
from concurrent.futures import ProcessPoolExecutor

from axiarch.recipes.searchfile import MethodChoice
from axiarch.search.methods import make_method
from benchmarks.simulated import EPOCHS, PROBLEMS, Driven, drive

#: Recipes of random search whose loss is to be reached.
TRAININGS = 200
#: Random search is given up after so many times as many, other methods after this share of what it needed.
_MOST, _ENOUGH = 5, 1.3
#: Seeds that the target and the needs of random search are taken over.
_SEEDS = 40
METHODS: Mapping[str, Mapping[str, int]] = {
    "random": {}, "spread": {}, "racing": {}, "guided": {}, "guided_racing": {}, "staged": {},
}


def driven(problem: str, name: str, seed: int, recipes: int, most_epochs: float = math.inf,
           enough: float = -math.inf) -> Driven:
    """Run a method on a problem."""
    known = PROBLEMS[problem]
    method = make_method(MethodChoice(name, {"recipes": recipes, **METHODS[name]}), known.space, seed, known.blocks)
    return drive(method, lambda r, b: known.curve(r, 1000 * seed + b), known.truth, known.blocks,
                 most_epochs=most_epochs, enough=enough)


def reached(problem: str, seed: int) -> float:
    """Return the true loss that random search comes to, on seeds of its own."""
    return driven(problem, "random", 7000 + seed, TRAININGS).best[-1]


def cost(problem: str, name: str, seed: int, target: float, most: float) -> float:
    """Return the epochs that a method spends to reach the target."""
    return driven(problem, name, seed, _MOST * TRAININGS, most, target).cost_of(target)


def main(seeds: int, names: list[str]) -> None:
    """Print the table."""
    print(f"median over {seeds} seeds of the epochs to reach what random search reaches in {TRAININGS} trainings,")
    print(f"as a share of random search's; — where it was not reached in the median within {_ENOUGH:g} times that\n")
    print("| problem | " + " | ".join(names) + " |\n|---|" + "---|" * len(names))
    with ProcessPoolExecutor(2) as pool:
        for problem, known in PROBLEMS.items():
            own = range(_SEEDS)
            target = statistics.median(pool.map(reached, [problem] * _SEEDS, own))
            most = _MOST * TRAININGS * EPOCHS * known.blocks
            plain = statistics.median(pool.map(cost, [problem] * _SEEDS, ["random"] * _SEEDS, own,
                                               [target] * _SEEDS, [most] * _SEEDS))
            row = []
            for name in names:
                started = time.perf_counter()
                found = list(pool.map(cost, [problem] * seeds, [name] * seeds, range(seeds), [target] * seeds,
                                      [_ENOUGH * plain] * seeds))
                share = statistics.median(found) / plain
                row.append(f"{share:.2f}" if math.isfinite(share) else "—")
                print(f"{problem} {name} {row[-1]} {time.perf_counter() - started:.0f} s", file=sys.stderr)
            print(f"| {problem} | " + " | ".join(row) + " |", flush=True)


if __name__ == "__main__":
    main(int(sys.argv[1]) if len(sys.argv) > 1 else 20, sys.argv[2:] or [n for n in METHODS if n != "random"])
