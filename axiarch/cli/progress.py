"""Progress on standard error: one line that renews itself on a terminal, a line now and then elsewhere."""

from __future__ import annotations

import sys
import time

from axiarch.cli.printing import progress_line
from axiarch.plain import shown, step_text
from axiarch.workflows.watching import Snapshot

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
        line = shown(progress_line(snapshot))
        print(f"\r\x1b[K{line}" if self._live else line, end="" if self._live else "\n", file=sys.stderr, flush=True)

    def note(self, text: str) -> None:
        """Say something besides."""
        print(f"\n{text}" if self._live else text, file=sys.stderr, flush=True)

    def close(self) -> None:
        """Leave the line."""
        if self._live:
            print(file=sys.stderr)


class Steps:
    """Shows how far work of several steps is; a context manager."""

    def __init__(self) -> None:
        self._live = sys.stderr.isatty()
        self._step = ""
        self._began = self._last = time.monotonic()

    def __enter__(self) -> Steps:
        return self

    def __exit__(self, *_: object) -> None:
        if self._live and self._step:
            print("\r\x1b[K", end="", file=sys.stderr, flush=True)

    def show(self, step: str, done: float) -> None:
        """Show that a share of a step is done, unless it is too soon after the last."""
        now = time.monotonic()
        if step != self._step:
            self._step, self._began = step, now
            self._last = now if not self._live else 0.0
        if now - self._last < (0.2 if self._live else _QUIET):
            return
        self._last = now
        line = step_text(step, done, now - self._began)
        print(f"\r\x1b[K{line}; Ctrl-C stops" if self._live else line, end="" if self._live else "\n",
              file=sys.stderr, flush=True)
