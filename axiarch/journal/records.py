"""What the journal holds, as frozen values."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass

from axiarch.recipes.conditions import Value
from axiarch.recipes.recipe import Recipe, describe
from axiarch.runs.states import RunState, SearchState, WorkerState
from axiarch.text import shown

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
    worker: int | None
    until: int = 0
    start: int = 0
    taken: int = 0


@dataclass(frozen=True)
class EarlierRun:
    """A run of an earlier search, and the validation losses of its epochs (E,)."""

    id: int
    search: int
    recipe: Recipe
    repeat: int
    fold: int
    state: RunState
    reason: str
    text: str
    best_epoch: int
    losses: tuple[float, ...]

    @property
    def epochs(self) -> int:
        """Epochs that it was trained for."""
        return len(self.losses)


@dataclass(frozen=True)
class KnownRecipe:
    """What a method is given of an earlier search: a recipe, the validation loss of each epoch (E,)
    of its first run, and whether that came to its own end.
    """

    source: int
    recipe: Recipe
    losses: tuple[float, ...]
    ended: bool
    run: int = 0


@dataclass(frozen=True)
class StepRecord:
    """One step of a search, as it was decided when `observed` outcomes had been observed."""

    number: int
    recipe: int
    until: int
    replicates: int
    parent: int
    observed: int
    why: str


@dataclass(frozen=True)
class OverrideRecord:
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
class WorkerRecord:
    """A worker of a running search.

    Attributes
    ----------
    number : int
        From 0.
    machine : str
        Name of the machine it is on; empty for the machine of the runner.
    state : WorkerState
    memory : int
        Bytes that it has to itself; 0 where that is not known.
    busy : float
        Share of one core that it used lately, from 0 to 1.
    """

    number: int
    machine: str
    state: WorkerState
    memory: int = 0
    busy: float = 0.0


@dataclass(frozen=True)
class NoteRecord:
    """Words of a user on a search, a recipe of it (0: the search as a whole), or a run (0: the
    recipe as a whole).
    """

    number: int
    at: float
    search: int
    recipe: int
    run: int
    text: str


@dataclass(frozen=True)
class ProbeRecord:
    """What a probe measured, as JSON."""

    number: int
    at: float
    data: str
    data_fingerprint: str
    kind: str
    recipe: Recipe
    found: str


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
