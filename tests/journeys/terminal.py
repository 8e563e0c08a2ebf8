"""The real program in a real terminal: tmux with keys sent and the screen read."""

from __future__ import annotations

import os
import shutil
import subprocess
import sys
import tempfile
import time
import unittest
from pathlib import Path


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

    def wait(self, terminal: Terminal, text: str, seconds: float = 60.0, gone: bool = False) -> str:
        """Wait until a text is on the screen (or gone from it) and return the screen."""
        end = time.monotonic() + seconds
        while True:
            screen = terminal.screen()
            if (text in screen) != gone:
                return screen
            if time.monotonic() > end:
                self.fail(
                    f"{text!r} {'stayed on' if gone else 'did not come to'} the screen:\n{screen}")
            time.sleep(0.1)
