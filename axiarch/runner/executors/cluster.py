"""Trains on the workers of a Dask cluster (:mod:`distributed`), on as many machines as it has.

Every Dask worker becomes the host of as many worker processes as it has threads
(:mod:`axiarch.runner.host`). The runner exchanges calls for reports with each host, by ordinary
tasks that are bound to it; a lost connection is survived by asking for the same exchange again.
All of this happens in a thread of its own, with an event loop, so that :meth:`poll` never waits for
the network.
"""

from __future__ import annotations

import asyncio
import contextlib
import functools
import queue
import threading
import time
import traceback
from collections.abc import AsyncIterator, Callable, Mapping, Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Any

from axiarch.errors import AxiarchError, InputError, TrainingError, causes
from axiarch.runner import host as remote
from axiarch.runner.executors import ExecutorLost
from axiarch.runner.executors.admission import differs, files_of, no_room, unfit
from axiarch.runner.executors.seats import Host
from axiarch.runner.host import Call, Greeting, Reply
from axiarch.runner.material import SHARE, WORKER_BYTES
from axiarch.runner.store import FolderStore, named
from axiarch.runner.tasks import (
    Heard,
    Left,
    Remark,
    Report,
    Returned,
    Silent,
    Task,
)
from axiarch.text import shown

if TYPE_CHECKING:
    from distributed import Client

#: Seconds in which a scheduler must answer at first, and after which one that is gone is given up.
CONNECTING, GONE = 6.0, 30.0
#: Seconds without an answer after which a worker counts as silent, and after which it is given up.
SILENT, GIVEN_UP = 5.0, 60.0
#: Seconds between two looks at which workers the cluster has.
_LOOK = 1.0
#: Seconds that an exchange waits for reports: of workers that all have enough to do, and else.
_WAIT, _HURRY = 0.25, 0.03
#: Seconds between two exchanges with a host that has nothing to do: it would give up the search.
_IDLE = remote.LEASE / 6
#: Bytes of a file that are sent at once.
_PIECE = 16 << 20


class ClusterExecutor:
    """Trains on a Dask cluster.

    Parameters
    ----------
    address : str
        Of a scheduler, such as ``tcp://node1:8786``, or ``local:4`` for a cluster of four workers
        on this machine that ends with the search.
    store : FolderStore
        Of the runner.
    fingerprint : str
        Of the data set.
    members : mapping, optional
        Members of installed packages that the search needs: the kind of each, by name.

    Raises
    ------
    InputError
        If there is no such scheduler.
    """

    ahead, latency = 3, 0.05

    def __init__(self, address: str, store: FolderStore, fingerprint: str,
                 members: Mapping[str, str] | None = None) -> None:
        self._address, self._store, self._fingerprint = address, store, fingerprint
        self._members = dict(members or {})
        self._reports: queue.SimpleQueue[Report | Exception] = queue.SimpleQueue()
        self._hosts: dict[str, Host] = {}
        self._of: dict[int, tuple[Host, int]] = {}
        self._workers = 0
        self._held = self._dropping = False
        self._ours: Greeting | None = None
        self._refused: set[tuple[str, str]] = set()
        self._serving: dict[str, asyncio.Task[None]] = {}
        self._loop = asyncio.new_event_loop()
        self._closing = threading.Event()
        ready: queue.SimpleQueue[Exception | None] = queue.SimpleQueue()
        self._thread = threading.Thread(target=self._run, args=(ready,), daemon=True)
        self._thread.start()
        if (error := ready.get()) is not None:
            raise error

    # -- the seam --------------------------------------------------------------------------------

    def submit(self, worker: int, task: Task) -> None:
        """Let a worker train a task, after those it has."""
        if worker not in self._of:
            return
        host, seat = self._of[worker]
        checkpoints = {}
        for key in (*task.checkpoints[:1], *([task.origin] if task.origin else [])):
            with contextlib.suppress(OSError):
                checkpoints[key] = self._store.get(named(key))
        host.runs[seat].add(task.id)
        self._call(host, "submit", seat, task, checkpoints=checkpoints)

    def release(self, worker: int, run: int) -> None:
        """Train a run no further."""
        if worker in self._of:
            host, seat = self._of[worker]
            self._call(host, "release", seat, run)

    def resize(self, workers: int) -> None:
        """Refuse: the cluster has as many workers as were started.

        Raises
        ------
        TrainingError
        """
        raise TrainingError("the cluster decides how many workers there are", "",
                            "start or stop workers of the cluster; those that start join the "
                            "search")

    def hold(self) -> None:
        """Pause all workers; each reports when it has."""
        self._held = True
        self._call_all("hold")

    def go(self) -> None:
        """Resume all workers."""
        self._held = False
        self._call_all("go")

    def drop(self) -> None:
        """Let all workers give their tasks back."""
        self._dropping = True
        self._call_all("drop")
        for host in list(self._hosts.values()):
            if host.silent:  # no answer may come; what it trains is forgotten
                self._give_back(host)

    def poll(self, seconds: float) -> Sequence[Report]:
        """Return what was reported, waiting at most `seconds` for the first.

        Raises
        ------
        ExecutorLost
            If the scheduler is gone.
        """
        reports: list[Report] = []
        with contextlib.suppress(queue.Empty):
            while True:
                found = self._reports.get(timeout=0 if reports else max(seconds, 0.001))
                if isinstance(found, Exception):
                    raise found
                reports.append(found)
        return reports

    def close(self) -> None:
        """End the search everywhere."""
        self._closing.set()
        with contextlib.suppress(RuntimeError):  # the loop has ended already
            self._loop.call_soon_threadsafe(self._wake_all)
        self._thread.join(20)

    def _call_all(self, what: str) -> None:
        for host in list(self._hosts.values()):
            self._call(host, what)

    def _call(self, host: Host, what: str, *arguments: Any,
              checkpoints: Mapping[str, bytes] | None = None) -> None:
        """Let a call go to a host with the next exchange; in the loop, which empties the list."""

        def enter() -> None:
            host.calls.append(Call(what, arguments))
            host.checkpoints.update(checkpoints or {})
            host.wake.set()

        with contextlib.suppress(RuntimeError):  # the loop has ended; poll says why
            self._loop.call_soon_threadsafe(enter)

    def _give_back(self, host: Host) -> None:
        for seat, runs in host.runs.items():
            self._reports.put(Returned(host.seats[seat], tuple(sorted(runs))))
            runs.clear()

    # -- the event loop --------------------------------------------------------------------------

    def _run(self, ready: queue.SimpleQueue[Exception | None]) -> None:
        asyncio.set_event_loop(self._loop)
        try:
            self._loop.run_until_complete(self._connected(ready))
        except Exception as error:
            ready.put(error)
            self._reports.put(_lost(self._address, error))
        finally:
            self._loop.close()

    async def _connected(self, ready: queue.SimpleQueue[Exception | None]) -> None:
        async with contextlib.AsyncExitStack() as stack:
            try:
                client = await stack.enter_async_context(connected(self._address))
            except Exception as error:
                ready.put(refused(self._address, error))
                return
            ready.put(None)
            try:
                await self._look_after(client)
            except Exception as error:
                self._reports.put(_lost(self._address, error))
            await self._end(client)

    async def _look_after(self, client: Client) -> None:
        """Serve the workers that there are, whenever they come and go, until the end."""
        self._ours = await asyncio.to_thread(remote.greet)
        seen = time.monotonic()
        while not self._closing.is_set():
            try:
                there = await asyncio.wait_for(client.nthreads(), GONE)
                seen = time.monotonic()
            except Exception:  # while it reconnects, and afterwards, many kinds are raised
                if client.status == "closed" or time.monotonic() - seen > GONE:
                    raise ExecutorLost("the scheduler is gone", self._address, "start the "
                                       "scheduler again, then resume the search, there or "
                                       "here") from None
                await asyncio.sleep(_LOOK)
                continue
            for address in [a for a in self._serving if a not in there]:
                self._serving.pop(address).cancel()
                self._leave(address, "the cluster has lost the worker")
            for address, threads in there.items():
                if address not in self._serving:
                    host = Host(address, threads)
                    self._serving[address] = asyncio.create_task(self._serve(client, host))
            self._see_silent()
            with contextlib.suppress(TimeoutError):
                await asyncio.wait_for(self._until_closing(), _LOOK)

    async def _until_closing(self) -> None:
        while not self._closing.is_set():
            await asyncio.sleep(0.05)

    def _see_silent(self) -> None:
        """Report hosts that have not answered for a while, and give up those silent for long."""
        now = time.monotonic()
        for host in list(self._hosts.values()):
            if now - host.heard > GIVEN_UP:
                self._leave(host.address, "nothing was heard of it for a minute")
                continue
            patience = SILENT if host.calls or host.busy else SILENT + _IDLE
            if now - host.heard > patience and not host.silent:
                host.silent = True
                for worker in host.seats.values():
                    self._reports.put(Silent(worker))
                if self._dropping:
                    self._give_back(host)

    def _leave(self, address: str, cause: str) -> None:
        """Report that the workers of a host are gone."""
        host = self._hosts.pop(address, None)
        if host is None:
            return
        for worker in host.seats.values():
            self._of.pop(worker, None)
            self._reports.put(Left(worker, cause))

    def _wake_all(self) -> None:
        for host in self._hosts.values():
            host.wake.set()

    async def _end(self, client: Client) -> None:
        for task in self._serving.values():
            task.cancel()
        await asyncio.gather(*self._serving.values(), return_exceptions=True)
        ends = [self._ask(client, host, remote.end, host.token) for host in self._hosts.values()]
        with contextlib.suppress(Exception):
            await asyncio.wait_for(asyncio.gather(*ends, return_exceptions=True), 5)

    # -- one host --------------------------------------------------------------------------------

    async def _serve(self, client: Client, host: Host) -> None:
        """Make a Dask worker a host, and exchange with it until it is lost or not wanted."""
        while not self._closing.is_set():
            try:
                if not await self._prepare(client, host):
                    return
                await self._exchange_on(client, host)
            except asyncio.CancelledError:
                raise
            except Exception as error:
                self._leave(host.address, f"it failed: {shown(error, 200)}")
                if not isinstance(error, (remote.HostGone, OSError)):
                    self._refuse(host, f"it failed: {shown(error, 200)}")
                    return
                await asyncio.sleep(_LOOK)
            host = Host(host.address, host.threads)

    async def _prepare(self, client: Client, host: Host) -> bool:
        """Send a host what it needs and start its workers; say whether it can train."""
        if (why := await differs(functools.partial(self._ask, client, host))):
            return self._refuse(host, why)
        greeting: Greeting = await self._ask(client, host, remote.greet, self._members)
        host.machine = greeting.machine
        host.room = max(int(greeting.free_memory * SHARE / host.threads) - WORKER_BYTES, 1)
        assert self._ours is not None
        why = unfit(greeting, self._ours) or no_room(greeting, self._store, self._fingerprint)
        if why:
            return self._refuse(host, why)
        await self._send_data(client, host)
        await self._ask(client, host, remote.start, host.token, self._fingerprint)
        host.seats = {seat: self._workers + seat for seat in range(host.threads)}
        host.runs = {seat: set() for seat in host.seats}
        self._workers += host.threads
        self._of |= {worker: (host, seat) for seat, worker in host.seats.items()}
        host.heard = time.monotonic()
        self._hosts[host.address] = host
        if self._held:
            host.calls.append(Call("hold"))
        return True

    def _refuse(self, host: Host, why: str) -> bool:
        """Say once why a machine cannot help."""
        name = host.machine or host.address
        if (name, why) not in self._refused:
            self._refused.add((name, why))
            self._reports.put(Remark(f"{shown(name, 60)} does not train: {why}"))
        return False

    async def _send_data(self, client: Client, host: Host) -> None:
        """Send a host the files of the data set that it lacks; the description comes last."""
        files = await asyncio.to_thread(files_of, self._store, self._fingerprint)
        missing = await self._ask(client, host, remote.begin, host.token, host.threads, files)
        for name in missing:
            place = self._store.place(name)
            size = place.stat().st_size
            for start in range(0, max(size, 1), _PIECE):
                piece = await asyncio.to_thread(_read, place, start)
                sent = await client.scatter(piece, workers=[host.address], hash=False)
                await self._ask(client, host, remote.put, host.token, name, start, sent,
                                start + _PIECE >= size)

    async def _exchange_on(self, client: Client, host: Host) -> None:
        """Exchange calls for reports, as long as there is something to exchange."""
        while not self._closing.is_set():
            if host.joined == set(host.seats) and not host.calls and not host.busy:
                with contextlib.suppress(TimeoutError):
                    await asyncio.wait_for(host.wake.wait(), _IDLE)
            host.wake.clear()
            calls, host.calls = host.calls, []
            checkpoints, host.checkpoints = host.checkpoints, {}
            host.number += 1
            hurry = any(not runs for runs in host.runs.values())
            reply = await self._ask(client, host, remote.exchange, host.token, host.number, calls,
                                    checkpoints, _HURRY if hurry else _WAIT)
            self._take(host, reply)

    def _take(self, host: Host, reply: Reply) -> None:
        """Keep the checkpoints of a reply, and report what it says."""
        host.heard = time.monotonic()
        if host.silent:
            host.silent = False
            for worker in host.seats.values():
                self._reports.put(Heard(worker))
        for key, content in reply.checkpoints.items():
            self._store.put(named(key), content)
        for report in reply.reports:
            self._reports.put(host.noted(report))

    async def _ask(self, client: Client, host: Host, function: Callable[..., Any],
                   *arguments: Any) -> Any:
        """Return what a function returns on a host; asked again where the answer was lost.

        Raises
        ------
        Exception
            Whatever the function raises.
        """
        from distributed import CancelledError

        while True:
            try:
                return await client.submit(function, *arguments, **_bound(host))
            except CancelledError:
                if client.status != "running":
                    raise OSError("the scheduler is gone") from None
                await asyncio.sleep(_LOOK)


def _bound(host: Host) -> dict[str, Any]:
    """Return how a task is bound to one worker and never done by another."""
    return {"workers": [host.address], "allow_other_workers": False, "pure": False, "retries": 0,
            "priority": 1}


def _read(place: Path, start: int) -> bytes:
    with place.open("rb") as file:
        file.seek(start)
        return file.read(_PIECE)


@contextlib.asynccontextmanager
async def connected(address: str) -> AsyncIterator[Client]:
    """Give a client of the scheduler at an address; of ``local:N``, one that is started for it."""
    from distributed import Client, LocalCluster

    async with contextlib.AsyncExitStack() as stack:
        target: Any = address
        if (workers := local_workers(address)):
            # With certificates made for it: whoever reaches a scheduler can run anything.
            target = await stack.enter_async_context(LocalCluster(
                n_workers=workers, threads_per_worker=1, processes=True, asynchronous=True,
                dashboard_address=None, security=True, host="127.0.0.1"))
        yield await stack.enter_async_context(
            Client(target, asynchronous=True, timeout=CONNECTING, set_as_default=False))


def local_workers(address: str) -> int:
    """Return how many workers a cluster on this machine is asked for; 0 where it is elsewhere.

    Raises
    ------
    InputError
        If the number is none.
    """
    kind, _, number = address.partition(":")
    if kind != "local":
        return 0
    if not number.isdecimal() or not 1 <= int(number) <= 256:
        raise InputError(f"{shown(number, 20)!r} is no number of workers", "cluster",
                         "write it as local:4, from 1 to 256")
    return int(number)


def refused(address: str, error: Exception) -> AxiarchError:
    """Return what to say of a scheduler that cannot be reached."""
    if isinstance(error, AxiarchError):
        return error
    where = shown(address, 100)
    text = " ".join(str(each) for each in causes(error))
    if isinstance(error, ImportError) and "distributed" in str(error):
        return InputError("the cluster needs a package that is not installed", where,
                          "install it: pip install 'axiarch[cluster]'")
    if isinstance(error, ValueError):
        return InputError(f"the address of a scheduler is expected: {shown(error, 120)}", where,
                          "write it as tcp://HOST:8786, tls://HOST:8786 or local:4")
    if any(word in text.lower() for word in ("certificate", "ssl", "tls")):
        return InputError(f"the scheduler's certificate and ours do not fit: {shown(error, 160)}",
                          where, "check the address and Dask's settings in distributed.comm.tls")
    return InputError("no scheduler answers there", where,
                      "start one with: dask scheduler; check the address and the firewall")


def _lost(address: str, error: Exception) -> AxiarchError:
    if isinstance(error, AxiarchError):
        return error
    traceback.print_exception(error)
    return ExecutorLost(f"the cluster cannot be used any more: {shown(error, 160)}", address,
                        "look into runner.log of this search, then resume it, there or here")


async def count_workers(address: str) -> int:
    """Return how many workers of ours a cluster has room for: the threads of its workers.

    Raises
    ------
    InputError
        If there is no such scheduler.
    """
    if (workers := local_workers(address)):
        return workers
    try:
        async with connected(address) as client:
            threads: Mapping[str, int] = await client.nthreads()
            return sum(threads.values())
    except Exception as error:
        raise refused(address, error) from None


