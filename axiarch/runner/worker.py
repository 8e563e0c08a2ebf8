"""A worker process: takes orders from a pipe, trains, reports; ends when the executor does."""

from __future__ import annotations

import os
import signal
import time
from collections import deque
from multiprocessing.connection import Connection

from axiarch.errors import AxiarchError, NoSpace, out_of_memory
from axiarch.runner.orders import Begin, Drop, Go, Hold, Order, Quit, Release, Train
from axiarch.runner.store import FolderStore
from axiarch.runner.tasks import (
    Compiling,
    Failed,
    Held,
    Joined,
    Load,
    Report,
    Returned,
    Stuck,
    Task,
)

#: The exit code of a worker that ran out of memory.
OUT_OF_MEMORY = 71
#: Seconds of training between two looks at the pipe: how fast a pause takes hold.
_LOOK = 0.05
#: Seconds between two reports of the memory and the processor time it takes.
_LOAD = 1.0


class _Leave(Exception):
    """The task in training is to be left."""


class _End(Exception):
    """The process is to end, or its executor is gone."""


class _Worker:
    """One worker's end of the pipe."""

    def __init__(self, pipe: Connection, begin: Begin) -> None:
        from axiarch.runner.trainer import Trainer

        self._pipe, self._worker = pipe, begin.worker
        self._tasks: deque[Task] = deque()
        self._now: Task | None = None
        self._trainer = Trainer(begin.worker,
                                FolderStore(begin.checkpoints, begin.data, begin.known), self._send)
        self._looked = self._weighed = time.monotonic()
        self._used = time.process_time()

    def work(self) -> None:
        """Do what is ordered, until ordered to quit."""
        try:
            self._send(Joined(self._worker))
            while True:
                while self._tasks:
                    self._train(self._tasks.popleft())
                self._obey(self._receive())
        except (_End, BrokenPipeError, EOFError):
            return

    def _train(self, task: Task) -> None:
        self._now = task
        try:
            self._trainer.begin(task)
            while not self._trainer.step(self._between):
                pass
        except _Leave:
            self._send(Returned(self._worker, self._all()))
        except NoSpace as error:
            self._send(Stuck(self._worker, self._all(), str(error)))
        except (AxiarchError, MemoryError, OSError) as error:
            if out_of_memory(error):
                # One that stayed would fail whatever it is given next; a new one takes its place.
                os._exit(OUT_OF_MEMORY)
            if not isinstance(error, AxiarchError):
                raise
            self._send(Failed(self._worker, task.id, str(error)))
        finally:
            self._now = None

    def _all(self) -> tuple[int, ...]:
        """Return the runs in its hands, and let go of them."""
        runs = tuple(task.id for task in ([self._now] if self._now else []) + list(self._tasks))
        self._tasks.clear()
        return runs

    def _between(self) -> None:
        now = time.monotonic()
        if now - self._looked < _LOOK:
            return
        self._looked = now
        if now - self._weighed >= _LOAD:
            self._weigh(now)
        while self._pipe.poll():
            self._obey(self._receive())

    def _weigh(self, now: float) -> None:
        used = time.process_time()
        self._send(Load(self._worker, memory_taken(),
                        min((used - self._used) / (now - self._weighed), 1.0)))
        self._weighed, self._used = now, used

    def _obey(self, order: Order) -> None:
        if isinstance(order, Train):
            self._tasks.append(order.task)
        elif isinstance(order, Hold):
            self._hold()
        elif isinstance(order, Release):
            self._release(order.run)
        elif isinstance(order, Drop):
            if self._now is not None:
                raise _Leave
            self._send(Returned(self._worker, self._all()))

    def _release(self, run: int) -> None:
        if self._now is not None and self._now.id == run:
            self._trainer.release()
        elif any(task.id == run for task in self._tasks):
            self._tasks = deque(task for task in self._tasks if task.id != run)
            self._send(Returned(self._worker, (run,)))

    def _hold(self) -> None:
        self._send(Held(self._worker))
        while not isinstance(order := self._receive(), Go):
            if not isinstance(order, Hold):
                self._obey(order)
        self._weighed, self._used = time.monotonic(), time.process_time()

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


def memory_taken() -> int:
    """Return the memory that this process has to itself, in bytes."""
    import psutil

    known = psutil.Process().memory_info()
    return int(known.rss - getattr(known, "shared", 0))


def main(descriptor: int) -> None:
    """Work until ordered to quit, in a process of its own with BLAS held to one thread."""
    from threadpoolctl import threadpool_limits

    for each in (signal.SIGINT, signal.SIGHUP):
        signal.signal(each, signal.SIG_IGN)
    os.nice(5)  # the interface comes first
    import numpy  # noqa: F401  (its BLAS must be loaded before it can be limited)

    from axiarch.engine.warm import compiled
    from axiarch.runner import launching

    with Connection(descriptor) as pipe:
        begin = pipe.recv()
        assert isinstance(begin, Begin)
        if not compiled():
            pipe.send(Compiling(begin.worker))
            launching.compile_kernels()
        with threadpool_limits(1):
            _Worker(pipe, begin).work()
