"""Short trainings that probe a recipe: run in a process of their own, with progress."""

from __future__ import annotations

import contextlib
import math
import time
import tracemalloc
from collections.abc import Callable, Iterator
from dataclasses import dataclass, replace
from functools import cached_property
from typing import Any

import numpy as np
from numpy.typing import NDArray

from axiarch.data.baseline import baseline_of, rescored
from axiarch.data.dataset import Dataset
from axiarch.engine.losses import LOSSES
from axiarch.engine.memory import training_bytes
from axiarch.engine.predictor import Predictor
from axiarch.engine.rows import Source, TrainingData
from axiarch.engine.run import RunSpec
from axiarch.engine.streams import Streams
from axiarch.engine.training import Training
from axiarch.errors import RecipeError
from axiarch.ranking.doubt import Term
from axiarch.ranking.rows import RowTable
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
#: Training rows over which the size of activations is measured, at the most.
_SEEN = 256
#: Runs that noise is measured on, at the least.
NOISE_SEEDS = 6


@dataclass
class Prober:
    """Trains a recipe on the first fold of a data set, and changed versions of it; noise is
    measured on all folds.

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

    def _training(self, recipe: Recipe, seed: int, data: TrainingData, fold: int = 0) -> Training:
        shape = shape_of(recipe, self.dataset, fold)
        target = self.dataset.folds[fold].encoding.target
        source = Source(data, LOSSES[target.loss], target.outputs, shape.precision)
        return Training(shape, RunSpec(0, recipe, Streams(seed)), source)

    def _epochs(self, training: Training) -> Iterator[Epoch]:
        while True:
            progress = training.train_epoch(lambda: None)
            yield progress.numbers
            if progress.end is not None:
                return

    @cached_property
    def _baseline(self) -> float:
        """The loss, on the training rows that are evaluated, of a predictor that learns nothing."""
        data, target = self._by_loss, self.dataset.folds[0].encoding.target
        answers = np.asarray(data.train_targets)
        found = baseline_of(target, answers, answers[data.sample])
        return rescored(found, target.measure, "loss").loss

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
        start = min(start, self._baseline)  # to come to the baseline is not to learn
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
        first = self.recipe.changed({"batch_size": SMALLEST})
        self._training(first, 0, self._data).train_epoch()  # loads what is compiled: no size's time
        runs: list[tuple[int, int, int, list[list[tuple[float, float]]]]] = []
        for i, size in enumerate(sizes):
            recipe = self.recipe.changed({"batch_size": size, "patience": 0, "epochs": MOST_EPOCHS})
            taken = training_bytes(shape_of(recipe, self.dataset), rows)
            fits = taken <= room
            seeds = [self._timed(recipe, seed) for seed in range(SEEDS)] if fits else []
            runs.append((size, taken, self._taken(recipe) if fits else 0, seeds))
            self.tell((i + 1) / len(sizes))
        trained = [seeds for *_, seeds in runs if seeds]
        epochs = min((len(c) for seeds in trained for c in seeds), default=0)
        ends = [c[-1][0] for seeds in trained for c in seeds]
        seconds = min(ends, default=0.0)
        points = []
        for size, taken, measured, seeds in runs:
            steps = self.recipe.changed({"batch_size": size}).steps(rows)
            each = float(np.median([c[-1][0] / len(c) for c in seeds])) if seeds else 0.0
            points.append({
                "size": size, "steps": steps, "step_seconds": each / steps, "epoch_seconds": each,
                "bytes": taken, "measured": measured,
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

    def _taken(self, recipe: Recipe) -> int:
        """Return the most bytes that the arrays of a run took, from its first to the end of its
        first epoch; the rows themselves are not counted, which all runs share.
        """
        source = self._training(recipe, 0, self._data).source
        tracemalloc.start()
        try:
            Training(shape_of(recipe, self.dataset), RunSpec(0, recipe, Streams(0)), source
                     ).train_epoch()
            return tracemalloc.get_traced_memory()[1]
        finally:
            tracemalloc.stop()

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
                points.append({"depth": depth, "build": build, **self._signals(recipe)})
                self.tell((i * len(DEPTHS) + j + 1) / (len(builds) * len(DEPTHS)))
        return {"points": points, "baseline": self._baseline, "epochs": epochs,
                "depth": self.recipe.whole("depth")}

    def _signals(self, recipe: Recipe) -> dict[str, Any]:
        """Return the sizes of gradients and activations, layer by layer, at the first step and
        after a short training, and the training loss then.
        """
        data = self._by_loss
        rows = np.random.default_rng(0).permutation(data.rows)
        batch = np.sort(rows[: recipe.whole("batch_size")])
        one = replace(data, train_inputs=data.train_inputs[batch],
                      train_targets=data.train_targets[batch])
        seen = np.asarray(data.train_inputs[np.sort(rows[:_SEEN])])

        def sizes(training: Training) -> tuple[float, ...]:
            with np.errstate(all="ignore"):
                return Predictor(training.shape, training.parameters).activation_sizes(
                    seen.astype(training.parameters.dtype, copy=False))

        def layers(epoch: Epoch, sent: tuple[float, ...]) -> list[tuple[float, float]]:
            return [(layer[0], size) for layer, size in zip(epoch.layers, sent, strict=True)]

        first = self._training(recipe, 0, one)
        sent = sizes(first)
        at_start = layers(first.train_epoch().numbers, sent)
        training = self._training(recipe, 0, data)
        *_, last = self._epochs(training)
        return {"at_start": at_start, "at_end": layers(last, sizes(training)),
                "loss": last.train_loss_eval}

    def noise(self) -> dict[str, Any]:
        """Train the recipe in full on some seeds, each on every fold, and a rival: by how much rows
        leave the difference of two recipes uncertain cannot be seen on one.
        """
        folds = len(self.dataset.folds)
        seeds = max(-(-NOISE_SEEDS // folds), 2)
        rival, how = self._rival()
        runs = [(recipe, which, n) for n in range(seeds * folds)
                for which, recipe in enumerate((self.recipe, rival))]
        levels: tuple[list[float], list[float]] = ([], [])
        rows: tuple[dict[int, NDArray[np.float64]], ...] = ({}, {})
        for done, (recipe, which, n) in enumerate(runs, 1):
            level, rows[which][n] = self._in_full(recipe, *divmod(n, folds))
            levels[which].append(level)
            self.tell(done / len(runs))
        validation = {i: fold.rows["validation"] for i, fold in enumerate(self.dataset.folds)}
        split = self.dataset.plan.split
        table = RowTable(rows, [n % folds for n in range(len(runs))], validation,
                         split.fold_repeats if split.folds else 1)
        known, own = self.dataset.folds[0].rows, np.array(levels[0]).reshape(seeds, folds)
        compared = bool(np.isfinite([*levels[0], *levels[1]]).all())
        with np.errstate(all="ignore"):
            deviation = np.nan_to_num(np.sqrt(own.var(0, ddof=1).mean()))
        return {"losses": own.mean(1).tolist(), "rows": sum(validation.values()), "folds": folds,
                "row_error": _error(table.level(0)), "rival": how if compared else "",
                "pair_error": _error(table.difference(0, 1)) if compared else 0.0,
                "deviation": float(deviation),
                "overlap": known["validation"] / known["train"] if folds > 1 else 0.0}

    def _rival(self) -> tuple[Recipe, str]:
        """Return a recipe that a search might compare with this one, and how it differs."""
        rate = self.recipe.real("learning_rate") / 2
        rival, how = self.recipe.changed({"learning_rate": rate}), "half the learning rate"
        with contextlib.suppress(RecipeError):
            wider = rival.changed({"width": 2 * self.recipe.whole("width")})
            if wider.layers != self.recipe.layers:
                return wider, f"{how} and twice the width"
        return rival, how

    def _in_full(self, recipe: Recipe, seed: int, fold: int) -> tuple[float, NDArray[np.float64]]:
        """Train a recipe once; return its steady loss, and what each validation row (N,) adds."""
        data, target = training_data(self.dataset, fold), self.dataset.folds[fold].encoding.target
        training = self._training(recipe, seed, data, fold)
        losses = [epoch.validation_loss for epoch in self._epochs(training)]
        predicted = training.predict_by_best(data.validation_inputs)
        answers = data.validation_targets
        rows = target.lowered_rows(target.row_losses(predicted, answers), answers,
                                   predicted.argmax(1) if target.classes else None)
        # the root of a mean square moves by half the mean square's own, over the root
        scale = 1 / (2 * math.sqrt(max(float(rows.mean()), 1e-300))) if target.root else 1.0
        return steady(tuple(losses))[1] if math.isfinite(losses[-1]) else math.inf, scale * rows


def _error(found: Term | None) -> float:
    return math.sqrt(found[0]) if found is not None else 0.0


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
