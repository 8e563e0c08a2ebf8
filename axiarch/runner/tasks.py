"""What the runner and its executors say to each other: frozen values, small, that mean the same
on every machine. No path, no process number and no open file is among them.
"""

from __future__ import annotations

from dataclasses import dataclass

from axiarch.engine.run import RunEnd, RunSpec
from axiarch.runs.epoch import Epoch
from axiarch.runs.rows import RowLosses


@dataclass(frozen=True)
class Task:
    """A run to train, from one epoch to another.

    Attributes
    ----------
    run : RunSpec
    start : int
        Epochs of it that are journalled: it continues from a checkpoint no later than that.
    until : int
        The epoch up to which it is trained; 0 to its own end.
    data : str
        Fingerprint of the data set.
    checkpoints : tuple of str
        Keys of its checkpoints, the latest first.
    origin : str
        Key of the checkpoint that it starts from, where it continues another run; or empty.
    examples : int
        Validation rows whose predictions are reported.
    note : str
        What its checkpoints say they belong to.
    """

    run: RunSpec
    start: int
    until: int
    data: str
    checkpoints: tuple[str, ...] = ()
    origin: str = ""
    examples: int = 0
    note: str = ""

    @property
    def id(self) -> int:
        """The run's number in the journal."""
        return self.run.id


@dataclass(frozen=True)
class Joined:
    """A worker is ready for tasks.

    `machine` is empty where it is the runner's own; `room` are the bytes that it may take for a
    run, 0 where the runner knows better.
    """

    worker: int
    machine: str = ""
    room: int = 0


@dataclass(frozen=True)
class Left:
    """A worker is gone, with a cause where that was not wanted. Its tasks are for others now."""

    worker: int
    cause: str = ""


@dataclass(frozen=True)
class Compiling:
    """A worker compiles the engine before it joins."""

    worker: int
    machine: str = ""


@dataclass(frozen=True)
class Load:
    """What a worker takes: memory of its own in bytes, and the share of a core it used lately."""

    worker: int
    memory: int
    busy: float


@dataclass(frozen=True)
class Silent:
    """Nothing has been heard of a worker for a while. It keeps its tasks, and may answer yet."""

    worker: int


@dataclass(frozen=True)
class Heard:
    """A silent worker answers again."""

    worker: int


@dataclass(frozen=True)
class Held:
    """A worker has paused."""

    worker: int


@dataclass(frozen=True)
class Trained:
    """Epochs of a run, its end if it ended with them, or that it reached the epoch asked for.

    `checkpoint` is the key of the checkpoint after the last of them, or empty. `examples` are
    predictions for some validation rows: probabilities, or scaled amounts. `rows` are the losses
    of validation rows by the weights that an ended run kept; None where it diverged.
    """

    worker: int
    run: int
    epochs: tuple[Epoch, ...]
    end: RunEnd | None = None
    rests: bool = False
    checkpoint: str = ""
    examples: tuple[tuple[float, ...], ...] = ()
    rows: RowLosses | None = None


@dataclass(frozen=True)
class Returned:
    """A worker gives tasks back that are not finished, since it was asked to."""

    worker: int
    runs: tuple[int, ...]


@dataclass(frozen=True)
class Failed:
    """A run cannot be trained, for a reason that trying again will not fix."""

    worker: int
    run: int
    cause: str


@dataclass(frozen=True)
class Stuck:
    """Nothing more can be written; trying again helps once there is space.

    The worker gives all its tasks back.
    """

    worker: int
    runs: tuple[int, ...]
    cause: str


@dataclass(frozen=True)
class Remark:
    """Something about the executor that its user must know, such as a machine that cannot help."""

    text: str


Report = (Joined | Left | Compiling | Load | Silent | Heard | Held | Trained | Returned | Failed
          | Stuck | Remark)
