"""Open a workspace and what lies in it."""

from __future__ import annotations

from pathlib import Path

from axiarch.data.dataset import Dataset
from axiarch.data.describing import read_dataset
from axiarch.errors import WorkspaceMissing
from axiarch.journal.read import is_older
from axiarch.journal.workspace import Workspace
from axiarch.journal.write import JournalWriter
from axiarch.text import shown


def open_workspace(folder: Path, *, create: bool = False) -> Workspace:
    """Return the workspace in `folder`; with `create`, make one where the folder is new or empty.

    A journal that an earlier version of the program wrote is brought up to date.

    Raises
    ------
    WorkspaceMissing, WorkspaceNewer, WorkspaceReadOnly
    WorkspaceLocked
        If the journal must be brought up to date while an earlier version runs a search.
    """
    workspace = Workspace.create(folder) if create else Workspace.open(folder)
    if is_older(workspace.journal):
        workspace.check_writable()
        with workspace.locked("updating the journal"):
            JournalWriter(workspace.journal).close()
    return workspace


def data_set(workspace: Workspace, name: str = "") -> Dataset:
    """Return the data set called `name`, or the only one there is.

    Raises
    ------
    WorkspaceMissing
        If there is none, or no name was given and there are several.
    """
    names = workspace.data_names()
    if name:
        if workspace.data(name).name not in names:
            raise WorkspaceMissing(
                f"there is no data set {shown(name)!r}", shown(workspace.folder),
                "there are " + ", ".join(names) if names else "add one: axiarch data add FILE")
        return read_dataset(workspace.data(name))
    if not names:
        raise WorkspaceMissing("there is no data yet", shown(workspace.folder),
                               "add some: axiarch data add FILE")
    if len(names) > 1:
        raise WorkspaceMissing("there are several data sets", shown(workspace.folder),
                               "name one of " + ", ".join(names))
    return read_dataset(workspace.data(names[0]))


def recent_tables(workspace: Workspace) -> tuple[str, ...]:
    """Return the paths of the tables that data sets of the workspace were made from, if they are
    still there.
    """
    found: dict[str, float] = {}
    for name in workspace.data_names():
        folder = workspace.data(name)
        try:
            source = read_dataset(folder).source
        except WorkspaceMissing:
            continue
        if Path(source).exists():
            found[source] = max(found.get(source, 0.0), folder.stat().st_mtime)
    return tuple(sorted(found, key=lambda source: -found[source]))
