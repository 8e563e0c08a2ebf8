"""The runner's own process: ``python -m axiarch.runner run WORKSPACE NUMBER WORKERS`` and its
helpers.

``run`` says on its first line of output whether it holds the workspace (JSON); ``measure`` reads a
JSON request and answers it; ``warm`` compiles the kernels, with the help of ``compile``. They are
started by workflows, not by people.
"""

from __future__ import annotations

import contextlib
import json
import os
import signal
import subprocess
import sys
import time
from pathlib import Path
from typing import TYPE_CHECKING

from axiarch.errors import AxiarchError, WorkspaceError
from axiarch.recipes.installed import wanted
from axiarch.recipes.searchfile import SearchFile
from axiarch.runner import launching

if TYPE_CHECKING:
    from axiarch.data.dataset import Dataset
    from axiarch.runner.executors import Executor
    from axiarch.runner.store import FolderStore


def _say(**what: object) -> None:
    print(json.dumps(what), flush=True)


def _run(folder: str, number: str, workers: str, cluster: str = "") -> int:
    from axiarch.data.dataset import check_arrays
    from axiarch.data.describing import read_dataset
    from axiarch.journal.workspace import Workspace
    from axiarch.journal.write import JournalWriter
    from axiarch.recipes.searchfile import read_search
    from axiarch.runner.material import worker_room
    from axiarch.runner.runner import Runner
    from axiarch.runner.running import RunningSearch, store_of

    signal.signal(signal.SIGHUP, signal.SIG_IGN)
    signal.signal(signal.SIGINT, signal.SIG_IGN)
    try:
        workspace = Workspace.open(Path(folder))
        with workspace.locked(f"search {int(number)}"):
            place = workspace.search(int(number))
            search = read_search((place / "search.toml").read_text(encoding="utf-8"), "search.toml")
            dataset = read_dataset(workspace.data(search.data))
            check_arrays(dataset)
            _prove(search)
            journal = JournalWriter(workspace.journal)
            executor = _executor(store_of(workspace, int(number), dataset), search, dataset,
                                 int(workers), cluster)
            try:
                runner = Runner(
                    RunningSearch(workspace, int(number), search, dataset, journal, executor,
                                  room=0 if cluster else worker_room(int(workers))))
                _say(started=os.getpid())
                _detach()
                signal.signal(signal.SIGTERM, lambda _n, _f: runner.stop())
                state = runner.run()
            finally:
                executor.close()
                journal.close()
        return 0 if state in ("done", "stopped") else 4
    except AxiarchError as error:
        return _refused(error)
    except OSError as error:
        return _refused(
            WorkspaceError(
                f"reading or writing failed: {error.strerror or error}",
                str(error.filename or folder), "free some disk space, or check the folder's "
                "permissions, then try again"))


def _executor(store: FolderStore, search: SearchFile, dataset: Dataset, workers: int,
              cluster: str) -> Executor:
    """Return who trains: worker processes here, or a cluster."""
    if not cluster:
        from axiarch.runner.executors.processes import ProcessExecutor

        return ProcessExecutor(store, workers)
    from axiarch.runner.executors.cluster import ClusterExecutor

    return ClusterExecutor(cluster, store, dataset.fingerprint, search.members())


def _prove(search: SearchFile) -> None:
    """Try out the members of installed packages that a search names."""
    for own in wanted(search.members()):
        from axiarch.engine.proving import prove

        prove(own)


def _refused(error: AxiarchError) -> int:
    """Say what went wrong to whoever started this; return the exit code."""
    with contextlib.suppress(OSError, ValueError):
        _say(error=type(error).__name__, what=error.what, where=error.where, remedy=error.remedy)
    return error.exit_code


def _count_workers(address: str) -> int:
    """Say how many workers a cluster has room for."""
    import asyncio

    from axiarch.runner.executors.cluster import count_workers

    try:
        _say(workers=asyncio.run(count_workers(address)))
    except AxiarchError as error:
        return _refused(error)
    return 0


def _detach() -> None:
    """Let go of the starter's pipe: whoever started this may be gone at any time."""
    null = os.open(os.devnull, os.O_WRONLY)
    os.dup2(null, 1)
    os.close(null)


def _measure() -> int:
    from threadpoolctl import threadpool_limits

    from axiarch.data.describing import read_dataset
    from axiarch.engine.warm import compiled
    from axiarch.recipes.recipe import Recipe
    from axiarch.runner.measure import measure

    request = json.load(sys.stdin)
    try:
        dataset = read_dataset(Path(request["data"]))
        if not compiled():
            launching.compile_kernels()
        with threadpool_limits(1):
            found = [measure(Recipe(values), dataset) for values in request["recipes"]]
    except AxiarchError as error:
        return _refused(error)
    _say(measured=[[m.work, m.seconds, m.bytes] for m in found])
    return 0


def _probe() -> int:
    """Probe a recipe with short trainings, and say how far that is."""
    from threadpoolctl import threadpool_limits

    from axiarch.data.describing import read_dataset
    from axiarch.engine.warm import compiled
    from axiarch.recipes.recipe import Recipe
    from axiarch.runner.probing import probe

    request = json.load(sys.stdin)
    kind = str(request["kind"])
    try:
        if not compiled():
            launching.compile_kernels()
        with threadpool_limits(1):
            found = probe(kind, read_dataset(Path(request["data"])), Recipe(request["recipe"]),
                          request["options"], lambda done: _say(step=kind, done=done))
    except AxiarchError as error:
        return _refused(error)
    _say(found=found)
    return 0


def _warm() -> int:
    """Compile the kernels, both precisions at once where there are cores for it; say how far
    that is.
    """
    from axiarch.engine.warm import alone, missing, warm

    with alone():
        wanted = missing()
        if len(wanted) > 1 and (os.cpu_count() or 1) > 1:
            _compile_at_once(wanted)
        warm()
    return 0


def _compile_at_once(precisions: list[str]) -> None:
    from axiarch.engine.warm import parts

    started = time.monotonic()
    said = 0.0
    helpers = [subprocess.Popen(launching.command("compile", precision), cwd=launching.HOME,
                                env=launching.environment()) for precision in precisions]
    while any(helper.poll() is None for helper in helpers):
        time.sleep(0.2)
        done, of = parts()
        took = time.monotonic() - started
        if 0 < done < of and took - said >= 5:
            said = took
            print(f"compiling: {done} of {of} parts, about {took / done * (of - done):.0f} s left",
                  flush=True)


def main(arguments: list[str]) -> int:
    """Do what the arguments say; return the exit code."""
    match arguments:
        case ["run", folder, number, workers]:
            from axiarch.runner.nursery import prepare

            prepare()  # it loads the engine while this process reads the search
            return _run(folder, number, workers)
        case ["run", folder, number, workers, cluster]:
            return _run(folder, number, workers, cluster)
        case ["cluster", address]:
            return _count_workers(address)
        case ["signature"]:
            from axiarch.runner.signature import bits, sources

            _warm()
            print(sources(), bits())
            return 0
        case ["nursery", descriptor]:
            from axiarch.runner.nursery import main as nursery

            nursery(int(descriptor))
            return 0
        case ["measure"]:
            return _measure()
        case ["probe"]:
            return _probe()
        case ["warm"]:
            return _warm()
        case ["compile", precision]:
            from axiarch.engine.warm import compile_only

            compile_only(precision)
            return 0
    print("this module is started by the program itself; see axiarch --help", file=sys.stderr)
    return 2


if __name__ == "__main__":
    sys.exit(main(sys.argv[1:]))
