"""Bring a table into a workspace: read, checked, split, encoded, its test rows sealed."""

from __future__ import annotations

import itertools
import os
import re
import shutil
from pathlib import Path

from axiarch.data.building import build_dataset
from axiarch.data.dataset import Dataset, keep_linear, kept_table, read_dataset
from axiarch.data.floor import Floor
from axiarch.data.plan import DataPlan, SplitPlan
from axiarch.data.table import read_table
from axiarch.errors import AxiarchError, DataError, TrainingError, WorkspaceReadOnly
from axiarch.journal.read import JournalReader
from axiarch.journal.workspace import Workspace
from axiarch.plain import shown
from axiarch.workflows.asking import ask


def redecide(workspace: Workspace, data: Dataset, plan: DataPlan) -> Dataset:
    """Make a data set anew by other decisions, from the table kept with it.

    A data set that no search has used is replaced; one that has stays, and the new one gets the next
    number behind its name.

    Raises
    ------
    DataError
        If the table cannot be used so. Nothing is changed then.
    """
    workspace.check_writable()
    used = data.folder.name in _used(workspace)
    name = _next_name(workspace, data.name) if used else data.name
    place = workspace.data(name) if used else workspace.data(f"{data.folder.name} being decided {os.getpid()}")
    try:
        made = _with_linear_floor(build_dataset(kept_table(data), place, name, data.source, plan, data.how))
        if used:
            return made
        old = place.with_name(f".{place.name}.old")
        data.folder.rename(old)
        place.rename(data.folder)
        shutil.rmtree(old, ignore_errors=True)
        return read_dataset(data.folder)
    except OSError as error:
        raise WorkspaceReadOnly(f"the data cannot be written: {error.strerror}", shown(place),
                                "free some space or change the permissions") from None


def _used(workspace: Workspace) -> set[str]:
    """Return the folders of the data sets that searches have been started on."""
    reader = JournalReader(workspace.journal)
    try:
        return {workspace.data(search.data).name for search in reader.searches()}
    finally:
        reader.close()


def _next_name(workspace: Workspace, name: str) -> str:
    bare = re.sub(r" \d+$", "", name)
    return next(f"{bare} {n}" for n in itertools.count(2) if not workspace.data(f"{bare} {n}").exists())


def _with_linear_floor(data: Dataset) -> Dataset:
    """Return the data set with its linear floor; without, if no linear model can be trained on it."""
    try:
        answer = ask("linear", str(data.folder))
    except TrainingError:
        return data
    return keep_linear(data, Floor(float(answer["loss"]), float(answer["accuracy"])))


def add_table(workspace: Workspace, path: Path, *, name: str = "", target: str | None = None,
              ignore: tuple[str, ...] = (), seed: int = 1, plan: DataPlan | None = None) -> Dataset:
    """Add a table to a workspace: delimited text, Parquet, Arrow, JSON lines or Excel.

    Parameters
    ----------
    name : str, optional
        What to call it; by default the file's name.
    target, ignore, seed : optional
        The decisions made most often: the column to be predicted (by default proposed), columns to leave
        out besides those that look like identifiers, and what fixes the split.
    plan : DataPlan, optional
        All decisions at once; then the three above are not looked at.

    Raises
    ------
    DataError
        With the place and what to do. Nothing is added then.
    """
    workspace.check_writable()
    plan = plan or DataPlan(target=target, ignore=ignore, split=SplitPlan(seed=seed))
    name = name or path.stem.replace("-", " ").replace("_", " ")
    folder = workspace.data(name)
    if folder.exists():
        raise DataError(f"a data set called {shown(name)!r} is there already", shown(workspace.folder),
                        "choose another name")
    frame, how = read_table(path, plan.said)
    try:
        return _with_linear_floor(build_dataset(frame, folder, shown(name), str(path.absolute()), plan, how))
    except AxiarchError as error:
        raise error.at(shown(path)) from None
    except OSError as error:
        raise WorkspaceReadOnly(f"the data cannot be written: {error.strerror}", shown(folder),
                                "free some space or change the permissions") from None
