"""The one reader of the journal in the interface: a thread that looks a few times a second."""

from __future__ import annotations

import threading
from collections.abc import Callable

from axiarch.errors import AxiarchError, WorkspaceMissing
from axiarch.journal.workspace import Workspace
from axiarch.workflows.snapshot import Snapshot
from axiarch.workflows.watching import Watcher

#: Seconds between two looks: calm to the eye, and soon enough.
LOOK = 0.3


class Feed(threading.Thread):
    """Watches one search and hands on each new snapshot.

    Parameters
    ----------
    workspace : Workspace
    deliver : callable
        Takes a snapshot; called in this thread.
    fail : callable
        Takes an error; called in this thread, after which the feed waits for another search.
    """

    def __init__(self, workspace: Workspace, deliver: Callable[[Snapshot], object],
                 fail: Callable[[AxiarchError], object]) -> None:
        super().__init__(name="feed", daemon=True)
        self._workspace = workspace
        self._deliver = deliver
        self._fail = fail
        self._number = 0
        self._wake = threading.Event()
        self._ended = False

    def watch(self, number: int) -> None:
        """Watch the search `number` from now on."""
        self._number = number
        self._wake.set()

    def end(self) -> None:
        """Stop watching."""
        self._ended = True
        self._wake.set()

    def run(self) -> None:
        """Look, deliver, sleep, until ended."""
        watcher: Watcher | None = None
        while not self._ended:
            number = self._number
            if watcher is None or watcher.number != number:
                if watcher is not None:
                    watcher.close()
                watcher = self._watcher(number) if number else None
            if watcher is not None and not self._look(watcher):
                self._number = 0
            self._wake.wait(LOOK)
            self._wake.clear()
        if watcher is not None:
            watcher.close()

    def _watcher(self, number: int) -> Watcher | None:
        """Return a watcher of a search; None, after saying so, where the journal cannot be read."""
        try:
            return Watcher(self._workspace, number)
        except AxiarchError as error:
            self._fail(error)
            self._number = 0
            return None

    def _look(self, watcher: Watcher) -> bool:
        try:
            snapshot = watcher.poll()
        except WorkspaceMissing:
            return True  # a search that has just been started is not journalled yet
        except AxiarchError as error:
            self._fail(error)
            return False
        if snapshot is not None and watcher.number == self._number:
            self._deliver(snapshot)
        return True
