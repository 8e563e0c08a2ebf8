"""Trains in this process, in :meth:`InlineExecutor.poll`: for scripts and tests."""

from __future__ import annotations

from collections import deque
from collections.abc import Sequence

from axiarch.errors import AxiarchError, NoSpace, TrainingError
from axiarch.runner.store import FolderStore
from axiarch.runner.tasks import Failed, Held, Joined, Report, Returned, Stuck, Task
from axiarch.runner.trainer import Trainer


class InlineExecutor:
    """One worker, trained by whoever polls."""

    ahead, latency = 1, 0.005

    def __init__(self, store: FolderStore) -> None:
        self._reports: deque[Report] = deque([Joined(0)])
        self._tasks: deque[Task] = deque()
        self._now: Task | None = None
        self._held = False
        self._trainer = Trainer(0, store, self._reports.append)

    def submit(self, worker: int, task: Task) -> None:
        """Train a task after those there are."""
        self._tasks.append(task)

    def release(self, worker: int, run: int) -> None:
        """Train a run no further."""
        if self._now is not None and self._now.id == run:
            self._trainer.release()
        elif any(task.id == run for task in self._tasks):
            self._tasks = deque(task for task in self._tasks if task.id != run)
            self._reports.append(Returned(0, (run,)))

    def resize(self, workers: int) -> None:
        """Refuse any number of workers but one."""
        if workers != 1:
            raise TrainingError("there is one worker here", "", "train in worker processes")

    def hold(self) -> None:
        """Pause."""
        self._held = True
        self._reports.append(Held(0))

    def go(self) -> None:
        """Resume."""
        self._held = False

    def drop(self) -> None:
        """Give all tasks back."""
        self._reports.append(Returned(0, self._all()))

    def poll(self, seconds: float) -> Sequence[Report]:
        """Train until something is reported, and return it."""
        while not self._reports and not self._held and (self._now or self._tasks):
            self._train()
        reports = list(self._reports)
        self._reports.clear()
        return reports

    def _train(self) -> None:
        """Train for an epoch."""
        try:
            if self._now is None:
                self._now = self._tasks.popleft()
                self._trainer.begin(self._now)
            if self._trainer.step():
                self._now = None
        except NoSpace as error:
            self._reports.append(Stuck(0, self._all(), str(error)))
        except AxiarchError as error:
            assert self._now is not None
            self._reports.append(Failed(0, self._now.id, str(error)))
            self._now = None

    def _all(self) -> tuple[int, ...]:
        runs = tuple(task.id for task in ([self._now] if self._now else []) + list(self._tasks))
        self._tasks.clear()
        self._now = None
        return runs

    def close(self) -> None:
        """Nothing is left to end."""
