"""Runs that wait for a worker."""

from __future__ import annotations

from dataclasses import dataclass

from axiarch.runner.tasks import WantedRun


@dataclass(frozen=True)
class Waiting:
    """A run that waits; one that was in the hands of a worker that died trains with none waiting
    behind it.
    """

    run: WantedRun
    alone: bool = False


class Queue:
    """Waiting runs, oldest first."""

    def __init__(self) -> None:
        self._waiting: dict[int, Waiting] = {}

    def __len__(self) -> int:
        return len(self._waiting)

    def put(self, run: WantedRun, alone: bool = False) -> None:
        """Add a run at the end."""
        self._waiting[run.spec.id] = Waiting(run, alone)

    def put_back(self, run: WantedRun, alone: bool = False) -> None:
        """Add a run at the front: its turn had come."""
        self._waiting = {run.spec.id: Waiting(run, alone), **self._waiting}

    def remove(self, run: int) -> None:
        """Take a run out that is not wanted any more."""
        self._waiting.pop(run, None)

    def take(self) -> Waiting | None:
        """Take the oldest run."""
        if not self._waiting:
            return None
        return self._waiting.pop(next(iter(self._waiting)))

    def take_behind(self) -> WantedRun | None:
        """Take the oldest run that may wait behind another in the hands of a worker."""
        for number, waiting in self._waiting.items():
            if not waiting.alone:
                del self._waiting[number]
                return waiting.run
        return None
