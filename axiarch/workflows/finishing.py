"""A last training before the test: of the chosen recipe, on training and validation rows
together.
"""

from __future__ import annotations

from dataclasses import replace

from axiarch.errors import TrainingError
from axiarch.journal.workspace import Workspace
from axiarch.recipes.searchfile import MethodChoice, SearchFile
from axiarch.recipes.space import Space
from axiarch.workflows.adding import decided
from axiarch.workflows.snapshot import Snapshot

#: Seeds that it is trained on, unless others are asked for.
SEEDS = 3


def finishing_search(workspace: Workspace,
                     snapshot: Snapshot,
                     recipe: int,
                     seeds: int = SEEDS) -> SearchFile:
    """Return the search that trains a recipe on all rows that are not sealed.

    No row is left to say when to stop, so it trains for as many epochs as its runs were best after,
    on average; its schedule stays that of the whole training. A data set with that split is made
    where there is none: its validation rows are the same and train too, its sealed rows and their
    record are the same.

    Raises
    ------
    TrainingError
        If the recipe has no result, or was trained on all open rows already.
    """
    where = f"search {snapshot.search.number}"
    row = next((r for r in snapshot.ranking.rows if r.recipe == recipe), None)
    if row is None or snapshot.recipes[recipe].origin:
        raise TrainingError(
            f"recipe {recipe} has no result here that says for how long to train it", where,
            "choose a recipe of the ranking that was trained here")
    if snapshot.dataset.plan.split.all_open:
        raise TrainingError("it has been trained on all open rows already", where,
                            "open the seal to score it")
    plan = snapshot.dataset.plan
    plan = replace(plan, split=replace(plan.split, folds=0, fold_repeats=1, all_open=True))
    data = decided(workspace, snapshot.dataset, plan, "all open rows")
    values = snapshot.recipes[recipe].recipe
    steps = max(round(row.epoch), 1) * values.steps(data.rows["train"])
    values = values.changed({"patience": 0, "stuck_after": 0, "max_gap": 0.0, "max_steps": steps})
    return replace(snapshot.file,
                   name=f"recipe {recipe} of search {snapshot.search.number} on all open rows",
                   data=data.folder.name,
                   space=Space(values),
                   repeats=seeds,
                   start=None,
                   method=MethodChoice("grid", {}))
