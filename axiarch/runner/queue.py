"""Runs that wait for a worker."""

from __future__ import annotations

from axiarch.runner.history import RunEntry


class Queue:
    """Waiting runs, oldest first."""

    def __init__(self) -> None:
        self._waiting: dict[int, RunEntry] = {}

    def __len__(self) -> int:
        return len(self._waiting)

    def put(self, run: RunEntry) -> None:
        """Add a run at the end."""
        self._waiting[run.id] = run

    def put_back(self, run: RunEntry) -> None:
        """Add a run at the front: its turn had come."""
        self._waiting = {run.id: run, **self._waiting}

    def remove(self, run: int) -> None:
        """Take a run out that is not wanted any more."""
        self._waiting.pop(run, None)

    def take(self) -> RunEntry | None:
        """Take the oldest run."""
        if not self._waiting:
            return None
        return self._waiting.pop(next(iter(self._waiting)))

    def take_behind(self) -> RunEntry | None:
        """Take the oldest run that may wait behind another in the hands of a worker."""
        for number, run in self._waiting.items():
            if not run.alone:
                return self._waiting.pop(number)
        return None
