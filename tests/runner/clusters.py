"""A Dask scheduler and workers as processes on the loopback, for tests."""

from __future__ import annotations

import os
import shutil
import signal
import subprocess
import sys
from collections.abc import Sequence
from pathlib import Path

from axiarch.runner.host import cache_folder
from tests.support import until


class Cluster:
    """A scheduler and workers; every worker has a cache of its own and shares no folder with us.

    Parameters
    ----------
    folder : Path
    prefix : sequence of str
        Words before each command: where it is run.
    host : str
        Address that the scheduler listens on.
    options : sequence of str
        Of every command.
    """

    def __init__(self, folder: Path, host: str = "127.0.0.1", prefix: Sequence[str] = (),
                 options: Sequence[str] = ()) -> None:
        self._folder, self._options = folder, tuple(options)
        self.workers: list[subprocess.Popen[bytes]] = []
        self._log = (folder / "cluster.log").open("wb")
        self.scheduler = self._start(
            ["scheduler", "--host", host, "--port", "0", "--no-dashboard"], prefix)
        until(lambda: "Scheduler at:" in self.log, what="a scheduler")
        line = next(line for line in self.log.splitlines() if "Scheduler at:" in line)
        self.address = line.split()[-1]

    @property
    def log(self) -> str:
        """What all processes have written so far."""
        return (self._folder / "cluster.log").read_text(errors="replace")

    def add(self, threads: int = 1, prefix: Sequence[str] = (), cache: str = "",
            **environment: str) -> subprocess.Popen[bytes]:
        """Start a worker."""
        number = len(self.workers)
        own = self._folder / f"worker-{number}"
        own.mkdir()
        home = Path(cache) if cache else own / "cache"
        # What this machine's engine computes is worked out once a module, not by every worker.
        shutil.copytree(cache_folder(), home, dirs_exist_ok=True,
                        ignore=lambda _, names: [n for n in names
                                                 if not n.startswith("signature-")])
        worker = self._start(
            ["worker", self.address, "--nthreads", str(threads), "--no-nanny", "--no-dashboard",
             "--local-directory", str(own), "--name", f"w{number}"], prefix,
            AXIARCH_CACHE=str(home), **environment)
        self.workers.append(worker)
        return worker

    def _start(self, words: Sequence[str], prefix: Sequence[str], **environment: str
               ) -> subprocess.Popen[bytes]:
        command = [*prefix, sys.executable, "-m", "dask", *words, *self._options]
        return subprocess.Popen(command, stdin=subprocess.DEVNULL, stdout=self._log,
                                stderr=self._log, cwd="/", env={**os.environ, **environment},
                                start_new_session=True)

    def close(self) -> None:
        """End all processes."""
        for process in (*self.workers, self.scheduler):
            if process.poll() is None:
                os.killpg(process.pid, signal.SIGKILL)
            process.wait()
        self._log.close()
