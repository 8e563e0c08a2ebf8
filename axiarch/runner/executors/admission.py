"""Whether a machine of a cluster may train a search: the same packages, the same bits, room."""

from __future__ import annotations

import asyncio
import importlib.metadata
import platform
from collections.abc import Awaitable, Callable
from typing import Any

from axiarch.runner.host import Greeting
from axiarch.runner.signature import PACKAGES
from axiarch.runner.store import FolderStore
from axiarch.text import memory

#: Calls a function on the machine, and returns what it returns there.
Ask = Callable[..., Awaitable[Any]]


async def differs(ask: Ask) -> str:
    """Return what differs between a machine's packages and ours, that bits depend on; empty where
    nothing does.
    """
    python = platform.python_version()
    try:
        there, *versions = await asyncio.gather(
            ask(platform.python_version), *(ask(importlib.metadata.version, n) for n in PACKAGES))
    except importlib.metadata.PackageNotFoundError as error:
        return f"{error.name} is not installed there; install Axiarch with the same versions"
    different = []
    if there.rpartition(".")[0] != python.rpartition(".")[0]:
        different.append(f"Python {there} instead of {python}")
    for name, version in zip(PACKAGES, versions, strict=True):
        own = importlib.metadata.version(name)
        if version != own:
            different.append(f"{name} {version} instead of {own}")
    if not different:
        return ""
    return f"it has {', '.join(different)}, so its results would differ; install the same"


def unfit(greeting: Greeting, ours: Greeting) -> str:
    """Return why a machine would compute other bits than ours; empty where it would not."""
    if greeting.missing:
        return f"{', '.join(greeting.missing)} is not installed there; install the package"
    if greeting.sources != ours.sources:
        return ("its Axiarch is of another build, so its results would differ; install the same "
                "one")
    if greeting.bits != ours.bits:
        return ("its processor is of another kind and computes other last digits; set the "
                "environment variables OPENBLAS_CORETYPE and NUMBA_CPU_NAME to the same values on "
                "all machines")
    return ""


def no_room(greeting: Greeting, store: FolderStore, fingerprint: str) -> str:
    """Return that a machine has no room for the data set; empty where it has."""
    size = sum(store.place(name).stat().st_size for name in files_of(store, fingerprint))
    if size <= greeting.free_disk:
        return ""
    return (f"the data take {memory(size)} and {memory(greeting.free_disk)} of its disk are free; "
            "free some, or set AXIARCH_CACHE to another folder")


def files_of(store: FolderStore, fingerprint: str) -> dict[str, str]:
    """Return the checksums of the files of the data set that training needs, by name; the
    description comes last.
    """
    from axiarch.data.describing import read_dataset
    from axiarch.files import checksum

    known = read_dataset(store.dataset(fingerprint)).checksums
    found = {f"data/{fingerprint}/{name}": digest for name, digest in known.items()
             if name.startswith("folds/")}
    described = f"data/{fingerprint}/data.json"
    return {**found, described: checksum(store.place(described))}
