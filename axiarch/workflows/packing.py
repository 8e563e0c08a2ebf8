"""Pack a workspace into one archive, and unpack one elsewhere."""

from __future__ import annotations

import os
from collections.abc import Callable
from pathlib import Path

from axiarch.errors import InputError
from axiarch.export.tables import check_place
from axiarch.files import regular_file
from axiarch.journal import archive
from axiarch.journal.workspace import Workspace
from axiarch.text import shown

Tell = Callable[[str, float], None]


def pack(workspace: Workspace,
         path: Path,
         force: bool = False,
         on_progress: Tell = lambda step, done: None) -> int:
    """Write a workspace as a ``.zip`` and return the number of files in it.

    Raises
    ------
    InputError, WorkspaceLocked, WorkspaceReadOnly
    """
    check_place(path, (".zip",), force)
    if Path(os.path.realpath(path.absolute().parent)).is_relative_to(
            os.path.realpath(workspace.folder)):
        raise InputError("the archive would lie in the workspace that it holds", shown(path),
                         "choose a place outside the workspace")
    return archive.pack(workspace, path, on_progress)


def unpack(path: Path, folder: Path, on_progress: Tell = lambda step, done: None) -> Workspace:
    """Unpack an archive into a new folder and return the workspace; see
    :func:`axiarch.journal.archive.unpack`.

    Raises
    ------
    InputError, WorkspaceError, WorkspaceReadOnly
    """
    if not regular_file(path):
        raise InputError("there is no such archive", shown(path),
                         "name a .zip that axiarch pack has written")
    return archive.unpack(path, folder, on_progress)
