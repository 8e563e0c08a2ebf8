"""One long run through the command line, of so few rows that all but training counts: ``python -m
benchmarks.long``.

A table of 16 training rows, 25,000 epochs of one batch each, validated every epoch: the time from
the command to its end, and the time in which the search ran, against the plain loop with
validation. Printed are ratios, medians of three.
"""

from __future__ import annotations

import statistics
import subprocess
import sys
import tempfile
from pathlib import Path

import numpy as np
from threadpoolctl import threadpool_limits

from axiarch import workflows
from axiarch.data.plan import DataPlan, SplitPlan
from axiarch.engine.warm import warm
from axiarch.journal.workspace import Workspace
from benchmarks import plain_loop
from benchmarks.engine import timed

SIZES, ROWS, EPOCHS = (3, 16, 2), 16, 25_000
_FILE = f"""format = 1
name = "long"
data = "few"
repeats = 1
[method]
name = "grid"
[recipe]
epochs = {EPOCHS}
width = {SIZES[1]}
depth = 1
batch_size = {ROWS}
patience = 0
dropout = 0.2
l2 = 1e-4
"""


def main() -> None:
    """Print the ratios."""
    rng = np.random.default_rng(0)
    x, y = rng.normal(size=(24, SIZES[0])).astype(np.float32), np.arange(24, dtype=np.int32) % 2
    warm()
    whole, running = [], []
    with tempfile.TemporaryDirectory() as place, threadpool_limits(1):
        folder = Path(place)
        rows = [
            ",".join([*(f"{v:.4f}"
                        for v in row), f"class {label}"])
            for row, label in zip(x, y, strict=True)
        ]
        (folder / "few.csv").write_text("\n".join(["a,b,c,y", *rows]))
        (folder / "long.toml").write_text(_FILE)
        workspace = Workspace.create(folder / "w")
        workflows.add_table(workspace, folder / "few.csv", name="few",
                            plan=DataPlan(("y",), split=SplitPlan(validation=4 / 24, test=4 / 24)))
        for number in range(1, 4):
            loop = timed(lambda: plain_loop.train(
                x[:16], y[:16], SIZES, ROWS, EPOCHS, validation=(x[16:], y[16:])))
            ours = timed(lambda: subprocess.run([
                sys.executable, "-m", "axiarch", "-w",
                str(workspace.folder), "search",
                str(folder / "long.toml"), "--workers", "1"
            ],
                                                check=True,
                                                stderr=subprocess.DEVNULL,
                                                stdout=subprocess.DEVNULL))
            whole.append(ours / loop)
            running.append(workflows.wait(workspace, number).taken / loop)
    print(
        f"{EPOCHS} epochs of {ROWS} rows: the command takes {statistics.median(whole):.2f} times "
        f"the plain loop, the search itself {statistics.median(running):.2f} times")


if __name__ == "__main__":
    main()
