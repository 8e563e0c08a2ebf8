"""The engine on pictures against a plain loop and its floor: ``python -m benchmarks.pictures``.

Pictures of 16 x 16, two blocks of convolution and pooling, then the classes; batches of 32, Adam.
*Floor*: only the raw matrix products of the same forward and backward passes on unfolded
windows, outputs preallocated, windows being rows or columns, whichever is faster. *Plain loop*:
what a practitioner would write with NumPy alone. Ratios, medians of five, each pair timed in turn.
"""

from __future__ import annotations

import statistics
from collections.abc import Callable

import numpy as np
from numpy.lib.stride_tricks import sliding_window_view
from numpy.typing import NDArray
from threadpoolctl import threadpool_limits

from axiarch.engine.losses import LOSSES
from axiarch.engine.network import NetworkShape
from axiarch.engine.rows import Source, TrainingData
from axiarch.engine.run import RunSpec
from axiarch.engine.streams import Streams
from axiarch.engine.training import Training
from axiarch.engine.warm import warm
from axiarch.recipes.recipe import Recipe
from benchmarks.engine import timed

Floats = NDArray[np.float32]

ROWS, BATCH, CLASSES = 640, 32, 4
#: Side of what comes in, channels in, channels out.
BLOCKS = ((16, 1, 8), (8, 8, 16))
LINE = "conv 8, pool 2, conv 16, pool 2"


def windows_of(x: Floats) -> Floats:
    """Return the 3 x 3 windows of pictures (B, H, W, C), the size kept, as rows (B H W, 9 C)."""
    padded = np.pad(x, ((0, 0), (1, 1), (1, 1), (0, 0)))
    found = sliding_window_view(padded, (3, 3), axis=(1, 2))  # B H W C 3 3
    return np.ascontiguousarray(found.transpose(0, 1, 2, 4, 5, 3)).reshape(-1, 9 * x.shape[3])


def plain_loop(x: Floats, y: NDArray[np.int32], rate: float = 1e-3, seed: int = 0) -> float:
    """Train one network for one epoch; return the mean loss."""
    rng = np.random.default_rng(seed)
    shapes = [(9 * before, after) for _, before, after in BLOCKS] + [(4 * 4 * 16, CLASSES)]
    weights = [rng.normal(0, np.sqrt(2 / a), (a, b)).astype(np.float32) for a, b in shapes]
    shifts = [np.zeros(b, np.float32) for _, b in shapes]
    parameters = weights + shifts
    means, squares = [np.zeros_like(p) for p in parameters], [np.zeros_like(p) for p in parameters]
    order, losses = rng.permutation(len(y)), []
    for step, start in enumerate(range(0, len(y), BATCH), 1):
        rows = order[start : start + BATCH]
        a, kept = x[rows], []
        for (side, _, after), w, b in zip(BLOCKS, weights, shifts, strict=False):
            rolled = windows_of(a)
            z = np.maximum(rolled @ w + b, 0).reshape(len(rows), side // 2, 2, side // 2, 2, after)
            a = z.max(axis=(2, 4))
            kept.append((rolled, z, a))
        flat = a.reshape(len(rows), -1)
        logits = flat @ weights[2] + shifts[2]
        logits -= logits.max(1, keepdims=True)
        p = np.exp(logits)
        p /= p.sum(1, keepdims=True)
        losses.append(-np.log(p[np.arange(len(rows)), y[rows]] + 1e-30).mean())
        p[np.arange(len(rows)), y[rows]] -= 1
        d = p / len(rows)
        slopes_w, slopes_b = [flat.T @ d], [d.sum(0)]
        below = (d @ weights[2].T).reshape(a.shape)
        for i in (1, 0):
            side, before, after = BLOCKS[i]
            rolled, z, top = kept[i]
            spread = np.where(z == top[:, :, None, :, None], below[:, :, None, :, None], 0) * (z
                                                                                               > 0)
            dz = spread.reshape(-1, after)
            slopes_w.insert(0, rolled.T @ dz)
            slopes_b.insert(0, dz.sum(0))
            if i:
                back = (dz @ weights[i].T).reshape(len(rows), side, side, 3, 3, before)
                padded = np.zeros((len(rows), side + 2, side + 2, before), np.float32)
                for u in range(3):
                    for v in range(3):
                        padded[:, u : u + side, v : v + side] += back[:, :, :, u, v]
                below = padded[:, 1:-1, 1:-1]
        for q, g, m, v2 in zip(parameters, slopes_w + slopes_b, means, squares, strict=True):
            m *= 0.9
            m += 0.1 * g
            v2 *= 0.999
            v2 += 0.001 * g * g
            q -= rate * (m / (1 - 0.9**step)) / (np.sqrt(v2 / (1 - 0.999**step)) + 1e-8)
    return float(np.mean(losses))


def baselines(runs: int) -> tuple[Callable[[], None], Callable[[], None]]:
    """Return two jobs that do the matrix products of one step: windows as rows, and windows as
    columns.
    """
    rng = np.random.default_rng(0)
    jobs = []
    for i, (rows, inputs, outputs) in enumerate((*((BATCH * s * s, 9 * b, a) for s, b, a in BLOCKS),
                                                 (BATCH, 4 * 4 * 16, CLASSES))):
        a, w, d = (rng.normal(size=shape).astype(np.float32)
                   for shape in ((runs, rows, inputs), (runs, inputs, outputs), (runs, rows,
                                                                                 outputs)))
        turned = np.ascontiguousarray(w.swapaxes(1, 2))
        jobs.append((a, w, d, turned, np.empty_like(d), np.empty_like(w), np.empty_like(a), i > 0))

    def step() -> None:
        for a, w, _, _, out, _, _, _ in jobs:
            np.matmul(a, w, out=out)
        for a, _, d, turned, _, slope, below, wanted in jobs:
            np.matmul(a.swapaxes(1, 2), d, out=slope)
            if wanted:
                np.matmul(d, turned, out=below)

    columns = [[np.ascontiguousarray(a.swapaxes(1, 2)) for a in job[:7]] for job in jobs]

    def other() -> None:
        for a, w, _, _, out, _, _ in columns:
            np.matmul(w, a, out=out)
        for (a, w, d, _, _, _, below), (*_, slope, _, wanted) in zip(columns, jobs, strict=True):
            np.matmul(a, d.swapaxes(1, 2), out=slope)
            if wanted:
                np.matmul(w.swapaxes(1, 2), d, out=below)

    return step, other


def compare() -> tuple[float, float]:
    """Return how many times faster than the plain loop, and how many times slower than the
    floor.
    """
    rng = np.random.default_rng(0)
    x = rng.normal(size=(ROWS, 16, 16, 1)).astype(np.float32)
    y = rng.integers(0, CLASSES, ROWS).astype(np.int32)
    flat = x.reshape(ROWS, -1)
    recipe = Recipe({"network": LINE, "batch_size": BATCH, "epochs": 1000, "patience": 0})
    source = Source(TrainingData(flat, y, flat[:1], y[:1]), LOSSES["softmax"], CLASSES, "float32")
    training = Training(NetworkShape.of(recipe, (16, 16, 1), CLASSES),
                        RunSpec(0, recipe, Streams(0)), source)
    bare = baselines(1)
    training.train_epoch()
    faster, slower = [], []
    for _ in range(5):
        ours = timed(training.train_epoch)
        faster.append(timed(lambda: plain_loop(x, y)) / ours)
        slower.append(
            ours /
            min(timed(lambda one=one: [one() for _ in range(training.steps)]) for one in bare))
    return statistics.median(faster), statistics.median(slower)


def main() -> None:
    """Print the ratios."""
    warm()
    with threadpool_limits(1):
        faster, slower = compare()
        print(
            f"16 x 16 pictures, two blocks   {faster:5.1f} x plain loop   {slower:5.2f} x floor")


if __name__ == "__main__":
    main()
