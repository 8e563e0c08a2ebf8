"""States of searches, runs and workers, as the journal holds them."""

from __future__ import annotations

from enum import StrEnum


class SearchState(StrEnum):
    """State of a search; it is `INTERRUPTED` where it should be running and no process runs it."""

    PREPARING = "preparing"
    RUNNING = "running"
    PAUSED = "paused"
    STOPPED = "stopped"
    DONE = "done"
    FAILED = "failed"
    INTERRUPTED = "interrupted"

    @property
    def over(self) -> bool:
        """Whether nothing more happens unless somebody resumes the search."""
        return self in (SearchState.STOPPED, SearchState.DONE, SearchState.FAILED)


class RunState(StrEnum):
    """State of a run. A resting run may be trained further; a cut one was not, and is over."""

    WAITING = "waiting"
    TRAINING = "training"
    RESTING = "resting"
    ENDED = "ended"
    FAILED = "failed"
    CUT = "cut"


class WorkerState(StrEnum):
    """State of a worker; a `SILENT` one has not answered for a while."""

    COMPILING = "compiling"
    IDLE = "idle"
    TRAINING = "training"
    HELD = "held"
    SILENT = "silent"


#: States of a run of which nothing more comes.
OVER = frozenset({RunState.ENDED, RunState.FAILED, RunState.CUT})
