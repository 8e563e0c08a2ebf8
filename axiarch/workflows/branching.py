"""Follow-up searches: a recipe as base, a remedy's knobs as ranges; where searches come from."""

from __future__ import annotations

from collections.abc import Sequence
from contextlib import closing
from dataclasses import dataclass, replace

from axiarch.errors import AxiarchError, RecipeError, TrainingError
from axiarch.insight.proposal import Change, Proposal
from axiarch.journal.read import JournalReader
from axiarch.journal.records import Version
from axiarch.journal.workspace import Workspace
from axiarch.ranking.rank import Ranked
from axiarch.recipes.recipe import Recipe
from axiarch.recipes.searchfile import Branch, MethodChoice, SearchFile, read_search
from axiarch.recipes.space import Space
from axiarch.text import count, duration, loss, number, shown
from axiarch.workflows.comparing import versions
from axiarch.workflows.diagnosing import changes_of, diagnosis
from axiarch.workflows.snapshot import Snapshot
from axiarch.workflows.verdicts import unknown_recipe
from axiarch.workflows.watching import snapshot_of

#: Recipes that a follow-up search tries, and seeds it trains the best on.
RECIPES, SEEDS = 16, 3


def branch(s: Snapshot, recipe: int, proposal: Proposal, change: Change) -> SearchFile:
    """Return the search that tries a change of a recipe: the recipe as it is, and recipes of the
    space that the change proposes, on the same data, folds and seeds.

    Raises
    ------
    TrainingError
        If there is no such recipe.
    RecipeError
        If nothing would change.
    """
    if recipe not in s.recipes:
        raise unknown_recipe(s, recipe)
    base = s.recipes[recipe].recipe
    knobs = change.branch(base)
    if not knobs:
        raise RecipeError("nothing would change", f"recipe {recipe}",
                          "the recipe has these values already")
    space = Space(base, knobs, s.file.space.constraints)
    size = space.combinations
    few = size is not None and size < RECIPES
    method = MethodChoice("grid") if few else MethodChoice("guided", {"recipes": RECIPES})
    reason = f"{proposal.title}: {change.words[0].lower()}{change.words[1:]}"
    name = f"recipe {recipe} of search {s.search.number}, {change.words}"[:200]
    repeats = max(min(s.file.repeats, SEEDS), 2)
    return replace(s.file, name=name, space=space, method=method, repeats=repeats, start=None,
                   branch=Branch(s.search.number, recipe, reason))


def space_of(s: Snapshot, recipe: int) -> Space:
    """Return the space of a search around another base; nothing varies in it."""
    return Space(s.recipes[recipe].recipe, (), s.file.space.constraints)


def branch_of(s: Snapshot, recipe: int, which: int = 1) -> SearchFile:
    """Return the search that a change proposed for a recipe makes, by its number from 1.

    Raises
    ------
    TrainingError
        If there is no such change.
    """
    changes = changes_of(diagnosis(s, recipe))
    if not changes:
        raise TrainingError("nothing is wrong with it that a change would help",
                            f"recipe {recipe} of search {s.search.number}",
                            "see axiarch effects for ranges that could be wider")
    if which > len(changes):
        raise TrainingError(f"there is no change {which}",
                            f"recipe {recipe} of search {s.search.number}",
                            f"give one from 1 to {len(changes)}")
    return branch(s, recipe, *changes[which - 1])


def leader_of(s: Snapshot) -> int:
    """Return the recipe that leads, or the first where none has a result.

    Raises
    ------
    TrainingError
        If no recipe is known.
    """
    if s.ranking.rows:
        return s.ranking.rows[0].recipe
    if not s.recipes:
        raise TrainingError("no recipe has been trained yet", f"search {s.search.number}",
                            "wait for the first epochs")
    return min(s.recipes)


@dataclass(frozen=True)
class Descent:
    """One search in the lineage.

    Attributes
    ----------
    number : int
    depth : int
        Searches that it comes from, one from another.
    name, state, reason : str
    recipe : int
        The recipe that it comes from; 0 for none.
    loss : float or None
        The leader's level, with half its 95 % interval where that is known.
    half : float or None
    gain : str
        What it brought over its base recipe, in words.
    epochs : int
    seconds : float
    versions : tuple of str
        The versions kept whose recipes it trained, each with its loss, in words.
    """

    number: int
    depth: int
    name: str
    state: str
    reason: str
    recipe: int
    loss: float | None
    half: float | None
    gain: str
    epochs: int
    seconds: float
    versions: tuple[str, ...] = ()


def lineage(workspace: Workspace, data: str = "") -> list[Descent]:
    """Return all searches on a data set (by fingerprint; empty for all), each below the one that it
    comes from.
    """
    with closing(JournalReader(workspace.journal)) as reader:
        records = [r for r in reader.searches() if data in ("", r.data_fingerprint)]
    files = {r.number: read_search(r.file, "search.toml") for r in records}
    parents = {n: f.branch.search if f.branch and f.branch.search in files else 0
               for n, f in files.items()}
    found: list[Descent] = []
    kept = versions(workspace)

    def add(search: int, depth: int) -> None:
        try:
            found.append(_descent(snapshot_of(workspace, search), depth, kept))
        except AxiarchError:
            return  # its data set is gone: what it came to cannot be said
        for child in sorted(n for n, parent in parents.items() if parent == search):
            add(child, depth + 1)

    for root in sorted(n for n, parent in parents.items() if not parent):
        add(root, 0)
    return found


def _descent(s: Snapshot, depth: int, kept: Sequence[Version]) -> Descent:
    first = s.ranking.rows[0] if s.ranking.rows else None
    branch_ = s.file.branch
    return Descent(s.search.number, depth, s.search.name, str(s.search.state),
                   branch_.reason if branch_ else "", branch_.recipe if branch_ else 0,
                   first.loss if first else None, first.half_width if first else None,
                   "" if branch_ and branch_.aside else gain_over_base(s), s.epochs, s.taken,
                   tuple(_version_words(s, version) for version in kept
                         if _ranked(s, version.recipe) is not None))


def _ranked(s: Snapshot, recipe: Recipe) -> Ranked | None:
    """Return the place of a recipe in the ranking of a search; None where it has none."""
    return next((row for row in s.ranking.rows
                 if s.recipes[row.recipe].recipe.essence == recipe.essence), None)


def _version_words(s: Snapshot, version: Version) -> str:
    row = _ranked(s, version.recipe)
    assert row is not None
    half = f" ± {row.half_width:.2g}" if row.half_width is not None else ""
    return (f"version {version.number}, {shown(version.name, 40)}: recipe {row.recipe}, place "
            f"{row.place}, {loss(row.loss)}{half}")


def gain_over_base(s: Snapshot) -> str:
    """Say what a search brought over its base recipe; nothing where it tried no other."""
    if len(s.recipes) == 1:
        return ""
    base = _ranked(s, s.file.space.base)
    if base is None or not s.ranking.rows:
        return ""
    first = s.ranking.rows[0]
    if first.recipe == base.recipe:
        return "nothing: its base leads"
    apart = s.ranking.gain_over(base.recipe)
    if apart is None:
        return (f"an improvement of {number(base.loss - first.loss, 2)} over its base, of unknown "
                "uncertainty")
    size = f"{number(apart.better, 2)} ± {apart.half_width:.2g}"
    if apart.sure and apart.better > 0:
        return f"an improvement of {size} over its base"
    if apart.least > 0:
        return (f"an improvement of {number(apart.better, 2)}, at least {number(apart.least, 2)}, "
                "over its base")
    return f"nothing clear over its base: {size}"


def lineage_lines(found: list[Descent]) -> list[str]:
    """Return the lineage as lines of text, a tree."""
    lines = []
    for each in found:
        indent = "   " * (each.depth - 1) + ("└─ " if each.depth else "")
        level = "no result" if each.loss is None else loss(each.loss)
        half = f" ± {each.half:.2g}" if each.half is not None else ""
        lines.append(f"{indent}{each.number}  {shown(each.name, 60)}: {level}{half}; "
                     f"{count(each.epochs, 'epoch')}, {duration(each.seconds)}")
        pad = "   " * each.depth + "   "
        if each.reason:
            lines.append(f"{pad}from recipe {each.recipe}: {shown(each.reason, 100)}")
        if each.gain:
            lines.append(f"{pad}brought {each.gain}")
        lines += [f"{pad}{words}" for words in each.versions]
    return lines or ["No search has been started here."]
