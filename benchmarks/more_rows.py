"""Whether twice as many rows bring what is expected: ``python -m benchmarks.more_rows [TASKS]``.

Each task is a table of made-up rows with a recipe, all drawn by chance: rule, noise, inputs, 200 to
2,500 training rows, network, optimiser, rate, batches, epochs and patience. The recipe is trained
on 10, 20, 40, 80 and 100 % of the rows, three seeds each, as `axiarch rows` does, and the trend
through these says what twice as many rows come to. Then it is trained on twice as many, with four
other seeds, validated on the same rows. Printed are how often the 95 % interval of the loss held
what came, how often a gain was claimed, how often there was none then and how often its interval
held it, by how much the expected loss was wrong (median), and the width of its interval (median),
both in per cent of the loss. The constants of :mod:`axiarch.ranking.rows_needed` were chosen on 240
other tasks of this kind.
"""

from __future__ import annotations

import math
import statistics
import sys
from collections import defaultdict
from collections.abc import Callable, Mapping
from dataclasses import dataclass

import numpy as np

from axiarch.engine.losses import LOSSES
from axiarch.engine.network import NetworkShape
from axiarch.engine.rows import Source, TrainingData
from axiarch.engine.run import RunSpec
from axiarch.engine.streams import Streams
from axiarch.engine.training import Training
from axiarch.ranking.rows_needed import RowPoint, RowTrend, row_trend
from axiarch.recipes.recipe import Recipe
from axiarch.runs.steady import steady
from axiarch.workflows.enlarging import SEEDS, SHARES

#: The first task that is tried, and seeds that are trained on twice the rows.
FIRST, CHECKS = 1000, 4
Array = np.ndarray
Rule = Callable[[Array], Array]


def _curved(x: Array) -> Array:
    return np.asarray(np.sin(2 * x[:, 0]) + x[:, 1] * x[:, 2])


#: What amounts follow, and what classes follow, by name; how often each is drawn.
AMOUNTS: Mapping[str, tuple[Rule, float]] = {
    "curved": (lambda x: (_curved(x) + 0.5 * x[:, 3]) / 1.3, 0.25),
    "straight": (lambda x: x[:, :4].sum(1) / 2, 0.1), "chance": (lambda x: 0 * x[:, 0], 0.08),
    "steps": (lambda x: (np.floor(2 * x[:, 0]) + np.sign(x[:, 1])) / 5**0.5, 0.12)}
CLASSES: Mapping[str, tuple[Rule, float]] = {
    "three classes": (lambda x: np.digitize(_curved(x), (-0.7, 0.7)), 0.25),
    "a line": (lambda x: x[:, 0] + x[:, 1] > 0, 0.1),
    "rings": (lambda x: np.digitize((x[:, :3]**2).sum(1), (1.5, 3, 5)), 0.1)}


@dataclass(frozen=True)
class Task:
    """Rows (M + 2 N, D) of which the first M validate, their targets, and a recipe."""

    rule: str
    x: Array
    y: Array
    validation: int
    rows: int
    recipe: Recipe

    def trained(self, rows: int, seed: int) -> float:
        """Return the steady loss of the recipe on the first `rows` that do not validate."""
        m, classes = self.validation, self.y.ndim == 1
        data = TrainingData(self.x[m:m + rows], self.y[m:m + rows], self.x[:m], self.y[:m],
                            () if classes else (1.0,))
        outputs, loss = (int(self.y.max()) + 1, "softmax") if classes else (1, "squared")
        shape = NetworkShape.of(self.recipe, self.x.shape[1], outputs, loss)
        training = Training(shape, RunSpec(0, self.recipe, Streams(seed)),
                            Source(data, LOSSES[loss], outputs))
        losses: list[float] = []
        while True:
            progress = training.train_epoch()
            losses.append(progress.numbers.validation_loss)
            if progress.end is not None:
                return steady(losses)[1]


def drawn_task(number: int) -> Task:
    """Return a task that only its number decides."""
    rng = np.random.default_rng([number, 77])
    names = [*AMOUNTS, *CLASSES]
    rule = names[rng.choice(len(names), p=[each[1] for each in (*AMOUNTS.values(),
                                                                *CLASSES.values())])]
    rows, m = int(200 * 12.5**rng.random()), int(rng.choice([150, 400, 1000]))
    x = rng.normal(size=(m + 2 * rows, int(rng.choice([4, 8, 16])))).astype(np.float32)
    if rule in AMOUNTS:
        noise = 0.03 * 70**rng.random()
        level = AMOUNTS[rule][0](x) + noise * rng.normal(size=len(x))
        y = (level / math.sqrt(1 + noise**2)).astype(np.float32)[:, None]
    else:
        true = np.asarray(CLASSES[rule][0](x), np.int32)
        wrong = rng.random(len(x)) < rng.uniform(0, 0.5)
        y = np.where(wrong, rng.integers(0, true.max() + 1, len(x)), true).astype(np.int32)
    recipe = Recipe({
        "width": int(rng.choice([8, 16, 32, 64])), "depth": int(rng.choice([1, 2])),
        "epochs": int(rng.choice([30, 60, 100])), "patience": int(rng.choice([5, 8, 15])),
        "batch_size": int(rng.choice([16, 32, 64])),
        "optimiser": str(rng.choice(["adam", "momentum"])),
        "learning_rate": 5e-4 * 20**rng.random()})
    return Task(rule, x, y, m, rows, recipe)


def tried(number: int) -> tuple[str, RowTrend, float, float]:
    """Return the rule of a task, what is expected of it, what came, and the gain."""
    task = drawn_task(number)
    points = []
    for share in SHARES:
        rows = round(share * task.rows)
        own = [task.trained(rows, seed) for seed in range(SEEDS)]
        points.append(RowPoint(rows, statistics.fmean(own), statistics.stdev(own) / SEEDS**0.5))
    before, came = (statistics.fmean(task.trained(rows, 100 + seed) for seed in range(CHECKS))
                    for rows in (task.rows, 2 * task.rows))
    return task.rule, row_trend(points), came, before - came


def main(tasks: int = 120, first: int = FIRST) -> None:
    """Print the table."""
    found = defaultdict(list)
    for number in range(first, first + tasks):
        rule, *rest = tried(number)
        found[rule].append(rest)
        found["all"].append(rest)
    print(f"{'rule':<15}{'tasks':>6}{'loss held':>11}{'claimed':>9}{'none':>6}{'gain held':>11}"
          f"{'wrong by':>10}{'width':>8}")
    for rule, rows in sorted(found.items()):
        held = np.mean([trend.twice[1] <= came <= trend.twice[2] for trend, came, _ in rows])
        claims = [(trend.gain, gain) for trend, _, gain in rows if trend.gain[1] > 0]
        within = sum(low <= gain <= high for (_, low, high), gain in claims)
        wrong = np.median([abs(trend.twice[0] / came - 1) for trend, came, _ in rows])
        width = np.median([(trend.twice[2] - trend.twice[1]) / came for trend, came, _ in rows])
        print(f"{rule:<15}{len(rows):>6}{held:>11.0%}{len(claims):>9}"
              f"{sum(gain <= 0 for _, gain in claims):>6}{within:>11}{wrong:>10.1%}{width:>8.1%}")


if __name__ == "__main__":
    main(*map(int, sys.argv[1:]))
