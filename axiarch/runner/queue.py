"""Runs that wait for a worker."""

from __future__ import annotations

import heapq

from axiarch.runner.history import RunEntry


class Queue:
    """Waiting runs: first those that begin first by the clock of the search.

    The order changes no decision, only how soon it can be made. A long run that is due late must
    not wait for all that is due sooner: in the end everything would wait for it.
    """

    def __init__(self) -> None:
        self._waiting: dict[int, tuple[float, int, RunEntry]] = {}
        self._heap: list[tuple[float, int, int]] = []
        self._count = 0

    def __len__(self) -> int:
        return len(self._waiting)

    def put(self, run: RunEntry) -> None:
        """Add a run, or change its place where it is due at another time now."""
        self._count += 1
        self._waiting[run.id] = (run.due, self._count, run)
        heapq.heappush(self._heap, (run.due, self._count, run.id))

    def remove(self, run: int) -> None:
        """Take a run out that is not wanted any more."""
        self._waiting.pop(run, None)

    def take(self, behind: bool = False) -> RunEntry | None:
        """Take the run that is due first, and of those due at once the oldest.

        Parameters
        ----------
        behind : bool
            Whether it is to wait behind another in the hands of a worker, which not every run may.
        """
        kept = []
        found = None
        while self._heap and found is None:
            entry = heapq.heappop(self._heap)
            due, count, number = entry
            waiting = self._waiting.get(number)
            if waiting is None or waiting[:2] != (due, count):
                continue  # it was removed, or has another place now
            if behind and waiting[2].alone:
                kept.append(entry)
                continue
            found = waiting[2]
            del self._waiting[number]
        for entry in kept:
            heapq.heappush(self._heap, entry)
        return found
