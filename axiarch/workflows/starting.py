"""Start a search, or let one go on, in a process group of its own that outlives whoever started
it.
"""

from __future__ import annotations

import json
import shutil
import time
from dataclasses import replace
from pathlib import Path

from axiarch.errors import (
    AxiarchError,
    InputError,
    TrainingError,
    WorkspaceLocked,
    WorkspaceMissing,
    WorkspaceReadOnly,
    not_written,
)
from axiarch.files import encode, write_whole
from axiarch.insight.forecast import Forecast
from axiarch.journal.read import JournalReader
from axiarch.journal.workspace import Workspace
from axiarch.recipes.bounds import is_whole
from axiarch.recipes.installed import wanted
from axiarch.recipes.searchfile import SearchFile, read_search, write_search
from axiarch.runner.launched import launch
from axiarch.runner.store import first_model
from axiarch.search.methods import make_method
from axiarch.text import shown
from axiarch.workflows.answer import raise_answer
from axiarch.workflows.clusters import cluster_workers
from axiarch.workflows.drafting import check_networks
from axiarch.workflows.models import find_model
from axiarch.workflows.opening import data_set
from axiarch.workflows.planning import check_memory, default_workers, planned_recipes

#: Up to so many workers, half as many steps again as there are workers keep them busy; of more,
#: some always wait for the outcome of one that takes longer than was expected.
_FEW = 8
#: Seconds that a runner may take to end after its search is over.
_LETTING_GO = 10.0


def start_search(workspace: Workspace,
                 search: SearchFile,
                 workers: int = 0,
                 forecast: Forecast | None = None) -> int:
    """Start a search in the background and return its number once it holds the workspace.

    Parameters
    ----------
    workers : int, optional
        Workers; 0 for one per core.
    forecast : Forecast, optional
        What it is expected to take, kept to be held against what it took.

    Raises
    ------
    InputError
        If the search cannot be run as it is.
    WorkspaceLocked, WorkspaceReadOnly
        Nothing has been changed then.
    """
    wanted(search.members())
    data = data_set(workspace, search.data)
    check_networks(search, data)
    if search.cluster:
        workers = workers or cluster_workers(search.cluster)
    else:
        workers = workers or default_workers()
        check_memory([search.space.base, *planned_recipes(search)], data, workers)
    search = with_window(search, workers)
    model = _first_model(workspace, search)
    check_free(workspace)
    number, folder = _new_folder(workspace)
    try:
        if model is not None:
            shutil.copyfile(model, first_model(folder))
        write_whole(folder / "search.toml", write_search(search))
        if forecast is not None:
            write_whole(folder / "forecast.json", encode(forecast))
        _launch(workspace, number, workers, search.cluster)
    except OSError as error:
        shutil.rmtree(folder, ignore_errors=True)
        raise _cannot_keep(folder, error) from None
    except AxiarchError:
        shutil.rmtree(folder, ignore_errors=True)
        raise
    return number


def with_window(search: SearchFile, workers: int) -> SearchFile:
    """Return a search whose method has enough steps under way for so many workers: half as many
    again, or twice as many where there are many.

    What is chosen here is written into the search, so it decides the same when it is resumed with
    any number of workers. A window that the search file names stays.
    """
    method = make_method(search.method, search.space, search.seed)
    if not method.learns or "window" in search.method.options or "window" not in method.values:
        return search
    window = workers + max(workers // 2, 1) if workers <= _FEW else 2 * workers
    options = {**search.method.options, "window": window}
    return replace(search, method=replace(search.method, options=options))


def _first_model(workspace: Workspace, search: SearchFile) -> Path | None:
    """Return the file of the model that a search starts from; None where it starts from none.

    Raises
    ------
    InputError
    """
    if search.start is None or not search.start.model:
        return None
    try:
        return find_model(workspace, search.start.model).path
    except AxiarchError as error:
        raise InputError(error.what, "[start], model", error.remedy) from None


def resume_search(workspace: Workspace, number: int, workers: int = 0,
                  cluster: str | None = None, extended: bool = False) -> None:
    """Resume a search that was stopped or interrupted.

    Parameters
    ----------
    workers : int, optional
        Worker processes; 0 for one per core.
    cluster : str, optional
        Where it is trained now, as in a search file; by default as it was started.
    extended : bool
        Whether a request waits that makes a search go on which is done.

    Raises
    ------
    WorkspaceMissing
        If there is no such search, it is done, or its data have changed.
    """
    if number not in workspace.search_numbers():
        raise WorkspaceMissing(f"there is no search {number}", shown(workspace.folder),
                               "see axiarch status")
    reader = JournalReader(workspace.journal)
    known = reader.search(number)
    reader.close()
    if known is not None and known.state == "done" and not extended:
        raise WorkspaceMissing(f"search {number} is done; nothing is left to train",
                               shown(workspace.folder),
                               f"extend it: axiarch seeds --search {number}")
    if known is not None and data_set(workspace, known.data).fingerprint != known.data_fingerprint:
        raise WorkspaceMissing(f"the data of search {number} have changed since it started",
                               known.data, "start a new search")
    text = (workspace.search(number) / "search.toml").read_text(encoding="utf-8")
    file = read_search(text, "search.toml")
    wanted(file.members())
    cluster = file.cluster if cluster is None else cluster
    if cluster:
        cluster_workers(cluster)
    check_free(workspace)
    _launch(workspace, number, workers, cluster)


def check_free(workspace: Workspace) -> None:
    """Raise if the workspace cannot be written now, without holding it.

    A runner whose search is over is given a moment to end its workers and let go.
    """
    end = time.monotonic() + _LETTING_GO
    while True:
        try:
            with workspace.locked("starting a search"):
                return
        except WorkspaceLocked:
            if time.monotonic() > end or not _owner_is_done(workspace):
                raise
        time.sleep(0.05)


def _owner_is_done(workspace: Workspace) -> bool:
    """Say whether whoever holds the workspace runs a search that is over."""
    owner = workspace.owner()
    reader = JournalReader(workspace.journal)
    try:
        over = [
            f"search {s.number}" for s in reader.searches()
            if s.state in ("done", "stopped", "failed")
        ]
    finally:
        reader.close()
    return owner is None or owner.what in over


def _new_folder(workspace: Workspace) -> tuple[int, Path]:
    """Make the folder of the next search; making it is what claims the number."""
    taken = [int(p.name) for p in workspace.folder.glob("searches/*") if is_whole(p.name)]
    number = max(taken, default=0) + 1
    while True:
        try:
            workspace.search(number).mkdir(parents=True)
            return number, workspace.search(number)
        except FileExistsError:
            number += 1
        except OSError as error:
            raise _cannot_keep(workspace.folder, error) from None


def _cannot_keep(place: Path, error: OSError) -> WorkspaceReadOnly:
    return not_written("the search cannot be written", shown(place), error,
                       "change the permissions, then try again")


def _launch(workspace: Workspace, number: int, workers: int, cluster: str = "") -> None:
    """Start the runner's process and wait until it says that it holds the workspace."""
    folder = workspace.search(number)
    words = ["run", str(workspace.folder.absolute()), str(number),
             str(workers or default_workers()), *([cluster] if cluster else [])]
    try:
        with (folder / "runner.log").open("ab") as log:
            process = launch(*words, errors=log.fileno(), alone=True)
    except OSError as error:
        raise _cannot_keep(folder, error) from None
    process.input.close()
    with process.output:
        line = process.output.readline()
    try:
        answer = json.loads(line)
    except ValueError:
        raise TrainingError("the search could not be started", shown(folder / "runner.log"),
                            "the log says why") from None
    raise_answer(answer)
