"""How many workers one runner can feed: ``python -m benchmarks.cluster [SECONDS]``.

The runner, the journal and the method are the real ones; only the workers are made up. Each trains
epochs as long as the search expects of a recipe, give or take a fifth, reports every epoch, and
hands in a checkpoint when a run rests or ends. Printed for 10, 100 and 1,000 workers and for epochs
of several lengths: the share of the time in which workers trained, reports and decisions a second,
and what the runner's own time went into. A search is given a while to fill the workers first.
"""

from __future__ import annotations

import heapq
import math
import sys
import tempfile
import time
from collections import Counter, deque
from collections.abc import Callable, Sequence
from pathlib import Path
from typing import Any
from unittest import mock

import numpy as np
from threadpoolctl import threadpool_limits

from axiarch import workflows
from axiarch.data.dataset import Dataset
from axiarch.engine.run import RunEnd
from axiarch.journal.write import JournalWriter
from axiarch.recipes.searchfile import MethodChoice, SearchFile, write_search
from axiarch.recipes.space import space
from axiarch.runner import handing, reports, runner
from axiarch.runner import running as running_module
from axiarch.runner.material import effort_of
from axiarch.runner.running import RunningSearch, store_of
from axiarch.runner.store import key_of, named
from axiarch.runner.tasks import Held, Joined, Report, Returned, Task, Trained
from axiarch.runs.epoch import Epoch
from axiarch.search.sequence import Effort, by_epochs
from axiarch.workflows.starting import with_window

#: Bytes of a checkpoint: of a network of some 500 parameters with the state of its optimiser.
CHECKPOINT = 20_000
#: Epochs of a whole training.
EPOCHS = 30
#: Multiplications that a worker does in a second.
A_SECOND = 5e10
#: Workers, and mean seconds of an epoch.
CASES = ((10, 0.1), (10, 1.0), (100, 0.1), (100, 1.0), (100, 10.0), (1000, 1.0), (1000, 10.0))


class SimulatedExecutor:
    """Workers that train nothing but take their time.

    Parameters
    ----------
    workers : int
    seconds : float
        Mean length of an epoch.
    put : callable
        Takes the key and the content of a checkpoint.
    """

    ahead, latency = 3, 0.05

    def __init__(self, workers: int, seconds: float, put: Callable[[str, bytes], None]) -> None:
        self._rng = np.random.default_rng(0)
        self._seconds, self._put = seconds, put
        self._reports: deque[Report] = deque(Joined(n, f"node{n // 16}") for n in range(workers))
        self._tasks: dict[int, deque[Task]] = {n: deque() for n in range(workers)}
        self._due: list[tuple[float, int]] = []
        self._done: Counter[int] = Counter()
        self.effort: Effort = by_epochs
        self.busy, self._since = 0.0, dict.fromkeys(range(workers), math.nan)
        self.epochs = 0

    def submit(self, worker: int, task: Task) -> None:
        self._tasks[worker].append(task)
        if len(self._tasks[worker]) == 1:
            self._begin(worker, time.monotonic())

    def _begin(self, worker: int, now: float) -> None:
        task = self._tasks[worker][0]
        noise = float(self._rng.gamma(20.0, 0.05))
        seconds = self.effort(task.run.recipe, 1) / A_SECOND * noise
        self._since[worker] = now
        heapq.heappush(self._due, (now + seconds, worker))

    def poll(self, seconds: float) -> Sequence[Report]:
        if not self._reports:
            wait = min(seconds, self._due[0][0] - time.monotonic()) if self._due else seconds
            if wait > 0:
                time.sleep(wait)
        now = time.monotonic()
        while self._due and self._due[0][0] <= now:
            at, worker = heapq.heappop(self._due)
            self._finish(worker, at)
        found = list(self._reports)
        self._reports.clear()
        return found

    def _finish(self, worker: int, at: float) -> None:
        """An epoch of a worker is over; the next one begins at that moment."""
        self.busy += at - self._since[worker]
        self.epochs += 1
        task = self._tasks[worker][0]
        self._done[task.id] = number = max(self._done[task.id], task.start) + 1
        u = int(task.run.recipe.fingerprint[:6], 16) / 2**24
        loss = 0.3 + u + (1.5 - u) * math.exp(-number / (2 + 8 * u))
        epoch = Epoch(task.id, number, loss, loss, loss, (0.5, 0.5), 0.1, 1.0, self._seconds,
                      ((0.1, 0.0, 0.01, 0.0),) * 3)
        total = task.run.recipe.whole("epochs")
        end = RunEnd("completed", f"all {total} epochs", total, number, loss
                     ) if number >= total else None
        rests, key = end is None and 0 < task.until <= number, ""
        if end is not None or rests:
            key = key_of(task.id, number)
            self._put(key, b"x" * CHECKPOINT)
            self._tasks[worker].popleft()
        self._reports.append(Trained(worker, task.id, (epoch,), end, rests, key))
        if self._tasks[worker]:
            self._begin(worker, at)

    def release(self, worker: int, run: int) -> None:
        self._reports.append(Returned(worker, (run,)))

    def resize(self, workers: int) -> None:
        """Nothing: there are as many as there are."""

    def hold(self) -> None:
        self._reports.extend(Held(worker) for worker in self._tasks)

    def go(self) -> None:
        """Nothing: nobody pauses."""

    def drop(self) -> None:
        for worker, tasks in self._tasks.items():
            self._reports.append(Returned(worker, tuple(task.id for task in tasks)))
            tasks.clear()
        self._due.clear()

    def close(self) -> None:
        """Nothing is left to end."""


class Clocked:
    """Adds up the seconds spent in functions, by name."""

    def __init__(self) -> None:
        self.seconds: Counter[str] = Counter()
        self.calls: Counter[str] = Counter()

    def around(self, name: str, function: Callable[..., Any]) -> Callable[..., Any]:
        """Return the function with a clock around it."""

        def timed(*args: Any, **kwargs: Any) -> Any:
            started = time.perf_counter()
            try:
                return function(*args, **kwargs)
            finally:
                self.seconds[name] += time.perf_counter() - started
                self.calls[name] += 1

        return timed


def searched(workers: int, data: str) -> SearchFile:
    """Return a race that so many workers never finish."""
    search = SearchFile(name="simulated", data=data, repeats=2, space=space(
        {"epochs": EPOCHS, "patience": 0},
        {"learning_rate": "1e-4 .. 1e-1 log", "batch_size": "16 .. 256 doubling",
         "width": "8 .. 128 log", "dropout": "0 .. 0.5", "weight_decay": "0 .. 0.1"}),
        method=MethodChoice("guided_racing", {"recipes": 10_000}))
    return with_window(search, workers)


def scaled(dataset: Dataset, search: SearchFile, seconds: float) -> Effort:
    """Return the effort of trainings of which an epoch takes some seconds on average."""
    effort, rng = effort_of(dataset), np.random.default_rng(0)
    drawn = (search.space.at(rng.random(len(search.space.knobs)).tolist()) for _ in range(300))
    mean = float(np.mean([effort(recipe, 1) for recipe in drawn if recipe is not None]))
    return lambda recipe, epochs: effort(recipe, epochs) * seconds * A_SECOND / mean


def measured(workers: int, seconds: float, lasting: float, place: Path) -> None:
    """Print a line of the table."""
    workspace = workflows.make_demo(place)
    dataset = workflows.data_set(workspace, "hive states")
    search = searched(workers, dataset.folder.name)
    folder = workspace.search(1)
    folder.mkdir(parents=True)
    (folder / "search.toml").write_text(write_search(search), encoding="utf-8")
    store = store_of(workspace, 1, dataset)
    clocked = Clocked()
    put = clocked.around("checkpoints", lambda key, content: store.put(named(key), content))
    executor = SimulatedExecutor(workers, seconds, put)
    with workspace.locked("search 1"):
        journal = JournalWriter(workspace.journal)
        effort = scaled(dataset, search, seconds)
        with mock.patch.object(running_module, "effort_of", lambda _: effort):
            running = RunningSearch(workspace, 1, search, dataset, journal, executor)
        executor.effort = effort
        found = runner.Runner(running)
        running.history.sequence.method.next = clocked.around(  # type: ignore[method-assign]
            "deciding", running.history.sequence.method.next)
        with mock.patch.object(handing, "enter", clocked.around("steps", handing.enter)), \
                mock.patch.object(runner, "take", clocked.around("reports", reports.take)), \
                mock.patch.object(handing, "give", clocked.around("handing out", handing.give)), \
                mock.patch.object(journal, "add_epochs", clocked.around(
                    "journal of epochs", journal.add_epochs)):
            warm = time.monotonic() + max(3 * seconds, lasting / 3)
            while time.monotonic() < warm:
                found.turn(0.1)
            clocked.seconds.clear(), clocked.calls.clear()
            busy, epochs, started = executor.busy, executor.epochs, time.monotonic()
            thinking = time.process_time()
            while time.monotonic() < started + lasting:
                found.turn(0.1)
            took = time.monotonic() - started
        thinking = time.process_time() - thinking
        journal.close()
    shares = ", ".join(f"{name} {100 * value / took:.0f}" for name, value in
                       clocked.seconds.most_common())
    print(f"| {workers} | {seconds:g} | {100 * (executor.busy - busy) / took / workers:.0f} | "
          f"{(executor.epochs - epochs) / took:.0f} | {clocked.calls['deciding'] / took:.0f} | "
          f"{100 * thinking / took:.0f} | {shares} |", flush=True)


def main(arguments: Sequence[str]) -> None:
    """Print the table."""
    lasting = float(arguments[0]) if arguments else 15.0
    print("| workers | seconds an epoch | workers busy % | reports a second | decisions a second | "
          "runner's processor % | of which, % of the time |\n|---|---|---|---|---|---|---|")
    for workers, seconds in CASES:
        with tempfile.TemporaryDirectory() as place, threadpool_limits(1):
            measured(workers, seconds, lasting, Path(place) / "w")


if __name__ == "__main__":
    main(sys.argv[1:])
