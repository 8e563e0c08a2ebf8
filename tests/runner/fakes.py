"""An executor that trains nothing: it reports what a test says."""

from __future__ import annotations

from collections import deque
from collections.abc import Sequence

from axiarch.engine.run import RunEnd
from axiarch.runner.tasks import Held, Joined, Left, Report, Returned, Task, Trained
from axiarch.runs.epoch import Epoch


class ScriptedExecutor:
    """Takes tasks and keeps them; a test ends runs, holds back answers, and lets workers die."""

    def __init__(self, workers: int = 2, ahead: int = 1) -> None:
        self.ahead, self.latency = ahead, 0.005
        self.reports: deque[Report] = deque(Joined(worker) for worker in range(workers))
        self.tasks: dict[int, list[Task]] = {worker: [] for worker in range(workers)}
        self.orders: list[str] = []
        self.submitted: list[tuple[int, Task]] = []
        self.refused = False

    def submit(self, worker: int, task: Task) -> None:
        self.tasks.setdefault(worker, []).append(task)
        self.submitted.append((worker, task))

    def release(self, worker: int, run: int) -> None:
        self.orders.append(f"release {run}")

    def resize(self, workers: int) -> None:
        self.orders.append(f"resize {workers}")

    def hold(self) -> None:
        self.orders.append("hold")
        self.reports.extend(Held(worker) for worker in self.tasks)

    def go(self) -> None:
        self.orders.append("go")

    def drop(self) -> None:
        self.orders.append("drop")
        for worker, tasks in self.tasks.items():
            self.reports.append(Returned(worker, tuple(task.id for task in tasks)))
            tasks.clear()

    def poll(self, seconds: float) -> Sequence[Report]:
        found = list(self.reports)
        self.reports.clear()
        return found

    def close(self) -> None:
        self.orders.append("close")

    @property
    def busy(self) -> list[int]:
        """The workers that have a task."""
        return [worker for worker, tasks in self.tasks.items() if tasks]

    def given(self) -> dict[int, list[int]]:
        """Return the runs in the hands of workers, in their order."""
        return {worker: [task.id for task in tasks] for worker, tasks in self.tasks.items()}

    # -- what a test does ------------------------------------------------------------------------

    def end(self, worker: int, *runs: int, loss: float = 0.5) -> None:
        """Report one epoch of `runs`, by default of all in a worker's hands, in which they end."""
        for run in runs or self.given()[worker]:
            epoch = Epoch(run, 1, loss, loss, loss, (0.5, 0.5), 0.1, 1.0, 0.01)
            end = RunEnd("completed", "all 1 epochs", 1, 1, loss)
            self.reports.append(Trained(worker, run, (epoch,), end))
            self._drop(worker, run)

    def train(self, worker: int, run: int, losses: Sequence[float], rest: bool = True) -> None:
        """Report epochs of a run, after which it rests unless more is to come."""
        epochs = tuple(Epoch(run, e + 1, loss, loss, loss, (0.5, 0.5), 0.1, 1.0, 0.01)
                       for e, loss in enumerate(losses))
        self.reports.append(Trained(worker, run, epochs, rests=rest))
        if rest:
            self._drop(worker, run)

    def die(self, worker: int, cause: str = "killed") -> None:
        """Let a worker die, and another take its place."""
        self.tasks[worker] = []
        self.reports += [Left(worker, cause), Joined(worker)]

    def _drop(self, worker: int, run: int) -> None:
        self.tasks[worker] = [task for task in self.tasks[worker] if task.id != run]
