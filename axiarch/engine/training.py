"""One run, trained by compiled code: a slice of steps, a whole epoch, or to its end; always the
same bits.
"""

from __future__ import annotations

import math
import time
from collections.abc import Callable
from dataclasses import asdict, dataclass

import numpy as np
from numpy.typing import NDArray

from axiarch.engine import codes
from axiarch.engine.ahead import Ahead
from axiarch.engine.initialisation import first_weights
from axiarch.engine.inside import NEAR, SAME, Inside
from axiarch.engine.kernels import driver, words
from axiarch.engine.losses import LOSSES, apart_of, unit_of
from axiarch.engine.network import Array, NetworkShape
from axiarch.engine.optimisers import OPTIMISERS
from axiarch.engine.program import Program, Room, drop_rates, layer_starts
from axiarch.engine.rows import Part, Source
from axiarch.engine.run import RunEnd, RunSpec
from axiarch.engine.schedules import rates
from axiarch.engine.state import TrainingState
from axiarch.engine.stopping import StoppingState
from axiarch.errors import TrainingError
from axiarch.recipes.recipe import Recipe
from axiarch.runs.epoch import Epoch
from axiarch.runs.lowered import scored

#: Seconds that a slice of steps should take: how fast a pause or a stop takes hold, in the longest
#: epoch too.
SLICE = 0.02
#: Seconds of work that are read ahead where the data are larger than memory.
_AHEAD = 5 * SLICE
#: Multiplications that certainly take less than a slice: so many steps are done before one has been
#: timed.
_CAUTIOUS = 50_000_000
NO_ORDER: NDArray[np.int64] = np.zeros(0, np.int64)


@dataclass(frozen=True)
class Progress:
    """What one epoch of a run brought."""

    run: RunSpec
    numbers: Epoch
    end: RunEnd | None


class Training:
    """Trains one run.

    Parameters
    ----------
    shape : NetworkShape
    run : RunSpec
    source : Source
        The fold that it trains and validates on.
    state : TrainingState, optional
        Where it stands; else it starts with its first weights.
    ahead : bool
        Whether a thread reads rows ahead: where the data are larger than memory.
    """

    def __init__(self,
                 shape: NetworkShape,
                 run: RunSpec,
                 source: Source,
                 state: TrainingState | None = None,
                 ahead: bool = False) -> None:
        self.shape, self.run, self.source = shape, run, source
        self._loss, self._dtype = LOSSES[shape.loss], source.dtype
        recipe = run.recipe
        self._rows = len(source.train)
        if math.prod(shape.inputs) != source.width:
            raise TrainingError(
                f"the data have {source.width} inputs, the network takes {math.prod(shape.inputs)}",
                "", "train it on the data that it was made for")
        if (shape.outputs, self._loss.amounts) != (source.outputs, source.amounts):
            raise TrainingError("the data have another kind of target than the network's loss", "",
                                "train it on the data that it was made for")
        self.steps = shape.steps(self._rows)
        self._total = min(self._rows, self.steps * shape.batch_size)
        self._over = recipe.whole("gradient_accumulation")
        self._updates = -(-self.steps // self._over)
        self._block = (-1, 0)
        self._epochs_ahead = max(1, min(codes.EPOCHS_AHEAD, codes.STEPS_AHEAD // self.steps))
        self._compile(recipe)
        self._begin(state)
        self._per_step = 0.0
        self.done = 0  # steps of the epoch under way
        self._ahead = Ahead(source.train.flat, source.width) if ahead else None
        self._read_to = 0

    def _compile(self, recipe: Recipe) -> None:
        """Make the programs, and all that training works in."""
        shape, dtype = self.shape, self._dtype
        self._program = Program.of(shape, shape.batch_size, True, recipe)
        self._looking = Program.looking(shape)
        self._at_once = int(self._looking.ints[codes.BATCH])
        self._room = Room.of(self._program, dtype, True)
        self._evaluation = Room.of(self._looking, dtype, False)
        self._reals = np.array([
            recipe.real(name)
            for name in ("label_smoothing", "huber_width", "l1", "clip_norm", "clip_value",
                         "max_norm", "input_noise", "weight_averaging", "mixup")
        ], dtype)
        self._how = np.array([
            recipe.whole("shift"),
            recipe.word("flip") == "yes",
            recipe.real("contrast"),
            recipe.real("cutout"),
            recipe.real("crop")
        ], np.float64)
        self._thresholds, self._scales = drop_rates(shape, recipe, dtype)
        self._drops = bool(self._thresholds.any())
        self._loss_values = self.source.weights_of(recipe)
        self._starts = layer_starts(shape)
        self._inside = Inside(shape, dtype)
        self._order = np.zeros(self._rows, np.int64)
        self._kept_shares = np.ones(self.steps, dtype)
        self._keys = np.zeros(3, np.uint64)
        self._sums, self._validated, self._still = (np.zeros(1 + self._loss.sums(shape.outputs))
                                                    for _ in range(3))
        self._raw, self._norms = np.zeros(1), np.zeros(1)
        self._averaged, self._stride = recipe.real("weight_averaging") > 0, self._at_once

    def _begin(self, state: TrainingState | None) -> None:
        shape, dtype, recipe = self.shape, self._dtype, self.run.recipe
        self.gradients = np.zeros(shape.parameters, dtype)
        self._gathered = np.zeros(shape.parameters if self._over > 1 else 0, dtype)
        self.epoch, self.kept = 0, None if state is None or state.kept is None else state.kept.copy(
        )
        if state is not None:
            self.parameters = np.array(state.parameters, dtype)
            self._best = np.array(state.best_parameters, dtype)
            self._state = np.array(state.optimiser, dtype)
        else:
            self.parameters = np.array(first_weights(shape, recipe.word("initialisation"),
                                                     self.run.streams.initialisation(),
                                                     recipe.word("distribution")), dtype)
            self._best = self.parameters.copy()
            self._state = np.zeros((codes.STATES, shape.parameters), dtype)
            self._state[-1] = self.parameters
        self.evaluated = self.parameters.copy()
        if state is not None and state.epoch > 0:
            self.epoch, self.watch = state.epoch, StoppingState(**asdict(state.watch))
            return
        self.watch = StoppingState(unit=unit_of(self.source.units))
        rows = len(self.source.validation)
        self._look(0, rows)
        self.watch.start_loss = self._mean_loss(self._validated[0] / rows)

    def state(self, copied: bool = True) -> TrainingState:
        """Return the state, enough to continue the run in another process; where it is not copied,
        its arrays are those that the next epoch changes.
        """
        own: Callable[[Array], Array] = np.copy if copied else np.asarray
        return TrainingState(
            own(self.parameters), own(self._best), own(self._state), self.epoch,
            StoppingState(**asdict(self.watch)), None if self.kept is None else own(self.kept))

    # -- training --------------------------------------------------------------------------------

    def train_epoch(self, between: Callable[[], None] = lambda: None) -> Progress:
        """Train for one epoch; `between` is called between slices of it and may wait or raise."""
        started = time.perf_counter()
        last_rate = self._start_epoch()
        self._waited = self._read = 0.0
        with np.errstate(all="ignore"):
            diverged = self._train(between)
            losses = self._sums[0] / self._total if not diverged else math.inf
            self._conclude(between)
        source, seconds = self.source, time.perf_counter() - started - self._waited
        level, metrics = self._scored(self._validated, source.validation, source.known)
        sample, beside = self._scored(self._still, source.train_sample, source.known_of_sample)
        numbers = Epoch(self.run.id, self.epoch + 1, self._mean_loss(losses), sample, level,
                        metrics, last_rate, math.sqrt(self._norms[0]), seconds,
                        self._inside.numbers(), self._read, math.sqrt(self._raw[0]),
                        0.0 if source.measure == "loss" else beside[0])
        return self._finish_epoch(numbers, diverged)

    def _train(self, between: Callable[[], None]) -> int:
        """Do an epoch's steps in slices; return the step at which the loss was not finite, 0
        where it always was.
        """
        step = self.done = 0
        while step < self.steps:
            stop = min(step + self._slice(), self.steps)
            self._read_ahead(step, stop)
            began = time.perf_counter()
            reached = self._advance(step, stop)
            if reached < 0:
                return int(-reached)
            took = (time.perf_counter() - began) / (stop - step)
            self._per_step = took if not self._per_step else 0.5 * (self._per_step + took)
            step = self.done = stop
            self._pause(between)
        return 0

    def _advance(self, step: int, stop: int) -> int:
        """Do the steps from `step` to `stop` of the epoch; return the next, with a minus where
        the loss was lost.
        """
        program, room, train = self._program, self._room, self.source.train
        return int(
            driver.train(train.flat, train.labels, train.amounts, self._order, step, stop,
                         self.steps - 1, self._total, program.ops, program.ints, self._reals,
                         self._how, self._kept_shares, self._loss_values, self._thresholds,
                         self._scales, self._keys, self.parameters, self.gradients, self._gathered,
                         self._state.reshape(-1), self._table, self.epoch * self._updates,
                         self._starts, room.a, room.d, room.which, room.labels, room.amounts,
                         room.words, room.bits, room.one, room.two, room.seen, self._inside.before,
                         self._sums, self._raw))

    def _slice(self) -> int:
        """Return how many steps to do before looking around: never anything that changes a bit."""
        if self._per_step:
            return max(1, int(SLICE / self._per_step))
        return max(1, min(8, _CAUTIOUS // self.shape.work))

    def _pause(self, between: Callable[[], None]) -> None:
        began = time.perf_counter()
        between()
        self._waited += time.perf_counter() - began

    def _read_ahead(self, step: int, stop: int) -> None:
        """Wait until the rows of the next steps are in memory, and let a thread read those after
        them.
        """
        if self._ahead is None:
            return
        began = time.perf_counter()
        self._ahead.wait()
        size, most = self.shape.batch_size, self._total
        ahead = max(int(_AHEAD / self._per_step), stop - step) if self._per_step else stop - step
        first, last = max(stop * size, self._read_to), min((stop + ahead) * size, most)
        if last > first:
            self._ahead.ask(self._order, first, last)
            self._read_to = last
        self._read += time.perf_counter() - began

    def _start_epoch(self) -> float:
        """Draw the order and the keys and work out all steps' coefficients; return the last
        step's rate.
        """
        self._sums[:] = 0
        self._raw[:] = 0
        self._read_to = 0
        run, epoch = self.run, self.epoch + 1
        self._take_order(epoch)
        streams, recipe = run.streams, run.recipe
        if self._drops:
            self._keys[codes.DROPOUT_KEY] = streams.dropout_key(epoch)
        if self._reals[codes.NOISE] > 0:
            self._keys[codes.NOISE_KEY] = streams.noise_key(epoch)
        if self._program.ints[codes.VARIED]:
            self._keys[codes.PICTURE_KEY] = streams.augmentation_key(epoch)
        if self._reals[codes.MIXING] > 0:
            strength = recipe.real("mixup")
            self._kept_shares[:] = streams.mixing(epoch).beta(strength, strength, self.steps)
        if self._block != (self.epoch // self._epochs_ahead, self.watch.cuts):
            self._work_ahead()
        first = self.epoch % self._epochs_ahead * self._updates
        self._table = self._coefficients[first : first + self._updates]
        return float(self._rates[first + self._updates - 1])

    def _work_ahead(self) -> None:
        """Work out rates and coefficients for some epochs at once: always the same ones, for the
        same bits.
        """
        recipe, block, updates = self.run.recipe, self.epoch // self._epochs_ahead, self._updates
        first, count = block * self._epochs_ahead * updates, self._epochs_ahead * updates
        self._rates = rates(recipe, first, count, updates, self.watch.cuts)
        numbers = np.arange(first + 1, first + count + 1, dtype=np.float64)
        self._coefficients = np.ascontiguousarray(OPTIMISERS[recipe.word("optimiser")].coefficients(
            recipe, self._rates, numbers), self._dtype)
        self._block = (block, self.watch.cuts)

    def _take_order(self, epoch: int) -> None:
        """Lay out the rows (N,) of an epoch in their order."""
        sampling, streams = self.run.recipe.word("sampling"), self.run.streams
        if sampling == "in_order":
            self._order[:] = np.arange(self._rows)
        elif sampling == "balanced" and self.source.balance is not None:
            self._order[:] = streams.drawn(epoch, self.source.balance[self.source.train.labels])
        else:
            words.shuffle(self._order, streams.order_key(epoch))

    def _mean_loss(self, mean: float) -> float:
        """Return a mean loss as people read it."""
        return self._loss.reported(float(mean), self.source.units)

    def _scored(self, sums: NDArray[np.float64], part: Part, known: NDArray[np.float64]
                ) -> tuple[float, tuple[float, ...]]:
        """Return what is lowered and the metrics beside it, from the sums of the loss and of
        metrics over a part, and what is known of its targets.
        """
        means, measure = sums / len(part), self.source.measure
        apart = apart_of(measure, means[1:], known, part.labels, lambda: self._outputs(part))
        return scored(measure, self._mean_loss(means[0]),
                      self._loss.metrics(means[1:], self.source.units, known), apart)

    def _outputs(self, part: Part) -> Array:
        """Return the outputs (N, outputs) on a part, by the weights of the last evaluation."""
        from axiarch.engine.predictor import Predictor

        return Predictor(self.shape, self.evaluated).outputs(part.flat.reshape(len(part), -1))

    def _conclude(self, between: Callable[[], None]) -> None:
        """Evaluate the weights after an epoch in slices, and work out the numbers of layers."""
        start, validation = 0, len(self.source.validation)
        rows = validation + len(self.source.train_sample)
        while start < rows:
            stop = min(start + self._stride, rows)
            if start < validation < stop < rows:
                stop -= (stop - validation) % self._at_once
            began = time.perf_counter()
            self._look(start, stop)
            took = (time.perf_counter() - began) / (stop - start)
            self._stride = max(int(SLICE / max(took, 1e-9)) // self._at_once, 1) * self._at_once
            start = stop
            if start < rows:
                self._pause(between)

    def _look(self, start: int, stop: int) -> None:
        """Evaluate some rows of the validation part and the sample of training rows, laid end to
        end.
        """
        program, room, inside = self._looking, self._evaluation, self._inside
        part, sample = self.source.validation, self.source.train_sample
        driver.conclude(
            part.flat, part.labels, part.amounts, sample.flat, sample.labels, sample.amounts,
            NO_ORDER, start, stop, len(part), len(sample), program.ops, program.ints,
            self._loss_values, self.parameters, self.gradients, self._state.reshape(-1),
            self._averaged, self.evaluated, room.a, room.d, room.which, room.labels, room.amounts,
            room.words, room.bits, room.one, room.two, self._validated, self._still,
            inside.low, inside.high, inside.level, inside.bounds, inside.starts,
            inside.positions, self._starts, inside.before, SAME, NEAR, inside.found, self._norms)

    def predict_by_best(self, x: Array) -> NDArray[np.float64]:
        """Return what the run predicts for rows (N, D), by the weights of its best epoch."""
        from axiarch.engine.predictor import Predictor

        return Predictor(self.shape, self._best).predict(x)

    def predict(self, x: Array) -> NDArray[np.float64]:
        """Return what the run predicts for rows (N, D), by the weights of its last evaluation."""
        from axiarch.engine.predictor import Predictor

        return Predictor(self.shape, self.evaluated).predict(x)

    def _finish_epoch(self, numbers: Epoch, diverged: int) -> Progress:
        self.epoch += 1
        if self.watch.see(numbers, self.run.recipe):
            self._best[:] = self.evaluated
            if self.kept is None:
                self.kept = np.empty((1 + codes.STATES, self.shape.parameters), self._dtype)
            self.kept[0], self.kept[1:] = self.parameters, self._state
        by_loss = numbers if self.source.measure == "loss" else numbers.by_loss
        end = self.watch.end(numbers, self.run.recipe, self._updates, self.source.baseline,
                             diverged, by_loss.train_loss_eval)
        return Progress(self.run, numbers, end)
