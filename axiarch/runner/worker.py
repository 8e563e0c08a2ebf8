"""A worker process: takes orders from a pipe, trains, reports; ends when the runner does."""

from __future__ import annotations

import os
import signal
import time
from multiprocessing.connection import Connection

from axiarch.runner.tasks import (
    Compiling,
    Drop,
    Failed,
    Go,
    Held,
    Hold,
    More,
    Order,
    Quit,
    Ready,
    Release,
    Report,
    Stuck,
    Task,
    Train,
)

#: The exit code of a worker that ran out of memory.
OUT_OF_MEMORY = 71
#: Seconds of training between two looks at the pipe: how fast a pause takes hold.
_LOOK = 0.05


class _Leave(Exception):
    """The runner wants this task left."""


class _End(Exception):
    """The runner wants this process to end, or is gone."""


class _Worker:
    """One worker's end of the pipe."""

    def __init__(self, pipe: Connection, lane: int) -> None:
        self._pipe = pipe
        self._lane = lane
        self._looked = 0.0
        self._session: object | None = None

    def work(self) -> None:
        """Do what is ordered until told to quit."""
        try:
            self._send(Ready(self._lane, os.getpid()))
            while True:
                order = self._receive()
                if isinstance(order, Train):
                    self._train(order.task)
                    self._send(Ready(self._lane, os.getpid()))
        except (_End, BrokenPipeError, EOFError):
            return

    def _train(self, task: Task) -> None:
        from axiarch.errors import AxiarchError, NoSpace
        from axiarch.runner.session import Session

        failing = tuple(run.spec.id for run in task.runs)
        try:
            session = Session(task, self._lane, self._send, self._between)
            self._session, failing = session, ()
            session.train()
        except _Leave:
            return
        except NoSpace as error:
            self._send(Stuck(self._lane, str(error)))
        except AxiarchError as error:
            self._send(Failed(self._lane, failing or (session.now,), str(error)))
        except MemoryError:
            os._exit(
                OUT_OF_MEMORY
            )  # one that stayed would fail whatever it is given next; a new one takes its place
        finally:
            self._session = None

    def _between(self) -> None:
        now = time.monotonic()
        if now - self._looked < _LOOK:
            return
        self._looked = now
        while self._pipe.poll():
            self._obey(self._receive())

    def _obey(self, order: Order) -> None:
        from axiarch.runner.session import Session

        if isinstance(order, Hold):
            self._hold()
        elif isinstance(order, Drop):
            raise _Leave
        elif isinstance(order, More) and isinstance(self._session, Session):
            self._session.add(order.run)
        elif isinstance(order, Release) and isinstance(self._session, Session):
            self._session.release(order.run)

    def _hold(self) -> None:
        self._send(Held(self._lane))
        while True:
            order = self._receive()
            if isinstance(order, Go):
                return
            if not isinstance(order, Hold):
                self._obey(order)

    def _receive(self) -> Order:
        try:
            order: Order = self._pipe.recv()
        except (EOFError, OSError):
            raise _End from None
        if isinstance(order, Quit):
            raise _End
        return order

    def _send(self, report: Report) -> None:
        self._pipe.send(report)


def main(pipe: Connection, lane: int) -> None:
    """Work until told to quit; started in a new process with BLAS held to one thread."""
    from threadpoolctl import threadpool_limits

    for each in (signal.SIGINT, signal.SIGHUP):
        signal.signal(each, signal.SIG_IGN)
    os.nice(5)  # the interface comes first
    import numpy  # noqa: F401  (its BLAS must be loaded before it can be limited)

    from axiarch.engine.warm import compiled
    from axiarch.runner import launching

    if not compiled():
        pipe.send(Compiling(lane, os.getpid()))
        launching.compile_kernels()
    with threadpool_limits(1):
        _Worker(pipe, lane).work()
