"""Worker processes on this machine, each with its own pipe; one that dies is replaced."""

from __future__ import annotations

import contextlib
import multiprocessing
import os
import signal
from collections.abc import Sequence
from dataclasses import dataclass
from multiprocessing import connection
from multiprocessing.connection import Connection

from axiarch.errors import TrainingError
from axiarch.runner import worker
from axiarch.runner.nursery import Child, Nursery
from axiarch.runner.orders import Begin, Drop, Go, Hold, Order, Quit, Release, Train
from axiarch.runner.store import FolderStore
from axiarch.runner.tasks import Joined, Left, Report, Task

#: Times in a row that a worker's process may end before it ever joined.
_STILLBORN = 3


@dataclass
class _Process:
    """One worker process, and whether it has joined."""

    process: Child
    pipe: Connection
    joined: bool = False


class ProcessExecutor:
    """Trains in worker processes of their own, numbered from 0.

    Parameters
    ----------
    store : FolderStore
        Of this machine; all workers use it.
    workers : int
    """

    ahead, latency = 1, 0.005

    def __init__(self, store: FolderStore, workers: int) -> None:
        self._store = store
        self._nursery = Nursery()
        self._stillborn = 0
        self._held = False
        self._leaving: list[_Process] = []
        self._left: list[Left] = []
        self._workers = {number: self._start(number) for number in range(workers)}

    def _start(self, number: int) -> _Process:
        ours, theirs = multiprocessing.Pipe()
        with theirs:
            process = self._nursery.worker(theirs.fileno())
        found = _Process(process, ours)
        self._order(found, Begin(number, self._store.checkpoints, self._store.data,
                                 self._store.known))
        return found

    def submit(self, worker: int, task: Task) -> None:
        """Let a worker train a task, after those it has."""
        self._send(worker, Train(task))

    def release(self, worker: int, run: int) -> None:
        """Train a run no further."""
        self._send(worker, Release(run))

    def resize(self, workers: int) -> None:
        """Start workers, or give up those of the highest numbers."""
        for number in range(workers):
            if number not in self._workers:
                self._workers[number] = self._start(number)
        for number in [n for n in self._workers if n >= workers]:
            self._send(number, Quit())
            self._leaving.append(self._workers.pop(number))
            self._left.append(Left(number))

    def hold(self) -> None:
        """Pause all workers; each reports when it has."""
        self._held = True
        self._send_all(Hold())

    def go(self) -> None:
        """Resume all workers."""
        self._held = False
        self._send_all(Go())

    def drop(self) -> None:
        """Let all workers give their tasks back."""
        self._send_all(Drop())

    def _send_all(self, order: Order) -> None:
        for number in self._workers:
            self._send(number, order)

    def _send(self, worker: int, order: Order) -> None:
        if worker in self._workers:
            self._order(self._workers[worker], order)

    def _order(self, worker: _Process, order: Order) -> None:
        with contextlib.suppress(OSError):  # the process is gone; poll reports it
            worker.pipe.send(order)

    def poll(self, seconds: float) -> Sequence[Report]:
        """Return what was reported, waiting at most `seconds` for the first.

        Raises
        ------
        TrainingError
            If worker processes end again and again before they join.
        """
        pipes = {worker.pipe: number for number, worker in self._workers.items()}
        reports: list[Report] = [*self._left]
        self._left.clear()
        for pipe in connection.wait(list(pipes), 0 if reports else seconds):
            assert isinstance(pipe, Connection)
            reports += self._read(pipes[pipe])
        return reports

    def _read(self, number: int) -> list[Report]:
        worker = self._workers[number]
        reports: list[Report] = []
        try:
            while worker.pipe.poll():
                report: Report = worker.pipe.recv()
                if isinstance(report, Joined):
                    self._join(worker)
                reports.append(report)
        except (EOFError, OSError):
            reports.append(self._replace(number))
        return reports

    def _join(self, worker: _Process) -> None:
        worker.joined = True
        self._stillborn = 0
        if self._held:
            self._order(worker, Hold())

    def _replace(self, number: int) -> Left:
        """Start a new process in place of one that is gone; say what became of that."""
        old = self._workers[number]
        old.pipe.close()
        old.process.wait(5)
        cause = _cause(old.process.poll())
        if not old.joined:
            self._stillborn += 1
            if self._stillborn >= _STILLBORN:
                raise TrainingError(f"worker processes cannot be started: {cause}", "",
                                    "look into runner.log of this search")
        self._workers[number] = self._start(number)
        return Left(number, cause)

    def close(self) -> None:
        """End all worker processes."""
        self._send_all(Quit())
        for each in (*self._workers.values(), *self._leaving):
            if not each.joined:
                each.process.kill()  # it holds nothing, and would take a while to be ready
            if not each.process.wait(1):
                each.process.kill()
                each.process.wait(5)
            each.pipe.close()
        self._nursery.close()


def _cause(code: int | None) -> str:
    if code is not None and code < 0:
        try:
            return f"the worker was ended by {signal.Signals(-code).name}"
        except ValueError:
            return f"the worker was ended by signal {-code}"
    if code is None:
        return "the worker was ended from outside"
    if code == worker.OUT_OF_MEMORY:
        return "the worker ran out of memory"
    return f"the worker ended with exit code {code}"


def cores() -> int:
    """Return how many cores this process may use."""
    return len(os.sched_getaffinity(0))
