"""A search as it stands, as a frozen value."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from functools import cached_property

import numpy as np
from numpy.typing import NDArray

from axiarch.data.dataset import Dataset
from axiarch.insight.forecast import Forecast
from axiarch.journal.records import (
    EventRecord,
    ExampleRecord,
    OpeningRecord,
    RecipeRecord,
    RunRecord,
    SearchRecord,
    WorkerRecord,
)
from axiarch.ranking.claims import Claim
from axiarch.ranking.rank import Ranking
from axiarch.recipes.searchfile import SearchFile
from axiarch.runs.curve import Curve
from axiarch.runs.rows import RowLosses
from axiarch.runs.states import OVER

Floats = NDArray[np.float64]


@dataclass(frozen=True)
class Snapshot:
    """A search as it stands.

    Attributes
    ----------
    search : SearchRecord
        Its state is ``interrupted`` where it should be running and no process runs it.
    file : SearchFile
    dataset : Dataset
    recipes : mapping of int to RecipeRecord
    runs : mapping of int to RunRecord
    curves : mapping of int to Curve
        By run.
    ranking : Ranking
    workers : tuple of WorkerRecord
    events : tuple of EventRecord
    expected_runs : int
        Runs in all, at the most.
    seconds_left : float or None
    taken : float
        Seconds it has run, pauses left out.
    expected_epochs : float
        Epochs in all, about and at the most, of a method that decides how long each recipe is
        trained; else 0.
    examples : mapping of int to ExampleRecord
        By run: what watched runs say of some validation rows.
    forecast : Forecast or None
        What it was expected to take, if that was worked out before it started.
    memory : int
        Bytes that all workers together took at the most; 0 while it runs.
    openings : tuple of OpeningRecord
        When the seal on the test rows of its data was opened, oldest first.
    skill : mapping of str to Claim
        How the leader compares with the baseline and the linear model, where that is known.
    rows : mapping of int to RowLosses
        By run, the losses of validation rows by the weights that it kept.
    """

    search: SearchRecord
    file: SearchFile
    dataset: Dataset
    recipes: Mapping[int, RecipeRecord]
    runs: Mapping[int, RunRecord]
    curves: Mapping[int, Curve]
    ranking: Ranking
    workers: tuple[WorkerRecord, ...]
    events: tuple[EventRecord, ...]
    expected_runs: int
    seconds_left: float | None
    taken: float
    expected_epochs: float = 0.0
    examples: Mapping[int, ExampleRecord] = field(default_factory=dict)
    forecast: Forecast | None = None
    memory: int = 0
    openings: tuple[OpeningRecord, ...] = ()
    skill: Mapping[str, Claim] = field(default_factory=dict)
    rows: Mapping[int, RowLosses] = field(default_factory=dict, repr=False)

    @cached_property
    def ended_runs(self) -> int:
        """Runs of which nothing more will come."""
        return sum(r.state in OVER for r in self.runs.values())

    @cached_property
    def epochs(self) -> int:
        """Epochs trained in all runs together."""
        return sum(map(len, self.curves.values())) - sum(
            max(r.start, r.taken) for r in self.runs.values())

    @cached_property
    def taken_over(self) -> int:
        """Epochs that are those of earlier searches, and were not trained again."""
        return sum(r.taken for r in self.runs.values())

    @property
    def over(self) -> bool:
        """Whether nothing more will change by itself."""
        return self.search.state in ("done", "stopped", "failed", "interrupted")

    @cached_property
    def best_so_far(self) -> tuple[Floats, Floats]:
        """The lowest steady loss of any run that has ended, as steps: epochs of all runs spent
        by then, and losses.
        """
        ends = sorted((curve.spent[-1], curve.steady) for run, curve in self.curves.items()
                      if self.runs[run].state == "ended" and self.runs[run].reason != "diverged")
        x, y = [], []
        best = np.inf
        for spent, level in ends:
            if level < best:
                x += [spent, spent]
                y += [best, level]
                best = level
        if x:
            x.append(max(c.spent[-1] for c in self.curves.values()))
            y.append(best)
        return np.array(x[1:], dtype=np.float64), np.array(y[1:], dtype=np.float64)

    @cached_property
    def order(self) -> tuple[int, ...]:
        """The recipes as the ranking lists them: ranked, cut or resting, without a result."""
        return (*(r.recipe for r in self.ranking.rows), *(p.recipe for p in self.ranking.partial),
                *self.ranking.broken)

    def runs_of(self, recipe: int) -> list[RunRecord]:
        """Return the runs of a recipe by repeat and fold."""
        return sorted((r for r in self.runs.values() if r.recipe == recipe),
                      key=lambda r: (r.repeat, r.fold))

    def curves_of(self, recipe: int) -> tuple[Curve, ...]:
        """Return the curves of all runs of a recipe that have an epoch, by repeat and fold."""
        return tuple(self.curves[r.id] for r in self.runs_of(recipe) if self.curves.get(r.id))

    def steps(self, recipe: int, fold: int = 0) -> int:
        """Return the steps of the optimiser in an epoch of a recipe on a fold."""
        return self.recipes[recipe].recipe.steps(self.dataset.folds[fold].rows["train"])

    def run_name(self, run: RunRecord) -> str:
        """Return what tells a run from the others of its recipe: its seed, and its fold if there
        are several.
        """
        return f"seed {run.repeat + 1}" + (f", fold {run.fold + 1}"
                                           if len(self.dataset.folds) > 1 else "")
