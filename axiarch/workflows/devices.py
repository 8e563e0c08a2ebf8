"""The devices whose memory a batch may be meant for: a short list in the workspace, which its users
edit in the file or by typing ``office card = 12 GiB``.
"""

from __future__ import annotations

import tomllib

from axiarch.errors import InputError
from axiarch.files import read_text, regular_file, write_whole
from axiarch.insight.probes import DEVICES, HERE
from axiarch.journal.workspace import Workspace
from axiarch.recipes.amounts import memory_amount
from axiarch.runner.material import worker_room
from axiarch.text import shown

#: Where the list is kept, and its bounds.
_FILE, _MOST, _LONGEST, _BYTES = "devices.toml", 50, 60, 1 << 16


def known_devices(workspace: Workspace) -> dict[str, str]:
    """Return the memory of each device, such as ``8 GiB``, by its name: those that the workspace
    keeps, or those that ship.

    Raises
    ------
    InputError
        If the file cannot be used.
    """
    path = workspace.folder / _FILE
    if not regular_file(path):
        return dict(DEVICES)
    try:
        known = tomllib.loads(read_text(path, _BYTES))
    except (OSError, ValueError) as error:
        raise _unusable(path, shown(error, 100)) from None
    if len(known) > _MOST:
        raise _unusable(path, f"it lists more than {_MOST} devices")
    for name, amount in known.items():
        wrong = _wrong(name, amount)
        if wrong:
            raise _unusable(path, wrong)
    return known


def keep_device(workspace: Workspace, text: str) -> str:
    """Keep a device, ``office card = 12 GiB``, or remove one, ``office card =``; return its name,
    empty where it was removed.

    Raises
    ------
    InputError
        If it is no device, or there is none of that name to remove.
    """
    import tomlkit

    name, equals, amount = (part.strip() for part in text.partition("="))
    known = known_devices(workspace)
    if equals and not amount:
        if known.pop(name, None) is None:
            raise InputError(f"there is no device {shown(name, 40)!r}", "device",
                             "name one of: " + "; ".join(known))
    else:
        wrong = _wrong(name, amount)
        if wrong:
            raise InputError(wrong, "device", "type a name and an amount: office card = 12 GiB; "
                             "to remove a device, type its name and =")
        known[name] = amount
        if len(known) > _MOST:
            raise InputError(f"more than {_MOST} devices are not kept", "device",
                             f"remove one first: {next(iter(known))} =")
    workspace.check_writable()
    write_whole(workspace.folder / _FILE, tomlkit.dumps(known))
    return name if amount else ""


def device_room(workspace: Workspace, text: str) -> tuple[str, float]:
    """Return a device's name and its memory in bytes, from its name or an amount such as 6 GiB.

    Raises
    ------
    InputError
    """
    if text == HERE:
        return text, worker_room(1)
    known = known_devices(workspace)
    room = memory_amount(known.get(text, text))
    if not room:
        raise InputError(f"{shown(text, 40)!r} is no device, and no amount of memory", "device",
                         "give an amount such as 6 GiB, or one of: " + "; ".join((HERE, *known)))
    return text if text in known else "as given", float(room)


def device_lines(workspace: Workspace) -> list[str]:
    """Return the devices as lines of text."""
    return [f"{shown(name, _LONGEST):<24} {shown(amount, 20)}"
            for name, amount in known_devices(workspace).items()]


def _wrong(name: object, amount: object) -> str:
    """Return why something is no device; empty where it is one."""
    if not isinstance(name, str) or not name or len(name) > _LONGEST or shown(name) != name or (
            name == HERE or "=" in name):
        return f"{shown(name, 40)!r} cannot be the name of a device"
    if not isinstance(amount, str) or not memory_amount(amount):
        return f"{shown(amount, 40)!r} is no amount of memory"
    return ""


def _unusable(path: object, why: str) -> InputError:
    return InputError(f"the list of devices cannot be used: {why}", shown(path),
                      'write lines such as "office card" = "12 GiB", or remove the file')
