"""Rank the recipes of several searches together: on the same data and split, and on no others."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from axiarch.data.kept import lowered_rows
from axiarch.errors import InputError
from axiarch.journal.workspace import Workspace
from axiarch.ranking.rank import STANDING_WORDS, Ranked, Ranking, RunResult, rank
from axiarch.recipes.recipe import Recipe
from axiarch.search.methods import make_method
from axiarch.text import count, loss
from axiarch.workflows.leading import groups
from axiarch.workflows.ranked import design_of
from axiarch.workflows.snapshot import Snapshot
from axiarch.workflows.watching import snapshot_of


@dataclass(frozen=True)
class Together:
    """Recipes of several searches in one ranking.

    Attributes
    ----------
    snapshots : tuple of Snapshot
    ranking : Ranking
        Its recipes are numbered anew.
    recipes : mapping of int to Recipe
        By the new numbers.
    places : mapping of int to tuple of (int, int)
        The search and number of each recipe, everywhere that it was trained.
    """

    snapshots: tuple[Snapshot, ...]
    ranking: Ranking
    recipes: dict[int, Recipe]
    places: dict[int, tuple[tuple[int, int], ...]]

    def name(self, recipe: int) -> str:
        """Return where a recipe was trained, such as ``3:12``."""
        return " ".join(f"{search}:{n}" for search, n in self.places[recipe])

    def verdict(self) -> str:
        """Say which leads, and which search brought it."""
        rows = self.ranking.rows
        if not rows:
            return "No recipe of these searches has a result."
        first = rows[0]
        half = f" ± {first.half_width:.2g} (95 %)" if first.half_width is not None else ""
        others = (" With one seed per recipe the uncertainty is unknown."
                  if self.ranking.evidence is None else f" {groups(self.ranking)}"
                  if len(rows) > 1 else "")
        return (f"Of {count(len(rows), 'recipe')} in {len(self.snapshots)} searches, "
                f"recipe {self.name(first.recipe)} leads at {loss(first.loss)}{half}.{others}")


def together(workspace: Workspace, numbers: Sequence[int]) -> Together:
    """Return the ranking of several searches.

    Runs of a recipe that several searches trained are counted once each. Recipes share a replicate
    where seed, repeat and fold are the same.

    Raises
    ------
    InputError
        If they are of different data or splits, or fewer than two.
    """
    numbers = list(dict.fromkeys(numbers))
    if len(numbers) < 2:
        raise InputError("one search is ranked by itself", "searches", "name two or more")
    return joined([snapshot_of(workspace, n) for n in numbers])


def joined(found: Sequence[Snapshot]) -> Together:
    """Return the ranking of several searches, given as they stand; see :func:`together`."""
    first = found[0]
    for other in found[1:]:
        if other.dataset.fingerprint != first.dataset.fingerprint:
            raise InputError(
                f"search {first.search.number} and search {other.search.number} are of other data "
                "or another split: their losses cannot be compared", "searches",
                "name searches on the same data set")
    ids: dict[object, int] = {}
    recipes: dict[int, Recipe] = {}
    places: dict[int, list[tuple[int, int]]] = {}
    parameters: dict[int, int] = {}
    results: dict[tuple[int, int, int, int], RunResult] = {}
    broken: list[int] = []
    learns = any(make_method(s.file.method, s.file.space, s.file.seed).learns for s in found)
    for s in found:
        for n, record in s.recipes.items():
            key = (s.search.number, n) if record.origin else record.recipe.essence
            own = ids.setdefault(key, len(ids) + 1)
            recipes[own], parameters[own] = record.recipe, record.parameters
            places.setdefault(own, []).append((s.search.number, n))
            for run in s.runs_of(n):
                if run.state == "failed":
                    broken.append(own)
                if run.state != "ended":
                    continue
                c, replicate = s.curves[run.id], _replicate(s, run.repeat, first)
                shared = None if record.origin else (replicate, run.fold)
                results[own, s.file.seed, run.repeat, run.fold] = RunResult(
                    own, c.validation, c.train_loss_eval, c.metrics, c.total_seconds,
                    run.reason != "diverged", shared,
                    lowered_rows(s.dataset, run.fold, s.rows.get(run.id)))
    design = design_of(first.dataset, learns, first.file.repeats)
    ranking = rank(results.values(), parameters, broken, design, first.dataset.target.root)
    return Together(tuple(found), ranking, recipes, {n: tuple(p) for n, p in places.items()})


def _replicate(s: Snapshot, repeat: int, first: Snapshot) -> int:
    """Return the number of a seed that searches of the same seed share."""
    return repeat if s.file.seed == first.file.seed else repeat + 1000 * (1 + s.file.seed % 10**6)


def together_lines(found: Together, most: int = 15) -> list[str]:
    """Return the ranking as lines of text; none where nothing is ranked."""
    if not found.ranking.rows:
        return []
    lines = [f"{'place':>5} {'search:recipe':<16}{'loss':>9}{'±':>8}{'seeds':>6}  standing"]
    shown = found.ranking.rows[:most]
    for row in shown:
        half = "" if row.half_width is None else f"{row.half_width:.2g}"
        lines.append(f"{row.place:>5} {found.name(row.recipe):<16}{loss(row.loss):>9}{half:>8}"
                     f"{row.repeats:>6}  {STANDING_WORDS[row.standing]}")
    left = len(found.ranking.rows) - len(shown)
    if left:
        lines.append(f"      … and {left} more; --most {len(found.ranking.rows)} prints all")
    return lines


def together_json(found: Together) -> dict[str, object]:
    """Return the ranking, for JSON."""

    def row(each: Ranked) -> dict[str, object]:
        return {"place": each.place, "standing": each.standing, "loss": each.loss,
                "half_width": each.half_width, "half_width_seeds": each.seeds_half,
                "half_width_rows": each.rows_half, "runs": each.repeats,
                "trained_in": [list(p) for p in found.places[each.recipe]],
                "values": found.recipes[each.recipe].changed_values()}

    return {"searches": [s.search.number for s in found.snapshots],
            "ranking": [row(each) for each in found.ranking.rows], "verdict": found.verdict()}
