"""Loading a large table: time against the bare reading of the file, memory against the arrays,
pauses of the interface.

    python -m benchmarks.loading [ROWS]

A table of ROWS (1,000,000) x 50 is made once, as CSV and as Parquet, and added three times each in
a process of its own. *Baseline* is reading the whole file at once into float32 arrays with nothing
else done. Memory is what the process holds of its own (pages of mapped files left out) at the most,
against the bytes of the arrays it wrote. A pause is how long another thread of the process had to
wait for its turn, as the interface's would.
"""

from __future__ import annotations

import json
import resource
import statistics
import subprocess
import sys
import tempfile
import threading
import time
from pathlib import Path

import numpy as np
import polars

REPEATS = 3


def make(rows: int, folder: Path) -> list[Path]:
    """Write the table in both formats."""
    rng = np.random.default_rng(0)
    columns: dict[str, object] = {
        f"reading_{i:02d}": np.round(rng.normal(i, 3, rows), 3) for i in range(44)
    }
    columns |= {f"kind_{i}": rng.choice(["alder", "birch", "cedar", "elm"], rows) for i in range(4)}
    columns["count"] = rng.integers(0, 200, rows)
    columns["answer"] = np.where(rng.normal(columns["reading_00"], 3) > 0, "up",
                                 "down")  # type: ignore[arg-type]
    frame = polars.DataFrame(columns)
    frame.write_csv(folder / "t.csv")
    frame.write_parquet(folder / "t.parquet")
    return [folder / "t.csv", folder / "t.parquet"]


def baseline(path: Path) -> float:
    """Return the seconds of reading a file at once into arrays."""
    start = time.perf_counter()
    frame = polars.read_csv(path) if path.suffix == ".csv" else polars.read_parquet(path)
    numbers = frame.select(polars.selectors.numeric().cast(polars.Float32))
    assert numbers.to_numpy().shape[0] == frame.height
    return time.perf_counter() - start


def own_memory() -> int:
    """Return the bytes of memory that this process holds of its own."""
    for line in Path("/proc/self/status").read_text().splitlines():
        if line.startswith("RssAnon:"):
            return int(line.split()[1]) * 1024
    return resource.getrusage(resource.RUSAGE_SELF).ru_maxrss * 1024


def load(path: Path, folder: Path) -> dict[str, float]:
    """Add the table, watching memory and pauses from another thread."""
    from axiarch.data.building import build_dataset
    from axiarch.data.reading import Reading, read_table

    sys.setswitchinterval(0.001)
    seen = {"memory": 0.0, "pause": 0.0}
    over = threading.Event()

    def watch() -> None:
        while not over.is_set():
            before = time.perf_counter()
            time.sleep(0.002)
            seen["pause"] = max(seen["pause"], time.perf_counter() - before - 0.002)
            seen["memory"] = max(seen["memory"], own_memory())

    thread = threading.Thread(target=watch)
    thread.start()
    start = time.perf_counter()
    table, _ = read_table(path, Reading(scratch=folder / "scratch"))
    data = build_dataset(table, folder / "data", "t")
    seconds = time.perf_counter() - start
    over.set()
    thread.join()
    arrays = sum(f.stat().st_size for f in (folder / "data" / "folds").rglob("*.npy"))
    open_rows = data.rows["train"] + data.rows["validation"]
    return {"seconds": seconds, **seen, "arrays": arrays * sum(data.rows.values()) / open_rows}


def main(rows: int) -> None:
    """Print the ratios."""
    with tempfile.TemporaryDirectory() as place:
        for path in make(rows, Path(place)):
            found = []
            for _ in range(REPEATS):
                with tempfile.TemporaryDirectory() as folder:
                    done = subprocess.run(
                        [sys.executable, "-m", "benchmarks.loading", "load",
                         str(path), folder],
                        capture_output=True,
                        text=True,
                        check=True)
                found.append({**json.loads(done.stdout), "baseline": baseline(path)})
            middle = {name: statistics.median(f[name] for f in found) for name in found[0]}
            slower = middle["seconds"] / middle["baseline"]
            share = middle["memory"] / middle["arrays"]
            print(
                f"{path.suffix[1:]:<8} {rows:,} x 50   {slower:5.1f} x the bare reading   "
                f"memory {share:4.2f} x the arrays   longest pause {1000 * middle['pause']:.0f} ms")


if __name__ == "__main__":
    if sys.argv[1:2] == ["load"]:
        print(json.dumps(load(Path(sys.argv[2]), Path(sys.argv[3]))))
    else:
        main(int(sys.argv[1]) if len(sys.argv) > 1 else 1_000_000)
