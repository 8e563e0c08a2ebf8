"""Processes of our own that were started, with the ends of their input and output.

Who starts many, as the interface does, keeps a process that has loaded the engine, and they are
forked by it.
"""

from __future__ import annotations

import contextlib
import os
import subprocess
import threading
import time
from collections.abc import Mapping
from dataclasses import dataclass
from typing import TextIO

from axiarch.runner import launching
from axiarch.runner.nursery import Nursery, Process


@dataclass
class Launched:
    """A process that was started, with the ends of its input and output."""

    process: Process
    input: TextIO
    output: TextIO

    def end(self) -> None:
        """End it now."""
        self.process.kill()
        end = time.monotonic() + _KILLED
        while self.process.poll() is None and time.monotonic() < end:
            time.sleep(0.002)
        self.output.close()
        with contextlib.suppress(BrokenPipeError):  # of what it has not read
            self.input.close()


@dataclass
class _Keeping:
    """Whether a nursery is kept, the one that is, and the environment it was started in."""

    wanted: bool = False
    nursery: Nursery | None = None
    environment: Mapping[str, str] | None = None


#: Processes that were started from nothing and have not ended: kept, so that they are reaped when
#: they do.
_RUNNING: list[subprocess.Popen[bytes]] = []
#: Seconds that a process takes at the most to end when it is killed; also what is waited for one
#: whose end nobody will tell, as what had forked it is gone.
_KILLED = 1.0
_KEEPING, _ONE_AT_A_TIME = _Keeping(), threading.Lock()


def keep(wanted: bool = True) -> None:
    """Keep a process that has loaded the engine, from the next launch on, until this one ends; or
    keep none.
    """
    _KEEPING.wanted = wanted


def launch(*words: str, errors: int, module: str = "axiarch.runner", alone: bool = False
           ) -> Launched:
    """Start one of our modules with some words.

    Parameters
    ----------
    errors : int
        The descriptor of the file that its errors go to.
    alone : bool, optional
        Whether it outlives this process and its terminal.

    Raises
    ------
    OSError
        If no process can be started.
    """
    reads, input_ = os.pipe()
    output, writes = os.pipe()
    files = (reads, writes, errors)
    try:
        process = _forked(module, words, files, alone) or _started(module, words, files, alone)
    except OSError:
        os.close(input_)
        os.close(output)
        raise
    finally:
        os.close(reads)
        os.close(writes)
    return Launched(process, open(input_, "w", encoding="utf-8"), open(output, encoding="utf-8"))


def _forked(module: str, words: tuple[str, ...], files: tuple[int, int, int], alone: bool
            ) -> Process | None:
    """Let the kept nursery start a process; None without one."""
    with _ONE_AT_A_TIME:
        if not _KEEPING.wanted:
            return None
        try:
            return _nursery().module(module, words, files, alone)
        except OSError:
            return None


def _nursery() -> Nursery:
    """Return the kept nursery; another one where the environment is not that of its start."""
    wanted = launching.environment()
    if _KEEPING.nursery is None or _KEEPING.environment != wanted:
        if _KEEPING.nursery is not None:
            _KEEPING.nursery.close()
        _KEEPING.nursery, _KEEPING.environment = Nursery(subprocess.DEVNULL), wanted
    return _KEEPING.nursery


def _started(module: str, words: tuple[str, ...], files: tuple[int, int, int], alone: bool
             ) -> Process:
    """Start a process from nothing."""
    _RUNNING[:] = [process for process in _RUNNING if process.poll() is None]
    process = subprocess.Popen(
        launching.command(*words, module=module), stdin=files[0], stdout=files[1], stderr=files[2],
        start_new_session=alone, cwd=launching.HOME, env=launching.environment())
    _RUNNING.append(process)
    return process
