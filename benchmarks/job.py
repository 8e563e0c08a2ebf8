"""A whole job through the real runner: ``python -m benchmarks.job``.

The job: 200 recipes, 20 epochs each, 2,000 training rows, batch 32, validation every epoch,
journalled. It is held against the plain loop in one process (timed on a few recipes, and
multiplied), and two workers against one. Printed are ratios; each pair is timed in one run.
"""

from __future__ import annotations

import statistics
import tempfile
from pathlib import Path

import numpy as np
from threadpoolctl import threadpool_limits

from axiarch import workflows
from axiarch.data.plan import DataPlan, SplitPlan
from axiarch.engine.warm import warm
from axiarch.journal.workspace import Workspace
from axiarch.recipes.searchfile import MethodChoice, SearchFile
from axiarch.recipes.space import space
from benchmarks import plain_loop
from benchmarks.engine import data_for, timed

#: Inputs, hidden units, classes.
SIZES = (32, 64, 64, 6)
RECIPES, EPOCHS, ROWS, BATCH = 200, 20, 2000, 32
#: Recipes that the plain loop is timed on.
_PLAIN = 10


def made(folder: Path) -> Workspace:
    """Return a workspace with random data of the right shape."""
    rng = np.random.default_rng(0)
    x, y = rng.normal(size=(ROWS + 500, SIZES[0])), rng.integers(0, SIZES[-1], ROWS + 500)
    table = folder / "random.csv"
    head = ",".join([*(f"x{i}" for i in range(SIZES[0])), "y"])
    rows = [
        ",".join([*(f"{v:.4f}"
                    for v in row), f"class {label}"])
        for row, label in zip(x, y, strict=True)
    ]
    table.write_text("\n".join([head, *rows]))
    workspace = Workspace.create(folder / "w")
    plan = DataPlan(("y",), split=SplitPlan(validation=400 / (ROWS + 500), test=100 / (ROWS + 500)))
    workflows.add_table(workspace, table, name="random", plan=plan)
    return workspace


def job(repeat: int) -> SearchFile:
    """Return the search."""
    base = {
        "width": SIZES[1], "depth": len(SIZES) - 2, "batch_size": BATCH, "epochs": EPOCHS,
        "patience": 0, "dropout": 0.2, "l2": 1e-4
    }
    vary = {"learning_rate": "1e-4 .. 1e-2 log", "dropout": "0.1 .. 0.5", "l2": "1e-6 .. 1e-3 log"}
    return SearchFile("job", "random", space(base, vary),
                      MethodChoice("random", {"recipes": RECIPES}), repeat, 1)


def whole_job(folder: Path) -> tuple[float, float]:
    """Return how many times faster two workers are than the plain loop, and than one worker."""
    workspace = made(folder)
    data = data_for(SIZES, ROWS)
    plain, gained = [], []
    for repeat in range(3):
        with threadpool_limits(1):
            loop = timed(lambda: [
                plain_loop.train(data.train_inputs, data.train_targets, SIZES, BATCH, EPOCHS)
                for _ in range(_PLAIN)
            ]) / _PLAIN * RECIPES
        taken = {}
        for workers in (2, 1):
            s = workflows.wait(workspace, workflows.start_search(workspace, job(repeat + 1),
                                                                 workers))
            taken[workers] = s.taken
        plain.append(loop / taken[2])
        gained.append(taken[1] / taken[2])
    return statistics.median(plain), statistics.median(gained)


def main() -> None:
    """Print the ratios."""
    warm()
    with tempfile.TemporaryDirectory() as place:
        plain, gained = whole_job(Path(place))
    print(
        f"whole job, two workers: {plain:.1f} times the plain loop, {gained:.2f} times one worker")


if __name__ == "__main__":
    main()
