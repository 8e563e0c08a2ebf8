"""A stack: K runs with the same layer shapes trained side by side, each exactly as if it were alone.

There is one code path; a single run is a stack of one. Slots ``0 … active - 1`` hold runs. All slots
meet their epochs together: every epoch has the same number of steps for all, and runs join and leave
between epochs.
"""

from __future__ import annotations

import math
import time
from collections.abc import Callable, Sequence
from dataclasses import asdict, dataclass, field

import numpy as np
from numpy.typing import DTypeLike, NDArray

from axiarch.engine import kernels
from axiarch.engine.dropout import Dropout
from axiarch.engine.initialisation import first_weights
from axiarch.engine.inside import Inside
from axiarch.engine.layers import Pass
from axiarch.engine.losses import LOSSES, targets_buffer, unit_of
from axiarch.engine.network import EVALUATED, Array, StackShape, zeros
from axiarch.engine.optimisers import COEFFICIENTS, OPTIMISERS, STATES
from axiarch.engine.predictor import Predictor
from axiarch.engine.regularisation import Regularisation
from axiarch.engine.rows import Feed, Part, Source, TrainingData
from axiarch.engine.run import EpochNumbers, RunEnd, RunSpec
from axiarch.engine.schedules import rates
from axiarch.engine.stopping import Watch
from axiarch.errors import TrainingError
from axiarch.recipes.recipe import Recipe


@dataclass
class RunState:
    """All that a run needs to go on elsewhere with the same bits, between two epochs.

    At epoch 0 it is given weights that the run starts from instead of random ones.

    Attributes
    ----------
    parameters, best_parameters : (P,) arrays
    optimiser : (4, P) array
    epoch : int
        Epochs trained.
    watch : Watch
    kept : (5, P) array, optional
        The weights in training and the optimiser's state as they were after the best epoch.
    """

    parameters: Array
    best_parameters: Array
    optimiser: Array
    epoch: int
    watch: Watch
    kept: Array | None = None

    @classmethod
    def from_weights(cls, weights: Array) -> RunState:
        """Return where a run starts that is given its first weights (P,)."""
        optimiser = np.zeros((STATES, len(weights)), weights.dtype)
        optimiser[-1] = weights
        return cls(weights, weights, optimiser, 0, Watch())

    def at_best(self, recipe: Recipe) -> RunState:
        """Return where the run stood after its best epoch, to go on from there.

        Raises
        ------
        TrainingError
            If no epoch was kept.
        """
        epoch = self.watch.best_epoch
        if not epoch or self.kept is None:
            raise TrainingError("no epoch of this run was kept", "", "continue from its last epoch")
        return RunState(self.kept[0], self.best_parameters, self.kept[1:], epoch, self.watch.rewound(epoch, recipe),
                        self.kept)


@dataclass
class _Slot:
    """The run in a slot, what it trains on, and where it stands."""

    run: RunSpec
    source: Source
    watch: Watch
    epoch: int = 0
    kept: Array | None = None
    block: tuple[int, int] = (-1, 0)
    rates: NDArray[np.float64] = field(default_factory=lambda: np.zeros(0))
    table: NDArray[np.float64] = field(default_factory=lambda: np.zeros((0, 0)))


@dataclass(frozen=True)
class Progress:
    """What one epoch of a stack brought for one run."""

    run: RunSpec
    numbers: EpochNumbers
    end: RunEnd | None


class Stack:
    """Train up to `capacity` K runs of one shape side by side.

    Parameters
    ----------
    shape : StackShape
    capacity : int
        K.
    data : TrainingData or callable
        What every run trains on, or from the number of a fold to what runs on it train on. All folds must have as
        many training rows N, validation rows M and inputs D.
    dtype : {float32, float64}
    ahead : bool
        Whether a thread reads rows ahead: where the data are larger than memory.
    """

    def __init__(self, shape: StackShape, capacity: int,
                 data: TrainingData | Callable[[int], TrainingData], dtype: DTypeLike = np.float32,
                 ahead: bool = False) -> None:
        self.shape = shape
        self.capacity = capacity
        self.dtype = np.dtype(dtype)
        self._loss = LOSSES[shape.loss]
        self._data = data
        self._sources: dict[int, Source] = {}
        self._rows = shape.rows[0] or self._source(0).size[0]
        self.steps = shape.steps(self._rows)
        self._ahead = max(1, min(8, 4096 // self.steps))
        self._slots: list[_Slot] = []
        self._feed = Feed(shape, self._loss, capacity, self._rows, self.dtype, ahead)
        self._allocate()

    def _source(self, fold: int) -> Source:
        """Return what runs on a fold train on.

        Raises
        ------
        TrainingError
            If it differs in size from what the stack trains on already.
        """
        if isinstance(self._data, TrainingData):
            fold = 0
        if fold not in self._sources:
            data = self._data if isinstance(self._data, TrainingData) else self._data(fold)
            made = Source(data, self._loss, self.shape.outputs, self.dtype)
            wanted = (*(self.shape.rows if any(self.shape.rows) else made.size[:2]), math.prod(self.shape.inputs))
            if made.size != next((other.size for other in self._sources.values()), wanted):
                raise TrainingError(f"fold {fold + 1} has {made.size} rows and inputs, not {wanted}", "a stack",
                                    "train it in a stack of its own")
            self._sources[fold] = made
        return self._sources[fold]

    def _allocate(self) -> None:
        k, b, shape, dtype = self.capacity, self.shape.batch_size, self.shape, self.dtype
        self.parameters = zeros((k, shape.parameters), dtype)
        self.gradients = zeros(self.parameters.shape, dtype)
        self._best = np.zeros_like(self.parameters)
        self._evaluated = np.zeros_like(self.parameters)
        self._done = np.zeros(k, np.int64)
        self._state = zeros((STATES, k, shape.parameters), dtype)
        weighted = [p for p in shape.placed if p.weighted]
        self._dropout = Dropout(weighted, b, k, dtype)
        self._drops = [p.layer.drop for p in weighted]
        self._pass = Pass(shape, k, b, dtype, self._dropout)
        self._evaluation = Pass(shape, k, EVALUATED, dtype, None)
        self._inside = Inside(shape, k, dtype)
        self._etargets = targets_buffer(self._loss, k, EVALUATED, shape.outputs, dtype)
        self._einputs: Array | None = None
        self._coefficients = np.zeros((self.steps, k, COEFFICIENTS), dtype)
        self._bent = Regularisation(shape, k, dtype, self._loss.known(shape.outputs), self.steps)
        self._gathered: Array | None = None
        self._over = np.ones(k, np.int64)
        self._moved = np.ones(k, np.bool_)
        self._gathers = False
        self._gathering = 0.0
        self._starts = np.array([*(p.weights for p in weighted), shape.weights], np.int64)
        self._trained_on: list[tuple[str, NDArray[np.int64]]] = []
        self._losses = np.zeros(k)
        self._raw = np.zeros(k)
        self._sums = np.zeros((k, self._loss.sums(shape.outputs)))

    # -- joining and leaving ---------------------------------------------------------------------

    @property
    def active(self) -> int:
        """The number of runs in the stack."""
        return len(self._slots)

    @property
    def runs(self) -> tuple[RunSpec, ...]:
        """The runs in the stack, by slot."""
        return tuple(slot.run for slot in self._slots)

    def add(self, run: RunSpec, state: RunState | None = None) -> None:
        """Put a run into a free slot: fresh, or from where `state` stands."""
        k = self.active
        if k >= self.capacity:
            raise ValueError("the stack is full")
        source = self._source(run.streams.fold)
        trained = state is not None and state.epoch > 0
        self._slots.append(_Slot(run, source, state.watch if state and trained else Watch(unit=unit_of(source.units)),
                                 state.epoch if state else 0,
                                 state.kept.copy() if state is not None and state.kept is not None else None))
        self._over[k] = run.recipe.whole("accumulation")
        for layer, drop in enumerate(self._drops):
            self._dropout.set_rate(k, layer, run.recipe.real("dropout") if drop is None else drop)
        self._bent.set(k, run.recipe, source.gains, source.curve)
        if state is not None:
            self.parameters[k] = state.parameters
            self._best[k] = state.best_parameters
            self._state[:, k] = state.optimiser
        else:
            self.parameters[k] = first_weights(self.shape, run.recipe.word("initialisation"),
                                               run.streams.initialisation(), run.recipe.word("distribution"))
            self._best[k] = self.parameters[k]
            self._state[:, k] = 0
            self._state[-1, k] = self.parameters[k]
        if trained:
            return
        self._evaluated[k] = self.parameters[k]
        losses, _ = self._evaluate([source.validation], k)
        self._slots[k].watch.start_loss = self._reported(losses[0], k)

    def state(self, slot: int) -> RunState:
        """Return a copy of all that the run in `slot` needs to go on elsewhere."""
        own = self._slots[slot]
        return RunState(self.parameters[slot].copy(), self._best[slot].copy(), self._state[:, slot].copy(),
                        own.epoch, Watch(**asdict(own.watch)), None if own.kept is None else own.kept.copy())

    def remove(self, slot: int) -> None:
        """Take the run out of `slot`; the last one moves into its place."""
        last = self.active - 1
        for array in (self.parameters, self._best):
            array[slot] = array[last]
        self._state[:, slot] = self._state[:, last]
        self._over[slot] = self._over[last]
        self._dropout.move(last, slot)
        self._bent.move(last, slot)
        self._slots[slot] = self._slots[last]
        self._slots.pop()

    # -- training --------------------------------------------------------------------------------

    def train_epoch(self, between: Callable[[], None] = lambda: None) -> list[Progress]:
        """Train all runs for one epoch; `between` is called between steps and may wait or raise.

        Returns
        -------
        list of Progress
            One for each run, by slot. Runs that have ended are still in their slots.
        """
        active = self.active
        started = time.perf_counter()
        waited = self._gathering = 0.0
        last_rates = self._start_epoch()
        groups = self._groups("optimiser")
        self._trained_on = self._groups("loss") if self._loss.slopes else []
        rows = min(self._rows, self.steps * self.shape.batch_size)
        sources = [slot.source for slot in self._slots]
        self._feed.start_epoch([source.train for source in sources], rows)
        with np.errstate(all="ignore"):
            for step in range(self.steps):
                start = step * self.shape.batch_size
                if step == self.steps - 1:
                    self._inside.before_last_step(self.parameters, active)
                self._step(step, start, min(start + self.shape.batch_size, rows), active, groups)
                before = time.perf_counter()
                between()
                waited += time.perf_counter() - before
            train_losses = self._losses[:active] / rows
            norms = np.zeros(active)
            kernels.squares(self.gradients, norms, active)
            self._settle(active)
            validation, sums = self._evaluate([source.validation for source in sources])
            self._inside.start_looking()
            still, _ = self._evaluate([source.still for source in sources], look=True)
            inside = self._inside.numbers(self.parameters, self.gradients, active)
        seconds = (time.perf_counter() - started - waited) / active
        return [self._finish_epoch(k, EpochNumbers(
            self._slots[k].epoch + 1, self._reported(train_losses[k], k), self._reported(still[k], k),
            self._reported(validation[k], k), self._loss.metrics(sums[k], sources[k].units, sources[k].known),
            last_rates[k],
            float(np.sqrt(norms[k])), seconds, inside[k], self._gathering / active,
            float(np.sqrt(self._raw[k])))) for k in range(active)]

    def _settle(self, active: int) -> None:
        """Choose what is evaluated: the weights as they stand, or their running mean where there is one."""
        self._evaluated[:active] = self.parameters[:active]
        for k in np.flatnonzero(self._bent.averages[:active]):
            self._evaluated[k] = self._state[-1, k]

    def _reported(self, mean: float, slot: int) -> float:
        """Return a mean loss of the run in `slot` as people read it."""
        return self._loss.reported(float(mean), self._slots[slot].source.units)

    def _start_epoch(self) -> list[float]:
        """Draw orders and masks and work out all steps' coefficients; return the last step's rates."""
        last = []
        self._losses[:] = 0
        self._sums[:] = 0
        self._bent.start_epoch(self.active)
        for k, slot in enumerate(self._slots):
            run, epoch = slot.run, slot.epoch
            self._take_order(k, epoch + 1)
            updates = self._updates(k)
            self._done[k] = epoch * updates
            self._dropout.keys[k] = run.streams.dropout_key(epoch + 1)
            self._bent.take_keys(k, run.streams, epoch + 1)
            if slot.block != (epoch // self._ahead, slot.watch.cuts):
                self._work_ahead(slot, updates)
            first = epoch % self._ahead * updates
            own = slot.table[first : first + updates]
            self._coefficients[:, k, : own.shape[1]] = own if updates == self.steps else np.repeat(
                own, self._over[k], axis=0)[: self.steps]
            last.append(float(slot.rates[first + updates - 1]))
        self._gathers = bool((self._over[: self.active] > 1).any())
        return last

    def _updates(self, slot: int) -> int:
        """Return the optimiser's steps in an epoch: one after so many batches, and one after the last."""
        return -(-self.steps // int(self._over[slot]))

    def _work_ahead(self, slot: _Slot, updates: int) -> None:
        """Work out a run's rates and coefficients for some epochs at once: always the same ones, for the same bits."""
        recipe, block = slot.run.recipe, slot.epoch // self._ahead
        first, count = block * self._ahead * updates, self._ahead * updates
        slot.rates = rates(recipe, first, count, updates, slot.watch.cuts)
        numbers = np.arange(first + 1, first + count + 1, dtype=np.float64)
        slot.table = OPTIMISERS[recipe.word("optimiser")].coefficients(recipe, slot.rates, numbers)
        slot.block = (block, slot.watch.cuts)

    def _take_order(self, k: int, epoch: int) -> None:
        """Lay out the rows (N,) of an epoch of the run in slot `k` in their order."""
        slot, order = self._slots[k], self._feed.order
        streams, sampling = slot.run.streams, slot.run.recipe.word("sampling")
        if sampling == "in_order":
            order[k] = np.arange(self._rows)
        elif sampling == "balanced" and slot.source.gains is not None:
            order[k] = streams.drawn(epoch, slot.source.gains[slot.source.train.targets])
        else:
            kernels.shuffle(order, k, streams.order_key(epoch))

    def _groups(self, choice: str) -> list[tuple[str, NDArray[np.int64]]]:
        """Return the members of a choice that are in use, each with its slots."""
        names = [slot.run.recipe.word(choice) for slot in self._slots]
        return [(name, np.flatnonzero(np.array(names) == name)) for name in sorted(set(names))]

    def _step(self, step: int, start: int, stop: int, active: int,
              groups: list[tuple[str, NDArray[np.int64]]]) -> None:
        rows = stop - start
        before = time.perf_counter()
        inputs, targets = self._feed.take(step)
        self._gathering += time.perf_counter() - before
        self._dropout.start_step(step, active)
        self._bent.disturb(inputs, targets, step, active, rows)
        outputs = self._pass.forward(inputs, self.parameters, active, rows)
        self._loss.kernel(outputs, targets, self._losses, self._sums, True, self._bent.bends, self._bent.gains,
                          active, rows)
        for name, slots in self._trained_on:
            self._loss.slopes[name](outputs, self._bent.bends, slots, rows)
        self._pass.backward(outputs, self.parameters, self.gradients, active, rows)
        moved = self._moved
        if self._gathers:
            moved = self._gather(step, rows, active)
            groups = [(name, slots[moved[slots]]) for name, slots in groups]
        if step == self.steps - 1:
            kernels.squares(self.gradients, self._raw, active)
        self._bent.before(self.parameters, self.gradients, active)
        for name, slots in groups:
            OPTIMISERS[name].step(self.parameters, self.gradients, self._state, self._coefficients[step], slots,
                                  self.shape.weights, self._starts)
        self._bent.after(self.parameters, self._state[-1], lambda: self._done + step // self._over, moved, active)

    def _gather(self, step: int, rows: int, active: int) -> NDArray[np.bool_]:
        """Average the gradients of runs that take several batches together; return which runs (K,) step now.

        Each batch counts by its rows, so that the average is the gradient of one large batch.
        """
        if self._gathered is None:
            self._gathered = np.zeros_like(self.gradients)
        several = np.flatnonzero(self._over[:active] > 1)
        over = self._over[several]
        first = step - step % over
        size, total = self.shape.batch_size, min(self._rows, self.steps * self.shape.batch_size)
        together = np.minimum((first + over) * size, total) - first * size
        self._gathered[several[first == step]] = 0
        kernels.gather(self._gathered, self.gradients, several, (rows / together).astype(self.dtype))
        moved = self._moved.copy()
        moved[several] = (step + 1 == first + over) | (step + 1 == self.steps)
        ready = several[moved[several]]
        self.gradients[ready] = self._gathered[ready]
        return moved

    def _evaluate(self, parts: Sequence[Part], first: int = 0, look: bool = False
                  ) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
        """Return mean loss (n,) and mean sums of the n slots from `first` on, each on its own of n `parts`."""
        count, size = len(parts), len(parts[0])
        losses, sums = np.zeros(count), np.zeros((count, self._sums.shape[1]))
        for start in range(0, size, EVALUATED):
            rows = min(EVALUATED, size - start)
            inputs = self._looked_at(parts, start, rows)
            outputs = self._evaluation.forward(inputs, self._evaluated[first : first + count], count, rows)
            if look:
                self._inside.look(self._evaluation, count, rows)
            self._loss.kernel(outputs, self._etargets, losses, sums, False, self._bent.bends, self._bent.gains, count,
                              rows)
        return losses / size, sums / size

    def _looked_at(self, parts: Sequence[Part], start: int, rows: int) -> Array:
        """Lay out the targets of some rows of `parts`, and return the inputs: once where all parts are the same."""
        stop = start + rows
        if all(part is parts[0] for part in parts):
            self._etargets[: len(parts), :rows] = parts[0].targets[start:stop]
            return parts[0].inputs[None, start:stop]
        if self._einputs is None:
            self._einputs = np.zeros((self.capacity, EVALUATED, math.prod(self.shape.inputs)), self.dtype)
        for k, part in enumerate(parts):
            self._etargets[k, :rows] = part.targets[start:stop]
            self._einputs[k, :rows] = part.inputs[start:stop]
        return self._einputs

    def predict(self, slot: int, x: Array) -> Array:
        """Return what the run in `slot` predicts for rows (N, D), by the weights of its last evaluation."""
        return Predictor(self.shape, self._evaluated[slot], self._evaluation).predict(x)

    def _finish_epoch(self, k: int, numbers: EpochNumbers) -> Progress:
        slot = self._slots[k]
        slot.epoch += 1
        if slot.watch.see(numbers, slot.run.recipe):
            self._best[k] = self._evaluated[k]
            if slot.kept is None:
                slot.kept = np.empty((1 + STATES, self.shape.parameters), self.dtype)
            slot.kept[0], slot.kept[1:] = self.parameters[k], self._state[:, k]
        end = slot.watch.end(numbers, slot.run.recipe, self._updates(k), slot.source.floor)
        return Progress(slot.run, numbers, end)
