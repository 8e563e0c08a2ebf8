"""What the runner knows of its search: recipes, runs, and what was reported of them.

Made from the journal alone, so that a search goes on after any interruption as if there had been none.
"""

from __future__ import annotations

import math
from dataclasses import dataclass, field

from axiarch.engine.run import RunSpec
from axiarch.engine.streams import Streams
from axiarch.errors import TrainingError
from axiarch.journal.read import Changes
from axiarch.journal.records import RunState
from axiarch.recipes.recipe import Recipe
from axiarch.recipes.steady import steady
from axiarch.runner.tasks import WantedRun
from axiarch.search.method import Method, Observation


@dataclass
class RunEntry:
    """One run: what it trains, how far it is journalled, and how often its worker died."""

    spec: RunSpec
    recipe: int
    state: RunState = "waiting"
    journalled: int = 0
    attempts: int = 0
    loss: float = math.inf

    def wanted(self) -> WantedRun:
        """The run as a worker is asked for it."""
        return WantedRun(self.spec, self.journalled)


@dataclass
class Ledger:
    """The search so far.

    Attributes
    ----------
    recipes : dict
        Recipes by number, in the order proposed.
    runs : dict
        Runs by id.
    """

    seed: int
    recipes: dict[int, Recipe] = field(default_factory=dict)
    runs: dict[int, RunEntry] = field(default_factory=dict)

    @classmethod
    def restore(cls, seed: int, known: Changes) -> Ledger:
        """Return the ledger of what is journalled; runs that were in training wait again."""
        ledger = cls(seed, {r.number: r.recipe for r in known.recipes})
        losses: dict[int, list[float]] = {}
        for epoch in known.epochs:
            losses.setdefault(epoch.run, []).append(epoch.validation_loss)
        for run in known.runs:
            entry = ledger.enter(run.id, run.recipe, run.repeat, run.fold)
            entry.journalled = len(losses.get(run.id, ()))
            entry.attempts = run.attempts
            entry.state = run.state if run.state in ("ended", "failed") else "waiting"
            if entry.state == "ended" and run.reason != "diverged":
                entry.loss = steady(losses.get(run.id, ()))[1]
        return ledger

    def enter(self, run: int, recipe: int, repeat: int, fold: int = 0) -> RunEntry:
        """Add a run."""
        spec = RunSpec(run, self.recipes[recipe], Streams(self.seed, repeat, fold))
        self.runs[run] = RunEntry(spec, recipe)
        return self.runs[run]

    def finished(self, recipe: int) -> bool:
        """Say whether nothing more will come of a recipe."""
        return all(r.state in ("ended", "failed") for r in self.runs.values() if r.recipe == recipe)

    def observation(self, recipe: int) -> Observation:
        """Return what became of a recipe."""
        losses = tuple(r.loss for r in self.runs.values() if r.recipe == recipe and r.state == "ended")
        return Observation(self.recipes[recipe], losses)

    def replay(self, method: Method) -> None:
        """Bring a fresh method to where the search stands: propose again, observe again."""
        for number, recipe in self.recipes.items():
            again = method.propose()
            if again != recipe:
                raise TrainingError(f"recipe {number} of this search is proposed differently by this version", "",
                                    "go on with the version that started it, or start a new search")
        for number in self.recipes:
            if self.finished(number):
                method.observe(self.observation(number))
