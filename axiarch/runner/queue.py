"""Runs that wait for a worker, and which of them go side by side."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

from axiarch.engine.network import StackShape
from axiarch.runner.tasks import WantedRun


@dataclass(frozen=True)
class Waiting:
    """A run that waits; one that was in the hands of a worker that died trains alone."""

    run: WantedRun
    alone: bool = False


class Queue:
    """Waiting runs, oldest first.

    Parameters
    ----------
    shape_of : callable
        Gives the stack shape of a run.
    room : int
        Bytes that a stack may take; 0 for as many as it needs.
    rows : int
        Training rows.
    """

    def __init__(self, shape_of: Callable[[WantedRun], StackShape], room: int = 0, rows: int = 0) -> None:
        self._shape_of = shape_of
        self.room, self._rows = room, rows
        self._waiting: dict[int, tuple[StackShape, Waiting]] = {}

    def __len__(self) -> int:
        return len(self._waiting)

    def put(self, run: WantedRun, alone: bool = False) -> None:
        """Add a run at the end."""
        self._waiting[run.spec.id] = (self._shape_of(run), Waiting(run, alone))

    def remove(self, run: int) -> None:
        """Take a run out that is not wanted any more."""
        self._waiting.pop(run, None)

    def take(self, idle: int) -> tuple[StackShape, tuple[WantedRun, ...]] | None:
        """Take the oldest run and those that can train beside it, for one of `idle` lanes.

        When fewer shapes wait than lanes are idle, a shape's runs are shared out among the lanes. More than fit in
        one stack are taken in stacks of one size, so that no lane waits for another at the end.
        """
        if not self._waiting:
            return None
        shape, first = next(iter(self._waiting.values()))
        if first.alone:
            del self._waiting[first.run.spec.id]
            return shape, (first.run,)
        alike = [w.run for s, w in self._waiting.values() if s == shape and not w.alone]
        shapes = len({s for s, _ in self._waiting.values()})
        lanes = max(idle - shapes + 1, 1)
        most = min(shape.capacity(self.room, self._rows), -(-len(alike) // lanes))
        stacks = -(-len(alike) // most)
        taken = alike[: -(-len(alike) // stacks)]
        for run in taken:
            del self._waiting[run.spec.id]
        return shape, tuple(taken)

    def take_like(self, shape: StackShape) -> WantedRun | None:
        """Take the oldest run of one shape, to fill a place that became free in a stack."""
        for own, waiting in self._waiting.values():
            if own == shape and not waiting.alone:
                del self._waiting[waiting.run.spec.id]
                return waiting.run
        return None
