"""Short trainings that probe a recipe: run in a process of their own, with progress."""

from __future__ import annotations

import math
import time
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from functools import cached_property
from itertools import pairwise
from typing import Any

import numpy as np

from axiarch.data.dataset import Dataset
from axiarch.engine.losses import LOSSES
from axiarch.engine.memory import training_bytes
from axiarch.engine.rows import Source, TrainingData
from axiarch.engine.run import RunSpec
from axiarch.engine.streams import Streams
from axiarch.engine.training import Training
from axiarch.recipes.network import HIDDEN, parse_network
from axiarch.recipes.recipe import Recipe
from axiarch.runner.material import shape_of, training_data
from axiarch.runs.epoch import Epoch
from axiarch.runs.steady import steady

#: Takes how far a probe is, from 0 to 1.
Tell = Callable[[float], None]

#: Learning rates that are tried, how they lie, and on how many seeds.
RATES, LOWEST, HIGHEST, SEEDS = 25, 1e-6, 30.0, 3
#: Steps that each rate is trained for, at the least.
STEPS = 60
#: The smallest batch, seconds that each size is trained for, and epochs at the most.
SMALLEST, SECONDS, MOST_EPOCHS = 8, 0.6, 40
#: Depths that are tried, and epochs and steps of each, at the least.
DEPTHS, DEPTH_EPOCHS, DEPTH_STEPS = (1, 2, 3, 4, 6, 8, 12, 16, 24), 4, 200
#: Seeds that noise is measured on.
NOISE_SEEDS = 6


@dataclass
class Prober:
    """Trains a recipe on the first fold of a data set, and changed versions of it.

    Rates and depths are probed by the loss, whatever is lowered: it is what training moves. Batch
    sizes and noise are probed by what is lowered.
    """

    dataset: Dataset
    recipe: Recipe
    tell: Tell

    @cached_property
    def _data(self) -> TrainingData:
        return training_data(self.dataset)

    @cached_property
    def _by_loss(self) -> TrainingData:
        return training_data(self.dataset, measure="loss")

    def _training(self, recipe: Recipe, seed: int, data: TrainingData) -> Training:
        shape, target = shape_of(recipe, self.dataset), self.dataset.encoding.target
        source = Source(data, LOSSES[target.loss], target.outputs, shape.precision)
        return Training(shape, RunSpec(0, recipe, Streams(seed)), source)

    def _epochs(self, training: Training) -> Iterator[Epoch]:
        while True:
            progress = training.train_epoch(lambda: None)
            yield progress.numbers
            if progress.end is not None:
                return

    # -- kinds -----------------------------------------------------------------------------------

    def rate(self) -> dict[str, Any]:
        """Train afresh at every rate."""
        steps = max(self.recipe.steps(self.dataset.rows["train"]), 1)
        epochs = max(-(-STEPS // steps), 1)
        base = self.recipe.changed({"epochs": epochs, "patience": 0, "schedule": "constant",
                                    "warm_up": 0.0, "hold": 0.0, "max_steps": 0})
        rates = [float(f"{r:.3g}") for r in np.geomspace(LOWEST, HIGHEST, RATES)]
        points = []
        for i, rate in enumerate(rates):
            losses = [self._end(base.changed({"learning_rate": rate}), seed)
                      for seed in range(SEEDS)]
            points.append({"rate": rate, "losses": losses})
            self.tell((i + 1) / len(rates))
        start = float(np.mean([self._end(base.changed({"learning_rate": 1e-12}), seed)
                               for seed in range(SEEDS)]))
        start = min(start, self._by_loss.baseline)  # to come to the baseline is not to learn
        return {"points": points, "start": start, "steps": steps * epochs,
                "optimiser": self.recipe.word("optimiser"),
                "rate": self.recipe.real("learning_rate")}

    def _end(self, recipe: Recipe, seed: int) -> float:
        last = math.inf
        for epoch in self._epochs(self._training(recipe, seed, self._by_loss)):
            last = epoch.train_loss_eval
        return last

    def batch(self, room: float, device: str) -> dict[str, Any]:
        """Train with every size for as long."""
        rows = self.dataset.rows["train"]
        sizes = [SMALLEST]
        while sizes[-1] < rows:
            sizes.append(min(2 * sizes[-1], rows))
        runs: list[tuple[int, int, list[list[tuple[float, float]]]]] = []
        for i, size in enumerate(sizes):
            recipe = self.recipe.changed({"batch_size": size, "patience": 0, "epochs": MOST_EPOCHS})
            taken = training_bytes(shape_of(recipe, self.dataset), rows)
            seeds = [self._timed(recipe, seed) for seed in range(SEEDS)] if taken <= room else []
            runs.append((size, taken, seeds))
            self.tell((i + 1) / len(sizes))
        trained = [seeds for _, _, seeds in runs if seeds]
        epochs = min((len(c) for seeds in trained for c in seeds), default=0)
        ends = [c[-1][0] for seeds in trained for c in seeds]
        seconds = min(ends, default=0.0)
        points = []
        for size, taken, seeds in runs:
            steps = self.recipe.changed({"batch_size": size}).steps(rows)
            each = float(np.median([c[-1][0] / len(c) for c in seeds])) if seeds else 0.0
            points.append({
                "size": size, "steps": steps, "step_seconds": each / steps, "epoch_seconds": each,
                "bytes": taken,
                "at_epochs": [min(v for _, v in c[:epochs]) for c in seeds],
                "at_time": [min(v for t, v in c if t <= seconds or v == c[0][1]) for c in seeds]})
        return {"points": points, "rows": rows, "room": room, "device": device, "epochs": epochs,
                "seconds": seconds, "size": self.recipe.whole("batch_size")}

    def _timed(self, recipe: Recipe, seed: int) -> list[tuple[float, float]]:
        """Return the time and the validation loss after each epoch, for a while."""
        training, found = self._training(recipe, seed, self._data), []
        started = time.perf_counter()
        for epoch in self._epochs(training):
            found.append((time.perf_counter() - started, epoch.validation_loss))
            if found[-1][0] > SECONDS:
                break
        return found

    def depth(self, builds: dict[str, dict[str, object]]) -> dict[str, Any]:
        """Train networks of every depth and build for a few epochs."""
        points = []
        line = self.recipe.word("network")
        line = line if HIDDEN in parse_network(line) else HIDDEN
        steps = max(self.recipe.steps(self.dataset.rows["train"]), 1)
        epochs = max(DEPTH_EPOCHS, -(-DEPTH_STEPS // steps))
        for i, (build, values) in enumerate(builds.items()):
            for j, depth in enumerate(DEPTHS):
                recipe = self.recipe.changed({**values, "depth": depth, "network": line,
                                              "patience": 0, "epochs": epochs})
                gradient, last = 0.0, math.inf
                for number, epoch in enumerate(self._epochs(
                        self._training(recipe, 0, self._by_loss))):
                    if not number and epoch.layers and epoch.layers[-1][0] > 0:
                        gradient = epoch.layers[0][0] / epoch.layers[-1][0]
                    last = epoch.train_loss_eval
                points.append({"depth": depth, "build": build, "gradient": gradient, "loss": last})
                self.tell((i * len(DEPTHS) + j + 1) / (len(builds) * len(DEPTHS)))
        return {"points": points, "baseline": self._by_loss.baseline, "epochs": epochs,
                "depth": self.recipe.whole("depth")}

    def noise(self) -> dict[str, Any]:
        """Train the recipe in full on some seeds."""
        target, levels, rows = self.dataset.encoding.target, [], []
        for seed in range(NOISE_SEEDS):
            training = self._training(self.recipe, seed, self._data)
            losses = [epoch.validation_loss for epoch in self._epochs(training)]
            levels.append(steady(tuple(losses))[1] if math.isfinite(losses[-1]) else math.inf)
            predicted = training.predict_by_best(self._data.validation_inputs)
            answers = self._data.validation_targets
            rows.append(target.lowered_rows(target.row_losses(predicted, answers), answers,
                                            predicted.argmax(1) if target.classes else None))
            self.tell((seed + 1) / NOISE_SEEDS)
        # the root of a mean square moves by half the mean square's own, over the root
        scale = [1 / (2 * math.sqrt(max(float(r.mean()), 1e-300))) if target.root else 1.0
                 for r in rows]
        scaled = [k * r for k, r in zip(scale, rows, strict=True)]
        count = len(rows[0])
        single = [float(r.std(ddof=1)) / math.sqrt(count) for r in scaled]
        pairs = [float((a - b).std(ddof=1)) / math.sqrt(count)
                 for a, b in pairwise(scaled)]
        return {"losses": levels, "rows": count, "row_error": float(np.median(single)),
                "pair_error": float(np.median(pairs))}


def probe(kind: str, dataset: Dataset, recipe: Recipe, options: dict[str, Any], tell: Tell
          ) -> dict[str, Any]:
    """Return what a probe measured."""
    prober = Prober(dataset, recipe, tell)
    if kind == "rate":
        return prober.rate()
    if kind == "batch":
        return prober.batch(float(options["room"]), str(options["device"]))
    if kind == "depth":
        return prober.depth(options["builds"])
    return prober.noise()
