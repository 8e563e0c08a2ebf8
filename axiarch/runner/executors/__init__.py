"""Who trains: one small seam, and executors behind it, one file each."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Protocol

from axiarch.errors import TrainingError
from axiarch.runner.tasks import Report, Task


class ExecutorLost(TrainingError):
    """Nothing can be trained here any more; the search can be resumed, here or elsewhere."""


class Executor(Protocol):
    """Trains tasks with workers that join and leave, and reports.

    A worker has joined when it is reported as :class:`~axiarch.runner.tasks.Joined`. It trains its
    tasks in the order in which they were submitted. Of each task there comes one of: an end, a
    rest, a failure, that it was given back, or that its worker left.

    Attributes
    ----------
    ahead : int
        Tasks that may wait behind a short one in training, so that a worker never waits for more.
    latency : float
        Seconds from the end of a task to the beginning of the next one, if none waits behind it.
    """

    ahead: int
    latency: float

    def submit(self, worker: int, task: Task) -> None:
        """Let a worker train a task, after those it has."""

    def release(self, worker: int, run: int) -> None:
        """Train a run no further: it ends, or is given back."""

    def resize(self, workers: int) -> None:
        """Set the number of workers; each that is given up is reported to leave.

        Raises
        ------
        TrainingError
            If the executor does not decide that.
        """

    def hold(self) -> None:
        """Pause all workers; each reports when it has."""

    def go(self) -> None:
        """Resume all workers."""

    def drop(self) -> None:
        """Let all workers give their tasks back."""

    def poll(self, seconds: float) -> Sequence[Report]:
        """Return what was reported, waiting at most `seconds` for the first.

        Raises
        ------
        AxiarchError
            If nothing can be trained any more.
        """

    def close(self) -> None:
        """End everything."""
