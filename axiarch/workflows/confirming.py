"""Confirm a recipe: train it again on fresh seeds, which chose nothing, and compare with what
was expected.
"""

from __future__ import annotations

import math
import statistics
from contextlib import closing
from dataclasses import dataclass, replace

from axiarch.errors import TrainingError
from axiarch.journal.read import JournalReader
from axiarch.journal.workspace import Workspace
from axiarch.recipes.searchfile import Branch, MethodChoice, SearchFile, read_search
from axiarch.recipes.space import Space
from axiarch.text import count, loss
from axiarch.workflows.snapshot import Snapshot
from axiarch.workflows.verdicts import unknown_recipe
from axiarch.workflows.watching import snapshot_of

#: Seeds that a recipe is confirmed on, unless others are asked for.
SEEDS = 5


@dataclass(frozen=True)
class Confirmation:
    """A recipe measured again.

    Attributes
    ----------
    search, recipe : int
        Where it was found.
    again : int
        The search that measured it again.
    before, expected, loss : float
        The mean steady loss there, the same with the optimism of its choice added, and on the fresh
        seeds.
    runs : int
        Fresh runs.
    half_width : float or None
        Half the 95 % interval of the mean over fresh runs (Student 1908); None for a single run.
    reach : float or None
        Half the 95 % interval of the difference of the two means (Welch 1947).
    """

    search: int
    recipe: int
    again: int
    before: float
    expected: float
    loss: float
    runs: int
    half_width: float | None
    reach: float | None

    @property
    def holds(self) -> bool | None:
        """Whether the loss is no higher than chance allows; None where that cannot be said."""
        return None if self.reach is None else self.loss - self.expected <= self.reach

    def __str__(self) -> str:
        half = "" if self.half_width is None else f" ± {self.half_width:.2g} (95 %)"
        found = (
            f"On {count(self.runs, 'fresh seed')} recipe {self.recipe} of search {self.search} has "
            f"a steady loss of {loss(self.loss)}{half}; {loss(self.expected)} was expected.")
        if self.reach is None or self.holds is None:
            return f"{found} One run cannot say whether that holds: confirm it on more seeds."
        if not self.holds:
            return (
                f"{found} That is {loss(self.loss - self.expected)} worse, more than seeds alone "
                "explain: it does not hold.")
        if self.before - self.loss > self.reach:  # on the same rows, whose luck stays
            return f"{found} It holds, and is better than expected."
        return (f"{found} It holds: the difference is within ± {self.reach:.2g}, what seeds alone "
                "explain.")


def confirming_search(workspace: Workspace,
                      snapshot: Snapshot,
                      recipe: int,
                      seeds: int = SEEDS) -> SearchFile:
    """Return the search that trains a recipe on `seeds` seeds that no search of the workspace has
    used.

    Raises
    ------
    TrainingError
        If there is no such recipe.
    """
    if recipe not in snapshot.recipes:
        raise unknown_recipe(snapshot, recipe)
    if snapshot.recipes[recipe].origin:
        raise TrainingError(
            f"recipe {recipe} was trained elsewhere: its settings here may be others",
            f"search {snapshot.search.number}", "confirm a recipe that was trained here")
    with closing(JournalReader(workspace.journal)) as reader:
        used = {read_search(record.file, "search.toml").seed for record in reader.searches()}
    fresh = next(seed for seed in range(1, len(used) + 2) if seed not in used)
    return replace(snapshot.file,
                   name=f"recipe {recipe} of search {snapshot.search.number} on fresh seeds",
                   space=Space(snapshot.recipes[recipe].recipe),
                   repeats=seeds,
                   seed=fresh,
                   start=None,
                   method=MethodChoice("grid", {}),
                   branch=Branch(snapshot.search.number, recipe, "does it hold on fresh seeds?",
                                 aside=True))


def confirmations(workspace: Workspace, snapshot: Snapshot,
                  recipe: int) -> tuple[Confirmation, ...]:
    """Return what other searches found of a recipe on fresh seeds, oldest first.

    A search counts if it trained this one recipe alone, on the same data, by another seed: then its
    seeds chose nothing.
    """
    if recipe not in snapshot.recipes:
        return ()
    values, found = snapshot.recipes[recipe].recipe, []
    with closing(JournalReader(workspace.journal)) as reader:
        records = reader.searches()
    for record in records:
        file = read_search(record.file, "search.toml")
        if (record.number == snapshot.search.number or file.space.knobs or file.start
                or file.seed == snapshot.file.seed or file.space.base != values):
            continue
        other = snapshot_of(workspace, record.number)
        if other.dataset.fingerprint == snapshot.dataset.fingerprint and other.ranking.rows:
            found.append(_compared(snapshot, recipe, other))
    return tuple(found)


def _compared(snapshot: Snapshot, recipe: int, other: Snapshot) -> Confirmation:
    """Compare what was expected of a recipe with what another search found."""
    from scipy.special import stdtrit

    old = [snapshot.curves[r.id].steady for r in snapshot.runs_of(recipe)
           if r.state == "ended" and r.id in snapshot.curves]
    new = [
        other.curves[r.id].steady
        for r in other.runs.values()
        if r.state == "ended" and r.id in other.curves
    ]
    row = next((r for r in snapshot.ranking.rows if r.recipe == recipe), None)
    leads = row is not None and row.standing == "leader"
    optimism = (snapshot.ranking.optimism or 0.0) if leads else 0.0
    mean = statistics.fmean(new)
    seen = statistics.fmean(old) if old else math.nan
    half = reach = None
    if len(new) > 1:
        own = statistics.variance(new) / len(new)
        half = float(stdtrit(len(new) - 1, 0.975)) * math.sqrt(own)
        spread = statistics.variance(old) if len(old) > 1 else statistics.variance(new)
        earlier = spread / max(len(old), 1)
        total = own + earlier
        freedom = total**2 / (own**2 / (len(new) - 1) +
                              earlier**2 / max(len(old) - 1, 1)) if total > 0 else 1.0
        reach = float(stdtrit(freedom, 0.975)) * math.sqrt(total)
    return Confirmation(snapshot.search.number, recipe, other.search.number, seen, seen + optimism,
                        mean, len(new), half, reach)
