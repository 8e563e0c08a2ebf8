"""Keep trained networks as models: list, verify, predict with, remove."""

from __future__ import annotations

import time
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from axiarch.errors import InputError, TrainingError, WorkspaceError, not_written
from axiarch.files import regular_file, scratch_folder
from axiarch.journal.records import OVER, RunRecord
from axiarch.journal.workspace import Workspace, slug
from axiarch.plain import shown
from axiarch.workflows.asking import TRAINED, ask
from axiarch.workflows.continuing import first_run
from axiarch.workflows.judging import ask_of_runs
from axiarch.workflows.watching import Snapshot

#: The ending of a model file.
ENDING = ".safetensors"
#: Characters of a note.
MOST_NOTE = 500


@dataclass(frozen=True)
class KeptModel:
    """A model as it is listed.

    Attributes
    ----------
    path : Path
    name, note, data : str
    search, recipe, run, seed, fold, epoch : int
        Where it came from.
    loss : float
        The validation loss of its epoch.
    loss_name : str
    metric, metric_value : str, float
    at : float
        Seconds since 1970.
    bytes : int
    parameters : int
    problem : str
        Why it cannot be used; empty where it can.
    """

    path: Path
    name: str
    note: str = ""
    data: str = ""
    search: int = 0
    recipe: int = 0
    run: int = 0
    seed: int = 0
    fold: int = 0
    epoch: int = 0
    loss: float = 0.0
    loss_name: str = ""
    metric: str = ""
    metric_value: float = 0.0
    at: float = 0.0
    bytes: int = 0
    parameters: int = 0
    problem: str = ""


def best_run(snapshot: Snapshot, recipe: int) -> RunRecord:
    """Return the run of a recipe with the lowest steady loss, of those that have ended.

    Raises
    ------
    TrainingError
        If the recipe has not been trained.
    """
    able = [r for r in snapshot.runs_of(recipe) if r.state in OVER and r.state != "failed"
            and r.reason != "diverged" and snapshot.curves.get(r.id)]
    return min(able, key=lambda r: snapshot.curves[r.id].steady, default=first_run(snapshot, recipe))


def keep_model(workspace: Workspace, snapshot: Snapshot, recipe: int, name: str = "", note: str = "",
               run: int = 0) -> KeptModel:
    """Keep the network of a recipe's best epoch, with all it needs to predict, as one file.

    Parameters
    ----------
    name : str, optional
        By default the recipe's number and its search.
    run : int, optional
        Which run; by default the one with the lowest steady loss.

    Raises
    ------
    TrainingError
        If the recipe has left no checkpoint.
    InputError
        If a model of that name is there.
    """
    workspace.check_writable()
    record = snapshot.runs[run] if run in snapshot.runs else best_run(snapshot, recipe)
    name = " ".join(name.split()) or f"recipe {recipe} of search {snapshot.search.number}"
    place = _place(workspace, name)
    if place.exists():
        raise InputError(f"a model called {shown(name)!r} is there already", "name",
                         "give another name with --name, or remove that one first")
    about = {"name": name, "note": " ".join(note.split())[:MOST_NOTE], "at": time.time(),
             "search": snapshot.search.number, "recipe": recipe, "run": record.id,
             "seed": record.repeat + 1}
    try:
        place.parent.mkdir(exist_ok=True)
        ask_of_runs(workspace, snapshot, recipe, record.id, "keep", path=str(place), about=about)
    except OSError as error:
        raise not_written("the model cannot be kept", shown(place), error,
                          "change the permissions; nothing was changed") from None
    return describe(place)


def describe(path: Path) -> KeptModel:
    """Return what is known of a model file, from its header alone."""
    from axiarch.data.dataset import described
    from axiarch.engine.modelfile import read_about

    try:
        known = read_about(path)
        about, data = known["model"], described(known["data"])
        target = data.target
        return KeptModel(
            path, str(about["name"]), str(about["note"]), data.name, int(about["search"]),
            int(about["recipe"]), int(about["run"]), int(about["seed"]), int(about["fold"]),
            int(about["epoch"]), float(about["loss"]), target.loss_name, target.metrics[0],
            float(about["metrics"][0]), float(about["at"]), path.stat().st_size, int(known["parameters"]))
    except TrainingError as error:
        return KeptModel(path, path.stem, problem=error.what)
    except (KeyError, TypeError, ValueError, AttributeError, IndexError, OSError) as error:
        return KeptModel(path, path.stem, problem=f"it cannot be used: {shown(error, 80)}")


def kept_models(workspace: Workspace) -> tuple[KeptModel, ...]:
    """Return the models of a workspace, the newest first."""
    found = [describe(path) for path in sorted(workspace.models.glob(f"*{ENDING}"))
             if regular_file(path) and not path.name.startswith(".")]
    return tuple(sorted(found, key=lambda model: -model.at))


def find_model(workspace: Workspace, name: str) -> KeptModel:
    """Return the model of a name, or in a file.

    Raises
    ------
    InputError
        If there is none.
    TrainingError
        If it cannot be used.
    """
    path = _place(workspace, name) if name.strip() else Path()
    if not regular_file(path):
        path = Path(name)
    if not regular_file(path):
        names = ", ".join(repr(shown(m.name, 40)) for m in kept_models(workspace)[:5])
        raise InputError(f"there is no model called {shown(name, 60)!r}", "",
                         f"name one of {names}" if names else "keep one: axiarch models keep RECIPE")
    found = describe(path.absolute())
    if found.problem:
        raise TrainingError(found.problem, shown(path), "keep it again: axiarch models keep")
    return found


def verify_model(workspace: Workspace, model: KeptModel) -> tuple[float, float]:
    """Score the validation rows again; return the loss that was kept and the one found now.

    Raises
    ------
    WorkspaceMissing, TrainingError
        If its data set is not in the workspace, or has changed.
    """
    found = ask("verify", module=TRAINED,
                request={"path": str(model.path), "data": str(workspace.data(model.data))})
    return float(found["kept"]), float(found["found"])


def remove_model(workspace: Workspace, model: KeptModel) -> int:
    """Remove a model of the workspace and return the bytes that this frees.

    Raises
    ------
    WorkspaceError
        If it lies elsewhere or cannot be removed.
    """
    workspace.check_writable()
    if model.path.parent != workspace.models.absolute():
        raise WorkspaceError("this model is not kept in the workspace", shown(model.path),
                             "remove the file yourself")
    try:
        model.path.unlink()
    except OSError as error:
        raise not_written("the model cannot be removed", shown(model.path), error,
                          "change the permissions") from None
    return model.bytes


def predict(model: KeptModel, source: Path, place: Path, force: bool = False,
            tell: Callable[[str, float], None] = lambda step, done: None) -> dict[str, Any]:
    """Predict the rows of a file; see :func:`axiarch.export.predicting.predict_file`."""
    return ask("predict", module=TRAINED, tell=tell, request={
        "path": str(model.path), "file": str(source.absolute()), "place": str(place.absolute()),
        "force": force})


def predict_with(workspace: Workspace, snapshot: Snapshot, recipe: int, source: Path, place: Path,
                 force: bool = False, tell: Callable[[str, float], None] = lambda step, done: None) -> dict[str, Any]:
    """Predict the rows of a file with the best run of a recipe, which is not kept; see :func:`predict`."""
    record = best_run(snapshot, recipe)
    workspace.check_writable()
    with scratch_folder(workspace.folder, "model") as scratch:
        path = scratch / f"model{ENDING}"
        about = {"name": "", "note": "", "at": time.time(), "search": snapshot.search.number, "recipe": recipe,
                 "run": record.id, "seed": record.repeat + 1}
        ask_of_runs(workspace, snapshot, recipe, record.id, "keep", path=str(path.absolute()), about=about)
        place.parent.mkdir(parents=True, exist_ok=True)
        return predict(describe(path.absolute()), source, place, force, tell)


def export_network(model: KeptModel, place: Path, force: bool = False) -> dict[str, Any]:
    """Write a model in the open network format; see :func:`axiarch.export.network.export_network`."""
    return ask("network", module=TRAINED, request={
        "path": str(model.path), "place": str(place.absolute()), "force": force})


def _place(workspace: Workspace, name: str) -> Path:
    return workspace.models.absolute() / f"{slug(name)}{ENDING}"
