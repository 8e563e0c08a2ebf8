"""Rows read ahead where the data are larger than memory: ``python -m benchmarks.ahead
[MEGABYTES]``.

A process that may hold 400 MB, what it maps included (a memory control group: root, on Linux),
trains on rows that take twice as much, shuffled, for half a minute with the thread that reads ahead
and without it. Printed are how many times as many rows it gets through with the thread, the share
of the time that it waits for them, and the most memory it held.
"""

from __future__ import annotations

import contextlib
import json
import os
import subprocess
import sys
import tempfile
import time
from pathlib import Path

import numpy as np

_GROUPS = (Path("/sys/fs/cgroup/memory"), Path("/sys/fs/cgroup"))
_LIMIT, _WIDTH, _SECONDS = 400 << 20, 1024, 30.0


class _Enough(Exception):
    """The time is up."""


def group() -> Path | None:
    """Make a group of processes that may hold so much; None where that is not possible."""
    for parent in _GROUPS:
        made = parent / f"axiarch-{os.getpid()}"
        name = "memory.limit_in_bytes" if parent.name == "memory" else "memory.max"
        try:
            made.mkdir()
            (made / name).write_text(str(_LIMIT))
        except OSError:
            continue
        return made
    return None


def train(path: Path, rows: int, ahead: bool) -> None:
    """Train on mapped rows for a while and print how far that came; run in a process of its own,
    in the group.
    """
    from axiarch.engine.losses import LOSSES
    from axiarch.engine.network import NetworkShape
    from axiarch.engine.rows import Source, TrainingData
    from axiarch.engine.run import RunSpec
    from axiarch.engine.streams import Streams
    from axiarch.engine.training import Training
    from axiarch.recipes.recipe import Recipe

    x = np.load(path, mmap_mode="r")
    y = (np.arange(rows) % 4).astype(np.int32)
    recipe = Recipe({"width": 256, "depth": 2, "batch_size": 128, "epochs": 100, "patience": 0})
    source = Source(TrainingData(x, y, x[:256], y[:256]), LOSSES["softmax"], 4)
    training = Training(NetworkShape.of(recipe, _WIDTH, 4),
                        RunSpec(0, recipe, Streams(0)),
                        source,
                        ahead=ahead)
    started, waited, epochs = time.perf_counter(), 0.0, 0

    def stop() -> None:
        if time.perf_counter() - started > _SECONDS:
            raise _Enough

    with contextlib.suppress(_Enough):
        while True:
            waited += training.train_epoch(stop).numbers.waited
            epochs += 1
    took = time.perf_counter() - started
    done = epochs * rows + training.done * 128
    print(json.dumps({"rows": done / took, "waited": (waited + training._read) / took}))


def measured(made: Path, path: Path, rows: int, ahead: bool) -> dict[str, float]:
    """Return what a process in the group measured."""
    Path("/proc/sys/vm/drop_caches").write_text("1")
    peak = next(p for p in (made / "memory.max_usage_in_bytes", made / "memory.peak") if p.exists())
    if peak.name == "memory.max_usage_in_bytes":
        peak.write_text("0")

    def join() -> None:
        (made / "cgroup.procs").write_text(str(os.getpid()))

    ended = subprocess.run(
        [sys.executable, "-m", "benchmarks.ahead", "train",
         str(path),
         str(rows),
         str(int(ahead))],
        capture_output=True,
        text=True,
        check=True,
        preexec_fn=join)
    return {**json.loads(ended.stdout), "peak": int(peak.read_text())}


def main(megabytes: int) -> None:
    """Print what the thread brings."""
    made = group()
    if made is None:
        print("memory cannot be limited here: that takes root and control groups")
        return
    rows = (megabytes << 20) // (4 * _WIDTH)
    try:
        with tempfile.TemporaryDirectory() as place:
            path = Path(place) / "x.npy"
            x = np.lib.format.open_memmap(path, "w+", np.float32, (rows, _WIDTH))
            rng = np.random.default_rng(0)
            for start in range(0, rows, 4096):
                x[start:start + 4096] = rng.standard_normal((min(4096, rows - start), _WIDTH),
                                                            np.float32)
            x.flush()
            del x
            os.sync()
            with_, without = (measured(made, path, rows, ahead) for ahead in (True, False))
    finally:
        made.rmdir()
    print(
        f"{megabytes} MB of rows, {_LIMIT >> 20} MB of memory: "
        f"{with_['rows'] / without['rows']:.0f} times as many rows with reading ahead as without; "
        f"it waits {100 * with_['waited']:.0f} % of the time, at most {int(with_['peak']) >> 20} "
        "MB were held")


if __name__ == "__main__":
    if sys.argv[1:2] == ["train"]:
        train(Path(sys.argv[2]), int(sys.argv[3]), sys.argv[4] == "1")
    else:
        main(int(sys.argv[1]) if len(sys.argv) > 1 else 800)
