"""A process that has loaded the engine once and forks others, so that each starts at once and they
share what was loaded.

An executor has one for its worker processes; whoever starts runners and helpers again and again
keeps one for them (:func:`axiarch.runner.launched.keep`). Both speak with it over a socket, in
JSON: ``fork`` comes with the open files of the new process and says what it is to be, ``kill`` ends
one, ``ended`` says that one has ended. When the other end is gone, it ends; what it has forked does
not.
"""

from __future__ import annotations

import contextlib
import itertools
import json
import os
import selectors
import signal
import socket
import subprocess
import sys
import threading
import time
from collections.abc import Callable, Sequence
from typing import Any, NoReturn, Protocol

from axiarch.runner import launching

#: Bytes of a message at the most: two paths, each as long as paths may be, and some words.
_MESSAGE = 1 << 15
#: Seconds that one of several threads may wait for messages while others wait for their turn.
_TURN = 0.05


class Process(Protocol):
    """What is asked of a process, whoever has started it."""

    def poll(self) -> int | None: ...

    def kill(self) -> None: ...


class Nursery:
    """The end of whoever asks; threads may share it.

    Parameters
    ----------
    errors : int, optional
        Where errors of the process itself go: a descriptor, as :mod:`subprocess` takes it; else to
        those of this process.
    """

    def __init__(self, errors: int | None = None) -> None:
        self._errors = errors
        self._tokens = itertools.count(1)
        self._lock = threading.RLock()
        self._open()

    def _open(self) -> None:
        self._codes: dict[int, int] = {}
        self._socket, self._process = _PREPARED.pop() if _PREPARED else _start(self._errors)

    def worker(self, pipe: int) -> Child:
        """Start a worker with its end of a pipe; it begins when the engine is loaded."""
        return self._fork({"worker": True}, [pipe])

    def module(self, module: str, words: Sequence[str], files: Sequence[int], alone: bool) -> Child:
        """Start a process that runs a module.

        Parameters
        ----------
        files : sequence of int
            What it reads, writes and writes errors to: open descriptors.
        alone : bool
            Whether it gets a session of its own.

        Raises
        ------
        OSError
            If no process can be started, or the words are too long.
        """
        return self._fork({"module": module, "words": list(words), "alone": alone}, files)

    def _fork(self, what: dict[str, Any], files: Sequence[int]) -> Child:
        with self._lock:
            token = next(self._tokens)
            message = json.dumps({"fork": token, **what}).encode()
            if len(message) > _MESSAGE:
                raise OSError("more than a message holds")
            while self._hear(0.0):  # what has been said since
                pass
            self._socket.settimeout(None)
            try:
                socket.send_fds(self._socket, [message], files)
            except OSError:  # it was killed: another one takes its place, its children live on
                self.close()
                self._open()
                socket.send_fds(self._socket, [message], files)
            return Child(self, token, self._socket)

    def kill(self, child: Child) -> None:
        """End a process, if it is a child of the present one."""
        with self._lock, contextlib.suppress(OSError):
            if child.home is self._socket:
                self._socket.settimeout(None)
                self._socket.send(json.dumps({"kill": child.token}).encode())

    def code(self, child: Child, seconds: float = 0.0) -> int | None:
        """Return the exit code of a child, waiting for it up to some seconds; None while it runs,
        or where nobody knows it.
        """
        end = time.monotonic() + seconds
        while True:
            with self._lock:
                left = end - time.monotonic()
                if child.token in self._codes or child.home is not self._socket:
                    return self._codes.get(child.token)
                heard = self._hear(min(max(left, 1e-3), _TURN))
                if not heard and (left <= 0 or self.gone):
                    return None

    def _hear(self, seconds: float) -> bool:
        """Take what the process says within some seconds; say whether it said something."""
        try:
            self._socket.settimeout(seconds)
            message = self._socket.recv(_MESSAGE)
        except OSError:  # nothing has come, or nothing can
            return False
        if message:
            found = json.loads(message)
            self._codes[found["ended"]] = found["code"]
        return bool(message)

    @property
    def gone(self) -> bool:
        """Whether the process has ended."""
        return self._process.poll() is not None

    def close(self) -> None:
        """End the process; what it has forked does not end by this."""
        self._socket.close()
        end = time.monotonic() + 1
        while self._process.poll() is None:
            if time.monotonic() > end:
                self._process.kill()
            time.sleep(0.005)


class Child:
    """A process that a nursery has forked, or will when it is ready."""

    def __init__(self, nursery: Nursery, token: int, home: socket.socket) -> None:
        self._nursery, self.token, self.home = nursery, token, home

    def kill(self) -> None:
        """End it at once."""
        self._nursery.kill(self)

    def wait(self, seconds: float) -> bool:
        """Wait until it has ended; say whether it has, as far as anybody knows."""
        return self._nursery.code(self, seconds) is not None

    def poll(self) -> int | None:
        """Return its exit code, negative for a signal; None while it runs, or if it is not known.
        """
        return self._nursery.code(self)


class _Forked:
    """A process that this one has forked."""

    def __init__(self, pid: int) -> None:
        self._pid = pid
        self._code: int | None = None

    def poll(self) -> int | None:
        """Return its exit code, negative for a signal; None while it runs."""
        if self._code is None:
            pid, status = os.waitpid(self._pid, os.WNOHANG)
            self._code = os.waitstatus_to_exitcode(status) if pid else None
        return self._code

    def kill(self) -> None:
        """End it at once."""
        if self.poll() is None:
            os.kill(self._pid, signal.SIGKILL)


#: The process that was started for the first nursery of this process, until it is taken.
_PREPARED: list[tuple[socket.socket, Process]] = []


def prepare() -> None:
    """Start the process of this process's first nursery, before all else: it loads the engine
    meanwhile. Where this process has the engine, itself forked by a nursery, it is forked.
    """
    _PREPARED.append(_fork() if _LOADED else _start())


def _start(errors: int | None = None) -> tuple[socket.socket, Process]:
    ours, theirs = socket.socketpair(socket.AF_UNIX, socket.SOCK_SEQPACKET)
    with theirs:
        return ours, subprocess.Popen(
            launching.command("nursery", str(theirs.fileno())), pass_fds=[theirs.fileno()],
            stdin=subprocess.DEVNULL, stdout=subprocess.DEVNULL, stderr=errors, cwd=launching.HOME,
            env=launching.environment())


def _fork() -> tuple[socket.socket, Process]:
    """Fork it: possible while this process has one thread and holds no file that matters."""
    ours, theirs = socket.socketpair(socket.AF_UNIX, socket.SOCK_SEQPACKET)
    pid = os.fork()
    if pid == 0:
        ours.close()
        null = os.open(os.devnull, os.O_RDWR)
        for number in (0, 1):
            os.dup2(null, number)
        os.close(null)
        _be(lambda: _Server(theirs).serve())
    theirs.close()
    return ours, _Forked(pid)


def main(descriptor: int) -> None:
    """Load the engine, then fork until the other end is gone."""
    _Server(socket.socket(fileno=descriptor)).serve()


class _Server:
    """The process that forks. It has one thread, so that a fork copies all of it."""

    def __init__(self, asked: socket.socket) -> None:
        self._asked = asked
        self._wakes, self._woken = socket.socketpair()
        self._wakes.setblocking(False)
        self._woken.setblocking(False)
        self._children: dict[int, int] = {}

    def serve(self) -> None:
        """Fork until the other end is gone."""
        for each in (signal.SIGINT, signal.SIGHUP):
            signal.signal(each, signal.SIG_IGN)
        signal.signal(signal.SIGCHLD, lambda *_: None)
        signal.set_wakeup_fd(self._woken.fileno(), warn_on_full_buffer=False)
        _load()
        with selectors.DefaultSelector() as selector:
            selector.register(self._asked, selectors.EVENT_READ)
            selector.register(self._wakes, selectors.EVENT_READ)
            asked = True
            while asked:
                ready = {key.fileobj for key, _ in selector.select()}
                if self._wakes in ready:
                    with contextlib.suppress(OSError):
                        self._wakes.recv(4096)
                    self._reap()
                if self._asked in ready:
                    asked = self._obey()

    def _obey(self) -> bool:
        """Do what is asked; say whether there is still somebody to ask."""
        try:
            message, files, _, _ = socket.recv_fds(self._asked, _MESSAGE, 3)
        except OSError:
            return False
        if not message:
            return False
        wanted = json.loads(message)
        if "fork" in wanted:
            _load()
            pid = os.fork()
            if pid == 0:
                _be(lambda: self._grow_up(wanted, files))
            self._children[pid] = wanted["fork"]
            for each in files:
                os.close(each)
        else:
            for pid, token in self._children.items():
                if token == wanted["kill"]:
                    os.kill(pid, signal.SIGKILL)
        return True

    def _grow_up(self, wanted: dict[str, Any], files: Sequence[int]) -> None:
        """Let go of what belongs to the process that was forked, and be what was wanted."""
        signal.set_wakeup_fd(-1)
        signal.signal(signal.SIGCHLD, signal.SIG_DFL)
        signal.signal(signal.SIGHUP, signal.SIG_DFL)
        signal.signal(signal.SIGINT, signal.default_int_handler)
        for each in (self._asked, self._wakes, self._woken):
            os.close(each.fileno())
        _become(wanted, files)

    def _reap(self) -> None:
        """Say which children have ended."""
        while self._children:
            pid, status = os.waitpid(-1, os.WNOHANG)
            if pid == 0:
                return
            said = {"ended": self._children.pop(pid), "code": os.waitstatus_to_exitcode(status)}
            with contextlib.suppress(OSError):  # who never listens is not waited for
                self._asked.send(json.dumps(said).encode(), socket.MSG_DONTWAIT)


def _load() -> None:
    """Import what workers need, and load compiled code where there is some; once."""
    if _LOADED:
        return
    import psutil  # noqa: F401
    import threadpoolctl  # noqa: F401

    import axiarch.runner.trainer  # noqa: F401
    from axiarch.engine.warm import PRECISIONS, compiled, load

    if compiled():
        load(PRECISIONS[0])
        _LOADED.append(PRECISIONS[0])


#: The precisions whose compiled code this process has loaded.
_LOADED: list[str] = []


def _become(wanted: dict[str, Any], files: Sequence[int]) -> None:
    """Be what was wanted."""
    _call_it("worker" if "worker" in wanted else "".join(wanted["words"][:1]))
    if "worker" in wanted:
        from axiarch.runner import worker

        worker.main(files[0])
        return
    import runpy

    for number, each in enumerate(files):
        os.dup2(each, number)
        os.close(each)
    if wanted["alone"]:
        os.setsid()
    sys.argv = [wanted["module"], *wanted["words"]]
    runpy.run_module(wanted["module"], run_name="__main__", alter_sys=True)


def _call_it(name: str) -> None:
    """Name this process as lists of processes show it, in place of the one it was forked from."""
    with contextlib.suppress(OSError), open("/proc/self/comm", "w", encoding="utf-8") as file:
        file.write(f"axiarch {name}")


def _be(what: Callable[[], None]) -> NoReturn:
    """Do something as a process of its own, and end with it."""
    code = 1
    try:
        what()
        code = 0
    except SystemExit as left:
        code = left.code if isinstance(left.code, int) else int(left.code is not None)
    except BaseException:  # nothing may come back from here: the process is another one
        import traceback

        traceback.print_exc()
    finally:
        with contextlib.suppress(OSError, ValueError):
            sys.stdout.flush()
        os._exit(code)
