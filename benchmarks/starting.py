"""How long a search takes to start with few and with many workers, as a command starts it and as
the interface does, which keeps a process with the engine: ``python -m benchmarks.starting``.

A search of three recipes of two epochs is little but its start. Times are of whole searches, the
median of five, each number of workers in turn, with and without the kept process.
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
from axiarch.runner import launched

WORKERS, ROUNDS = (1, 2, 4, 8), 5


def main() -> None:
    """Print seconds by number of workers, and the ratio to one worker."""
    with tempfile.TemporaryDirectory() as folder:
        workspace = workflows.make_demo(Path(folder) / "w")
        search = SearchFile("start", "hive states", space({"epochs": 2}, {
            "learning_rate": "1e-4 .. 1e-1 log"}), MethodChoice("random", {"recipes": 3}), 1, 1,
                            earlier=IGNORE)
        found: dict[tuple[bool, int], list[float]] = {}
        for i in range(ROUNDS):
            for kept in (False, True):
                launched.keep(kept)
                for n in WORKERS:
                    started = time.perf_counter()
                    workflows.wait(workspace, workflows.start_search(
                        workspace, replace(search, seed=i + 1), n))
                    found.setdefault((kept, n), []).append(time.perf_counter() - started)
    one = statistics.median(found[False, 1])
    for (kept, n), each in found.items():
        middle = statistics.median(each)
        print(f"{n} workers, {'forked by a kept process' if kept else 'from nothing'}: "
              f"{middle:.2f} s, {middle / one:.2f} times one worker from nothing")


if __name__ == "__main__":
    main()
