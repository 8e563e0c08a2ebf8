"""Requests to a running search: small JSON files that appear whole, are read once and removed.

Any process that may write the workspace can ask; only the runner answers, by writing the journal.
What cannot be read as a request is set aside in ``inbox/refused``, where people can look at it.
"""

from __future__ import annotations

import contextlib
import json
import os
import secrets
import shutil
import time
from collections.abc import Mapping
from dataclasses import asdict, dataclass, field
from pathlib import Path
from typing import Literal, get_args

from axiarch.errors import InputError, not_written
from axiarch.files import read_json, regular_file, write_whole
from axiarch.plain import shown

#: Bytes of a request and values of a recipe in it, at the most; the largest count that makes sense.
MOST_BYTES, MOST_VALUES, MOST_COUNT = 1 << 18, 200, 10**9
#: Requests set aside that are kept; older ones are removed.
_KEPT = 50

Deed = Literal["pause", "resume", "stop", "cut", "keep", "more", "add", "budget", "workers"]


@dataclass(frozen=True)
class Request:
    """What a running search is asked for.

    Attributes
    ----------
    do : str
        Pause, resume or stop; cut a recipe, keep it from being cut, give it more epochs; add a
        recipe; change how many recipes or workers there are.
    recipe : int
        The recipe that is meant.
    count : int
        How many epochs more, recipes in all, or workers.
    values : mapping
        Of the recipe to add.
    """

    do: Deed
    recipe: int = 0
    count: int = 0
    values: Mapping[str, object] = field(default_factory=dict)


def send(folder: Path, request: Request) -> None:
    """Ask the runner of the search in `folder` for something."""
    inbox = folder / "inbox"
    name = f"{time.time_ns():020d}-{os.getpid()}-{secrets.token_hex(2)}.json"
    try:
        inbox.mkdir(exist_ok=True)
        asked = {**asdict(request), "values": dict(request.values)}
        write_whole(inbox / name, json.dumps(asked))
    except OSError as error:
        raise not_written("the request cannot be written", shown(inbox), error,
                          "change the folder's permissions") from None


def receive(folder: Path) -> tuple[list[Request], list[str]]:
    """Return and remove all requests, oldest first, and say why others were set aside."""
    found: list[Request] = []
    refused: list[str] = []
    for path in sorted((folder / "inbox").glob("[0-9]*.json")):
        try:
            found.append(_read(path))
            path.unlink()
        except (OSError, ValueError, InputError) as error:
            why = shown(getattr(error, "strerror", None) or error, 200)
            if _set_aside(path):
                refused.append(f"the request {shown(path.name, 60)} cannot be read: {why}")
    return found, refused


def _read(path: Path) -> Request:
    """Return the request in a file, every part of it checked.

    Raises
    ------
    OSError, ValueError, InputError
    """
    if not regular_file(path):
        raise ValueError("it is not a regular file")
    known = read_json(path, MOST_BYTES)
    if not isinstance(known, dict) or known.get("do") not in get_args(Deed):
        raise ValueError(f"it asks for none of {', '.join(get_args(Deed))}")
    values = known.get("values", {})
    if not isinstance(values, dict) or len(values) > MOST_VALUES:
        raise ValueError("its values are no recipe")
    counts = [known.get(name, 0) for name in ("recipe", "count")]
    for name, number in zip(("recipe", "count"), counts, strict=True):
        if type(number) is not int or not 0 <= number <= MOST_COUNT:
            raise ValueError(f"its {name} is not a whole number from 0 to {MOST_COUNT}")
    return Request(known["do"], counts[0], counts[1], values)


def _set_aside(path: Path) -> bool:
    """Move what is no request out of the way; say whether that was done."""
    place = path.with_name("refused")
    try:
        place.mkdir(exist_ok=True)
        path.rename(place / f"{path.name}.{secrets.token_hex(2)}")
    except OSError:
        with contextlib.suppress(OSError):
            path.unlink()
        return not os.path.lexists(path)
    for old in sorted(place.iterdir())[:-_KEPT]:
        with contextlib.suppress(OSError):
            shutil.rmtree(old) if old.is_dir() and not old.is_symlink() else old.unlink()
    return True
