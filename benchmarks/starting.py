"""How long a search takes to start with few and with many workers: ``python -m
benchmarks.starting``.

A search of three recipes of two epochs is little but its start. Times are of whole searches, the
median of five, each number of workers in turn.
"""

from __future__ import annotations

import statistics
import tempfile
import time
from dataclasses import replace
from pathlib import Path

from axiarch import workflows
from axiarch.recipes.searchfile import IGNORE, MethodChoice, SearchFile
from axiarch.recipes.space import space

WORKERS, ROUNDS = (1, 2, 4, 8), 5


def main() -> None:
    """Print seconds by number of workers, and the ratio to one worker."""
    with tempfile.TemporaryDirectory() as folder:
        workspace = workflows.make_demo(Path(folder) / "w")
        search = SearchFile("start", "hive states", space({"epochs": 2}, {
            "learning_rate": "1e-4 .. 1e-1 log"}), MethodChoice("random", {"recipes": 3}), 1, 1,
                            earlier=IGNORE)
        found: dict[int, list[float]] = {n: [] for n in WORKERS}
        for i in range(ROUNDS):
            for n in WORKERS:
                started = time.perf_counter()
                workflows.wait(workspace, workflows.start_search(
                    workspace, replace(search, seed=i + 1), n))
                found[n].append(time.perf_counter() - started)
    one = statistics.median(found[1])
    for n in WORKERS:
        middle = statistics.median(found[n])
        print(f"{n} workers: {middle:.2f} s, {middle / one:.2f} times one worker")


if __name__ == "__main__":
    main()
