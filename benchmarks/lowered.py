"""What it brings to lower a metric instead of the loss: ``python -m benchmarks.lowered [SEEDS]``.

On made-up tables recipes are searched for twice, by the loss and by the metric, with the same rows
and seeds; both leaders are then scored by the metric on 4,800 test rows. Printed are the mean
difference over tables, each of a seed of its own, and its 95 % interval by Student's t: above zero,
lowering the metric itself was better.
"""

from __future__ import annotations

import csv
import sys
import tempfile
from collections.abc import Callable, Mapping
from dataclasses import replace
from pathlib import Path

import numpy as np
from scipy import stats

from axiarch import workflows
from axiarch.data.plan import DataPlan, SplitPlan
from axiarch.journal.workspace import Workspace
from axiarch.runs.lowered import Lowered

#: Rows of a table; the shares of them that validate and that test.
ROWS, VALIDATION, TEST = 6000, 0.1, 0.8
RECIPES, REPEATS = 60, 3
_VARY = {
    "learning_rate": "1e-4 .. 1e-1 log", "batch_size": "16 | 64", "width": "8 .. 64 doubling",
    "weight_decay": "1e-4 .. 1 log when optimiser = adam", "dropout": "0 .. 0.6"
}
Table = tuple[np.ndarray, list[object]]


def _inputs(rng: np.random.Generator) -> tuple[np.ndarray, np.ndarray]:
    """Return inputs (N, 6), and a curved function of three of them (N,)."""
    x = rng.normal(size=(ROWS, 6))
    return x, np.sin(2 * x[:, 0]) + x[:, 1] * x[:, 2]


def tailed(rng: np.random.Generator) -> Table:
    """Amounts with noise of heavy tails (Student's t with 1.5 degrees of freedom)."""
    x, level = _inputs(rng)
    return x, list(5 * level + rng.standard_t(1.5, ROWS))


def noisy(rng: np.random.Generator) -> Table:
    """Three classes with a fifth of the labels drawn at random."""
    x, level = _inputs(rng)
    classes = np.digitize(level, (-0.7, 0.7))
    return x, list(np.where(rng.random(ROWS) < 0.2, rng.integers(0, 3, ROWS), classes))


def rare(rng: np.random.Generator) -> Table:
    """Two classes, one of them in a twelfth of the rows."""
    x, level = _inputs(rng)
    return x, list((level + 0.5 * rng.normal(size=ROWS) > 1.9).astype(int))


#: Tables by name: how they are made, what is lowered, and the recipe's own loss or weights, which
#: the searches vary as well.
TABLES: Mapping[str, tuple[Callable[[np.random.Generator], Table], Lowered, Mapping[str, str]]] = {
    "heavy tails": (tailed, "mean absolute error", {"loss": "squared | absolute | huber"}),
    "noisy labels": (noisy, "accuracy", {"label_smoothing": "0 .. 0.3"}),
    "a rare class": (rare, "balanced accuracy", {"class_weights": "equal | balanced"}),
    "a rare class, F1": (rare, "F1", {"class_weights": "equal | balanced"}),
    "a rare class, AUC": (rare, "AUC", {"class_weights": "equal | balanced"}),
}


def scored(workspace: Workspace, path: Path, plan: DataPlan, name: str, vary: Mapping[str, str],
           seed: int, lowered: Lowered) -> float:
    """Return what the leader of a search comes to on the test rows, by a metric."""
    data = workflows.add_table(workspace, path, name=name, plan=plan)
    search = workflows.new_search(data, name=name, base={"epochs": 30, "patience": 8},
                                  vary={**_VARY, **vary}, recipes=RECIPES, repeats=REPEATS)
    s = workflows.wait(workspace, workflows.start_search(
        workspace, replace(search, seed=seed, earlier="ignore"), 2))
    found = workflows.open_seal(workspace, data, "benchmark", s, s.ranking.rows[0].recipe)
    if lowered == "mean absolute error":
        return float(found.score.summary["mae"][0][0])
    if lowered == "F1":
        return 1 - float(np.mean([each[0] for each in found.score.summary["f1"]]))
    if lowered == "AUC":
        return 1 - float(found.score.summary["roc"]["area"])
    return 1 - float(found.score.summary[lowered.replace(" ", "_")][0])


def main(seeds: int) -> None:
    """Print the table."""
    print(f"| data | lowered | by the loss | by itself | better by ({seeds} tables) |\n"
          "|---|---|---|---|---|")
    for name, (make, lowered, vary) in TABLES.items():
        pairs = []
        for seed in range(seeds):
            with tempfile.TemporaryDirectory() as place:
                workspace = Workspace.create(Path(place) / "w")
                x, y = make(np.random.default_rng([seed, 7]))
                path = Path(place) / "t.csv"
                with path.open("w", newline="") as file:
                    csv.writer(file).writerows([["a", "b", "c", "d", "e", "f", "y"],
                                                *([*row, v] for row, v in zip(x, y, strict=True))])
                plan = DataPlan(("y",), split=SplitPlan(VALIDATION, TEST))
                pairs.append([scored(workspace, path, replace(plan, ranked_by=by), label, vary,
                                     seed, lowered)
                              for label, by in (("loss", "loss"), ("own", lowered))])
                print(name, seed, pairs[-1], file=sys.stderr, flush=True)
        both = np.array(pairs)
        apart = both[:, 0] - both[:, 1]
        half = float(stats.t.ppf(0.975, seeds - 1)) * apart.std(ddof=1) / seeds**0.5
        print(f"| {name} | {lowered} | {both[:, 0].mean():.4g} | {both[:, 1].mean():.4g} | "
              f"{apart.mean():.3g} ± {half:.2g} |", flush=True)


if __name__ == "__main__":
    main(int(sys.argv[1]) if len(sys.argv) > 1 else 20)
