"""List the recipes of a search: in another order, only some of them, the cheapest of the best."""

from __future__ import annotations

import math
import re
from collections.abc import Callable, Mapping

from axiarch.errors import InputError
from axiarch.ranking.capacity import knee
from axiarch.ranking.rank import Ranked
from axiarch.recipes.conditions import Value
from axiarch.recipes.constraints import parse_constraint
from axiarch.recipes.fields import FIELDS
from axiarch.recipes.notation import parse_range
from axiarch.text import count, duration, loss, number, shown
from axiarch.workflows.snapshot import Snapshot
from axiarch.workflows.verdicts import unranked

#: Whether a recipe is listed.
Filter = Callable[[Mapping[str, Value]], bool]

#: What recipes can be ordered by besides their place, and the words for it.
ORDERS: dict[str, Callable[[Ranked], float]] = {
    "place": lambda row: row.place, "parameters": lambda row: row.parameters,
    "time": lambda row: row.seconds, "training loss": lambda row: row.training,
    "gap": lambda row: row.gap, "runs": lambda row: -row.repeats}


def parse_filter(text: str) -> Filter:
    """Return what a text such as ``optimiser = adam and width <= 64`` keeps.

    Conditions are those of the notation (``optimiser = adam | sgd``) and of constraints
    (``width * depth <= 1024``), joined by *and*.

    Raises
    ------
    InputError
        Naming the part that cannot be read.
    """
    parts = re.split(r"\s+and\s+", text.strip()) if text.strip() else []
    kept = [_condition(part) for part in parts]
    return lambda recipe: all(holds(recipe) for holds in kept)


def _condition(part: str) -> Filter:
    name = re.match(r"\s*(\w+)", part)
    if name and name[1] not in FIELDS:
        raise InputError(f"no value of a recipe is called {shown(name[1], 40)!r}",
                         f"filter {shown(part, 60)!r}", "such as: optimiser = adam and width <= 64")
    try:
        condition = parse_range("dropout", f"0 .. 0.5 when {part}")[1]
        assert condition is not None
        return condition.holds
    except InputError:
        try:
            return parse_constraint(part).holds
        except InputError:
            raise InputError("the condition cannot be read", f"filter {shown(part, 60)!r}",
                             "such as: optimiser = adam | sgd and width * depth <= 512") from None


def listed(snapshot: Snapshot, order: str = "place", where: str = "") -> list[int]:
    """Return the recipes of a search that are listed, ranked ones first.

    Parameters
    ----------
    order : str
        One of :data:`ORDERS`, or the name of a value of recipes.
    where : str
        As :func:`parse_filter` reads it.

    Raises
    ------
    InputError
    """
    keep = parse_filter(where)
    rows = list(snapshot.ranking.rows)
    if order in ORDERS and order != "place":
        rows.sort(key=lambda row: (ORDERS[order](row), row.place))
    elif order in FIELDS:
        rows.sort(key=lambda row: (_sortable(snapshot.recipes[row.recipe].recipe[order]),
                                   row.place))
    elif order != "place":
        raise InputError(f"recipes cannot be ordered by {shown(order, 40)!r}", "sort",
                         "give one of " + ", ".join(ORDERS) + ", or a value such as width")
    ranked = [row.recipe for row in rows]
    rest = snapshot.order[len(ranked):]
    return [recipe for recipe in (*ranked, *rest) if keep(snapshot.recipes[recipe].recipe)]


def _sortable(value: Value) -> tuple[bool, float, str]:
    if isinstance(value, str):
        return True, math.inf, value
    return False, float(value), ""


def cheapest(snapshot: Snapshot) -> tuple[int, str]:
    """Return the smallest recipe that is tied with the leader, and not clearly worse when the two
    are compared alone; and what that saves in words.

    Raises
    ------
    TrainingError
        If nothing is ranked.
    """
    tied = snapshot.ranking.tied
    if not tied:
        raise unranked(snapshot)
    leader, found = tied[0], knee(snapshot.ranking)
    best = found[0] if found is not None else leader
    if len(tied) == 1:
        return best.recipe, f"No other recipe is tied with the leader, recipe {best.recipe}."
    if best.recipe == leader.recipe:
        return best.recipe, (f"The leader, recipe {best.recipe}, is the smallest that is not "
                             f"clearly worse, of {count(len(tied), 'tied recipe')}.")
    words = (f"Recipe {best.recipe} is the smallest that is not clearly worse than the leader, of "
             f"{count(len(tied), 'tied recipe')}: "
             f"{number(best.parameters)} parameters instead of {number(leader.parameters)}, "
             f"{duration(best.seconds)} instead of {duration(leader.seconds)}, loss "
             f"{loss(best.loss)} instead of {loss(leader.loss)}.")
    return best.recipe, words


def unbeaten(snapshot: Snapshot, cost: str = "parameters") -> list[Ranked]:
    """Return the ranked recipes that no other one beats in both loss and cost, cheapest first.

    Parameters
    ----------
    cost : {"parameters", "time"}
    """
    found: list[Ranked] = []
    for row in sorted(snapshot.ranking.rows, key=lambda row: (ORDERS[cost](row), row.loss)):
        if not row.failed and (not found or row.loss < found[-1].loss):
            found.append(row)
    return found
