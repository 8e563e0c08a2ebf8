"""What an executor orders a worker process to do: frozen values that go through its pipe."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path

from axiarch.runner.tasks import Task


@dataclass(frozen=True)
class Begin:
    """Where the worker's store is: the first order, within one machine."""

    worker: int
    checkpoints: Path
    data: Path
    known: dict[str, Path]


@dataclass(frozen=True)
class Train:
    """Train this, after what was ordered before."""

    task: Task


@dataclass(frozen=True)
class Release:
    """Train a run no further; give it back."""

    run: int


@dataclass(frozen=True)
class Hold:
    """Pause until :class:`Go`."""


@dataclass(frozen=True)
class Go:
    """Resume."""


@dataclass(frozen=True)
class Drop:
    """Give all tasks back."""


@dataclass(frozen=True)
class Quit:
    """End the process."""


Order = Begin | Train | Release | Hold | Go | Drop | Quit
