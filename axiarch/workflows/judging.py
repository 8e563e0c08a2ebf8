"""Judge a recipe's run on its validation rows: every metric, by the weights of its best epoch."""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from typing import TYPE_CHECKING, Any

from axiarch.errors import TrainingError
from axiarch.journal.records import RunRecord
from axiarch.journal.workspace import Workspace
from axiarch.runner.store import latest
from axiarch.runs.states import OVER
from axiarch.workflows.asking import TRAINED, ask
from axiarch.workflows.snapshot import Snapshot

if TYPE_CHECKING:
    from axiarch.export.judging import PartName

#: What is counted and not measured.
_COUNTS = ("rows", "confusion")


def judge_recipe(workspace: Workspace,
                 snapshot: Snapshot,
                 recipe: int,
                 run: int = 0,
                 part: PartName = "validation",
                 by: str = "",
                 inputs: bool = False) -> dict[str, Any]:
    """Return the metrics of all runs of a recipe, or of one of them, on rows they were not trained
    on.

    Metrics are means over the runs, counts are sums; ``runs`` holds those of each run with its seed
    and fold.

    Classes: confusion, accuracy, balanced accuracy, top 2 and 3, log loss, and for each class and
    their mean precision, recall, F1 and the area under the ROC curve. Amounts: RMSE, mean and
    median absolute error and R² of each.

    Raises
    ------
    TrainingError
        If it has not been trained, or left no checkpoint.
    """
    judged, records = ask_of_runs(workspace, snapshot, recipe, run, part=part, by=by, inputs=inputs)
    runs = [{"seed": r.repeat + 1, "fold": r.fold + 1, **each}
            for r, each in zip(records, judged["judged"], strict=True)]
    return {
        **_mean(judged["judged"]), "runs": runs, "summary": judged["summary"],
        "groups": judged.get("groups", [])
    }


def tail_words(found: Mapping[str, Any], names: Sequence[str]) -> list[str]:
    """Say of which amounts, by name, a few rows decide the error of a summary."""
    from axiarch.insight.predicted import tails

    return tails(found, names)


def first_run(snapshot: Snapshot, recipe: int) -> RunRecord:
    """Return the run of a recipe that is gone on with: the first that has an epoch.

    Raises
    ------
    TrainingError
        If it has none.
    """
    if recipe in snapshot.recipes and snapshot.recipes[recipe].origin:
        raise TrainingError(
            f"recipe {recipe} was trained elsewhere: there are no weights of it here",
            f"search {snapshot.search.number}", "choose a recipe that was trained here")
    for run in snapshot.runs_of(recipe):
        if snapshot.curves.get(run.id):
            return run
    raise TrainingError(f"recipe {recipe} has not been trained", f"search {snapshot.search.number}",
                        "train it first")


def ask_of_runs(workspace: Workspace, snapshot: Snapshot, recipe: int, run: int = 0,
                word: str = "judge", **more: Any) -> tuple[dict[str, Any], list[RunRecord]]:
    """Ask the process that uses trained networks about the runs of a recipe, or one of them.

    Returns
    -------
    dict, list of RunRecord
        The answer, and the runs it is about.

    Raises
    ------
    TrainingError
        If the recipe has not been trained.
    """
    request, records = runs_request(workspace, snapshot, recipe, run)
    return ask(word, request={**request, **more}, module=TRAINED), records


def runs_request(workspace: Workspace, snapshot: Snapshot, recipe: int, run: int = 0
                 ) -> tuple[dict[str, Any], list[RunRecord]]:
    """Return what a process must know to load the runs of a recipe, or one of them, and these runs.

    Raises
    ------
    TrainingError
        If the recipe has not been trained.
    """
    first = first_run(snapshot, recipe)
    records = [snapshot.runs[run]] if run else [
        r for r in snapshot.runs_of(recipe) if r.state in OVER and r.state != "failed"
        and r.reason != "diverged" and snapshot.curves.get(r.id)] or [first]
    folder = (workspace.search(snapshot.search.number) / "checkpoints").absolute()
    return {
        "data": str(snapshot.dataset.folder.absolute()),
        "runs": [{"run": r.id, "recipe": dict(snapshot.recipes[recipe].recipe),
                  "streams": [snapshot.file.seed, r.repeat, r.fold],
                  "checkpoint": str(latest(folder, r.id))} for r in records]}, records


def _mean(values: Sequence[Any], name: str = "") -> Any:
    """Return means of numbers over runs, through lists and tables of them; sums of counts."""
    first = values[0]
    if isinstance(first, dict):
        return {key: _mean([each[key] for each in values], key) for key in first}
    if isinstance(first, list):
        return [_mean(each, name) for each in zip(*values, strict=True)]
    known = [each for each in values if each is not None]
    if name in _COUNTS:
        return sum(known)
    return math.fsum(known) / len(known) if known else None
