"""Who trains: one small interface, with an executor inside this process (for tests) and one of
worker processes.
"""

from __future__ import annotations

import os
from collections import deque
from collections.abc import Sequence
from dataclasses import replace
from typing import Protocol

from axiarch.errors import AxiarchError, NoSpace
from axiarch.runner.tasks import Failed, Held, Ready, Report, Stuck, Task, WantedRun


class Executor(Protocol):
    """Trains tasks in numbered lanes and reports.

    A lane takes a task only after it reported :class:`~axiarch.runner.tasks.Ready`, and is busy
    until it does so again.
    """

    def submit(self, lane: int, task: Task) -> None:
        """Give a ready lane a task."""

    def extend(self, lane: int, run: WantedRun) -> None:
        """Give a busy lane one more run, to train after the others."""

    def release(self, lane: int, run: int) -> None:
        """Train a run no further."""

    def resize(self, lanes: int) -> None:
        """Train in so many lanes from now on; each that is given up is reported."""

    def hold(self) -> None:
        """Make all busy lanes stand still; each reports that it does."""

    def go(self) -> None:
        """Let all lanes go on."""

    def drop(self) -> None:
        """Make all busy lanes leave their tasks; each reports that it is ready."""

    def poll(self, seconds: float) -> Sequence[Report]:
        """Return what was reported, waiting at most `seconds` for the first."""

    def close(self) -> None:
        """End everything."""


class InlineExecutor:
    """Trains in this process, one task at a time, in :meth:`poll`."""

    def __init__(self) -> None:
        self._reports: deque[Report] = deque([Ready(0, os.getpid())])
        self._task: Task | None = None
        self._held = False

    def submit(self, lane: int, task: Task) -> None:
        """Give a ready lane a task."""
        self._task = task

    def extend(self, lane: int, run: WantedRun) -> None:
        """Give a busy lane one more run, to train after the others."""
        if self._task is not None:
            self._task = replace(self._task, runs=(*self._task.runs, run))

    def release(self, lane: int, run: int) -> None:
        """Do nothing: a task here is trained in one go."""

    def resize(self, lanes: int) -> None:
        """Do nothing: there is one lane here."""

    def hold(self) -> None:
        """Stand still."""
        self._held = True
        self._reports.append(Held(0))

    def go(self) -> None:
        """Go on."""
        self._held = False

    def drop(self) -> None:
        """Leave the task."""
        if self._task is not None:
            self._task = None
            self._reports.append(Ready(0, os.getpid()))

    def poll(self, seconds: float) -> Sequence[Report]:
        """Train the task given, if any, and return all reports."""
        from axiarch.runner.session import Session

        if self._task is not None and not self._held:
            task, self._task = self._task, None
            failing = tuple(run.spec.id for run in task.runs)
            try:
                session = Session(task, 0, self._reports.append)
                failing = ()
                session.train()
            except NoSpace as error:
                self._reports.append(Stuck(0, str(error)))
            except AxiarchError as error:
                self._reports.append(Failed(0, failing or (session.now,), str(error)))
            self._reports.append(Ready(0, os.getpid()))
        reports = list(self._reports)
        self._reports.clear()
        return reports

    def close(self) -> None:
        """Nothing is left to end."""
