"""Train one task: the same code inside a worker process and inside a test."""

from __future__ import annotations

import time
from collections import deque
from collections.abc import Callable
from functools import cache

from axiarch.data.dataset import read_dataset
from axiarch.engine.checkpoint import load_checkpoint, save_checkpoint
from axiarch.engine.stack import Progress, RunState, Stack
from axiarch.errors import AxiarchError, TrainingError
from axiarch.files import regular_file
from axiarch.plain import shown
from axiarch.runner.material import example_rows, outgrows_memory, training_data
from axiarch.runner.saved import before, checkpoints, latest, origin
from axiarch.runner.tasks import Report, Task, Trained, WantedRun

#: Seconds of training between two checkpoints: what a worker's death may cost.
CHECKPOINT_SECONDS = 2.0


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
        Called between steps; may wait, and may raise to leave the task.
    """

    def __init__(self, task: Task, lane: int, report: Callable[[Report], None],
                 between: Callable[[], None] = lambda: None, clock: Callable[[], float] = time.monotonic) -> None:
        dataset = read_dataset(task.data)
        self._task = task
        self._lane = lane
        self._report = report
        self._between = between
        self._clock = clock
        self._fingerprint = dataset.fingerprint
        self._data = cache(lambda fold: training_data(dataset, fold))
        folds = {run.spec.streams.fold for run in task.runs}
        self._stack = Stack(task.shape, task.capacity, self._data,
                            ahead=outgrows_memory(self._data(min(folds)), len(folds)))
        self._until: dict[int, int] = {}
        self._released: set[int] = set()
        self._waiting = deque(task.runs)
        self._saved = clock()

    def add(self, run: WantedRun) -> None:
        """Take one more run, to join as soon as there is a place."""
        self._waiting.append(run)

    def release(self, run: int) -> None:
        """Train a run no further; one in the stack leaves it after this epoch."""
        self._waiting = deque(w for w in self._waiting if w.spec.id != run)
        self._released.add(run)

    def train(self) -> None:
        """Train until no run is left."""
        while self._fill():
            progress = self._stack.train_epoch(self._between)
            ended = {k for k, p in enumerate(progress) if p.end is not None}
            rested = {k for k, p in enumerate(progress)
                      if k not in ended and 0 < self._until[p.run.id] <= p.numbers.epoch}
            released = {k for k, p in enumerate(progress) if p.run.id in self._released}
            self._save(progress, ended | rested | released)
            self._report(Trained(self._lane, tuple((p.run.id, p.numbers) for p in progress),
                                 tuple((p.run.id, p.end) for p in progress if p.end is not None),
                                 tuple(progress[k].run.id for k in sorted(rested)), self._examples(progress)))
            for k in sorted(ended | rested | released, reverse=True):
                self._stack.remove(k)

    def _examples(self, progress: list[Progress]) -> tuple[tuple[int, tuple[tuple[float, ...], ...]], ...]:
        """Return what each run says of some validation rows, spread over all."""
        if not self._task.examples:
            return ()
        found = []
        for k, p in enumerate(progress):
            inputs = self._data(p.run.streams.fold).validation_inputs
            told = self._stack.predict(k, inputs[example_rows(len(inputs), self._task.examples)])
            found.append((p.run.id, tuple(map(tuple, told.tolist()))))
        return tuple(found)

    def _fill(self) -> bool:
        """Let waiting runs join; say whether there is anything to train."""
        while self._waiting and self._stack.active < self._stack.capacity:
            run = self._waiting.popleft()
            self._until[run.spec.id] = run.until
            self._released.discard(run.spec.id)
            self._stack.add(run.spec, self._state(run))
        return self._stack.active > 0

    def _state(self, run: WantedRun) -> RunState | None:
        """Return where a run stood when it was last saved within the journal, or started; None starts it afresh.

        Whichever it is, it ends with the same bits.
        """
        first = origin(self._task.checkpoints, run.spec.id)
        begun = [first] if regular_file(first) else []
        for path in checkpoints(self._task.checkpoints, run.spec.id) if run.journalled else begun:
            try:
                state = load_checkpoint(path, run.spec, self._task.shape, self._fingerprint)
            except AxiarchError:
                continue
            if state.epoch <= run.journalled:
                return state
        if begun:
            raise TrainingError("the weights that the run starts from cannot be read", shown(first),
                                "start the search again")
        return None

    def _save(self, progress: list[Progress], leaving: set[int]) -> None:
        """Save the runs that leave; now and then save all."""
        due = self._clock() - self._saved >= CHECKPOINT_SECONDS
        for k, each in enumerate(progress):
            if due or k in leaving:
                folder, run = self._task.checkpoints, each.run.id
                save_checkpoint(latest(folder, run), each.run, self._stack.state(k), self._fingerprint,
                                self._task.note, before(folder, run))
        if due:
            self._saved = self._clock()
