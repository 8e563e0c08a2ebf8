"""Wait for a search to end."""

from __future__ import annotations

import time
from collections.abc import Callable

from axiarch.errors import WorkspaceMissing
from axiarch.journal.workspace import Workspace
from axiarch.workflows.snapshot import Snapshot
from axiarch.workflows.watching import Watcher

#: Seconds between two looks at the journal.
_LOOK = 0.2
#: Seconds that a search just started may take to appear in the journal, and one that is over to let
#: go of the workspace.
_APPEAR, _LET_GO = 10.0, 5.0


def wait(workspace: Workspace,
         number: int,
         on_progress: Callable[[Snapshot], None] = lambda _: None) -> Snapshot:
    """Wait until a search is done, stopped, failed or interrupted, and its process has let go of
    the workspace; `on_progress` gets every new snapshot.
    """
    watcher = Watcher(workspace, number)
    started = time.monotonic()
    try:
        while True:
            try:
                snapshot = watcher.poll()
            except WorkspaceMissing:
                if time.monotonic() - started > _APPEAR:
                    raise
                snapshot = None
            if snapshot is not None:
                on_progress(snapshot)
                if snapshot.over:
                    _let_go(workspace, number)
                    return snapshot
            time.sleep(_LOOK)
    finally:
        watcher.close()


def _let_go(workspace: Workspace, number: int) -> None:
    """Wait for the process of a search that is over, which holds the workspace for a moment longer.
    """
    end = time.monotonic() + _LET_GO
    while time.monotonic() < end:
        owner = workspace.owner()
        if owner is None or owner.what != f"search {number}":
            return
        time.sleep(0.02)
