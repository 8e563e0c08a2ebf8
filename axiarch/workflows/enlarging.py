"""More rows or more tuning? A recipe on ever fewer training rows, validated on the same ones."""

from __future__ import annotations

import math
import statistics
from contextlib import closing
from dataclasses import dataclass, replace

from axiarch.data.dataset import Dataset
from axiarch.errors import TrainingError
from axiarch.journal.read import JournalReader
from axiarch.journal.workspace import Workspace
from axiarch.ranking.rows_needed import RowPoint, RowTrend, row_trend
from axiarch.recipes.recipe import Recipe
from axiarch.recipes.searchfile import Branch, MethodChoice, SearchFile, read_search
from axiarch.recipes.space import Space
from axiarch.text import loss, number
from axiarch.workflows.adding import decided
from axiarch.workflows.branching import gain_over_base
from axiarch.workflows.snapshot import Snapshot
from axiarch.workflows.verdicts import unknown_recipe
from axiarch.workflows.watching import snapshot_of

#: Shares of the training rows that the recipe is trained on, seeds of each, and rows at the least.
SHARES, SEEDS, FEWEST = (0.1, 0.2, 0.4, 0.8, 1.0), 3, 20


@dataclass(frozen=True)
class MoreRows:
    """What more training rows would bring a recipe, and what tuning brought.

    Attributes
    ----------
    trend : RowTrend
    tuned : str
        What the search that the recipe is of brought over its base, in words.
    unit : str
    """

    trend: RowTrend
    tuned: str
    unit: str

    def verdict(self) -> str:
        """Say what twice the rows are expected to bring."""
        twice, gain, points = self.trend.twice, self.trend.gain, self.trend.points
        rows = f"{number(2 * points[-1].rows)} training rows instead of {number(points[-1].rows)}"
        sure = gain[1] > 0
        words = (f"{number(gain[0], 2)} lower ({number(gain[1], 2)} to {number(gain[2], 2)})"
                 if sure else "not clearly lower")
        tuned = f" Tuning brought {self.tuned}." if self.tuned else ""
        return (f"With {rows} the validation loss is expected to be {loss(twice[0])} "
                f"({loss(twice[1])} to {loss(twice[2])}, 95 %), {words}.{tuned} The trend is "
                "continued beyond what was measured: take it as a guide.")


def row_searches(workspace: Workspace, s: Snapshot, recipe: int) -> list[SearchFile]:
    """Return the searches that train a recipe on 10, 20, 40, 80 and 100 % of its training rows, on
    three seeds each; data sets with these rows are made where there are none yet.

    Raises
    ------
    TrainingError
        If there is no such recipe, or too few rows.
    """
    if recipe not in s.recipes:
        raise unknown_recipe(s, recipe)
    if not any(row.recipe == recipe for row in s.ranking.rows):
        raise TrainingError(f"recipe {recipe} has no result", f"search {s.search.number}",
                            "choose one that has been trained to its end")
    rows = s.dataset.rows["train"]
    if SHARES[0] * rows < FEWEST:
        raise TrainingError(f"a tenth of {rows} training rows is too few to train on",
                            s.dataset.name, f"use a data set of {math.ceil(FEWEST / SHARES[0])} "
                            "training rows or more")
    found = []
    for share in SHARES:
        data = _with_rows(workspace, s.dataset, round(share * rows)) if share < 1 else s.dataset
        found.append(_search(s, recipe, data))
    return found


def _with_rows(workspace: Workspace, data: Dataset, rows: int) -> Dataset:
    return decided(workspace, data, replace(data.plan, rows=rows), f"{rows} rows")


def _search(s: Snapshot, recipe: int, data: Dataset) -> SearchFile:
    name = f"recipe {recipe} of search {s.search.number} on {number(data.rows['train'])} rows"
    return replace(s.file, name=name, data=data.name, space=Space(s.recipes[recipe].recipe),
                   method=MethodChoice("grid"), repeats=SEEDS, start=None,
                   branch=Branch(s.search.number, recipe, "would more rows help?", True))


def more_rows(workspace: Workspace, s: Snapshot, recipe: int) -> MoreRows:
    """Return what the searches of :func:`row_searches` say, those that have ended.

    Raises
    ------
    TrainingError
        If they have not been run.
    """
    points = row_points(workspace, s, s.recipes[recipe].recipe)
    if len(points) < len(SHARES) - 1:
        raise TrainingError(f"recipe {recipe} has been trained on {len(points)} numbers of rows",
                            f"search {s.search.number}",
                            f"train it on fewer: axiarch rows {recipe} --search {s.search.number}")
    return MoreRows(row_trend(points), gain_over_base(s), s.dataset.target.unit)


def row_points(workspace: Workspace, s: Snapshot, recipe: Recipe) -> list[RowPoint]:
    """Return the losses of a recipe by the training rows of the data sets it was trained on, which
    are the same but for them.
    """
    with closing(JournalReader(workspace.journal)) as reader:
        records = reader.searches()
    losses: dict[int, dict[tuple[int, int, int], float]] = {}  # a run taken over counts once
    for record in records:
        file = read_search(record.file, "search.toml")
        if file.space.base.essence != recipe.essence or file.space.knobs or file.start:
            continue
        other = snapshot_of(workspace, record.number)
        same = replace(other.dataset.plan, rows=s.dataset.plan.rows) == s.dataset.plan
        if not same or other.dataset.table != s.dataset.table:
            continue
        for run in other.runs.values():
            if run.state == "ended" and run.reason != "diverged" and (
                    other.recipes[run.recipe].recipe.essence == recipe.essence):
                losses.setdefault(other.dataset.rows["train"], {})[
                    file.seed, run.repeat, run.fold] = other.curves[run.id].steady
    each = {rows: list(own.values()) for rows, own in sorted(losses.items())}
    return [RowPoint(rows, statistics.fmean(own),
                     statistics.stdev(own) / math.sqrt(len(own)) if len(own) > 1 else 0.0,
                     len(own))
            for rows, own in each.items()]


def row_lines(found: MoreRows) -> list[str]:
    """Return the losses by rows as lines of text."""
    lines = [f"{'training rows':>14}{'loss':>10}{'± seeds':>10}"]
    lines += [f"{number(p.rows):>14}{loss(p.loss):>10}{number(half, 2):>10}"
              for p, half in zip(found.trend.points, found.trend.half_widths, strict=True)]
    twice, low, high = found.trend.twice
    lines.append(f"{number(2 * found.trend.points[-1].rows):>14}{loss(twice):>10}  expected "
                 f"({loss(low)} to {loss(high)})")
    return lines
