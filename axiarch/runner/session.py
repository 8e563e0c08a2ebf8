"""Train the runs of one task, one after the other: the same code inside a worker process and
inside a test.
"""

from __future__ import annotations

import time
from collections import deque
from collections.abc import Callable
from functools import cache, lru_cache
from pathlib import Path

from axiarch.data.dataset import read_dataset, written_at
from axiarch.engine.checkpoint import EarlierEngine, load_checkpoint, save_checkpoint
from axiarch.engine.losses import LOSSES
from axiarch.engine.rows import Source
from axiarch.engine.run import EpochNumbers
from axiarch.engine.state import RunState
from axiarch.engine.training import Progress, Training
from axiarch.errors import AxiarchError, TrainingError
from axiarch.files import regular_file
from axiarch.plain import shown
from axiarch.runner.material import example_rows, outgrows_memory, shape_of, training_data
from axiarch.runner.saved import before, checkpoints, latest, origin
from axiarch.runner.tasks import Report, Task, Trained, WantedRun

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


class Session:
    """The training of one task.

    Parameters
    ----------
    task : Task
    lane : int
        Number of the worker, for its reports.
    report : callable
        Takes each report.
    between : callable
        Called a few dozen times a second; may wait, and may raise to leave the task.
    """

    def __init__(self,
                 task: Task,
                 lane: int,
                 report: Callable[[Report], None],
                 between: Callable[[], None] = lambda: None,
                 clock: Callable[[], float] = time.monotonic) -> None:
        self._rows = _rows_of(task.data, written_at(task.data))
        self._dataset = self._rows.dataset
        self._task = task
        self._lane = lane
        self._report = report
        self._between = between
        self._clock = clock
        self._released: set[int] = set()
        self._waiting = deque(task.runs)
        self.now = task.runs[0].spec.id  # the run in training
        self._saved = self._reported = clock()
        self._epochs: list[tuple[int, EpochNumbers]] = []

    def add(self, run: WantedRun) -> None:
        """Take one more run, to train after the others."""
        self._waiting.append(run)

    def release(self, run: int) -> None:
        """Train a run no further; the present one ends after this epoch."""
        self._waiting = deque(w for w in self._waiting if w.spec.id != run)
        self._released.add(run)

    def train(self) -> None:
        """Train until no run is left."""
        while self._waiting:
            wanted = self._waiting.popleft()
            self.now = wanted.spec.id
            self._released.discard(wanted.spec.id)
            self._train(wanted)

    def _train(self, wanted: WantedRun) -> None:
        """Train one run to its end, as far as it is wanted, or until it is released."""
        run = wanted.spec
        fold = run.streams.fold
        shape = shape_of(run.recipe, self._dataset, fold)
        training = Training(shape, run, self._rows.source(fold, shape.precision),
                            self._state(wanted),
                            outgrows_memory(self._rows.data(fold), len(self._dataset.folds)))
        leaves = False
        while not leaves:
            progress = training.train_epoch(self._between)
            self._epochs.append((run.id, progress.numbers))
            rests = progress.end is None and 0 < wanted.until <= progress.numbers.epoch
            leaves = progress.end is not None or rests or run.id in self._released
            now = self._clock()
            if leaves or now - self._saved >= CHECKPOINT_SECONDS:
                self._save(training)
            elif now - self._reported < REPORT_SECONDS:
                continue
            self._send(training, progress, rests)

    def _send(self, training: Training, progress: Progress, rests: bool) -> None:
        """Report the epochs since the last report."""
        run = training.run.id
        ended = ((run, progress.end),) if progress.end is not None else ()
        self._report(Trained(self._lane, tuple(self._epochs), ended, (run,) if rests else (),
                             self._examples(training)))
        self._epochs.clear()
        self._reported = self._clock()

    def _examples(self,
                  training: Training) -> tuple[tuple[int, tuple[tuple[float, ...], ...]], ...]:
        """Return what the run predicts for some validation rows, spread over all."""
        if not self._task.examples:
            return ()
        inputs = self._rows.data(training.run.streams.fold).validation_inputs
        predicted = training.predict(inputs[example_rows(len(inputs), self._task.examples)])
        return ((training.run.id, tuple(map(tuple, predicted.tolist()))),)

    def _state(self, wanted: WantedRun) -> RunState | None:
        """Return where a run stood when it was last saved within the journal, or started; None
        starts it afresh.

        Whichever it is, it ends with the same bits.
        """
        run = wanted.spec
        first = origin(self._task.checkpoints, run.id)
        begun = [first] if regular_file(first) else []
        shape = shape_of(run.recipe, self._dataset, run.streams.fold)
        for path in checkpoints(self._task.checkpoints, run.id) if wanted.journalled else begun:
            try:
                state = load_checkpoint(path, run, shape, self._dataset.fingerprint)
            except EarlierEngine:
                raise  # a run that began with other numbers is not to end with these
            except AxiarchError:
                continue
            if state.epoch <= wanted.journalled:
                return state
        if begun:
            raise TrainingError("the weights that the run starts from cannot be read", shown(first),
                                "start the search again")
        return None

    def _save(self, training: Training) -> None:
        folder, run = self._task.checkpoints, training.run
        save_checkpoint(latest(folder, run.id), run, training.state(), self._dataset.fingerprint,
                        self._task.note, before(folder, run.id))
        self._saved = self._clock()
