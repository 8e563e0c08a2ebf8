"""Pause, resume or stop a search that runs in the background."""

from __future__ import annotations

from axiarch.errors import WorkspaceMissing
from axiarch.journal.inbox import Request, send
from axiarch.journal.workspace import Workspace
from axiarch.plain import shown


def steer_search(workspace: Workspace, number: int, request: Request) -> None:
    """Ask a running search to pause, resume or stop; it obeys within a second.

    Raises
    ------
    WorkspaceMissing
        If no process runs this search.
    """
    owner = workspace.owner()
    if owner is None or owner.what != f"search {number}":
        raise WorkspaceMissing(f"search {number} is not running", shown(workspace.folder),
                               f"let it go on: axiarch resume {number}")
    send(workspace.search(number), request)
