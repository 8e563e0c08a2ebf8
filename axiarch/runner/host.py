"""What runs on a machine of a cluster: worker processes with a store of their own.

The functions here are called from far away, one at a time for each search. All that comes and goes
are plain values and bytes under names. Nothing is shared with the runner: no disk, no workspace.
"""

from __future__ import annotations

import contextlib
import fcntl
import os
import secrets
import shutil
import socket
import subprocess
import threading
import time
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field, replace
from pathlib import Path
from typing import Any

from axiarch.errors import AxiarchError
from axiarch.runner import launching
from axiarch.runner.executors.processes import ProcessExecutor
from axiarch.runner.store import FolderStore, named
from axiarch.runner.tasks import Report, Trained

#: Seconds after which a host that hears nothing gives up its search.
LEASE = 60.0
#: Bytes of data sets that a machine keeps for later searches.
KEPT_BYTES = 20 << 30
#: Of a checkpoint on the way, a second of waiting for every so many bytes, and seconds at least.
_RATE, _PAUSE = 2 << 20, 10.0
#: Seconds that reports are gathered before they are sent.
_GATHER = 0.02


@dataclass(frozen=True)
class Greeting:
    """What a machine says of itself.

    Attributes
    ----------
    machine : str
    cores : int
    free_disk, free_memory : int
        Bytes.
    sources, bits : str
        Digests of the engine's code, and of what it computes.
    missing : tuple of str
        Of the members of installed packages that were asked for, those that are not there.
    """

    machine: str
    cores: int
    free_disk: int
    free_memory: int
    sources: str
    bits: str
    missing: tuple[str, ...] = ()


@dataclass(frozen=True)
class Call:
    """One method of an executor, with its arguments."""

    what: str
    arguments: tuple[Any, ...] = ()


@dataclass(frozen=True)
class Reply:
    """What was reported, and the checkpoints that belong to it, by key."""

    reports: tuple[Report, ...]
    checkpoints: Mapping[str, bytes] = field(default_factory=dict)


def _ends(report: Report) -> bool:
    """Whether a worker may wait for more work after a report."""
    return not isinstance(report, Trained) or report.end is not None or report.rests


class HostGone(AxiarchError):
    """The search is not known on this machine any more."""


class Host:
    """The workers of one search on this machine.

    Parameters
    ----------
    workers : int
    folder : Path
        For data sets, kept for later searches, and for checkpoints.
    """

    def __init__(self, workers: int, folder: Path) -> None:
        self._workers = workers
        self.heard = time.monotonic()
        self._scratch = folder / f".host.{secrets.token_hex(8)}"
        self._scratch.mkdir(parents=True)
        self._held = os.open(self._scratch, os.O_RDONLY)
        fcntl.flock(self._held, fcntl.LOCK_EX)
        self.store = FolderStore(self._scratch, folder / "data")
        self._executor: ProcessExecutor | None = None
        self._last: tuple[int, Reply] = (0, Reply(()))
        self._sent: dict[int, float] = {}
        self._keys: dict[int, list[str]] = {}

    def start(self, fingerprint: str) -> None:
        """Start the workers: the data set is here.

        Raises
        ------
        AxiarchError
            If it is damaged.
        """
        from axiarch.data.dataset import check_arrays
        from axiarch.data.describing import read_dataset

        dataset = read_dataset(self.store.dataset(fingerprint))
        check_arrays(dataset)
        self.store.shrink(KEPT_BYTES, fingerprint)
        self._executor = ProcessExecutor(self.store, self._workers)

    def exchange(self, number: int, calls: Sequence[Call], checkpoints: Mapping[str, bytes],
                 seconds: float) -> Reply:
        """Do what is asked, and return what was reported since, waiting at most `seconds` for it.

        The exchange of a `number` is done once, however often it is asked for.
        """
        self.heard = time.monotonic()
        if number == self._last[0]:
            return self._last[1]
        assert self._executor is not None
        for key, content in checkpoints.items():
            self.store.put(named(key), content)
        for call in calls:
            getattr(self._executor, call.what)(*call.arguments)
        reports = list(self._executor.poll(seconds))
        if reports and not any(map(_ends, reports)):
            time.sleep(_GATHER)
            reports += self._executor.poll(0)
        reply = self._reply(reports)
        self._last = (number, reply)
        self.heard = time.monotonic()
        return reply

    def _reply(self, reports: Sequence[Report]) -> Reply:
        """Return reports with the checkpoints that go with them; those left here are not named."""
        sent, found = {}, []
        for report in reports:
            if isinstance(report, Trained) and report.checkpoint:
                content = self._content(report)
                if content is None:
                    report = replace(report, checkpoint="")
                else:
                    sent[report.checkpoint] = content
            found.append(report)
        return Reply(tuple(found), sent)

    def _content(self, report: Trained) -> bytes | None:
        """Return a checkpoint, where it is the last of its task or the one before was long ago."""
        over = report.end is not None or report.rests
        content = self.store.get(named(report.checkpoint))
        keys = self._keys.setdefault(report.run, [])
        keys.append(report.checkpoint)
        while keys[:-1] or (over and keys):
            self.store.remove(named(keys.pop(0)))
        if over:
            self._keys.pop(report.run, None)
            self._sent.pop(report.run, None)
            return content
        now = time.monotonic()
        if now - self._sent.get(report.run, -_PAUSE) < max(_PAUSE, len(content) / _RATE):
            return None
        self._sent[report.run] = now
        return content

    def close(self) -> None:
        """End the workers and forget the search; its data set stays for later ones."""
        if self._executor is not None:
            self._executor.close()
        shutil.rmtree(self._scratch, ignore_errors=True)
        os.close(self._held)


_HOSTS: dict[str, Host] = {}
_LOCK = threading.RLock()


def cache_folder() -> Path:
    """Return where a machine of a cluster keeps data sets."""
    import platformdirs

    own = os.environ.get("AXIARCH_CACHE") or platformdirs.user_cache_dir("axiarch")
    return Path(own).absolute()


def greet(members: Mapping[str, str] | None = None) -> Greeting:
    """Return what this machine says of itself; takes some seconds, and compiles where it must.

    Raises
    ------
    RuntimeError
        If the engine cannot be started here.
    """
    import psutil

    from axiarch.recipes.installed import wanted

    sources, bits = _signature()
    missing = []
    for name, kind in (members or {}).items():
        try:
            wanted({name: kind})
        except AxiarchError:
            missing.append(name)
    folder = cache_folder()
    folder.mkdir(parents=True, exist_ok=True)
    return Greeting(socket.gethostname(), len(os.sched_getaffinity(0)),
                    shutil.disk_usage(folder).free, psutil.virtual_memory().available, sources,
                    bits, tuple(missing))


def _signature() -> tuple[str, str]:
    """Return the digests of the engine's code and of what it computes on this machine.

    Working that out takes some seconds, so it is kept, with all that it may depend on.
    """
    from axiarch.files import read_text, write_whole
    from axiarch.runner.signature import circumstances

    folder = cache_folder()
    folder.mkdir(parents=True, exist_ok=True)
    place = folder / f"signature-{circumstances()}"
    with (folder / "signature.lock").open("w") as lock:
        fcntl.flock(lock, fcntl.LOCK_EX)
        with contextlib.suppress(OSError, ValueError):
            sources, bits = read_text(place, 1000).split()
            return sources, bits
        done = subprocess.run(launching.command("signature"), cwd=launching.HOME,
                              env=launching.environment(), capture_output=True, text=True,
                              check=False)
        if done.returncode:
            raise RuntimeError(f"the engine cannot be started: {done.stderr[-300:]}")
        sources, bits = done.stdout.split()[-2:]
        with contextlib.suppress(OSError):
            write_whole(place, f"{sources} {bits}")
    return sources, bits


def begin(token: str, workers: int, files: Mapping[str, str]) -> tuple[str, ...]:
    """Take up a search under a token; return the names of the files that are not here yet.

    Parameters
    ----------
    files : mapping
        Checksum of each file of its data set, by its name in a store; empty where any will do.
    """
    from axiarch.files import checksum

    folder = cache_folder()
    with _LOCK:
        _forget_leftovers(folder)
        host = _HOSTS[token] = Host(workers, folder)
        if len(_HOSTS) == 1:
            threading.Thread(target=_watch, daemon=True).start()
    missing = []
    for name, digest in files.items():
        place = host.store.place(name)
        if not host.store.has(name) or (digest and checksum(place) != digest):
            missing.append(name)
    host.heard = time.monotonic()
    return tuple(missing)


def put(token: str, name: str, start: int, piece: bytes, last: bool) -> None:
    """Keep a piece of a file of a data set; the file appears when its last piece is there."""
    host = _host(token)
    host.heard = time.monotonic()
    place = host.store.place(name)
    place.parent.mkdir(parents=True, exist_ok=True)
    draft = place.with_name(f".{token}.{place.name}")
    with draft.open("r+b" if start else "wb") as file:
        file.seek(start)
        file.write(piece)
    if last:
        os.replace(draft, place)


def start(token: str, fingerprint: str) -> None:
    """Start the workers of a search, whose data set is here now."""
    _host(token).start(fingerprint)


def exchange(token: str, number: int, calls: Sequence[Call], checkpoints: Mapping[str, bytes],
             seconds: float) -> Reply:
    """Do what is asked of a search's workers, and return what they reported."""
    return _host(token).exchange(number, calls, checkpoints, seconds)


def end(token: str) -> None:
    """End a search here."""
    with _LOCK:
        host = _HOSTS.pop(token, None)
    if host is not None:
        host.close()


def _host(token: str) -> Host:
    with _LOCK:
        if token not in _HOSTS:
            raise HostGone("the search is not known on this machine any more", "", "")
        return _HOSTS[token]


def _watch() -> None:
    """Give up searches of which nothing is heard any more, as long as there are any."""
    while True:
        time.sleep(LEASE / 12)
        with _LOCK:
            late = [token for token, host in _HOSTS.items()
                    if time.monotonic() - host.heard > LEASE]
            if not _HOSTS:
                return
        for token in late:
            end(token)


def _forget_leftovers(folder: Path) -> None:
    """Remove the folders of hosts whose process is gone."""
    from axiarch.files import held_folder

    for place in folder.glob(".host.*"):
        with contextlib.suppress(OSError), held_folder(place) as ours:
            if ours:
                shutil.rmtree(place, ignore_errors=True)


