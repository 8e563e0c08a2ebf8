"""Save what can be read of a damaged workspace into a new one."""

from __future__ import annotations

import shutil
from dataclasses import dataclass
from pathlib import Path

from axiarch.data.dataset import check_arrays
from axiarch.data.describing import read_dataset
from axiarch.data.sealed import verify_kept
from axiarch.errors import AxiarchError, WorkspaceMissing, not_written
from axiarch.files import regular_file
from axiarch.journal.rescue import save_journal
from axiarch.journal.workspace import Workspace
from axiarch.text import count, shown

#: Files of a search that are saved beside its checkpoints.
_SEARCH_FILES = ("search.toml", "forecast.json")


@dataclass(frozen=True)
class Rescued:
    """What was saved, and what was not, a line each."""

    folder: Path
    saved: tuple[str, ...]
    lost: tuple[str, ...]


def rescue(source: Path, target: Path) -> Rescued:
    """Save the data sets, searches and journal rows that can be read of `source` in a new
    workspace.

    Nothing in `source` is changed, and no link in it is followed.

    Raises
    ------
    WorkspaceMissing
        If `source` is no folder, or `target` is neither new nor empty.
    """
    source = source.absolute()
    if not source.is_dir():
        raise WorkspaceMissing("there is no such folder", shown(source), "check the path")
    if target.exists() and any(target.iterdir()):
        raise WorkspaceMissing("the folder is not empty", shown(target),
                               "give a new or empty folder")
    workspace = Workspace.create(target)
    saved: list[str] = []
    lost: list[str] = []
    try:
        _save_data(source, workspace, saved, lost)
        _save_searches(source, workspace, saved)
        kept = [
            f"{place}/{p.name}" for place, ending in (("versions", "toml"), ("models",
                                                                             "safetensors"))
            for p in (source / place).glob(f"*.{ending}")
        ]
        for name in ("draft.toml", "devices.toml", *kept):
            if regular_file(source / name) and not (source / name).parent.is_symlink():
                (workspace.folder / name).parent.mkdir(exist_ok=True)
                shutil.copyfile(source / name, workspace.folder / name)
    except OSError as error:
        raise not_written("it cannot be saved", shown(target), error,
                          "choose another folder") from None
    if regular_file(source / "journal.sqlite"):
        try:
            found = save_journal(source / "journal.sqlite", workspace.journal)
        except AxiarchError as error:
            lost.append(str(error))
        else:
            saved += [f"{n} rows of {table}" for table, n in found.rows.items() if n]
            if found.lost:
                lost.append(f"{count(found.lost, 'row')} of the journal")
            saved += [f"search {n} can be resumed" for n in found.unfinished]
    return Rescued(workspace.folder, tuple(saved), tuple(lost))


def _save_data(source: Path, workspace: Workspace, saved: list[str], lost: list[str]) -> None:
    """Copy the data sets that are whole."""
    folder = source / "data"
    places = sorted(folder.iterdir()) if folder.is_dir() and not folder.is_symlink() else []
    for place in places:
        if place.name.startswith(".") or place.is_symlink() or not place.is_dir():
            continue
        try:
            if any(path.is_symlink() for path in place.rglob("*")):
                raise WorkspaceMissing("it holds symbolic links", shown(place), "remove them")
            found = read_dataset(place)
            check_arrays(found)
            verify_kept(found)
        except AxiarchError as error:
            lost.append(f"data set {place.name}: {error.what}")
        else:
            shutil.copytree(place, workspace.folder / "data" / place.name)
            saved.append(f"data set {place.name}")


def _save_searches(source: Path, workspace: Workspace, saved: list[str]) -> None:
    """Copy search files and checkpoints."""
    folder = source / "searches"
    places = sorted(folder.glob("[0-9]*")) if folder.is_dir() and not folder.is_symlink() else []
    for place in places:
        if place.is_symlink() or not regular_file(place / "search.toml"):
            continue
        target = workspace.folder / "searches" / place.name
        (target / "checkpoints").mkdir(parents=True)
        for name in _SEARCH_FILES:
            if regular_file(place / name):
                shutil.copyfile(place / name, target / name)
        inside = place / "checkpoints"
        for path in sorted(inside.glob("[0-9]*.safetensors")) if not inside.is_symlink() else []:
            if regular_file(path):
                shutil.copyfile(path, target / "checkpoints" / path.name)
        saved.append(f"files of search {place.name.lstrip('0')}")
