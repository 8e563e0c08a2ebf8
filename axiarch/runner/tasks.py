"""What the runner and its workers say to each other: frozen values, small, no arrays."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path

from axiarch.engine.run import EpochNumbers, RunEnd, RunSpec


@dataclass(frozen=True)
class WantedRun:
    """A run to train, up to epoch `until` (0: to its own end).

    `journalled` epochs of it are known already, so a checkpoint up to there may be used.
    """

    spec: RunSpec
    journalled: int = 0
    until: int = 0


@dataclass(frozen=True)
class Task:
    """Runs for one worker to train, one after the other.

    Attributes
    ----------
    runs : tuple of WantedRun
    data : Path
        Folder of the data set.
    checkpoints : Path
        Folder for checkpoints.
    examples : int
        Validation rows whose predictions are reported.
    note : str
        What its checkpoints say they belong to.
    """

    runs: tuple[WantedRun, ...]
    data: Path
    checkpoints: Path
    examples: int = 0
    note: str = ""


# -- to a worker -----------------------------------------------------------------------------------


@dataclass(frozen=True)
class Train:
    """Train this."""

    task: Task


@dataclass(frozen=True)
class More:
    """Train one more run after the others."""

    run: WantedRun


@dataclass(frozen=True)
class Release:
    """Train a run no further."""

    run: int


@dataclass(frozen=True)
class Hold:
    """Stand still until :class:`Go`."""


@dataclass(frozen=True)
class Go:
    """Go on."""


@dataclass(frozen=True)
class Drop:
    """Leave the task; nothing more is wanted of it."""


@dataclass(frozen=True)
class Quit:
    """End the process."""


Order = Train | More | Release | Hold | Go | Drop | Quit


# -- from a worker ---------------------------------------------------------------------------------


@dataclass(frozen=True)
class Ready:
    """The worker has nothing to do."""

    lane: int
    pid: int


@dataclass(frozen=True)
class Compiling:
    """The worker compiles the engine first: what is compiled is missing or older than its
    source.
    """

    lane: int
    pid: int


@dataclass(frozen=True)
class Trained:
    """Epochs of runs, the runs that ended with them, and those that came as far as wanted.

    `examples` are what runs say of the first validation rows: probabilities or scaled amounts.
    """

    lane: int
    epochs: tuple[tuple[int, EpochNumbers], ...]
    ended: tuple[tuple[int, RunEnd], ...]
    rested: tuple[int, ...] = ()
    examples: tuple[tuple[int, tuple[tuple[float, ...], ...]], ...] = ()


@dataclass(frozen=True)
class Held:
    """The worker stands still."""

    lane: int


@dataclass(frozen=True)
class Failed:
    """A run cannot be trained, for a reason that trying again will not fix."""

    lane: int
    runs: tuple[int, ...]
    cause: str


@dataclass(frozen=True)
class Stuck:
    """The task was left because nothing more can be written; trying again helps once there is
    space.
    """

    lane: int
    cause: str


@dataclass(frozen=True)
class Died:
    """The worker's process is gone; `runs` were in its hands."""

    lane: int
    runs: tuple[int, ...]
    cause: str


@dataclass(frozen=True)
class Left:
    """A lane is given up, as was wanted; what it was training is to be trained by others."""

    lane: int


Report = Ready | Compiling | Trained | Held | Failed | Stuck | Died | Left
