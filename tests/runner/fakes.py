"""An executor that trains nothing: it reports what a test tells it to."""

from __future__ import annotations

from collections import deque
from collections.abc import Mapping, Sequence

from axiarch.engine.run import EpochNumbers, RunEnd
from axiarch.runner.tasks import Held, Ready, Report, Task, Trained, WantedRun


class ScriptedExecutor:
    """Takes tasks and keeps them; a test ends runs, holds back answers, and lets lanes die."""

    def __init__(self, lanes: int = 2) -> None:
        self.reports: deque[Report] = deque(Ready(lane, 100 + lane) for lane in range(lanes))
        self.tasks: dict[int, Task] = {}
        self.extended: list[tuple[int, WantedRun]] = []
        self.orders: list[str] = []
        self.submitted: list[tuple[int, Task]] = []

    def submit(self, lane: int, task: Task) -> None:
        self.tasks[lane] = task
        self.extended = [(to, run) for to, run in self.extended if to != lane]
        self.submitted.append((lane, task))

    def extend(self, lane: int, run: WantedRun) -> None:
        self.extended.append((lane, run))

    def release(self, lane: int, run: int) -> None:
        self.orders.append(f"release {run}")

    def resize(self, lanes: int) -> None:
        self.orders.append(f"resize {lanes}")

    def hold(self) -> None:
        self.orders.append("hold")
        self.reports.extend(Held(lane) for lane in self.tasks)

    def go(self) -> None:
        self.orders.append("go")

    def drop(self) -> None:
        self.orders.append("drop")
        self.reports.extend(Ready(lane, 100 + lane) for lane in self.tasks)
        self.tasks.clear()

    def poll(self, seconds: float) -> Sequence[Report]:
        found = list(self.reports)
        self.reports.clear()
        return found

    def close(self) -> None:
        self.orders.append("close")

    def given(self) -> dict[int, list[int]]:
        """Return the runs that lanes were given, in their order."""
        return {
            lane: [run.spec.id
                   for run in task.runs] + [run.spec.id
                                            for to, run in self.extended
                                            if to == lane]
            for lane, task in self.tasks.items()
        }

    # -- what a test does ------------------------------------------------------------------------

    def end(self, lane: int, *runs: int, ready: bool = True, loss: float = 0.5) -> None:
        """Report one epoch of `runs` in which they end; with `ready`, that the lane is idle
        then.
        """
        numbers = EpochNumbers(1, loss, loss, loss, (0.5, 0.5), 0.1, 1.0, 0.01)
        end = RunEnd("completed", "all 1 epochs", 1, 1, loss)
        self.reports.append(
            Trained(lane, tuple((r, numbers) for r in runs), tuple((r, end) for r in runs)))
        if ready:
            self.ready(lane)

    def train(self, lane: int, losses: Mapping[int, Sequence[float]], rest: bool = True) -> None:
        """Report epochs of runs, all up to the same one, in which they come to rest; then that
        the lane is idle.
        """
        epochs = len(next(iter(losses.values())))
        for e in range(epochs):
            numbers = {r: EpochNumbers(e + 1, own[e], own[e], own[e], (0.5, 0.5), 0.1, 1.0, 0.01)
                       for r, own in losses.items()}
            self.reports.append(Trained(lane, tuple(numbers.items()), (),
                                        tuple(losses) if rest and e == epochs - 1 else ()))
        if rest:
            self.ready(lane)

    def ready(self, lane: int) -> None:
        """Report that a lane is idle."""
        self.tasks.pop(lane, None)
        self.reports.append(Ready(lane, 100 + lane))
