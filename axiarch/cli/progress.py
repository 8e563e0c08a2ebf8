"""Progress on standard error: one line that renews itself on a terminal, a line now and then
elsewhere.
"""

from __future__ import annotations

import sys
import time

from axiarch.cli.printing import progress_line
from axiarch.cli.saying import say, write
from axiarch.text import shown, step_text
from axiarch.workflows.snapshot import Snapshot

#: Seconds between two lines where there is no terminal.
_QUIET = 5.0


class Progress:
    """Shows how far a search is."""

    def __init__(self) -> None:
        self._live = sys.stderr.isatty()
        self._last = 0.0
        self._state = ""

    def show(self, snapshot: Snapshot) -> None:
        """Show a snapshot, unless it is too soon after the last."""
        now = time.monotonic()
        changed = snapshot.search.state != self._state
        if not changed and now - self._last < (0.2 if self._live else _QUIET):
            return
        self._last, self._state = now, snapshot.search.state
        renew(progress_line(snapshot), self._live)

    def note(self, text: str) -> None:
        """Print a line of its own."""
        say(*(["", text] if self._live else [text]), error=True)

    def close(self) -> None:
        """Leave the line."""
        if self._live:
            say("", error=True)


def renew(line: str, live: bool) -> None:
    """Write a line on standard error, on a terminal in the place of the one before."""
    write(sys.stderr, f"\r\x1b[K{shown(line)}" if live else f"{shown(line)}\n")


class Steps:
    """Shows how far work of several steps is; a context manager."""

    def __init__(self) -> None:
        self._live = sys.stderr.isatty()
        self._step = self._first = ""
        self._began = time.monotonic()
        self._last = 0.0

    def __enter__(self) -> Steps:
        return self

    def __exit__(self, *_: object) -> None:
        if self._live and self._step:
            renew("", live=True)

    def show(self, step: str, done: float) -> None:
        """Show that a share of a step is done, unless it is too soon after the last."""
        now = time.monotonic()
        if step != self._step:
            self._first = self._first or step
            self._step, self._began = step, now
            self._last = 0.0 if self._live or step == self._first else now
        if now - self._last < (0.2 if self._live else _QUIET):
            return
        self._last = now
        line = step_text(step, done, now - self._began)
        renew(f"{line}; Ctrl-C stops" if self._live else line, self._live)
