"""Train one task: the same code inside a worker process and inside a test."""

from __future__ import annotations

import time
from collections import deque
from collections.abc import Callable

from axiarch.data.dataset import read_dataset
from axiarch.engine.checkpoint import load_checkpoint, save_checkpoint
from axiarch.engine.stack import Progress, RunState, Stack
from axiarch.errors import AxiarchError
from axiarch.runner.material import training_data
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
        self._stack = Stack(task.shape, task.capacity, training_data(dataset, task.shape.fold))
        self._waiting = deque(task.runs)
        self._saved = clock()

    def add(self, run: WantedRun) -> None:
        """Take one more run, to join as soon as there is a place."""
        self._waiting.append(run)

    def train(self) -> None:
        """Train until no run is left."""
        while self._fill():
            progress = self._stack.train_epoch(self._between)
            ended = [(k, p.run.id, p.end) for k, p in enumerate(progress) if p.end is not None]
            self._save(progress)
            self._report(Trained(self._lane, tuple((p.run.id, p.numbers) for p in progress),
                                 tuple((run, end) for _, run, end in ended)))
            for k, _, _ in reversed(ended):
                self._stack.remove(k)

    def _fill(self) -> bool:
        """Let waiting runs join; say whether there is anything to train."""
        while self._waiting and self._stack.active < self._stack.capacity:
            run = self._waiting.popleft()
            self._stack.add(run.spec, self._state(run))
        return self._stack.active > 0

    def _state(self, run: WantedRun) -> RunState | None:
        """Return where a run stood when it was last saved; None starts it afresh, to end with the same bits."""
        path = self._task.checkpoints / f"{run.spec.id}.safetensors"
        if run.journalled == 0 or not path.exists():
            return None
        try:
            state = load_checkpoint(path, run.spec, self._task.shape, self._fingerprint)
        except AxiarchError:
            return None
        return state if state.epoch <= run.journalled else None

    def _save(self, progress: list[Progress]) -> None:
        """Save the runs that ended; now and then save all."""
        due = self._clock() - self._saved >= CHECKPOINT_SECONDS
        for k, each in enumerate(progress):
            if due or each.end is not None:
                path = self._task.checkpoints / f"{each.run.id}.safetensors"
                save_checkpoint(path, each.run, self._stack.state(k), self._fingerprint)
        if due:
            self._saved = self._clock()

