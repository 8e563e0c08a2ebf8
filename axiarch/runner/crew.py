"""The workers of a search, and the runs in their hands."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass, field

from axiarch.journal.records import WorkerRecord
from axiarch.journal.write import JournalWriter
from axiarch.runs.states import WorkerState


@dataclass
class Worker:
    """A worker that has joined.

    Attributes
    ----------
    runs : list of int
        In its hands, in the order in which it trains them.
    held : bool
        Whether it has paused.
    alone : bool
        Whether no run may wait behind the one that it trains.
    short : bool
        Whether it will soon be through with all its runs.
    silent : bool
        Whether nothing was heard of it for a while.
    memory, busy
        Bytes that it has to itself, and the share of a core that it used lately.
    """

    number: int
    machine: str = ""
    runs: list[int] = field(default_factory=list)
    held: bool = False
    alone: bool = False
    short: bool = False
    silent: bool = False
    memory: int = 0
    busy: float = 0.0

    @property
    def state(self) -> WorkerState:
        """What it does."""
        if self.silent:
            return WorkerState.SILENT
        if self.held:
            return WorkerState.HELD
        return WorkerState.TRAINING if self.runs else WorkerState.IDLE


class Crew:
    """Keeps book of the workers of a search, in the journal too."""

    def __init__(self, journal: JournalWriter, search: int) -> None:
        self._journal, self._search = journal, search
        self.workers: dict[int, Worker] = {}
        #: Workers that may be short of work, in the order in which they became so.
        self.hungry: dict[int, None] = {}
        self.most_memory = 0

    @property
    def busy(self) -> bool:
        """Whether any worker has a run in its hands."""
        return any(worker.runs for worker in self.workers.values())

    @property
    def all_held(self) -> bool:
        """Whether every worker with a run in its hands has paused, or cannot be reached."""
        return all(worker.held or worker.silent for worker in self.workers.values() if worker.runs)

    def join(self, number: int, machine: str) -> list[int]:
        """Enter a worker; return the runs that one of that number had in its hands."""
        before = self.leave(number)
        self.workers[number] = Worker(number, machine)
        self.hungry[number] = None
        self.write(number)
        return before

    def compiling(self, number: int, machine: str) -> None:
        """Enter a worker that cannot train yet."""
        self._journal.set_worker(self._search,
                                 WorkerRecord(number, machine, WorkerState.COMPILING))

    def leave(self, number: int) -> list[int]:
        """Enter that a worker has left; return the runs in its hands."""
        self.hungry.pop(number, None)
        self._journal.drop_worker(self._search, number)
        worker = self.workers.pop(number, None)
        return worker.runs if worker else []

    def give(self, number: int, run: int, alone: bool = False, short: bool = False) -> None:
        """Enter that a worker got a run."""
        worker = self.workers[number]
        worker.short = short and (worker.short or not worker.runs)
        worker.runs.append(run)
        worker.alone = alone
        if len(worker.runs) == 1:
            self.write(number)

    def take(self, number: int, runs: Iterable[int]) -> int:
        """Enter that a worker no longer has some runs; return the one that it begins with now, or
        0.
        """
        worker = self.workers.get(number)
        if worker is None:
            return 0
        first = worker.runs[:1]
        for run in runs:
            if run in worker.runs:
                worker.runs.remove(run)
        self.hungry[number] = None
        if not worker.runs:
            self.write(number)
            return 0
        return worker.runs[0] if worker.runs[:1] != first else 0

    def weigh(self, number: int, memory: int, busy: float) -> None:
        """Enter what a worker takes."""
        worker = self.workers.get(number)
        if worker is not None:
            worker.memory, worker.busy = memory, busy
            self.most_memory = max(self.most_memory,
                                   sum(each.memory for each in self.workers.values()))
            self.write(number)

    def set(self, number: int, held: bool | None = None, silent: bool | None = None) -> None:
        """Enter that a worker has paused or resumed, or is silent or answers again."""
        worker = self.workers.get(number)
        if worker is None:
            return
        was = worker.state
        worker.held = worker.held if held is None else held
        worker.silent = worker.silent if silent is None else silent
        if worker.state != was:
            self.write(number)

    def holder(self, run: int) -> int | None:
        """Return the number of the worker that has a run in its hands."""
        return next((n for n, worker in self.workers.items() if run in worker.runs), None)

    def write(self, number: int) -> None:
        """Enter a worker as it stands."""
        worker = self.workers[number]
        self._journal.set_worker(
            self._search,
            WorkerRecord(number, worker.machine, worker.state, worker.memory, worker.busy))
