"""How long a key waits while two workers train: ``python -m benchmarks.latency [RECIPES]``.

A probe on the interface's event loop asks to be called every 5 ms; how late it is called is how
long a key pressed at that moment would have waited. Printed for each view: the median, the 99th
percentile and the worst, in milliseconds, with a race of 400 recipes (or as many as said) running
on two workers, once most of them are there.
"""

from __future__ import annotations

import asyncio
import contextlib
import sys
import tempfile
import time
from dataclasses import replace
from pathlib import Path

import numpy as np

from axiarch import workflows
from axiarch.errors import WorkspaceMissing
from axiarch.journal import inbox
from axiarch.recipes.searchfile import MethodChoice
from axiarch.tui.action import VIEWS
from axiarch.tui.app import AxiarchApp
from axiarch.tui.quiet import be_quiet

#: Seconds each view is watched, and between two probes.
WATCHED, PROBE = 6.0, 0.005


async def late(seconds: float) -> list[float]:
    """Return by how many milliseconds the loop was late, again and again."""
    found = []
    end = time.perf_counter() + seconds
    while time.perf_counter() < end:
        asked = time.perf_counter()
        await asyncio.sleep(PROBE)
        found.append(max((time.perf_counter() - asked - PROBE) * 1000, 0.0))
    return found


async def measure(folder: Path, recipes: int) -> None:
    """Start a search and watch every view while it runs."""
    workspace = workflows.make_demo(folder)
    search = workflows.demo_search(workflows.data_set(workspace, "hive states"))
    search = replace(search, method=MethodChoice("racing", {"recipes": recipes}))
    number = workflows.start_search(workspace, search, 2)
    be_quiet()  # as the application is
    app = AxiarchApp(workspace)
    async with app.run_test(size=(150, 42)) as pilot:
        while app.state.snapshot is None or len(app.state.snapshot.curves) < 0.7 * recipes:
            await pilot.pause(0.1)
        print(f"{'view':>8} {'median':>8} {'99 %':>8} {'worst':>8}   ms late")
        for key, name, _ in VIEWS:
            await pilot.press(key)
            times = np.array(await late(WATCHED))
            print(
                f"{name:>8} {np.median(times):>8.1f} {np.percentile(times, 99):>8.1f} "
                f"{times.max():>8.1f}"
            )
        print(
            f"{len(app.state.snapshot.recipes)} recipes were there by then, "
            f"{app.state.snapshot.epochs} epochs"
        )
    with contextlib.suppress(WorkspaceMissing):  # it is over
        workflows.steer_search(workspace, number, inbox.Stop())
    workflows.wait(workspace, number)


def main() -> None:
    """Measure in a temporary workspace, with as many recipes as the command says."""
    with tempfile.TemporaryDirectory() as place:
        asyncio.run(measure(Path(place) / "demo", int(sys.argv[1]) if len(sys.argv) > 1 else 400))


if __name__ == "__main__":
    main()
