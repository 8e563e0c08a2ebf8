"""Methods against random search on losses with a known truth: ``python -m benchmarks.methods [SEEDS [METHOD ...]]``.

Every method gets the same problems and seeds. Random search trains every recipe in full. The target is the true loss
that random search has found, in the median over seeds, after 60 trainings; what is printed is the median over seeds of
the epochs that a method spends until the recipe it would choose is as good, as a share of those of random search.
"""

from __future__ import annotations

import math
import statistics
import sys
import time
from collections.abc import Mapping

from axiarch.recipes.searchfile import MethodChoice
from axiarch.search.methods import make_method
from benchmarks.simulated import EPOCHS, PROBLEMS, Problem, drive

#: Trainings of random search whose loss is to be reached.
TRAININGS = 60
#: Trainings after which a method that has not reached it is given up.
_MOST = 4 * TRAININGS
METHODS: Mapping[str, Mapping[str, int]] = {
    "random": {"recipes": _MOST}, "spread": {"recipes": _MOST}, "racing": {"recipes": 4 * _MOST},
    "guided": {"recipes": _MOST}, "guided_racing": {"recipes": 2 * _MOST}, "staged": {"recipes": _MOST},
}


def costs(problem: Problem, name: str, seeds: int, target: float) -> list[float]:
    """Return the epochs that a method spends to reach the target, for each seed."""
    found = []
    for seed in range(seeds):
        method = make_method(MethodChoice(name, dict(METHODS[name])), problem.space, seed)
        found.append(drive(method, lambda r, b, s=seed: problem.curve(r, 1000 * s + b), problem.truth,  # type: ignore[misc]
                           most_epochs=_MOST * EPOCHS, enough=target).cost_of(target))
    return found


def target_of(problem: Problem, seeds: int) -> float:
    """Return the true loss that random search comes to in the median."""
    best = []
    for seed in range(seeds):
        method = make_method(MethodChoice("random", {"recipes": TRAININGS}), problem.space, 500 + seed)
        best.append(drive(method, lambda r, b, s=seed: problem.curve(r, 7_000_000 + 1000 * s + b),  # type: ignore[misc]
                          problem.truth).best[-1])
    return statistics.median(best)


def main(seeds: int, names: list[str]) -> None:
    """Print the table."""
    print(f"median over {seeds} seeds of the epochs to reach what random search reaches in {TRAININGS} trainings,")
    print("as a share of random search's; — where it was not reached in the median within four times that\n")
    print("| problem | " + " | ".join(names) + " |\n|---|" + "---|" * len(names))
    for problem in PROBLEMS.values():
        target = target_of(problem, seeds)
        plain = statistics.median(costs(problem, "random", seeds, target))
        row = []
        for name in names:
            started = time.perf_counter()
            share = statistics.median(costs(problem, name, seeds, target)) / plain
            row.append(f"{share:.2f}" if math.isfinite(share) else "—")
            print(f"{problem.name} {name} {row[-1]} {time.perf_counter() - started:.0f} s", file=sys.stderr)
        print(f"| {problem.name} | " + " | ".join(row) + " |", flush=True)


if __name__ == "__main__":
    main(int(sys.argv[1]) if len(sys.argv) > 1 else 20, sys.argv[2:] or [n for n in METHODS if n != "random"])
