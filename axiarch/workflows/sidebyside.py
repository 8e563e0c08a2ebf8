"""Recipes side by side: in which values they differ, what came of each, and how sure that is."""

from __future__ import annotations

import re
from collections.abc import Sequence
from dataclasses import dataclass, replace

from axiarch.errors import AxiarchError, InputError, TrainingError
from axiarch.journal.workspace import Workspace
from axiarch.ranking.rank import STANDING_WORDS, Difference, Ranked, Ranking
from axiarch.recipes.conditions import written
from axiarch.recipes.fields import FIELDS
from axiarch.recipes.recipe import Recipe
from axiarch.runs.lowered import name_of
from axiarch.text import count, loss, measured, number, seconds_text, shown
from axiarch.workflows.comparing import versions
from axiarch.workflows.diagnosing import diagnosis, faults
from axiarch.workflows.joining import Together, joined
from axiarch.workflows.snapshot import Snapshot
from axiarch.workflows.verdicts import unknown_recipe
from axiarch.workflows.watching import snapshot_of

#: Recipes that are compared at the most.
MOST = 6
#: What stands for a value that is not known or has no effect.
_NONE = "–"
#: Times of training below this ratio of each other are called equal: clocks are no better. Runs
#: shorter than so many seconds say nothing of it, as loading takes as long.
_SAME_TIME, _SHORTEST = 1.15, 0.2


@dataclass(frozen=True)
class Side:
    """One of the recipes that are compared.

    Attributes
    ----------
    name : str
        Such as ``recipe 12`` or ``version 3 (recipe 4 of search 2)``.
    search, number : int
        Where it was trained.
    recipe : Recipe
    parameters : int
    row : Ranked or None
        Its place in the ranking; None where it has no result.
    against : Difference or None
        By how much it is better than the first of those compared; None where that is not known.
    ended : str
        Why its first run ended, or how it stands.
    finding : str
        The first thing that is wrong with it; empty for nothing.
    """

    name: str
    search: int
    number: int
    recipe: Recipe
    parameters: int
    row: Ranked | None
    against: Difference | None
    ended: str
    finding: str


@dataclass(frozen=True)
class Comparison:
    """Some recipes side by side, in the order in which they were named.

    Attributes
    ----------
    sides : tuple of Side
    unit : str
        Of the loss.
    metric : str
        The name of the first metric.
    lowered : str
        What is lowered, by name.
    """

    sides: tuple[Side, ...]
    unit: str
    metric: str
    lowered: str = "loss"

    def differing(self) -> list[tuple[str, tuple[str, ...]]]:
        """Return the values in which they differ; see :func:`differing`."""
        return differing([side.recipe for side in self.sides])

    def results(self) -> list[tuple[str, tuple[str, ...]]]:
        """Return what came of them: label and text of each recipe."""
        first = self.sides[0].row
        lines = {
            f"validation {self.lowered}": [_level(s.row) for s in self.sides],
            "against A": [_against(s.against) if i else _NONE for i, s in enumerate(self.sides)],
            "standing": [_standing(s.row) for s in self.sides],
            f"training {self.lowered}": [loss(s.row.training) if s.row else _NONE
                                         for s in self.sides],
            self.metric: [measured(self.metric, s.row.metrics[0]) if s.row and s.row.metrics
                          else _NONE for s in self.sides],
            "kept epoch": [number(s.row.epoch) if s.row else _NONE for s in self.sides],
            "time of a run": [_time(s.row, first) for s in self.sides],
            "parameters": [number(s.parameters) for s in self.sides],
            "ended": [shown(s.ended, 60) for s in self.sides],
            "finding": [s.finding or ("none" if s.row else _NONE) for s in self.sides],
        }
        return [(label, tuple(cells)) for label, cells in lines.items()]

    def verdict(self) -> str:
        """Say by how much the first is better or worse than each other, and at what cost."""
        return " ".join(self._words(self.sides[0], other).strip() for other in self.sides[1:])

    def _words(self, first: Side, other: Side) -> str:
        names = f"{first.name[0].upper()}{first.name[1:]}", other.name
        if first.row is None or other.row is None:
            lacking = first if first.row is None else other
            return f"{lacking.name[0].upper()}{lacking.name[1:]} has no result to compare."
        cost = _cost(first.row.seconds, other.row.seconds)
        if other.against is None:
            return (f"{names[0]} is at {loss(first.row.loss)}, {names[1]} at "
                    f"{loss(other.row.loss)}; how sure that is, is unknown: train both on more "
                    f"seeds. {cost}")
        better, half = -other.against.better, other.against.half_width
        span = f"95 %: {number(abs(better) - half, 2)} to {number(abs(better) + half, 2)}"
        if not other.against.sure:
            return (f"{names[0]} and {names[1]} cannot be distinguished: {number(abs(better), 2)} "
                    f"({span}). {cost}")
        how = "better" if better > 0 else "worse"
        standing = {first.row.standing, other.row.standing} - {"leader"}
        chosen = (" Among all that are ranked the worse one is not ruled out as the best: the best "
                  "of many looks better than it is.") if standing <= {"tied", "open"} else ""
        return (f"{names[0]} is {number(abs(better), 2)} {how} than {names[1]} ({span}).{chosen} "
                f"{cost}")


def differing(recipes: Sequence[Recipe]) -> list[tuple[str, tuple[str, ...]]]:
    """Return the values in which recipes differ: label and value of each recipe, in the order of
    the sheet. A value that has no effect in some, and is the default in all others, says nothing.
    """
    found = []
    for name, field in FIELDS.items():
        values = tuple(written(recipe[name]) if recipe.applies(name) else _NONE
                       for recipe in recipes)
        if len(set(values)) > 1 and set(values) != {_NONE, written(field.default)}:
            found.append((field.label, values))
    return found


def _cost(first: float, other: float) -> str:
    if min(first, other) < _SHORTEST:
        return ""
    times = first / other
    if 1 / _SAME_TIME < times < _SAME_TIME:
        return "Their runs take about as long."
    return f"Its runs take {number(times, 2)} times as long."


def _level(row: Ranked | None) -> str:
    if row is None:
        return _NONE
    half = f" ± {row.half_width:.2g}" if row.half_width is not None else ""
    return f"{loss(row.loss)}{half} ({count(row.repeats, 'run')})"


def _against(difference: Difference | None) -> str:
    if difference is None:
        return "unknown"
    how = "better" if difference.better > 0 else "worse"
    sure = "" if difference.sure else ", unsure"
    return f"{number(abs(difference.better), 2)} ± {difference.half_width:.2g} {how}{sure}"


def _standing(row: Ranked | None) -> str:
    return _NONE if row is None else f"place {row.place}, {STANDING_WORDS[row.standing]}"


def _time(row: Ranked | None, first: Ranked | None) -> str:
    if row is None or not row.seconds:
        return _NONE
    times = f", × {number(row.seconds / first.seconds, 2)}" if (
        first is not None and first is not row and min(first.seconds, row.seconds) >= _SHORTEST
    ) else ""
    return f"{seconds_text(row.seconds)}{times}"


def compare_recipes(workspace: Workspace, s: Snapshot, names: Sequence[str]) -> Comparison:
    """Return recipes side by side.

    Parameters
    ----------
    s : Snapshot
        The search that a number alone is of.
    names : sequence of str
        ``12`` for a recipe of that search, ``2:12`` for one of another, ``base`` for the base of
        that search, ``v3`` for a version that was kept.

    Raises
    ------
    InputError
        If a name is none of these, or there are fewer than two or more than six.
    TrainingError
        If there is no such recipe, or a version was not trained on these data.
    """
    names = list(dict.fromkeys(name.strip() for name in names))
    if not 2 <= len(names) <= MOST:
        raise InputError(f"{count(len(names), 'recipe')} cannot be compared", "RECIPE",
                         f"name from 2 to {MOST}: 12, 2:12, base or v3")
    known = {s.search.number: s}
    places = [_place(workspace, known, s, name) for name in names]
    used = [known[n] for n in dict.fromkeys(search for _, search, _ in places)]
    together = joined(used) if len(used) > 1 else None
    return Comparison(tuple(_side(known[search], together, label, recipe, places[0])
                            for label, search, recipe in places),
                      s.dataset.target.unit, s.dataset.target.metrics[0],
                      name_of(s.dataset.target.measure))


def _place(workspace: Workspace, known: dict[int, Snapshot], s: Snapshot, name: str
           ) -> tuple[str, int, int]:
    """Return what a recipe is called, its search and its number there; searches that are read are
    added to those known.
    """
    here = s.search.number
    if name == "base":
        return _found(s, s.file.space.base, "the base", "the base of this search was not trained")
    if re.fullmatch(r"v\d{1,6}", name):
        return _version(workspace, known, s, int(name[1:]))
    form = re.fullmatch(r"(?:(\d{1,9}):)?(\d{1,9})", name)
    if form is None:
        raise InputError(f"{shown(name, 40)!r} names no recipe", "RECIPE",
                         "give 12, 2:12 for recipe 12 of search 2, base, or v3 for version 3")
    search, recipe = int(form[1] or here), int(form[2])
    if search not in known:
        known[search] = snapshot_of(workspace, search)
    if recipe not in known[search].recipes:
        raise unknown_recipe(known[search], recipe)
    return f"recipe {recipe}" + (f" of search {search}" if search != here else ""), search, recipe


def _found(s: Snapshot, recipe: Recipe, label: str, error: str) -> tuple[str, int, int]:
    number_ = next((n for n, r in s.recipes.items() if r.recipe.essence == recipe.essence), None)
    if number_ is None:
        raise TrainingError(error, f"search {s.search.number}", "name a recipe by its number")
    return f"{label} (recipe {number_})", s.search.number, number_


def _version(workspace: Workspace, known: dict[int, Snapshot], s: Snapshot, wanted: int
             ) -> tuple[str, int, int]:
    """Return where a version was trained on the data of a search: there, or in the newest search
    that has a result of it.
    """
    version = next((v for v in versions(workspace) if v.number == wanted), None)
    if version is None:
        raise InputError(f"there is no version {wanted}", "RECIPE",
                         "k on the sheet keeps one, V lists them")
    numbers = [s.search.number, *sorted(set(workspace.search_numbers()) - {s.search.number},
                                        reverse=True)]
    for search in numbers:
        try:
            other = known.get(search) or snapshot_of(workspace, search)
        except AxiarchError:
            continue  # its data are gone
        if other.dataset.fingerprint != s.dataset.fingerprint:
            continue
        number_ = next((row.recipe for row in other.ranking.rows
                        if other.recipes[row.recipe].recipe.essence == version.recipe.essence),
                       None)
        if number_ is not None:
            known[search] = other
            where = f"recipe {number_}" + (f" of search {search}"
                                           if search != s.search.number else "")
            return f"version {wanted} ({where})", search, number_
    raise TrainingError(
        f"version {wanted} has no result on these data", f"search {s.search.number}",
        "make it the base on the sheet (V, Enter), train it once (o), then compare again")


def _side(s: Snapshot, together: Together | None, label: str, recipe: int,
          first: tuple[str, int, int]) -> Side:
    """Return one recipe with what came of it, ranked with those of other searches if there are."""
    record, here = s.recipes[recipe], s.search.number
    ranking, own, other = s.ranking, recipe, first[2]
    if together is not None:
        ranking = together.ranking
        own, other = (next(n for n, places in together.places.items() if place in places)
                      for place in ((here, recipe), first[1:]))
    row = next((r for r in ranking.rows if r.recipe == own), None)
    against = _difference(ranking, own, other, named=not (
        label.startswith("recipe ") and first[0].startswith("recipe "))) if own != other else None
    runs = s.runs_of(recipe)
    wrong = faults(diagnosis(s, recipe))
    return Side(label, here, recipe, record.recipe, record.parameters, row, against,
                (runs[0].text or str(runs[0].state)) if runs else "not trained",
                wrong[0].title if wrong else "")


def _difference(ranking: Ranking, own: int, other: int, named: bool) -> Difference | None:
    """Return how much lower one recipe is than another. Where one is `named` (the base, a version)
    and the other leads, the optimism of that choice is taken off.
    """
    if named and ranking.rows and ranking.rows[0].recipe == own:
        return ranking.gain_over(other)
    if named and ranking.rows and ranking.rows[0].recipe == other:
        found = ranking.gain_over(own)
        return found and replace(found, better=-found.better)
    return ranking.difference(own, other)


def comparison_lines(found: Comparison, width: int = 24) -> list[str]:
    """Return recipes side by side as lines of text: the values in which they differ, then what
    came of each.
    """
    letters = [chr(ord("A") + i) for i in range(len(found.sides))]
    heads = [f"{letter}  {side.name}" for letter, side in zip(letters, found.sides, strict=True)]
    lines = [*heads, "", "differ in"]
    lines += _table(found.differing(), letters, width) or ["  nothing: they are the same recipe"]
    return [*lines, "", "came to", *_table(found.results(), letters, width)]


def _table(rows: list[tuple[str, tuple[str, ...]]], letters: Sequence[str], width: int
           ) -> list[str]:
    if not rows:
        return []
    wide = [min(max(len(cells[i]) for _, cells in rows), width) + 2 for i in range(len(letters))]
    head = "".join(f"{letter:<{w}}" for letter, w in zip(letters, wide, strict=True))
    lines = [f"  {'':<20}{head}".rstrip()]
    for label, cells in rows:
        row = "".join(f"{_short(cell, w - 2):<{w}}" for cell, w in zip(cells, wide, strict=True))
        lines.append(f"  {label:<20}{row}".rstrip())
    return lines


def _short(text: str, width: int) -> str:
    return text if len(text) <= width else f"{text[: width - 1]}…"


def comparison_json(found: Comparison) -> dict[str, object]:
    """Return recipes side by side, for JSON."""
    return {"verdict": found.verdict(), "recipes": [{
        "name": side.name, "search": side.search, "recipe": side.number,
        "loss": side.row.loss if side.row else None,
        "half_width": side.row.half_width if side.row else None,
        "better_than_first": side.against.better if side.against else None,
        "better_half_width": side.against.half_width if side.against else None,
        "seconds": side.row.seconds if side.row else None, "parameters": side.parameters,
        "ended": side.ended, "wrong": side.finding or None,
        "values": side.recipe.changed_values(),
    } for side in found.sides]}
