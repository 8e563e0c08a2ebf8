"""Scale up a recipe found on a small scale: more rows, more epochs, a wider network, beside the
small one.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace

from axiarch.data.dataset import Dataset
from axiarch.errors import RecipeError
from axiarch.journal.workspace import Workspace
from axiarch.recipes.bounds import is_whole
from axiarch.recipes.conditions import written
from axiarch.recipes.notation import fixed_values
from axiarch.recipes.recipe import Recipe
from axiarch.recipes.searchfile import MethodChoice, SearchFile
from axiarch.recipes.space import Space, knob
from axiarch.runner.material import shape_of
from axiarch.text import count, number, shown
from axiarch.workflows.adding import decided
from axiarch.workflows.snapshot import Snapshot

#: Seeds that a recipe is confirmed with on the larger scale.
SEEDS = 3


@dataclass(frozen=True)
class Scaled:
    """A recipe scaled up.

    Attributes
    ----------
    search : SearchFile
        Trains the recipe as it is and with every combination of the changes, side by side, on the
        same seeds and folds.
    step, training : float
        Multiplications of a step and of a whole training of the largest, as multiples of those of
        the recipe as it is.
    weights_fit : bool
        Whether the trained weights of the recipe fit the largest, so that its training could go on
        from them.
    rows : tuple of int
        Training rows before and now.
    pictures : tuple of str
        The size of pictures before and now; empty where there are none.
    """

    search: SearchFile
    step: float
    training: float
    weights_fit: bool
    rows: tuple[int, int]
    pictures: tuple[str, str] = ("", "")

    def __str__(self) -> str:
        fit = "The trained weights do not fit the larger network, so it is trained from scratch."
        if self.weights_fit:
            fit = ("The trained weights fit: you could also continue training from them (more "
                   "epochs).")
        more = []
        if self.rows[0] != self.rows[1]:
            more.append(f"{count(self.rows[1], 'row')} instead of {self.rows[0]:,}")
        if self.pictures[0] != self.pictures[1]:
            more.append(f"pictures of {self.pictures[1]} instead of {self.pictures[0]}")
        if more:
            fit = (
                f"It trains on {' and '.join(more)}, and is validated on the same rows as before; "
                "trained weights belong to the data they have seen, so it is trained from "
                "scratch.")
        return (f"The largest does {number(self.step, 3)} times the arithmetic of the small one in "
                f"a step, {number(self.training, 3)} times in the whole training. {fit}")


def scale_up(workspace: Workspace, snapshot: Snapshot, recipe: int,
             wanted: Sequence[str]) -> Scaled:
    """Return the search that holds a recipe against larger ones.

    Parameters
    ----------
    wanted : sequence of str
        Values on the larger scale, such as ``width=256``, ``epochs=120``; ``rows=all`` or
        ``rows=5000`` trains on more rows, where the data set was cut to fewer for quick work;
        ``pictures=all`` on pictures as they were read, where they were shrunk. A data set with that
        is made where there is none yet.

    Raises
    ------
    RecipeError
        If nothing changes, a value does not fit, or the network cannot be built.
    """
    small = snapshot.recipes[recipe].recipe
    said = {
        name.strip(): value.strip() for name, _, value in (text.partition("=") for text in wanted)
    }
    more: dict[str, str] = {name: said[name] for name in ("rows", "pictures") if name in said}
    changes = fixed_values([text for text in wanted if text.partition("=")[0].strip() not in more])
    large = small.changed(changes)
    changed = {name: value for name, value in large.difference(small).items() if name in changes}
    if not changed and not more:
        raise RecipeError("nothing would change", f"recipe {recipe}",
                          "name what should be larger, such as width=256")
    data = _larger(workspace, snapshot.dataset, more) if more else snapshot.dataset
    knobs = tuple(
        knob(name, f"{written(small[name])} | {written(value)}") for name, value in changed.items())
    before, after = shape_of(small, snapshot.dataset), shape_of(large, data)
    rows = snapshot.dataset.rows["train"], data.rows["train"]
    cost = [shape.work * shape.steps(n) * each.whole("epochs")
            for shape, each, n in ((before, small, rows[0]), (after, large, rows[1]))]
    search = replace(snapshot.file,
                     name=f"recipe {recipe} scaled up",
                     space=Space(small, knobs),
                     start=None,
                     data=data.name,
                     method=MethodChoice("grid", {}),
                     repeats=max(SEEDS, snapshot.file.repeats))
    return Scaled(search, after.work / before.work, cost[1] / cost[0],
                  _fits(small, large, snapshot), rows, (_size(snapshot.dataset), _size(data)))


def _fits(small: Recipe, large: Recipe, snapshot: Snapshot) -> bool:
    return shape_of(small, snapshot.dataset).layers == shape_of(large, snapshot.dataset).layers


def _size(data: Dataset) -> str:
    return " x ".join(map(str, data.encoding.picture[:2])) if data.encoding.picture else ""


def _larger(workspace: Workspace, data: Dataset, more: Mapping[str, str]) -> Dataset:
    """Return the data set by the same decisions with more rows or larger pictures; made where
    there is none yet.
    """
    plan = data.plan
    if "rows" in more:
        plan = replace(plan, rows=_more_rows(data, more["rows"]))
    if "pictures" in more:
        if more["pictures"] != "all":
            raise RecipeError(f"{shown(more['pictures'], 20)!r} is not a picture size", "pictures",
                              "give pictures=all")
        if plan.shrink == 1:
            raise RecipeError(f"{data.name} has no pictures that were shrunk", "pictures",
                              "name something else to make larger")
        plan = replace(plan, shrink=1)
    return decided(workspace, data, plan)


def _more_rows(data: Dataset, more: str) -> int:
    """Return how many rows are wanted, 0 for all."""
    if more != "all" and not is_whole(more):
        raise RecipeError(f"{shown(more, 20)!r} is not a number of rows", "rows",
                          "give rows=all, or a number")
    rows = 0 if more == "all" else int(more)
    if not data.plan.rows or 0 < rows <= data.plan.rows:
        raise RecipeError(f"{data.name} trains on {data.rows['train']:,} rows"
                          + ("" if data.plan.rows else ", which are all there are"), "rows",
                          "name something else to make larger")
    return rows
