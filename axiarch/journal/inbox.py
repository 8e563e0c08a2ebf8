"""Requests to a running search: small JSON files that appear whole, are read once and removed.

Any process that may write the workspace can ask; only the runner answers, by writing the journal.
What cannot be read as a request is set aside in ``inbox/refused``, where people can look at it.
"""

from __future__ import annotations

import contextlib
import os
import secrets
import shutil
import time
from pathlib import Path
from typing import Annotated, Any, get_args

import msgspec

from axiarch.errors import InputError, not_written
from axiarch.files import encode, load_json, regular_file, typed, write_whole
from axiarch.text import shown

#: Bytes of a request and values of a recipe in it, at the most; the largest count that makes
#: sense.
MOST_BYTES, MOST_VALUES, MOST_COUNT = 1 << 18, 200, 10**9
#: Characters of a note at the most.
MOST_NOTE = 2000
#: Requests set aside that are kept; older ones are removed.
_KEPT = 50

Count = Annotated[int, msgspec.Meta(ge=0, le=MOST_COUNT)]


class _Request(msgspec.Struct, frozen=True, tag_field="do", tag=str.lower):
    """A request is a class; its name in lower case is what its file asks to `do`."""


class Pause(_Request, frozen=True):
    """Pause the search."""


class Resume(_Request, frozen=True):
    """Resume the search."""


class Stop(_Request, frozen=True):
    """Stop the search; it can be resumed."""


class Cut(_Request, frozen=True):
    """Train a recipe no further."""

    recipe: Count


class Keep(_Request, frozen=True):
    """Train a recipe to its own end, whatever the method decides."""

    recipe: Count


class More(_Request, frozen=True):
    """Train a recipe for more epochs."""

    recipe: Count
    epochs: Count


class Add(_Request, frozen=True):
    """Train a recipe with these values."""

    values: Annotated[dict[str, Any], msgspec.Meta(max_length=MOST_VALUES)]


class Budget(_Request, frozen=True):
    """Set the number of recipes that the search tries."""

    recipes: Count


class Workers(_Request, frozen=True):
    """Set the number of workers."""

    count: Count


class Seeds(_Request, frozen=True):
    """Train recipes on `count` more seeds than each was trained on, from the first epoch."""

    recipes: Annotated[tuple[Count, ...], msgspec.Meta(min_length=1, max_length=MOST_VALUES)]
    count: Count


class Note(_Request, frozen=True):
    """Keep words on a search, a recipe of it (0: the search as a whole), or a run (0: the recipe as
    a whole): while a search runs, only its runner writes the journal.
    """

    search: Count
    recipe: Count
    run: Count
    text: Annotated[str, msgspec.Meta(min_length=1, max_length=MOST_NOTE)]


Request = Pause | Resume | Stop | Cut | Keep | More | Add | Budget | Workers | Seeds | Note
#: Requests that a search takes after its end too: they make it go on.
EXTENDING = (More, Add, Budget, Seeds)


def words(request: Request) -> str:
    """Return what a request asks for, in a word."""
    return type(request).__name__.lower()


def send(folder: Path, request: Request) -> None:
    """Ask the runner of the search in `folder` for something."""
    inbox = folder / "inbox"
    name = f"{time.time_ns():020d}-{os.getpid()}-{secrets.token_hex(2)}.json"
    try:
        inbox.mkdir(exist_ok=True)
        write_whole(inbox / name, encode(request))
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
    with path.open("rb") as file:
        raw = file.read(MOST_BYTES + 1)
    if len(raw) > MOST_BYTES:
        raise ValueError(f"it is larger than {MOST_BYTES} bytes")
    known = load_json(raw)
    kinds = {kind.__struct_config__.tag for kind in get_args(Request)}
    if not isinstance(known, dict) or str(known.get("do")) not in kinds:
        raise ValueError(f"it asks for none of {', '.join(sorted(map(str, kinds)))}")
    try:
        return typed(known, Request)  # type: ignore[arg-type]  # a union is a type to msgspec
    except ValueError as error:
        raise ValueError(f"it does not fit: {error}") from None


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
