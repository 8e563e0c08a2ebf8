"""What the runner knows of its search: recipes, runs, steps, and what was reported of them.

Made from the journal alone, so that a search continues after any interruption as if there had been
none.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass, field

from axiarch.engine.run import RunSpec
from axiarch.engine.streams import Streams
from axiarch.journal.read import Changes
from axiarch.journal.records import OverrideRecord, StepRecord
from axiarch.recipes.recipe import Recipe
from axiarch.runs.states import OVER, RunState
from axiarch.search.method import Method, Observation, Step
from axiarch.search.sequence import Effort, StepSequence, TakenStep, by_epochs

#: A seed's and a fold's number.
Replicate = tuple[int, int]


@dataclass
class RunEntry:
    """One run: what it trains, how far it is journalled, and how often its worker died.

    Attributes
    ----------
    checkpoints : list of str
        Keys of its checkpoints, the latest first.
    origin : str
        Key of the checkpoint that it starts from, where it continues another run; or empty.
    due : float
        When the step that it is trained for ends, by the clock of the search: the step due first is
        the one that the next decision waits for.
    """

    spec: RunSpec
    recipe: int
    state: RunState = RunState.WAITING
    losses: list[float] = field(default_factory=list)
    attempts: int = 0
    until: int = 0
    diverged: bool = False
    checkpoints: list[str] = field(default_factory=list)
    origin: str = ""
    due: float = 0.0

    @property
    def id(self) -> int:
        """Its number in the journal."""
        return self.spec.id

    @property
    def journalled(self) -> int:
        """How many epochs are in the journal."""
        return len(self.losses)

    @property
    def alone(self) -> bool:
        """Whether it trains with none waiting behind it: its worker died, maybe because of it."""
        return self.attempts > 0

    def curve(self, until: int) -> tuple[float, ...]:
        """Return the validation losses up to an epoch (0: all), not finite at the end where it
        diverged by then.
        """
        if self.state == RunState.FAILED and not self.reached(until):
            return ()
        part = tuple(self.losses[:until] if until else self.losses)
        return (*part[:-1], math.inf) if self.diverged and len(part) == len(self.losses) else part

    def reached(self, until: int) -> bool:
        """Say whether it was trained up to an epoch, whatever became of it later."""
        return 0 < until <= self.journalled

    def known(self, until: int) -> bool:
        """Say whether all is known of it up to an epoch (0: to its end)."""
        return self.state in OVER or self.reached(until)

    def over_by(self, until: int) -> bool:
        """Say whether it had come to an end of its own by an epoch (0: at all); to be cut is no
        such end.
        """
        if self.state == RunState.ENDED:
            return not until or self.journalled <= until
        return self.state == RunState.FAILED and not self.reached(until)


class History:
    """The search so far.

    Parameters
    ----------
    seed : int
    replicates : sequence of Replicate
        What each recipe may be trained on, in the order in which steps take them.
    method : Method
        Fresh.
    effort : Effort
        How long a training takes, by the clock of the search.
    """

    def __init__(self, seed: int, replicates: Sequence[Replicate], method: Method,
                 effort: Effort = by_epochs) -> None:
        self.seed = seed
        self.replicates = tuple(replicates)
        self.recipes: dict[int, Recipe] = {}
        self.runs: dict[int, RunEntry] = {}
        self.sequence = StepSequence(method, self.outcome, effort)
        self._of: dict[tuple[int, Replicate], RunEntry] = {}
        #: Recipes that a user cut.
        self.cut_by_hand: set[int] = set()

    @property
    def method(self) -> Method:
        """The method that decides the steps."""
        return self.sequence.method

    def restore(self, known: Changes, steps: Sequence[StepRecord],
                overrides: Sequence[OverrideRecord]) -> None:
        """Take in what is journalled; runs that were in training wait again."""
        self.recipes = {r.number: r.recipe for r in known.recipes}
        losses: dict[int, dict[int, float]] = {}
        for epoch in known.epochs:
            losses.setdefault(epoch.run, {})[epoch.epoch] = epoch.validation_loss
        for run in known.runs:
            entry = self.enter(run.id, run.recipe, (run.repeat, run.fold))
            own = losses.get(run.id, {})
            entry.losses = [own[e] for e in range(1, len(own) + 1) if e in own]
            entry.attempts, entry.until = run.attempts, run.until
            stays = run.state in OVER or run.state == RunState.RESTING
            entry.state = run.state if stays else RunState.WAITING
            entry.diverged = run.reason == "diverged"
        self._replay(steps or [StepRecord(n, n, 0, 0, 0, 0, "") for n in self.recipes], overrides)

    def _replay(self, steps: Sequence[StepRecord], overrides: Sequence[OverrideRecord]) -> None:
        """Bring the method to where the search stands: the same steps, outcomes and overrides in
        the same order.
        """
        waiting = list(overrides)
        seen: set[int] = set()
        for step in steps:
            while waiting and waiting[0].after < step.number:
                self._override(waiting.pop(0))
            number = step.recipe if step.recipe in seen else 0
            seen.add(step.recipe)
            self.take(Step(self.recipes[step.recipe], number, step.until, step.replicates,
                           step.parent, step.why), step.recipe, step.observed)
        for override in waiting:
            self._override(override)

    def take(self, step: Step, number: int, observed: int | None = None) -> list[RunEntry]:
        """Take a step, the one decided or one of an earlier sitting; return the runs it is about.
        """
        taken = self.sequence.take(step, number, observed)
        runs = self.runs_of(number, step.replicates)
        for run in runs:
            run.due = taken.begins
        return runs

    def _override(self, override: OverrideRecord) -> None:
        if override.what == "cut":
            self.cut_by_hand.add(override.value)
        self.sequence.override(override.what, override.value)  # type: ignore[arg-type]

    def enter(self, run: int, recipe: int, replicate: Replicate) -> RunEntry:
        """Add a run."""
        spec = RunSpec(run, self.recipes[recipe], Streams(self.seed, *replicate))
        self.runs[run] = self._of[recipe, replicate] = RunEntry(spec, recipe)
        return self.runs[run]

    def forget(self, recipe: int) -> None:
        """Take out a recipe that could not be entered."""
        self.recipes.pop(recipe, None)
        for entry in self.runs_of(recipe):
            self.runs.pop(entry.id)
        self._of = {key: entry for key, entry in self._of.items() if key[0] != recipe}

    def run_on(self, recipe: int, replicate: Replicate) -> RunEntry | None:
        """Return the run of a recipe on a replicate."""
        return self._of.get((recipe, replicate))

    def runs_of(self, recipe: int, replicates: int = 0) -> list[RunEntry]:
        """Return the runs of a recipe on the first `replicates` (0: all), those that there are."""
        found = (self._of.get((recipe, each)) for each in self.first(replicates))
        return [entry for entry in found if entry is not None]

    def every_run_of(self, recipe: int) -> list[RunEntry]:
        """Return all runs of a recipe, those on seeds beyond the search's included."""
        return [entry for (number, _), entry in sorted(self._of.items()) if number == recipe]

    def first(self, count: int) -> Sequence[Replicate]:
        """Return the first `count` replicates (0: those of the search): beyond these, more seeds
        on every fold.
        """
        if count <= len(self.replicates):
            return self.replicates[:count or None]
        folds = len({fold for _, fold in self.replicates})
        return tuple(divmod(i, folds) for i in range(count))

    def outcome(self, taken: TakenStep) -> Observation | None:
        """Return what came of a step; None while that is not known."""
        until = taken.step.until
        runs = self.runs_of(taken.number, taken.step.replicates)
        if not all(run.known(until) for run in runs):
            return None
        ended = all(run.over_by(until) for run in runs)
        return Observation(taken.number, taken.step.recipe, tuple(run.curve(until) for run in runs),
                           ended)
