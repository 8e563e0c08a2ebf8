"""What the runner and its workers say to each other: frozen values, small, no arrays."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path

from axiarch.engine.network import StackShape
from axiarch.engine.run import EpochNumbers, RunEnd, RunSpec


@dataclass(frozen=True)
class WantedRun:
    """A run to train; `journalled` epochs of it are known already, so a checkpoint up to there may be used."""

    spec: RunSpec
    journalled: int = 0


@dataclass(frozen=True)
class Task:
    """Runs of one shape for one worker to train side by side.

    Attributes
    ----------
    shape : StackShape
    capacity : int
        Runs that fit at once; the others wait for a place.
    runs : tuple of WantedRun
    data : Path
        Folder of the data set.
    checkpoints : Path
        Folder for checkpoints.
    """

    shape: StackShape
    capacity: int
    runs: tuple[WantedRun, ...]
    data: Path
    checkpoints: Path


# -- to a worker -----------------------------------------------------------------------------------


@dataclass(frozen=True)
class Train:
    """Train this."""

    task: Task


@dataclass(frozen=True)
class More:
    """Take one more run of the same shape into the stack as soon as there is a place."""

    run: WantedRun


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


Order = Train | More | Hold | Go | Drop | Quit


# -- from a worker ---------------------------------------------------------------------------------


@dataclass(frozen=True)
class Ready:
    """The worker has nothing to do."""

    lane: int
    pid: int


@dataclass(frozen=True)
class Trained:
    """One epoch of a stack: numbers of each run, and those that ended with it."""

    lane: int
    epochs: tuple[tuple[int, EpochNumbers], ...]
    ended: tuple[tuple[int, RunEnd], ...]


@dataclass(frozen=True)
class Held:
    """The worker stands still."""

    lane: int


@dataclass(frozen=True)
class Failed:
    """A run cannot be trained, for a reason that trying again will not mend."""

    lane: int
    runs: tuple[int, ...]
    cause: str


@dataclass(frozen=True)
class Died:
    """The worker's process is gone; `runs` were in its hands."""

    lane: int
    runs: tuple[int, ...]
    cause: str


Report = Ready | Trained | Held | Failed | Died
