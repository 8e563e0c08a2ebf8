"""Several hundred recipes on each demo set by the default method: ``python -m benchmarks.demos
[RECIPES [NAME ...]]``.

Of each search is said what share of the training its decisions cost, made again from its journal,
and what share of the time two workers trained. The winner is then held against the base recipe on
fresh seeds, which the search has not seen: the mean difference of their losses pair by pair, and
its 95 % interval by Student's t. Printed with it is the baseline, and what the rule behind the
generated data scores, which nothing can beat.
"""

from __future__ import annotations

import sys
import tempfile
import time
from collections.abc import Mapping
from contextlib import closing
from pathlib import Path

import numpy as np
from scipy import stats
from threadpoolctl import threadpool_limits

from axiarch import workflows
from axiarch.journal.read import JournalReader
from axiarch.journal.workspace import Workspace
from axiarch.recipes.recipe import Recipe
from axiarch.recipes.searchfile import MethodChoice, SearchFile
from axiarch.recipes.space import space
from axiarch.runner.history import History
from axiarch.runner.material import effort_of
from axiarch.runs.steady import steady
from axiarch.search.methods import make_method
from axiarch.search.sequence import StepSequence

#: Fresh seeds for the comparison.
SEEDS = 6
_COMMON = {
    "learning_rate": "1e-4 .. 1e-1 log", "batch_size": "16 .. 128 doubling", "dropout": "0 .. 0.6",
    "optimiser": "momentum | rmsprop | adam", "weight_decay": "1e-4 .. 1 log when optimiser = adam",
    "schedule": "constant | cosine"
}
#: What varies on each set around the base recipe.
SPACES: Mapping[str, tuple[Mapping[str, object], Mapping[str, str]]] = {
    "hive states": ({"epochs": 40,
                     "patience": 8}, {**_COMMON, "width": "16 .. 128 doubling", "depth": "1 .. 3"}),
    "nectar flow": ({"epochs": 40,
                     "patience": 8}, {**_COMMON, "width": "16 .. 128 doubling", "depth": "1 .. 3"}),
    "hum": ({"epochs": 12, "patience": 4, "network": "conv 8, pool 2, conv 16, pool 2"},
            {**_COMMON, "normalisation": "none | batch", "shift": "0 .. 2"}),
}


def losses_of(workspace: Workspace, data: str, recipe: Recipe) -> np.ndarray:
    """Return the steady losses (SEEDS,) of a recipe on seeds of its own."""
    search = SearchFile("held against", data, space(dict(recipe), {}), MethodChoice("grid", {}),
                        977, SEEDS)
    s = workflows.wait(workspace, workflows.start_search(workspace, search, 2))
    return np.array([steady(s.curves[run.id].validation)[1] for run in s.runs_of(1)])


def deciding(workspace: Workspace, number: int, search: SearchFile) -> float:
    """Return the seconds that all decisions of a search take, made again from its journal."""
    with closing(JournalReader(workspace.journal)) as reader:
        known, steps = reader.changes(number), reader.steps(number)
    replicates = [(repeat, 0) for repeat in range(search.repeats)]
    own, method = (make_method(search.method, search.space, search.seed, len(replicates))
                   for _ in range(2))
    effort = effort_of(workflows.data_set(workspace, search.data))
    observed = History(search.seed, replicates, own, effort)
    observed.restore(known, steps, [])
    sequence, recipes, seconds = StepSequence(method, observed.outcome, effort), 0, 0.0
    while True:
        started = time.perf_counter()
        step = sequence.decide()
        seconds += time.perf_counter() - started
        if step is None:
            break
        recipes += not step.number
        sequence.take(step, step.number or recipes)
    if len(sequence.steps) != len(steps):
        raise SystemExit(
            f"search {number} took {len(steps)} steps, and {len(sequence.steps)} when decided again"
        )
    return seconds


def shown(workspace: Workspace, data: str, recipes: int) -> str:
    """Return a line on one demo set."""
    base, vary = SPACES[data]
    search = workflows.new_search(workflows.data_set(workspace, data),
                                  name="many",
                                  base=base,
                                  vary=vary,
                                  recipes=recipes,
                                  repeats=3)
    started = time.perf_counter()
    s = workflows.wait(workspace, workflows.start_search(workspace, search, 2))
    minutes = (time.perf_counter() - started) / 60
    training = sum(curve.total_seconds for curve in s.curves.values())
    decided, busy = deciding(workspace, s.search.number,
                             search) / training, training / (2 * s.taken)
    winner = s.recipes[s.ranking.rows[0].recipe].recipe
    own, other = (losses_of(workspace, data, recipe) for recipe in (winner, search.space.base))
    apart = other - own
    reach = stats.t.ppf(0.975, SEEDS - 1) * apart.std(ddof=1) / np.sqrt(SEEDS)
    best = s.dataset.noise_floor
    return (
        f"| {data} | {len(s.recipes)} | {s.epochs} | {minutes:.1f} | {other.mean():.4g} | "
        f"{own.mean():.4g} | {apart.mean():.3g} ± {reach:.2g} | {s.dataset.baseline.loss:.3g} | "
        f"{best.loss if best else 0:.3g} | {100 * decided:.0f} % | {100 * busy:.0f} % |")


def main(recipes: int, names: list[str]) -> None:
    """Print the table."""
    titles = ("data", "recipes", "epochs", "minutes", "base", "winner", "better by", "baseline",
              "the rule itself", "deciding", "workers")
    print("| " + " | ".join(titles) + " |\n" + "|---" * len(titles) + "|")
    with tempfile.TemporaryDirectory() as place, threadpool_limits(1):  # as the runner has it
        workspace = workflows.make_demo(Path(place) / "w")
        for name in names:
            print(shown(workspace, name, recipes), flush=True)


if __name__ == "__main__":
    main(int(sys.argv[1]) if len(sys.argv) > 1 else 300, sys.argv[2:] or list(SPACES))
