"""Wait for a search to end."""

from __future__ import annotations

import time
from collections.abc import Callable

from axiarch.errors import WorkspaceMissing
from axiarch.journal.workspace import Workspace
from axiarch.workflows.watching import Snapshot, Watcher

#: Seconds between two looks at the journal.
_LOOK = 0.2
#: Seconds that a search just started may take to appear in the journal.
_APPEAR = 10.0


def wait(workspace: Workspace,
         number: int,
         on_progress: Callable[[Snapshot], None] = lambda _: None) -> Snapshot:
    """Wait until a search is done, stopped, failed or interrupted; `on_progress` gets every new
    snapshot.
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
                    return snapshot
            time.sleep(_LOOK)
    finally:
        watcher.close()
