"""Train tasks, one after the other: the same code in a worker process and inside a test."""

from __future__ import annotations

import time
from collections.abc import Callable
from functools import cache, lru_cache
from pathlib import Path

import numpy as np

from axiarch.data.describing import read_dataset, written_at
from axiarch.engine.checkpoint import EarlierEngine, encode_checkpoint, load_checkpoint
from axiarch.engine.losses import LOSSES
from axiarch.engine.rows import Source
from axiarch.engine.run import RunEnd
from axiarch.engine.state import TrainingState
from axiarch.engine.training import Training
from axiarch.errors import AxiarchError, TrainingError
from axiarch.files import regular_file
from axiarch.runner.material import example_rows, outgrows_memory, shape_of, training_data
from axiarch.runner.store import FolderStore, key_of, named
from axiarch.runner.tasks import Report, Returned, Task, Trained
from axiarch.runs.epoch import Epoch
from axiarch.runs.rows import RowLosses, kept_rows
from axiarch.text import shown

#: Seconds of training between two checkpoints: what a worker's death may cost.
CHECKPOINT_SECONDS = 2.0
#: Seconds of training between two reports: a message costs as much as many steps of a small
#: network.
REPORT_SECONDS = 0.05


class _Rows:
    """A data set with the rows of its folds, as runs are trained on them."""

    def __init__(self, folder: Path) -> None:
        self.dataset = read_dataset(folder)
        self.data = cache(lambda fold: training_data(self.dataset, fold))
        self.source = cache(self._source)

    def _source(self, fold: int, precision: str) -> Source:
        target = self.dataset.folds[fold].encoding.target
        return Source(self.data(fold), LOSSES[target.loss], target.outputs, precision)


@lru_cache(maxsize=1)
def _rows_of(folder: Path, _written: int) -> _Rows:
    """Return a data set for one task after the other, until its description is written again."""
    return _Rows(folder)


class Trainer:
    """Trains one task at a time.

    Parameters
    ----------
    worker : int
        Its number, for its reports.
    store : FolderStore
    report : callable
        Takes each report.
    """

    def __init__(self, worker: int, store: FolderStore, report: Callable[[Report], None],
                 clock: Callable[[], float] = time.monotonic) -> None:
        self._worker, self._store, self._report, self._clock = worker, store, report, clock
        self._training: Training | None = None
        self._epochs: list[Epoch] = []
        self._released = False

    def begin(self, task: Task) -> None:
        """Take up a task.

        Raises
        ------
        AxiarchError
            If it cannot be trained.
        """
        self._rows = _rows_of(self._store.dataset(task.data), written_at(
            self._store.dataset(task.data)))
        self._task, self._released, self._epochs = task, False, []
        dataset, fold = self._rows.dataset, task.run.streams.fold
        if dataset.fingerprint != task.data:
            raise TrainingError("the data set is not the one that was asked for",
                                shown(dataset.folder), "start the search again")
        shape = shape_of(task.run.recipe, dataset, fold)
        self._training = Training(shape, task.run, self._rows.source(fold, shape.precision),
                                  self._state(task),
                                  outgrows_memory(self._rows.data(fold), len(dataset.folds)))
        self._saved = self._reported = self._clock()

    def release(self) -> None:
        """Train the task no further than the end of this epoch."""
        self._released = True

    def step(self, between: Callable[[], None] = lambda: None) -> bool:
        """Train for one epoch and report what is due; return whether the task is over.

        Parameters
        ----------
        between : callable
            Called a few dozen times a second; may wait, and may raise to leave the task.
        """
        training = self._training
        assert training is not None
        progress = training.train_epoch(between)
        epoch, end = progress.numbers, progress.end
        self._epochs.append(epoch)
        rests = end is None and 0 < self._task.until <= epoch.epoch
        over = end is not None or rests or self._released
        now, key = self._clock(), ""
        if over or now - self._saved >= CHECKPOINT_SECONDS:
            key = self._save(training, epoch.epoch)
        elif now - self._reported < REPORT_SECONDS:
            return False
        self._report(Trained(self._worker, self._task.id, tuple(self._epochs), end, rests, key,
                             self._examples(training), self._row_losses(training, end)))
        self._epochs = []
        self._reported = self._clock()
        if over:
            self._training = None
            if end is None and not rests:
                self._report(Returned(self._worker, (self._task.id,)))
        return over

    def _examples(self, training: Training) -> tuple[tuple[float, ...], ...]:
        """Return what the run predicts for some validation rows, spread over all."""
        if not self._task.examples:
            return ()
        inputs = self._rows.data(training.run.streams.fold).validation_inputs
        predicted = training.predict(inputs[example_rows(len(inputs), self._task.examples)])
        return tuple(map(tuple, predicted.tolist()))

    def _row_losses(self, training: Training, end: RunEnd | None) -> RowLosses | None:
        """Return the losses of validation rows by the weights that an ended run kept."""
        if end is None or end.reason == "diverged":
            return None
        fold = training.run.streams.fold
        data = self._rows.data(fold)
        inputs = data.validation_inputs
        rows = kept_rows(len(inputs))
        if len(rows) < len(inputs):
            inputs = np.ascontiguousarray(inputs[rows])
        target = self._rows.dataset.folds[fold].encoding.target
        predicted = training.predict_by_best(inputs)
        losses = target.row_losses(predicted, data.validation_targets[rows])
        classes = predicted.argmax(1) if target.classes else None
        return RowLosses.of(len(data.validation_inputs), losses, classes)

    def _state(self, task: Task) -> TrainingState | None:
        """Return where a run stood when it was last saved within the journal, or started; None
        where it starts from scratch.

        Whichever it is, it ends with the same bits.
        """
        shape = shape_of(task.run.recipe, self._rows.dataset, task.run.streams.fold)
        tried = (*task.checkpoints, *([task.origin] if task.origin else []))
        for path in filter(regular_file, map(self._store.checkpoint, tried)):
            try:
                state = load_checkpoint(path, task.run, shape, task.data)
            except EarlierEngine:
                raise  # a run that began with other numbers is not to end with these
            except AxiarchError:
                continue
            if state.epoch <= task.start:
                return state
        if task.origin:
            raise TrainingError("the weights that the run starts from cannot be read",
                                shown(self._store.checkpoint(task.origin)),
                                "start the search again")
        return None

    def _save(self, training: Training, epoch: int) -> str:
        key = key_of(training.run.id, epoch)
        self._store.put(named(key), encode_checkpoint(
            training.run, training.state(copied=False), self._task.data, self._task.note))
        self._saved = self._clock()
        return key
