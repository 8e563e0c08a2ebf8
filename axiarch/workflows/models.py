"""Keep trained networks as models: list, verify, predict with, remove."""

from __future__ import annotations

import time
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from axiarch.errors import InputError, RecipeError, TrainingError, WorkspaceError, not_written
from axiarch.files import regular_file, scratch_folder
from axiarch.journal.records import RunRecord
from axiarch.journal.workspace import Workspace, slug
from axiarch.recipes.recipe import Recipe
from axiarch.runs.states import OVER
from axiarch.text import shown
from axiarch.workflows.asking import TRAINED, ask
from axiarch.workflows.judging import ask_of_runs, first_run, runs_request
from axiarch.workflows.opening import data_set
from axiarch.workflows.snapshot import Snapshot

#: The ending of a model file.
ENDING = ".safetensors"
#: Characters of a note.
MOST_NOTE = 500
#: Networks of an average.
MOST_AVERAGED = 100


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
    source : str
        The file that its network was read from; empty where it was trained here.
    networks : int
        Of how many networks it is the mean.
    all_open : bool
        Whether the validation rows trained too.
    recipes : tuple of Recipe
        One for each network.
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
    networks: int = 1
    source: str = ""
    all_open: bool = False
    recipes: tuple[Recipe, ...] = ()
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
    return min(able,
               key=lambda r: snapshot.curves[r.id].steady,
               default=first_run(snapshot, recipe))


def keep_model(workspace: Workspace,
               snapshot: Snapshot,
               recipe: int,
               name: str = "",
               note: str = "",
               run: int = 0,
               average: str = "",
               anyway: bool = False) -> KeptModel:
    """Keep the network of a recipe's best epoch, with all it needs to predict, as one file.

    Parameters
    ----------
    name : str, optional
        By default the recipe's number and its search.
    run : int, optional
        Which run; by default the one with the lowest steady loss.
    average : {"", "seeds", "tied"}
        Average the predictions of several networks: of all seeds of the recipe, or of all seeds of
        the recipes tied with the leader. Where there are folds, of those on the fold of the best
        run.
    anyway : bool
        Keep the average also where its gain over the best of them is not told apart from none.

    Raises
    ------
    TrainingError
        If the recipe has left no checkpoint, or averaging gains nothing that stands apart.
    InputError
        If a model of that name is there.
    """
    workspace.check_writable()
    record = snapshot.runs[run] if run in snapshot.runs else best_run(snapshot, recipe)
    name = " ".join(name.split()) or f"recipe {recipe} of search {snapshot.search.number}"
    place = _free_place(workspace, name)
    about = {
        **_about(name, note), "search": snapshot.search.number, "recipe": recipe, "run": record.id,
        "seed": record.repeat + 1
    }
    request, _ = runs_request(workspace, snapshot, recipe, record.id)
    if average:
        request["runs"] = _averaged(workspace, snapshot, recipe, record, average)
        about["networks"] = len(request["runs"])
        about["averaged"] = average
    try:
        place.parent.mkdir(exist_ok=True)
        ask("keep",
            module=TRAINED,
            request={**request, "path": str(place), "about": about, "anyway": anyway})
    except OSError as error:
        raise not_written("the model cannot be kept", shown(place), error,
                          "change the permissions; nothing was changed") from None
    return describe(place)


def import_network(workspace: Workspace, source: Path, data: str, name: str = "", note: str = "",
                   fold: int = 1) -> KeptModel:
    """Keep a network of a file in the open format (ONNX) as a model of a data set, to continue
    from.

    See :func:`axiarch.export.reading.read_network`.

    Raises
    ------
    TrainingError
        If the file holds what our networks do not have, or does not fit the data set.
    InputError, WorkspaceMissing
        If the name is taken, or there is no such data set or fold.
    """
    workspace.check_writable()
    dataset = data_set(workspace, data)
    if not 1 <= fold <= len(dataset.folds):
        raise InputError(f"there is no fold {fold}", shown(dataset.name),
                         f"give 1 to {len(dataset.folds)}")
    name = " ".join(name.split()) or source.stem
    place = _free_place(workspace, name)
    about = {
        **_about(name, note), "search": 0, "recipe": 0, "run": 0, "seed": 1,
        "source": source.name[:200]
    }
    try:
        place.parent.mkdir(exist_ok=True)
        ask("import",
            module=TRAINED,
            request={
                "file": str(source.absolute()), "data": str(dataset.folder.absolute()),
                "fold": fold - 1, "path": str(place), "about": about
            })
    except OSError as error:
        raise not_written("the model cannot be kept", shown(place), error,
                          "change the permissions; nothing was changed") from None
    return describe(place)


def _free_place(workspace: Workspace, name: str) -> Path:
    """Return where a model of a new name is kept.

    Raises
    ------
    InputError
        If there is one.
    """
    place = _place(workspace, name)
    if place.exists():
        raise InputError(f"a model called {shown(name)!r} is there already", "name",
                         "give another name with --name, or remove that one first")
    return place


def _about(name: str, note: str) -> dict[str, Any]:
    return {"name": name, "note": " ".join(note.split())[:MOST_NOTE], "at": time.time()}


def _averaged(workspace: Workspace, snapshot: Snapshot, recipe: int, best: RunRecord,
              average: str) -> list[dict[str, Any]]:
    """Return the runs whose networks are averaged, the best first.

    Raises
    ------
    TrainingError
        If there is only one, or too many.
    """
    recipes = {recipe}
    if average == "tied":
        recipes |= {
            row.recipe for row in snapshot.ranking.rows if row.standing in ("leader", "tied")
        }
    found = []
    for number in sorted(recipes):
        request, records = runs_request(workspace, snapshot, number)
        found += [run for run, record in zip(request["runs"], records, strict=True)
                  if record.fold == best.fold and record.state == "ended"]
    where = f"search {snapshot.search.number}, recipe {recipe}"
    if len(found) < 2:
        raise TrainingError(
            "there is only one finished run to average", where,
            f"train it on more seeds: axiarch confirm {recipe}; then keep that search's recipe 1")
    if len(found) > MOST_AVERAGED:
        raise TrainingError(f"an average of {len(found)} networks is too large", where,
                            f"average at most {MOST_AVERAGED}; try --average seeds")
    return sorted(found, key=lambda run: bool(run["run"] != best.id))


def describe(path: Path) -> KeptModel:
    """Return what is known of a model file, from its header alone."""
    from axiarch.data.describing import described
    from axiarch.engine.modelfile import read_about

    try:
        known = read_about(path)
        about, data = known["model"], described(known["data"])
        target = data.target
        return KeptModel(path, str(about["name"]), str(about["note"]), data.name,
                         int(about["search"]), int(about["recipe"]), int(about["run"]),
                         int(about["seed"]), int(about["fold"]), int(about["epoch"]),
                         float(about["loss"]), target.loss_name, target.metrics[0],
                         float(about["metrics"][0]), float(about["at"]),
                         path.stat().st_size,
                         int(known["parameters"]), int(about.get("networks", 1)),
                         str(about.get("source", "")), data.plan.split.all_open,
                         tuple(map(Recipe, known["recipes"])))
    except TrainingError as error:
        return KeptModel(path, path.stem, problem=error.what)
    except (KeyError, TypeError, ValueError, AttributeError, IndexError, OSError,
            RecipeError) as error:
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
        raise InputError(
            f"there is no model called {shown(name, 60)!r}", "",
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


def in_workspace(workspace: Workspace, model: KeptModel) -> bool:
    """Say whether a model is kept in the workspace, not a file elsewhere."""
    return model.path.parent == workspace.models.absolute()


def remove_model(workspace: Workspace, model: KeptModel) -> int:
    """Remove a model of the workspace and return the bytes that this frees.

    Raises
    ------
    WorkspaceError
        If it lies elsewhere or cannot be removed.
    """
    workspace.check_writable()
    if not in_workspace(workspace, model):
        raise WorkspaceError("this model is not kept in the workspace", shown(model.path),
                             "remove the file yourself")
    try:
        model.path.unlink()
    except OSError as error:
        raise not_written("the model cannot be removed", shown(model.path), error,
                          "change the permissions") from None
    return model.bytes


def predict(model: KeptModel, source: Path, place: Path, force: bool = False,
            on_progress: Callable[[str, float], None] = lambda step, done: None) -> dict[str, Any]:
    """Predict the rows of a file; see :func:`axiarch.export.predicting.predict_file`."""
    return ask("predict", module=TRAINED, on_progress=on_progress, request={
        "path": str(model.path), "file": str(source.absolute()), "place": str(place.absolute()),
        "force": force})


def predict_with(
        workspace: Workspace,
        snapshot: Snapshot,
        recipe: int,
        source: Path,
        place: Path,
        force: bool = False,
        on_progress: Callable[[str, float], None] = lambda step, done: None) -> dict[str, Any]:
    """Predict the rows of a file with the best run of a recipe, which is not kept; see
    :func:`predict`.
    """
    record = best_run(snapshot, recipe)
    workspace.check_writable()
    with scratch_folder(workspace.folder, "model") as scratch:
        path = scratch / f"model{ENDING}"
        about = {
            **_about("", ""), "search": snapshot.search.number, "recipe": recipe, "run": record.id,
            "seed": record.repeat + 1
        }
        ask_of_runs(workspace,
                    snapshot,
                    recipe,
                    record.id,
                    "keep",
                    path=str(path.absolute()),
                    about=about)
        place.parent.mkdir(parents=True, exist_ok=True)
        return predict(describe(path.absolute()), source, place, force, on_progress)


def export_network(model: KeptModel, place: Path, force: bool = False) -> dict[str, Any]:
    """Write a model in the open network format; see
    :func:`axiarch.export.network.export_network`.
    """
    return ask("network", module=TRAINED, request={
        "path": str(model.path), "place": str(place.absolute()), "force": force})


def _place(workspace: Workspace, name: str) -> Path:
    return workspace.models.absolute() / f"{slug(name)}{ENDING}"
