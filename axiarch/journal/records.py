"""What the journal holds, as frozen values."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Literal

from axiarch.plain import shown
from axiarch.recipes.conditions import Value
from axiarch.recipes.recipe import Recipe, describe

SearchState = Literal["preparing", "running", "paused", "stopped", "done", "failed", "interrupted"]
#: A resting run may be let train further; a cut one was not, and is over.
RunState = Literal["waiting", "training", "resting", "ended", "failed", "cut"]
#: States of which nothing more comes.
OVER: frozenset[RunState] = frozenset({"ended", "failed", "cut"})


#: What a recipe is marked with whose losses are as given.
ELSEWHERE = "trained elsewhere"


@dataclass(frozen=True)
class SearchRecord:
    """A search as it stands. Times are seconds since 1970.

    `busy` are the seconds it ran until `running_since`, where it runs now, or in all.
    """

    number: int
    name: str
    file: str
    data: str
    data_fingerprint: str
    state: SearchState
    why: str
    started: float
    ended: float | None
    busy: float
    running_since: float | None

    def taken(self, now: float) -> float:
        """Return the seconds it has run, pauses left out."""
        if self.running_since is None or self.state != "running":
            return self.busy
        return self.busy + max(now - self.running_since, 0.0)


@dataclass(frozen=True)
class RecipeRecord:
    """A recipe of a search, by its number in the order proposed.

    Attributes
    ----------
    origin : str
        Where it was trained, and its settings that are not ours; empty where it was trained here.
    """

    number: int
    recipe: Recipe
    parameters: int
    origin: str = ""

    def apart(self, other: Mapping[str, Value]) -> str:
        """Return how it differs from another recipe, in words; empty where it does not."""
        words = describe(self.recipe.difference(other))
        if not self.origin:
            return words
        return f"{ELSEWHERE}, {shown(self.origin)}" + (f"; {words}" if words else "")


@dataclass(frozen=True)
class RunRecord:
    """A run as it stands."""

    id: int
    recipe: int
    repeat: int
    fold: int
    state: RunState
    reason: str
    text: str
    best_epoch: int
    attempts: int
    lane: int | None
    until: int = 0
    start: int = 0


@dataclass(frozen=True)
class StepRecord:
    """One step of a search, as it was decided when `told` outcomes had been told."""

    number: int
    recipe: int
    until: int
    blocks: int
    parent: int
    told: int
    why: str


@dataclass(frozen=True)
class RulingRecord:
    """What a user decided when so many steps had been taken."""

    after: int
    what: str
    value: int


@dataclass(frozen=True)
class ExampleRecord:
    """What a watched run says of some validation rows."""

    run: int
    epoch: int
    outputs: tuple[tuple[float, ...], ...]


@dataclass(frozen=True)
class EpochRecord:
    """One journalled epoch of a run; a number that was not finite is read back as infinity."""

    run: int
    epoch: int
    train_loss: float
    train_loss_still: float
    validation_loss: float
    metrics: tuple[float, ...]
    learning_rate: float
    gradient_norm: float
    seconds: float
    layers: tuple[tuple[float, float, float, float], ...] = ()
    waited: float = 0.0
    loss_gradient: float = 0.0


@dataclass(frozen=True)
class EventRecord:
    """Something that happened to a search, in words."""

    seq: int
    at: float
    kind: str
    text: str


@dataclass(frozen=True)
class OpeningRecord:
    """One opening of the seal on a data set's test rows.

    Attributes
    ----------
    at : float
        Seconds since 1970.
    search, recipe : int
        Whose network was scored; 0 where only the baselines were.
    scores : str
        JSON of what was found; empty where scoring did not end.
    """

    at: float
    data: str
    data_fingerprint: str
    rows: int
    reason: str
    search: int = 0
    recipe: int = 0
    scores: str = ""


@dataclass(frozen=True)
class LaneRecord:
    """A worker process of a running search."""

    number: int
    pid: int
    state: str


@dataclass(frozen=True)
class Version:
    """A recipe that was kept.

    Attributes
    ----------
    number : int
        From 1, in the order kept.
    name, note : str
        In the user's words.
    at : float
        Seconds since 1970.
    recipe : Recipe
    """

    number: int
    name: str
    note: str
    at: float
    recipe: Recipe
