"""Worker processes, one a lane, each with its own pipe; a lane whose process dies gets a new
one.
"""

from __future__ import annotations

import multiprocessing
import os
import signal
from collections.abc import Sequence
from dataclasses import dataclass, field
from multiprocessing import connection
from multiprocessing.connection import Connection
from multiprocessing.context import SpawnProcess

from axiarch.errors import TrainingError
from axiarch.runner import worker
from axiarch.runner.launching import environment
from axiarch.runner.tasks import (
    Died,
    Drop,
    Failed,
    Go,
    Hold,
    Left,
    More,
    Order,
    Quit,
    Ready,
    Release,
    Report,
    Task,
    Train,
    Trained,
    WantedRun,
)

#: Times in a row that a lane's process may end before it was ever ready.
_STILLBORN = 3


@dataclass
class _Lane:
    """One worker process and what is in its hands."""

    process: SpawnProcess
    pipe: Connection
    runs: set[int] = field(default_factory=set)
    busy: bool = False
    ready_once: bool = False


class ProcessExecutor:
    """Trains in `lanes` worker processes of their own."""

    def __init__(self, lanes: int) -> None:
        os.environ.update(environment())  # what workers are started with; one thread each
        self._context = multiprocessing.get_context("spawn")
        self._stillborn = 0
        self._leaving: list[_Lane] = []
        self._left: list[Left] = []
        self._lanes = {number: self._start(number) for number in range(lanes)}

    def _start(self, number: int) -> _Lane:
        ours, theirs = self._context.Pipe()
        process = self._context.Process(target=worker.main, args=(theirs, number), daemon=True,
                                        name=f"axiarch worker {number}")
        process.start()
        theirs.close()
        return _Lane(process, ours)

    def submit(self, lane: int, task: Task) -> None:
        """Give a ready lane a task."""
        own = self._lanes[lane]
        own.runs = {run.spec.id for run in task.runs}
        own.busy = True
        self._send(lane, Train(task))

    def extend(self, lane: int, run: WantedRun) -> None:
        """Give a busy lane one more run, to train after the others."""
        self._lanes[lane].runs.add(run.spec.id)
        self._send(lane, More(run))

    def release(self, lane: int, run: int) -> None:
        """Train a run no further."""
        self._lanes[lane].runs.discard(run)
        self._send(lane, Release(run))

    def resize(self, lanes: int) -> None:
        """Start lanes, or give up those of the highest numbers; they are reported with the next
        poll.
        """
        for number in range(lanes):
            if number not in self._lanes:
                self._lanes[number] = self._start(number)
        for number in [n for n in self._lanes if n >= lanes]:
            self._send(number, Quit())
            self._leaving.append(self._lanes.pop(number))
            self._left.append(Left(number))

    def hold(self) -> None:
        """Make all busy lanes stand still; each reports that it does."""
        self._send_busy(Hold())

    def go(self) -> None:
        """Let all lanes go on."""
        self._send_busy(Go())

    def drop(self) -> None:
        """Make all busy lanes leave their tasks; each reports that it is ready."""
        self._send_busy(Drop())

    def _send_busy(self, order: Order) -> None:
        for number, lane in self._lanes.items():
            if lane.busy:
                self._send(number, order)

    def _send(self, lane: int, order: Order) -> None:
        try:
            self._lanes[lane].pipe.send(order)
        except (BrokenPipeError, OSError):
            pass  # the process is gone; poll reports it

    def poll(self, seconds: float) -> Sequence[Report]:
        """Return what was reported, waiting at most `seconds` for the first.

        Raises
        ------
        TrainingError
            If worker processes end again and again before they are ready.
        """
        pipes = {lane.pipe: number for number, lane in self._lanes.items()}
        reports: list[Report] = [*self._left]
        self._left.clear()
        for pipe in connection.wait(list(pipes), 0 if reports else seconds):
            assert isinstance(pipe, Connection)
            reports += self._read(pipes[pipe])
        return reports

    def _read(self, number: int) -> list[Report]:
        lane = self._lanes[number]
        reports: list[Report] = []
        try:
            while lane.pipe.poll():
                report: Report = lane.pipe.recv()
                self._note(lane, report)
                reports.append(report)
        except (EOFError, OSError):
            reports.append(self._replace(number))
        return reports

    def _note(self, lane: _Lane, report: Report) -> None:
        if isinstance(report, Ready):
            lane.busy, lane.ready_once = False, True
            lane.runs = set()
            self._stillborn = 0
        elif isinstance(report, Trained):
            lane.runs -= {run for run, _ in report.ended}
        elif isinstance(report, Failed):
            lane.runs -= set(report.runs)

    def _replace(self, number: int) -> Died:
        """Start a new process in a lane whose process is gone; say what the old one held."""
        lane = self._lanes[number]
        lane.pipe.close()
        lane.process.join(5)
        cause = _cause(lane.process.exitcode)
        if not lane.ready_once:
            self._stillborn += 1
            if self._stillborn >= _STILLBORN:
                raise TrainingError(f"worker processes cannot be started: {cause}", "",
                                    "look into runner.log of this search")
        self._lanes[number] = self._start(number)
        return Died(number, tuple(sorted(lane.runs)), cause)

    def close(self) -> None:
        """End all worker processes."""
        for number in self._lanes:
            self._send(number, Quit())
        for lane in (*self._lanes.values(), *self._leaving):
            lane.process.join(1)
            if lane.process.is_alive():
                lane.process.kill()
                lane.process.join(5)
            lane.pipe.close()


def _cause(code: int | None) -> str:
    if code is not None and code < 0:
        try:
            return f"the worker was ended by {signal.Signals(-code).name}"
        except ValueError:
            return f"the worker was ended by signal {-code}"
    if code == worker.OUT_OF_MEMORY:
        return "the worker ran out of memory"
    return f"the worker ended with exit code {code}"
