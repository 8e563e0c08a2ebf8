"""What the views show, as one frozen value that the app hands down."""

from __future__ import annotations

import math
from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import Any

from axiarch.data.dataset import Dataset
from axiarch.insight.forecast import Forecast
from axiarch.journal.records import Version
from axiarch.recipes.recipe import Recipe
from axiarch.recipes.searchfile import SearchFile
from axiarch.runs.curve import Curve
from axiarch.workflows.foreseeing import Foresight
from axiarch.workflows.sidebyside import Comparison
from axiarch.workflows.snapshot import Snapshot


@dataclass(frozen=True)
class Marked:
    """A trained recipe that is marked, to be drawn over others.

    Attributes
    ----------
    search, recipe : int
    curves : tuple of Curve
        Of every run, over its seeds and folds.
    steps : int
        Of the optimiser in an epoch.
    values : Recipe
    """

    search: int
    recipe: int
    curves: tuple[Curve, ...]
    steps: int
    values: Recipe

    @property
    def mean(self) -> tuple[float, ...]:
        """The mean validation loss over the runs after each epoch (E,), as long as all of them
        lasted.
        """
        return tuple(math.fsum(losses) / len(losses)
                     for losses in zip(*(c.validation for c in self.curves), strict=False))

    @property
    def level(self) -> float:
        """The mean steady loss over the runs, as the ranking has it."""
        return math.fsum(c.steady for c in self.curves) / len(self.curves)

    @property
    def name(self) -> str:
        """What it is called where several searches are drawn."""
        return f"recipe {self.recipe} of search {self.search}"


@dataclass(frozen=True)
class State:
    """The application as it stands.

    Attributes
    ----------
    looked : bool
        Whether the workspace has been looked at: before, nothing can be said of it.
    dataset : Dataset or None
    draft : SearchFile or None
        The search on the sheet.
    forecast : Forecast or None
        What the draft will take; None while it is worked out.
    forecast_error : str
        Why there is no forecast.
    snapshot : Snapshot or None
        The search being looked at.
    recipe : int
        The recipe that is open; 0 for the leader.
    searches : int
        How many searches there are.
    openings : int
        How often the seal of the data set was opened.
    marked : tuple of Marked
        Recipes marked for comparison, in the order marked.
    comparison : Comparison, str or None
        The marked recipes side by side, in words why their results cannot be compared, or None
        where that is being worked out.
    versions : tuple of Version
        Recipes kept in the workspace, oldest first.
    foresight : Foresight or None
        What is expected of recipes before they are trained.
    predictions : mapping
        By search, recipe and part: the summary of what is predicted, or in words why there is none.
    """

    looked: bool = False
    dataset: Dataset | None = None
    draft: SearchFile | None = None
    forecast: Forecast | None = None
    forecast_error: str = ""
    snapshot: Snapshot | None = None
    recipe: int = 0
    searches: int = 0
    openings: int = 0
    marked: tuple[Marked, ...] = ()
    comparison: Comparison | str | None = None
    versions: tuple[Version, ...] = ()
    foresight: Foresight | None = None
    predictions: Mapping[tuple[int, int, str], dict[str, Any] | str] = field(default_factory=dict)

    @property
    def no_search(self) -> str:
        """What is true where there is no snapshot: there is no search, or it has not been read,
        perhaps never will.
        """
        if self.searches:
            return f"Search {self.searches} has not been read yet."
        return "No search has been started here. Set one up on the sheet (2) and start it with s."

    @property
    def open_recipe(self) -> int:
        """The recipe that is open: the one chosen, else the leader, else the first; 0 if there
        is none.
        """
        s = self.snapshot
        if s is None or not s.recipes:
            return 0
        if self.recipe in s.recipes:
            return self.recipe
        return s.ranking.rows[0].recipe if s.ranking.rows else min(s.recipes)

    def beside(self, by: int) -> int:
        """Return the recipe `by` places further down the ranking."""
        s = self.snapshot
        if s is None or not s.order:
            return self.open_recipe
        here = s.order.index(self.open_recipe) if self.open_recipe in s.order else 0
        return s.order[max(0, min(here + by, len(s.order) - 1))]
