"""Scale up a recipe found on a small scale: more epochs, a wider network, larger batches, beside the small one."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, replace

from axiarch.errors import RecipeError
from axiarch.plain import number
from axiarch.recipes.conditions import Value, written
from axiarch.recipes.recipe import Recipe
from axiarch.recipes.searchfile import MethodChoice, SearchFile
from axiarch.recipes.space import Space, knob
from axiarch.runner.material import shape_of
from axiarch.workflows.watching import Snapshot

#: Seeds that a recipe is confirmed with on the larger scale.
SEEDS = 3


@dataclass(frozen=True)
class Scaled:
    """A recipe scaled up.

    Attributes
    ----------
    search : SearchFile
        Trains the recipe as it is and with every combination of the changes, side by side, on the same seeds and folds.
    dearer : float
        What a step of the largest costs, against one of the recipe as it is.
    longer : float
        What a whole training costs, likewise.
    weights_fit : bool
        Whether the trained weights of the recipe fit the largest, so that its training could go on from them.
    """

    search: SearchFile
    dearer: float
    longer: float
    weights_fit: bool

    def __str__(self) -> str:
        fit = "The trained weights do not fit the larger network, so it is trained afresh."
        if self.weights_fit:
            fit = "The trained weights fit: its training could also go on from them (more epochs)."
        return (f"A step of the largest costs {number(self.dearer, 3)} times, its whole training "
                f"{number(self.longer, 3)} times what the small one's does. {fit}")


def scale_up(snapshot: Snapshot, recipe: int, changes: Mapping[str, Value]) -> Scaled:
    """Return the search that holds a recipe against larger ones.

    Parameters
    ----------
    changes : mapping
        Values on the larger scale, such as ``{"width": 256, "epochs": 120}``.

    Raises
    ------
    RecipeError
        If nothing changes, a value does not fit, or the network cannot be built.
    """
    small = snapshot.recipes[recipe].recipe
    large = small.changed(changes)
    changed = {name: value for name, value in large.difference(small).items() if name in changes}
    if not changed:
        raise RecipeError("nothing would change", f"recipe {recipe}", "say what is to be larger, such as width=256")
    knobs = tuple(knob(name, f"{written(small[name])} | {written(value)}") for name, value in changed.items())
    before, after = shape_of(small, snapshot.dataset), shape_of(large, snapshot.dataset)
    rows = snapshot.dataset.rows["train"]
    dearer = after.work / before.work
    cost = [shape.work * shape.steps(rows) * each.whole("epochs") for shape, each in ((before, small), (after, large))]
    search = replace(snapshot.file, name=f"recipe {recipe} scaled up", space=Space(small, knobs), start=None,
                     method=MethodChoice("grid", {}), repeats=max(SEEDS, snapshot.file.repeats))
    return Scaled(search, dearer, cost[1] / cost[0], _fits(small, large, snapshot))


def _fits(small: Recipe, large: Recipe, snapshot: Snapshot) -> bool:
    return shape_of(small, snapshot.dataset).layers == shape_of(large, snapshot.dataset).layers
