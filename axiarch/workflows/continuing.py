"""Train a recipe for more epochs: from exactly where it stopped, from its best epoch, or from a
model's weights.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import replace
from typing import Literal

from axiarch.errors import RecipeError, TrainingError
from axiarch.journal.workspace import Workspace
from axiarch.recipes.searchfile import MethodChoice, SearchFile, Start
from axiarch.recipes.space import Space
from axiarch.runner.material import shape_of
from axiarch.runs.states import OVER
from axiarch.text import count
from axiarch.workflows.models import KeptModel, in_workspace
from axiarch.workflows.snapshot import Snapshot
from axiarch.workflows.starting import start_search


def continued(snapshot: Snapshot, run: int, epochs: int, at: Literal["last", "best"] = "last",
              changes: Mapping[str, object] | None = None) -> SearchFile:
    """Return the search of one training that goes on where `run` stopped, for `epochs` more.

    The seed, the order of rows and all chances go on as they would have; a schedule that depends on
    the length of the training is stretched to the new one.

    Parameters
    ----------
    at : {"last", "best"}
        Whether it goes on from its last epoch, or goes back to its best.
    changes : mapping, optional
        Values of the recipe to change, such as the learning rate; the network must stay as it is.

    Raises
    ------
    TrainingError
        If the run is not over, has no epoch, or its weights do not fit the changed network.
    """
    record = snapshot.runs.get(run)
    where = f"search {snapshot.search.number}, run {run}"
    if record is None:
        raise TrainingError("there is no such run", where, "see axiarch status")
    trained = len(snapshot.curves.get(run, ()))
    if record.state not in OVER and not snapshot.over:
        raise TrainingError("it is still in training", where,
                            "wait for its end, or stop the search")
    if record.state == "failed" or not trained:
        raise TrainingError("it has no finished epoch to continue from", where,
                            "train it from scratch")
    start = record.best_epoch if at == "best" else trained
    if not start:
        raise TrainingError("it has no checkpoint", where, "continue from its last epoch")
    old = snapshot.recipes[record.recipe].recipe
    recipe = old.changed({**(changes or {}), "epochs": start + max(epochs, 1)})
    before, after = shape_of(old, snapshot.dataset), shape_of(recipe, snapshot.dataset)
    if before.layers != after.layers:
        raise RecipeError(
            f"{count(before.trained, 'weight')} do not fit a network of {after.trained}", where,
            "keep the network as it was, or train the changed one from scratch")
    return replace(snapshot.file,
                   name=f"recipe {record.recipe} continued",
                   space=Space(recipe),
                   repeats=1,
                   method=MethodChoice("grid", {}),
                   start=Start(snapshot.search.number, run, at))


def continue_run(workspace: Workspace, snapshot: Snapshot, run: int, epochs: int,
                 at: Literal["last", "best"] = "last", changes: Mapping[str, object] | None = None,
                 workers: int = 1) -> int:
    """Start the search that :func:`continued` describes and return its number.

    Raises
    ------
    TrainingError, RecipeError
        As :func:`continued`.
    """
    return start_search(workspace, continued(snapshot, run, epochs, at, changes), workers)


def continue_model(workspace: Workspace, model: KeptModel, epochs: int,
                   changes: Mapping[str, object] | None = None, workers: int = 1) -> int:
    """Start a search of one training whose first weights are those of a model, and return its
    number.

    The training begins at epoch 1, with a new optimiser state and schedule: a model holds no more
    than weights. Only :func:`continue_run` continues exactly.

    Parameters
    ----------
    changes : mapping, optional
        Values of the recipe to change, such as the learning rate; the network must stay as it is.

    Raises
    ------
    InputError, TrainingError, RecipeError
        If the model is of other data, or its weights do not fit the changed network.
    """
    recipe = model.recipes[0].changed({**(changes or {}), "epochs": max(epochs, 1)})
    search = SearchFile(
        name=f"{model.name} continued"[:200],
        data=model.data,
        space=Space(recipe),
        repeats=1,
        seed=max(model.seed, 1),
        method=MethodChoice("grid", {}),
        start=Start(model=model.name if in_workspace(workspace, model) else str(model.path)))
    return start_search(workspace, search, workers)
