"""Judge a recipe's run on its validation rows: every metric, by the weights of its best epoch."""

from __future__ import annotations

from typing import Any

from axiarch.journal.workspace import Workspace
from axiarch.runner.saved import latest
from axiarch.workflows.asking import ask
from axiarch.workflows.continuing import first_run
from axiarch.workflows.watching import Snapshot


def judge_recipe(workspace: Workspace, snapshot: Snapshot, recipe: int, run: int = 0) -> dict[str, Any]:
    """Return the metrics of a run of a recipe (0: its first one) on its validation rows.

    Classes: confusion, accuracy, balanced accuracy, top 2 and 3, log loss, and for each class and their mean precision,
    recall, F1 and the area under the ROC curve. Amounts: RMSE, mean and median absolute error and R² of each.

    Raises
    ------
    TrainingError
        If it has not been trained, or left no checkpoint.
    """
    record = snapshot.runs[run] if run else first_run(snapshot, recipe)
    request = {
        "data": str(snapshot.dataset.folder), "recipe": dict(snapshot.recipes[record.recipe].recipe), "run": record.id,
        "streams": [snapshot.file.seed, record.repeat, record.fold],
        "checkpoint": str(latest(workspace.search(snapshot.search.number) / "checkpoints", record.id))}
    answer = ask("judge", request=request)
    found: dict[str, Any] = answer["judged"]
    return found
