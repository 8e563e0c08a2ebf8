"""The real program in a real terminal: tmux with keys sent and the screen read."""

from __future__ import annotations

import os
import shutil
import subprocess
import sys
import tempfile
import time
import unittest
from collections.abc import Sequence
from pathlib import Path

from tests.support import shown


class Terminal:
    """One program in a tmux server of its own."""

    def __init__(self, command: list[str], size: tuple[int, int] = (140, 42)) -> None:
        self._place = tempfile.mkdtemp(prefix="axiarch-tmux-")
        self._socket = str(Path(self._place) / "socket")
        environment = {
            **os.environ, "TERM": "xterm-256color", "COLORTERM": "truecolor", "LC_ALL": "C.UTF-8"
        }
        self._tmux("-f", "/dev/null", "new-session", "-d", "-x", str(size[0]), "-y", str(size[1]),
                   *command, env=environment)

    def _tmux(self, *words: str, env: dict[str, str] | None = None) -> str:
        done = subprocess.run(["tmux", "-S", self._socket, *words],
                              capture_output=True,
                              text=True,
                              env=env,
                              stdin=subprocess.DEVNULL,
                              check=False)
        return done.stdout

    def press(self, *keys: str) -> None:
        """Press keys by their tmux names."""
        for key in keys:
            self._tmux("send-keys", key)
            time.sleep(0.08)

    def type(self, text: str) -> None:
        """Type text as it is."""
        self._tmux("send-keys", "-l", text)
        time.sleep(0.1)

    def screen(self) -> str:
        """Return what is on the screen."""
        return self._tmux("capture-pane", "-p")

    def alive(self) -> bool:
        """Say whether the program still runs."""
        return bool(self._tmux("list-sessions"))

    def hang_up(self) -> None:
        """Close the terminal from outside, as a lost connection does."""
        self._tmux("kill-server")

    def close(self) -> None:
        """End everything."""
        self.hang_up()
        shutil.rmtree(self._place, ignore_errors=True)


@unittest.skipUnless(shutil.which("tmux"), "tmux is not installed")
class TerminalCase(unittest.TestCase):
    """A test with a folder and terminals of its own."""

    def setUp(self) -> None:
        place = tempfile.TemporaryDirectory(prefix="axiarch-journey-")
        self.addCleanup(place.cleanup)
        self.folder = Path(place.name)

    def open(self, *words: str, size: tuple[int, int] = (140, 42)) -> Terminal:
        """Start the program in a terminal."""
        terminal = Terminal([sys.executable, "-m", "axiarch", *words], size)
        self.addCleanup(terminal.close)
        return terminal

    def wait(self,
             terminal: Terminal,
             *texts: str,
             gone: Sequence[str] = (),
             seconds: float = 60.0) -> str:
        """Wait until some texts are on the screen, and others gone from it; return the screen.

        What belongs together is waited for together: the lines of a screen come one after the
        other.
        """
        end = time.monotonic() + seconds
        while True:
            screen = terminal.screen()
            missing = [text for text in texts if not shown(text, screen)]
            left = [text for text in gone if shown(text, screen)]
            if not missing and not left:
                return screen
            if time.monotonic() > end:
                self.fail(f"{missing} did not come, {left} stayed:\n{screen}")
            time.sleep(0.1)
