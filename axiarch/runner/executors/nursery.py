"""A process that has loaded the engine once and forks worker processes, so that each starts at once
and they share what was loaded.

It and the executor speak over a socket: ``fork TOKEN`` comes with the end of a pipe for the new
worker, ``kill TOKEN`` ends one, ``ended TOKEN CODE`` says that one has ended. When the executor is
gone, it ends; workers end by their pipes.
"""

from __future__ import annotations

import contextlib
import itertools
import os
import selectors
import signal
import socket
import subprocess
import time
from typing import NoReturn

from axiarch.runner import launching, worker

#: Bytes of a message at the most.
_MESSAGE = 64


class Nursery:
    """The executor's end."""

    def __init__(self) -> None:
        self._tokens = itertools.count(1)
        self._process: subprocess.Popen[bytes] | None = None
        self._open()

    def _open(self) -> None:
        self._codes: dict[int, int] = {}
        self._socket, theirs = socket.socketpair(socket.AF_UNIX, socket.SOCK_SEQPACKET)
        with theirs:
            self._process = subprocess.Popen(
                launching.command("nursery", str(theirs.fileno())), pass_fds=[theirs.fileno()],
                stdin=subprocess.DEVNULL, stdout=subprocess.DEVNULL, cwd=launching.HOME,
                env=launching.environment())

    def fork(self, descriptor: int) -> Child:
        """Start a worker with its end of a pipe; it begins when the engine is loaded."""
        token = next(self._tokens)
        message = f"fork {token}".encode()
        self._socket.settimeout(None)
        try:
            socket.send_fds(self._socket, [message], [descriptor])
        except OSError:  # it was killed: another one takes its place, its workers are their own
            self._close()
            self._open()
            socket.send_fds(self._socket, [message], [descriptor])
        return Child(self, token, self._socket)

    def tell(self, child: Child, what: str) -> None:
        """Ask for something about a worker, if it is one of the present process."""
        if child.home is self._socket:
            self._socket.settimeout(None)
            with contextlib.suppress(OSError):
                self._socket.send(f"{what} {child.token}".encode())

    def code(self, child: Child, seconds: float = 0.0) -> int | None:
        """Return the exit code of a worker, waiting for it up to some seconds; None while it runs,
        or where nobody knows it.
        """
        end = time.monotonic() + seconds
        while child.token not in self._codes and child.home is self._socket:
            self._socket.settimeout(max(end - time.monotonic(), 1e-3))
            try:
                words = self._socket.recv(_MESSAGE).split()
            except OSError:  # nothing has come, or the process is gone
                words = []
            if words:
                self._codes[int(words[1])] = int(words[2])
            elif time.monotonic() >= end or self.gone:
                break
        return self._codes.get(child.token)

    @property
    def gone(self) -> bool:
        """Whether the process has ended."""
        return self._process is None or self._process.poll() is not None

    def close(self) -> None:
        """End the process, once its workers have ended."""
        self._close()

    def _close(self) -> None:
        self._socket.close()
        if self._process is not None:
            try:
                self._process.wait(1)
            except subprocess.TimeoutExpired:
                self._process.kill()
                self._process.wait(5)


class Child:
    """A worker process that a nursery has forked, or will when it is ready."""

    def __init__(self, nursery: Nursery, token: int, home: socket.socket) -> None:
        self._nursery, self.token, self.home = nursery, token, home

    def kill(self) -> None:
        """End it at once."""
        self._nursery.tell(self, "kill")

    def wait(self, seconds: float) -> bool:
        """Wait until it has ended; say whether it has, as far as anybody knows."""
        return self._nursery.code(self, seconds) is not None

    def poll(self) -> int | None:
        """Return its exit code, negative for a signal; None while it runs, or if it is not known.
        """
        return self._nursery.code(self)


def main(descriptor: int) -> None:
    """Load the engine, then fork workers until the executor is gone."""
    for each in (signal.SIGINT, signal.SIGHUP):
        signal.signal(each, signal.SIG_IGN)
    _load()
    with socket.socket(fileno=descriptor) as asked, selectors.DefaultSelector() as selector:
        wakes, woken = socket.socketpair()
        woken.setblocking(False)
        wakes.setblocking(False)
        signal.signal(signal.SIGCHLD, lambda *_: None)
        signal.set_wakeup_fd(woken.fileno(), warn_on_full_buffer=False)
        selector.register(asked, selectors.EVENT_READ)
        selector.register(wakes, selectors.EVENT_READ)
        children: dict[int, int] = {}
        while True:
            ready = {key.fileobj for key, _ in selector.select()}
            if wakes in ready:
                with contextlib.suppress(OSError):
                    wakes.recv(4096)
                _reap(asked, children)
            if asked in ready and not _obey(asked, children, (asked, wakes, woken)):
                return


def _load() -> None:
    """Import what workers need, and load compiled code where there is some."""
    import psutil  # noqa: F401
    import threadpoolctl  # noqa: F401

    import axiarch.runner.trainer  # noqa: F401
    from axiarch.engine.warm import PRECISIONS, compiled, load

    if compiled():
        load(PRECISIONS[0])


def _obey(asked: socket.socket, children: dict[int, int], sockets: tuple[socket.socket, ...]
          ) -> bool:
    """Do what is asked; say whether there is still somebody to ask."""
    try:
        message, descriptors, _, _ = socket.recv_fds(asked, _MESSAGE, 1)
    except OSError:
        return False
    if not message:
        return False
    what, token = message.split()
    if what == b"fork" and descriptors:
        pid = os.fork()
        if pid == 0:
            _work(descriptors[0], sockets)
        children[pid] = int(token)
        os.close(descriptors[0])
    elif what == b"kill":
        for pid, number in children.items():
            if number == int(token):
                os.kill(pid, signal.SIGKILL)
    return True


def _work(descriptor: int, sockets: tuple[socket.socket, ...]) -> NoReturn:
    """Be a worker process."""
    code = 1
    try:
        signal.set_wakeup_fd(-1)
        signal.signal(signal.SIGCHLD, signal.SIG_DFL)
        for each in sockets:
            os.close(each.fileno())
        worker.main(descriptor)
        code = 0
    except BaseException:  # nothing may come back from here: the process is another one
        import traceback

        traceback.print_exc()
    finally:
        os._exit(code)


def _reap(asked: socket.socket, children: dict[int, int]) -> None:
    """Say which workers have ended."""
    while True:
        try:
            pid, status = os.waitpid(-1, os.WNOHANG)
        except ChildProcessError:
            return
        if pid == 0:
            return
        token = children.pop(pid, 0)
        with contextlib.suppress(OSError):
            asked.send(f"ended {token} {os.waitstatus_to_exitcode(status)}".encode())
