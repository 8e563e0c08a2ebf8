"""Bring a table into a workspace: read, checked, split, encoded, its test rows sealed."""

from __future__ import annotations

import itertools
import re
from collections.abc import Callable, Mapping
from contextlib import closing
from dataclasses import replace
from pathlib import Path
from typing import Any

from axiarch.data.baseline import Baseline
from axiarch.data.building import Origin, build_dataset
from axiarch.data.dataset import Dataset
from axiarch.data.describing import read_dataset
from axiarch.data.plan import DataPlan, SplitPlan
from axiarch.data.reading import CompanionFiles, Reading, read_table, signature
from axiarch.data.sealed import kept_table, verify_kept
from axiarch.data.table import PART, Tell, no_progress
from axiarch.errors import (
    AxiarchError,
    DataError,
    SearchFileError,
    WorkspaceMissing,
    WorkspaceReadOnly,
)
from axiarch.files import scratch_folder, typed
from axiarch.journal.read import JournalReader
from axiarch.journal.workspace import Workspace
from axiarch.recipes.searchfile import SearchFile
from axiarch.text import shown
from axiarch.workflows.opening import data_set


def redecide(workspace: Workspace,
             data: Dataset,
             plan: DataPlan,
             on_progress: Tell = no_progress,
             beside: bool = False,
             name: str = "") -> Dataset:
    """Make a data set anew by other decisions, from the table kept with it; where the form of its
    text is decided otherwise, from the file it came from.

    A data set that no search has used and whose seal was never opened is replaced; one that has
    stays, as it does with `beside`, and the new one gets the next number behind its name, or behind
    `name`.

    Raises
    ------
    DataError
        If the table cannot be used so. Nothing is changed then.
    """
    workspace.check_writable()
    if plan.said != data.plan.said and data.plan.split.part == PART:
        raise DataError("these data came from several files, of which only the first is known here",
                        shown(data.source),
                        "add the files again, with the options that say how they are written")
    stays = beside or used(workspace, data)
    name = _next_name(workspace, name or data.name) if stays else data.name
    try:
        with scratch_folder(workspace.data(), "reading") as scratch:
            place = workspace.data(name) if stays else scratch / "decided"
            reading = _reading(plan, scratch)
            if plan.said == data.plan.said:
                verify_kept(data)
                table, how, check = kept_table(data), data.how, _nothing
            else:
                check = _unchanged(Path(data.source))
                table, how = read_table(Path(data.source), reading, None, on_progress)
            floor = data.noise_by_loss
            if (plan.targets, plan.task) != (data.plan.targets, data.plan.task):
                floor = None  # it is of another target
            origin = Origin(data.source, how, floor, data.rule)
            made = build_dataset(table, place, name, plan, origin, on_progress, check)
            if stays:
                return made
            data.folder.rename(scratch / "before")
            place.rename(data.folder)
        return read_dataset(data.folder)
    except OSError as error:
        raise WorkspaceReadOnly(f"the data cannot be written: {error.strerror or error}",
                                shown(workspace.data()),
                                "free some space or change the permissions") from None


def decided(workspace: Workspace, data: Dataset, plan: DataPlan, suffix: str = "") -> Dataset:
    """Return the data set by other decisions: the one there is, or a new one, whose name says by
    `suffix` what is other about it.

    Raises
    ------
    DataError
        If the table cannot be used so.
    """
    for name in workspace.data_names():
        try:
            other = data_set(workspace, name)
        except AxiarchError:
            continue
        if (other.plan, other.source, other.table) == (plan, data.source, data.table):
            return other
    return redecide(workspace, data, plan, name=suffix and f"{_bare(data.name)}, {suffix}")


def used(workspace: Workspace, data: Dataset) -> bool:
    """Whether a search has been started on a data set, or its seal was opened."""
    with closing(JournalReader(workspace.journal)) as reader:
        names = {search.data for search in reader.searches()}
        names |= {opening.data for opening in reader.openings()}
    return data.folder.name in {workspace.data(name).name for name in names}


def _bare(name: str) -> str:
    """Return a data set's name without what was put behind it."""
    return re.sub(r"( \d+)?(, [^,]* (rows|pictures))?( \d+)?$", "", name)


def _next_name(workspace: Workspace, name: str) -> str:
    """Return a name that is free: `name` where it says what is other, else the next number behind
    it.
    """
    bare = re.sub(r" \d+$", "", name)
    first = [bare] if bare != _bare(name) else []
    return next(each for each in itertools.chain(first, (f"{bare} {n}" for n in itertools.count(2)))
                if not workspace.data(each).exists())


def add_table(workspace: Workspace,
              path: Path,
              *,
              name: str = "",
              target: str | None = None,
              ignore: tuple[str, ...] = (),
              seed: int = 1,
              plan: DataPlan | None = None,
              given: CompanionFiles | None = None,
              noise_floor: Baseline | None = None,
              rule: str = "",
              on_progress: Tell = no_progress) -> Dataset:
    """Add a table or pictures to a workspace.

    Delimited text, Parquet, Arrow, JSON lines or Excel; pictures as NumPy files, in the IDX format,
    or as a folder of PNG files.

    Parameters
    ----------
    name : str, optional
        What to call it; by default the file's name.
    target, ignore, seed : optional
        The decisions made most often: the column to be predicted (by default proposed), columns to
        leave out besides those that look like identifiers, and what fixes the split.
    plan : DataPlan, optional
        All decisions at once; then the three above are not looked at.
    given : CompanionFiles, optional
        Files that hold the validation and test rows, or the labels of pictures.
    noise_floor : Baseline, optional
        For generated data, what the rule behind them scores.
    rule : str, optional
        Its name in :mod:`axiarch.data.rules`.
    on_progress : callable, optional
        Takes the name of each step and the share of it that is done; may raise to end the work.

    Raises
    ------
    DataError
        With the place and what to do. Nothing is added then.
    """
    workspace.check_writable()
    plan = plan or DataPlan(
        targets=(target, ) if target else (), ignore=ignore, split=SplitPlan(seed=seed))
    name = name or path.name.split(".")[0].replace("-", " ").replace("_", " ").strip() or "data"
    folder = workspace.data(name)
    if folder.exists():
        raise DataError(f"a data set called {shown(name)!r} is there already",
                        shown(workspace.folder), "choose another name")
    try:
        with scratch_folder(workspace.data(), "reading") as scratch:
            check = _unchanged(path, given)
            table, how = read_table(path, _reading(plan, scratch), given, on_progress)
            try:
                origin = Origin(str(path.absolute()), how, noise_floor, rule)
                return build_dataset(table, folder, shown(name), plan, origin, on_progress, check)
            except AxiarchError as error:
                raise error.at(shown(path)) from None
    except OSError as error:
        raise WorkspaceReadOnly(f"the data cannot be written: {error.strerror or error}",
                                shown(folder),
                                "free some space or change the permissions") from None


def _reading(plan: DataPlan, scratch: Path) -> Reading:
    """Return how files are read by a plan."""
    return Reading(plan.said, plan.ignore, plan.skip_bad, scratch / "table")


def _nothing() -> None:
    """Check nothing: a table that is kept does not change."""


def _unchanged(path: Path, given: CompanionFiles | None = None) -> Callable[[], None]:
    """Return a check that raises where a file was written since now."""
    others = (given.validation, given.test, given.labels) if given else ()
    before = {file: signature(file) for file in (path, *others)
              if file is not None and file.is_file()}

    def check() -> None:
        for file, known in before.items():
            if not file.is_file() or signature(file) != known:
                raise DataError("the file changed while it was read", shown(file),
                                "wait until it is written, then add it again")

    return check


def search_data(workspace: Workspace,
                search: SearchFile,
                beside: Path,
                on_progress: Tell = no_progress) -> SearchFile:
    """Return a search whose data are in the workspace: where it names a file, that is added first.

    Parameters
    ----------
    beside : Path
        The folder that the path of a file starts from: that of the search file.

    Raises
    ------
    WorkspaceMissing, DataError
    """
    names = workspace.data_names()
    if not search.data or workspace.data(search.data).name in names:
        return replace(search, data=data_set(workspace, search.data).folder.name)
    path = beside / Path(search.data).expanduser()
    if not path.exists():
        raise WorkspaceMissing(
            f"there is no data set and no file called {shown(search.data)!r}",
            shown(workspace.folder),
            "there are " + ", ".join(names) if names else "add one: axiarch data add FILE")
    plan = plan_of(search.decisions)
    for name in names:
        known = read_dataset(workspace.data(name))
        alike = not search.decisions or replace(
            known.plan, targets=plan.targets or known.plan.targets) == replace(
                plan, targets=plan.targets or known.plan.targets)
        if alike and known.source == str(path.absolute()) and _made_since(known, path):
            return replace(search, data=name)
    return replace(search,
                   data=add_table(workspace, path, plan=plan, on_progress=on_progress).folder.name)


def plan_of(decisions: Mapping[str, Any]) -> DataPlan:
    """Return the plan that the decisions of a search file describe.

    Raises
    ------
    SearchFileError
        Naming the key that does not fit.
    """
    unknown = next((key for key in decisions if key not in DataPlan.__dataclass_fields__), None)
    if unknown is not None:
        raise SearchFileError(f"no decision about data is called {shown(unknown, 40)!r}",
                              "[decisions]",
                              "the decisions are " + ", ".join(DataPlan.__dataclass_fields__))
    columns = decisions.get("columns", {})
    known = {
        **decisions, "columns": list(columns.items()) if isinstance(columns, dict) else columns
    }
    try:
        return typed(known, DataPlan)
    except DataError as error:
        raise SearchFileError(error.what, "[decisions]", error.remedy) from None
    except ValueError as error:
        raise SearchFileError(f"a decision does not fit: {shown(error, 120)}", "[decisions]",
                              "see docs/data.md") from None


def _made_since(data: Dataset, path: Path) -> bool:
    """Say whether a data set is younger than the file it was made from."""
    return path.is_file() and (data.folder / "data.json").stat().st_mtime >= path.stat().st_mtime
