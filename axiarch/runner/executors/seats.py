"""What the runner knows of a machine of a cluster: its seats, one a worker, and their runs."""

from __future__ import annotations

import asyncio
import secrets
import time
from dataclasses import dataclass, field, replace

from axiarch.runner.host import Call
from axiarch.runner.tasks import Failed, Joined, Left, Remark, Report, Returned, Stuck, Trained


@dataclass
class Host:
    """A Dask worker that trains: its address, its seats, and what goes to it next."""

    address: str
    threads: int
    token: str = field(default_factory=lambda: secrets.token_hex(8))
    machine: str = ""
    room: int = 0
    #: The worker of ours in each seat.
    seats: dict[int, int] = field(default_factory=dict)
    #: Runs in the hands of each seat.
    runs: dict[int, set[int]] = field(default_factory=dict)
    #: Seats whose workers have joined.
    joined: set[int] = field(default_factory=set)
    calls: list[Call] = field(default_factory=list)
    checkpoints: dict[str, bytes] = field(default_factory=dict)
    number: int = 0
    heard: float = field(default_factory=time.monotonic)
    silent: bool = False
    wake: asyncio.Event = field(default_factory=asyncio.Event)

    @property
    def busy(self) -> bool:
        """Whether any seat has a run in hand."""
        return any(self.runs.values())

    def noted(self, report: Report) -> Report:
        """Take note of what a seat reports, and return it as the runner knows the worker."""
        if isinstance(report, Remark):
            return report
        seat = report.worker
        self.runs[seat] -= self._let_go(report)
        report = replace(report, worker=self.seats[seat])
        if isinstance(report, Joined):
            self.joined.add(seat)
            return replace(report, machine=self.machine, room=self.room)
        if isinstance(report, Left):
            self.joined.discard(seat)
        return report

    def _let_go(self, report: Report) -> set[int]:
        """Return the runs that a seat no longer has in hand after a report."""
        if isinstance(report, (Left, Joined)):
            return set(self.runs[report.worker])
        if isinstance(report, Trained):
            return {report.run} if report.end is not None or report.rests else set()
        if isinstance(report, (Returned, Stuck)):
            return set(report.runs)
        return {report.run} if isinstance(report, Failed) else set()
