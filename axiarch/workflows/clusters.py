"""Clusters to train on: which addresses the user trusts, and how many workers they have.

Whoever runs a scheduler can run code in every program that connects to it. A search file may come
from somebody else, so an address in one is used only after the user has named it once.
"""

from __future__ import annotations

from pathlib import Path

from axiarch.errors import InputError, not_written
from axiarch.files import read_text, write_whole
from axiarch.text import shown
from axiarch.workflows.asking import ask

#: Characters of an address, and of the list of addresses, at the most.
_MOST, _MOST_LIST = 300, 1 << 20


def check_address(address: str) -> None:
    """Raise unless a text can be the address of a scheduler.

    Raises
    ------
    InputError
    """
    if not address.isprintable() or not 0 < len(address) <= _MOST or " " in address:
        raise InputError(f"{shown(address, 60)!r} is not the address of a scheduler", "cluster",
                         "write it as tcp://HOST:8786, tls://HOST:8786 or local:4")


def trust_cluster(address: str) -> None:
    """Remember an address that the user has named.

    Raises
    ------
    InputError
        If it is none.
    WorkspaceReadOnly
        If it cannot be remembered.
    """
    check_address(address)
    if _is_local(address) or address in _trusted():
        return
    place = _list()
    try:
        place.parent.mkdir(parents=True, exist_ok=True)
        write_whole(place, "".join(f"{each}\n" for each in [*_trusted(), address]))
    except OSError as error:
        raise not_written("the address cannot be remembered", shown(place), error,
                          "change the permissions of the folder") from None


def check_trusted(address: str) -> None:
    """Raise unless the user has named an address before.

    Raises
    ------
    InputError
    """
    if not _is_local(address) and address not in _trusted():
        raise InputError(
            f"the search file names the cluster {shown(address, 80)}, which you have not used yet",
            "cluster", "whoever runs a scheduler can run code on this machine; if you trust it, "
            f"name it once: --cluster {shown(address, 80)}; or train here: --cluster here")


def cluster_workers(address: str) -> int:
    """Return how many workers a cluster has room for, at least one.

    Raises
    ------
    InputError
        If no scheduler answers at the address, or the user has not named it.
    """
    check_trusted(address)
    return max(int(ask("cluster", address)["workers"]), 1)


def _is_local(address: str) -> bool:
    return address.startswith("local:")


def _list() -> Path:
    import platformdirs

    return Path(platformdirs.user_config_dir("axiarch")) / "clusters"


def _trusted() -> list[str]:
    try:
        return read_text(_list(), _MOST_LIST).splitlines()
    except (OSError, ValueError):
        return []
