"""A race against the grid: ``python -m benchmarks.race [SEEDS [NAME ...]]``.

On each demo set a grid of 192 recipes, one seed each, is trained in full; its best steady loss is
the mark. A race over the same space, with ranges where the grid has points, is started with several
seeds, and is said to have found the mark at the first epoch after which any run of its has a steady
loss as low. Printed are medians over the seeds: the epochs needed and their share of the grid's,
the seconds of the search until then against a plain loop's for the whole grid, milliseconds of a
worker an epoch in race and grid, and the share of the time in which workers trained.
"""

from __future__ import annotations

import math
import statistics
import sys
import tempfile
from collections.abc import Mapping
from dataclasses import dataclass
from pathlib import Path

from threadpoolctl import threadpool_limits

from axiarch import workflows
from axiarch.engine.warm import warm
from axiarch.journal.workspace import Workspace
from axiarch.recipes.searchfile import MethodChoice, SearchFile
from axiarch.recipes.space import space
from axiarch.runs.steady import smoothed
from axiarch.workflows.snapshot import Snapshot
from benchmarks import plain_loop
from benchmarks.engine import data_for, timed

#: What varies: for the grid, and for the race.
_GRID = {"learning_rate": "0.001 | 0.003 | 0.01 | 0.03", "batch_size": "16 | 32 | 64 | 128",
         "optimiser": "momentum | adam", "dropout": "0 | 0.2 | 0.4", "weight_decay": "0 | 0.1"}
_RACE = {
    "learning_rate": "1e-3 .. 3e-2 log", "batch_size": "16 .. 128 doubling",
    "optimiser": "momentum | adam", "dropout": "0 .. 0.4", "weight_decay": "0 .. 0.1"
}
#: The base recipe on each set, and whether the plain loop has networks of that kind.
BASES: Mapping[str, tuple[Mapping[str, object], bool]] = {
    "hive states": ({"epochs": 40, "patience": 0}, True),
    "nectar flow": ({"epochs": 40, "patience": 0}, True),
    "hum": ({"epochs": 12, "patience": 0, "network": "conv 8, pool 2, conv 16, pool 2"}, False),
}
_BATCHES, _RECIPES, _TIMED = (16, 32, 64, 128), 192, 2


@dataclass(frozen=True)
class Measured:
    """A search: its epochs, seconds of training, seconds it took, and its snapshot."""

    snapshot: Snapshot

    @property
    def training(self) -> float:
        """Seconds of all workers."""
        return sum(curve.total_seconds for curve in self.snapshot.curves.values())

    @property
    def busy(self) -> float:
        """The share of the time in which two workers trained."""
        return self.training / (2 * self.snapshot.taken)


def searched(workspace: Workspace, search: SearchFile) -> Measured:
    """Run a search with two workers."""
    return Measured(workflows.wait(workspace, workflows.start_search(workspace, search, 2)))


def found_at(s: Snapshot, mark: float) -> float:
    """Return after how many epochs of all runs a steady loss was as low as `mark`; infinite if
    none was.
    """
    firsts = [curve.spent[e - 1] for curve in s.curves.values() for e in range(3, len(curve) + 1)
              if smoothed(curve.validation[e - 3 : e]) <= mark]
    return min(firsts, default=math.inf)


def plain_grid(s: Snapshot) -> float:
    """Return the seconds that a plain loop would take for the grid, from some epochs at each
    batch size.
    """
    sizes, epochs = (math.prod(s.dataset.shape), 64, 64, max(s.dataset.outputs,
                                                             2)), s.file.space.base.whole("epochs")
    data = data_for(sizes, s.dataset.rows["train"])

    def some(batch: int) -> float:
        return timed(
            lambda: plain_loop.train(data.train_inputs, data.train_targets, sizes, batch, _TIMED))

    return sum(map(some, _BATCHES)) / len(_BATCHES) / _TIMED * epochs * _RECIPES


def main(seeds: int, names: list[str]) -> None:
    """Print a line a demo set."""
    warm()
    print(
        "| data | grid: epochs, best | race: epochs needed | of the grid's | seconds against the "
        "plain loop's grid | ms an epoch, race and grid | workers, race and grid "
        "|\n" + "|---" * 7 + "|")
    with tempfile.TemporaryDirectory() as place, threadpool_limits(1):
        workspace = workflows.make_demo(Path(place) / "w")
        for name in names:
            base, hidden = BASES[name]
            grid = searched(
                workspace,
                SearchFile("grid", name, space(base, _GRID), MethodChoice("grid", {}), 1, 1))
            mark = min(curve.steady for curve in grid.snapshot.curves.values())
            needed, seconds, cost, busy = [], [], [], []
            for seed in range(1, seeds + 1):
                made = SearchFile("race", name, space(base, _RACE),
                                  MethodChoice("guided_racing", {"recipes": 192}), seed, 1)
                race = searched(workspace, made)
                epochs = found_at(race.snapshot, mark)
                needed.append(epochs)
                seconds.append(race.snapshot.taken * epochs / race.snapshot.epochs)
                cost.append(1000 * race.training / race.snapshot.epochs)
                busy.append(race.busy)
            loop = plain_grid(grid.snapshot) if hidden else math.nan
            plain = f"1 / {loop / statistics.median(seconds):.0f}" if hidden else "–"
            share = statistics.median(needed) / grid.snapshot.epochs
            print(
                f"| {name} | {grid.snapshot.epochs}, {mark:.4g} | {statistics.median(needed):.0f} "
                f"| {share:.2f} | {plain} | {statistics.median(cost):.2f}, "
                f"{1000 * grid.training / grid.snapshot.epochs:.2f} | "
                f"{100 * statistics.median(busy):.0f} %, {100 * grid.busy:.0f} % |",
                flush=True)


if __name__ == "__main__":
    main(int(sys.argv[1]) if len(sys.argv) > 1 else 10, sys.argv[2:] or list(BASES))
