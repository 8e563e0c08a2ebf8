"""The engine against the plain loop and against its floor: ``python -m benchmarks.engine``.

*Floor*: only the raw batched matrix products of the same forward and backward passes, outputs
preallocated. Printed are ratios, medians of five, each pair timed in turn; never bare seconds.
"""

from __future__ import annotations

import statistics
import time
from collections.abc import Callable
from itertools import pairwise

import numpy as np
from threadpoolctl import threadpool_limits

from axiarch.engine.losses import LOSSES
from axiarch.engine.network import NetworkShape
from axiarch.engine.rows import Source, TrainingData
from axiarch.engine.run import RunSpec
from axiarch.engine.streams import Streams
from axiarch.engine.training import Training
from axiarch.engine.warm import warm
from axiarch.recipes.recipe import Recipe
from benchmarks import plain_loop

#: sizes, batch, runs side by side, rows.
CASES = (
    ((12, 16, 4), 32, 48, 1000),
    ((32, 64, 64, 6), 32, 16, 1000),
    ((64, 256, 256, 10), 128, 1, 4000),
    ((64, 256, 256, 10), 512, 1, 4000),
    ((256, 512, 512, 10), 128, 1, 4000),
    ((256, 512, 512, 10), 512, 1, 4000),
)


def timed(job: Callable[[], object]) -> float:
    """Return the seconds a job takes."""
    started = time.perf_counter()
    job()
    return time.perf_counter() - started


def data_for(sizes: tuple[int, ...], rows: int, validation: int = 1, seed: int = 0) -> TrainingData:
    """Return random rows; a validation part of one row leaves training as what is timed."""
    rng = np.random.default_rng(seed)
    x = rng.normal(size=(rows, sizes[0])).astype(np.float32)
    y = rng.integers(0, sizes[-1], rows).astype(np.int32)
    return TrainingData(x, y, x[:validation], y[:validation])


def floor(sizes: tuple[int, ...], batch: int, runs: int) -> Callable[[], None]:
    """Return a job that does the matrix products of one step."""
    rng = np.random.default_rng(0)

    def random(*shape: int) -> np.ndarray:
        return rng.normal(size=shape).astype(np.float32)

    a = [random(runs, batch, n) for n in sizes]
    d = [random(runs, batch, n) for n in sizes]
    pairs = list(pairwise(sizes))
    w = [random(runs, m, n) for m, n in pairs]
    wt = [np.ascontiguousarray(each.swapaxes(1, 2)) for each in w]
    g = [random(runs, m, n) for m, n in pairs]

    def step() -> None:
        for i, each in enumerate(w):
            np.matmul(a[i], each, out=a[i + 1])
        for i in range(len(w) - 1, -1, -1):
            np.matmul(a[i].swapaxes(1, 2), d[i + 1], out=g[i])
            if i:
                np.matmul(d[i + 1], wt[i], out=d[i])

    return step


def compare(sizes: tuple[int, ...], batch: int, runs: int, rows: int) -> tuple[float, float]:
    """Return how many times faster than the plain loop, and how many times slower than the
    floor.
    """
    data = data_for(sizes, rows)
    recipe = Recipe({
        "width": sizes[1], "depth": len(sizes) - 2, "batch_size": batch, "dropout": 0.2, "l2": 1e-4,
        "epochs": 100, "patience": 0
    })
    training = Training(NetworkShape.of(recipe, sizes[0], sizes[-1]),
                        RunSpec(0, recipe, Streams(0)), Source(data, LOSSES["softmax"], sizes[-1]))
    one = floor(sizes, batch, runs)
    training.train_epoch()
    faster, slower = [], []
    for _ in range(5):
        ours = timed(lambda: [training.train_epoch() for _ in range(runs)])
        plain = timed(
            lambda: plain_loop.train(data.train_inputs, data.train_targets, sizes, batch, 1)) * runs
        raw = timed(lambda: [one() for _ in range(training.steps)])
        faster.append(plain / ours)
        slower.append(ours / raw)
    return statistics.median(faster), statistics.median(slower)


def main() -> None:
    """Print a line a case."""
    print(f"{'network':>18} {'batch':>6} {'runs':>5}   {'× plain loop':>12} {'× floor':>8}")
    warm()
    with threadpool_limits(1):
        for sizes, batch, runs, rows in CASES:
            faster, slower = compare(sizes, batch, runs, rows)
            print(
                f"{'-'.join(map(str, sizes)):>18} {batch:>6} {runs:>5}   {faster:>12.1f} "
                f"{slower:>8.2f}"
            )


if __name__ == "__main__":
    main()
