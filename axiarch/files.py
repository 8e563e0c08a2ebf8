"""Write files whole or not at all, read JSON that a stranger may have written, and turn plain
values into typed ones.

A file is written under a name that nobody can guess, then renamed: no reader sees half of it, a
full disk leaves the old one, and a link planted in the folder is replaced instead of followed.
"""

from __future__ import annotations

import contextlib
import fcntl
import json
import os
import secrets
import shutil
import stat
from collections.abc import Iterator
from pathlib import Path
from typing import Any, TypeVar

_Kind = TypeVar("_Kind")
#: Bytes of a file that are read at once.
_BLOCK = 8 << 20
#: Bytes of a JSON file that is read at the most.
MOST_JSON = 64 << 20


@contextlib.contextmanager
def draft_of(path: Path) -> Iterator[Path]:
    """Give the name of a file to write, which then takes the place of `path`.

    Raises
    ------
    OSError
        Whatever writing or renaming raises; `path` is unchanged and the draft is removed.
    """
    draft = path.with_name(f".{secrets.token_hex(8)}{path.suffix[:16]}")
    try:
        yield draft
        os.replace(draft, path)
    except BaseException:
        with contextlib.suppress(OSError):
            draft.unlink(missing_ok=True)
        raise


def write_whole(path: Path, content: str | bytes) -> None:
    """Write `content` to `path`, text as UTF-8.

    Raises
    ------
    OSError
        `path` is unchanged then.
    """
    raw = content.encode("utf-8") if isinstance(content, str) else content
    with draft_of(path) as draft:
        draft.write_bytes(raw)


def load_json(text: str | bytes, finite: bool = True) -> Any:
    """Return what a JSON text holds; infinite numbers, as Python writes them, unless `finite`.

    Raises
    ------
    ValueError
        If it is no JSON, holds a number that is not finite, or is nested too deeply.
    """
    try:
        if not finite:
            return json.loads(text, parse_int=_whole)
        return json.loads(text, parse_constant=_refuse, parse_float=_finite, parse_int=_whole)
    except RecursionError:
        raise ValueError("it is nested too deeply") from None


def encode(value: object) -> bytes:
    """Return a value of dataclasses, tuples, numbers and texts as JSON."""
    import msgspec

    return msgspec.json.encode(value)


def decode(text: str | bytes, kind: type[_Kind]) -> _Kind:
    """Return the value of a type, a dataclass say, that a JSON text holds.

    Raises
    ------
    ValueError
        Naming the field that does not fit.
    """
    import msgspec

    return msgspec.json.decode(text, type=kind)


def typed(plain: object, kind: type[_Kind]) -> _Kind:
    """Return a plain value, as JSON holds it, as one of a type.

    Raises
    ------
    ValueError
        Naming the field that does not fit.
    """
    import msgspec

    return msgspec.convert(plain, kind)


def read_json(path: Path, most: int = MOST_JSON) -> Any:
    """Return what a JSON file holds.

    Raises
    ------
    OSError
        If it cannot be read.
    ValueError
        As :func:`load_json`, or if it is larger than `most` bytes.
    """
    with path.open("rb") as file:
        raw = file.read(most + 1)
    if len(raw) > most:
        raise ValueError(f"it is larger than {most} bytes")
    return load_json(raw)


def read_text(path: Path, most: int) -> str:
    """Return the text of a UTF-8 file.

    Raises
    ------
    OSError
        If it cannot be read.
    ValueError
        If it is no regular file, larger than `most` bytes, or not UTF-8.
    """
    if path.exists() and not path.is_file():
        raise ValueError("it is not a file")
    with path.open("rb") as file:
        raw = file.read(most + 1)
    if len(raw) > most:
        raise ValueError(f"it is larger than {most} bytes")
    try:
        return raw.decode("utf-8")
    except UnicodeDecodeError:
        raise ValueError("it is not UTF-8 text") from None


def _refuse(name: str) -> float:
    raise ValueError(f"{name} is not a finite number")


def _finite(text: str) -> float:
    value = float(text)
    if value in (float("inf"), float("-inf")):
        raise ValueError(f"{text[:20]} is too large a number")
    return value


def _whole(text: str) -> int:
    if len(text) > 30:
        raise ValueError(f"{text[:20]}… is too large a number")
    return int(text)


def regular_file(path: Path) -> bool:
    """Whether `path` is a file and neither a link nor a device, a pipe or a folder."""
    try:
        return stat.S_ISREG(path.lstat().st_mode)
    except OSError:
        return False


@contextlib.contextmanager
def held_folder(place: Path) -> Iterator[bool]:
    """Hold a folder that is being filled, if nobody else does; say whether it is held.

    The hold ends with the process, so a folder that can be held belongs to nobody any more.
    """
    descriptor = os.open(place, os.O_RDONLY | os.O_DIRECTORY | os.O_NOFOLLOW)
    try:
        try:
            fcntl.flock(descriptor, fcntl.LOCK_EX | fcntl.LOCK_NB)
        except OSError:
            yield False
        else:
            yield True
    finally:
        os.close(descriptor)


@contextlib.contextmanager
def scratch_folder(parent: Path, name: str) -> Iterator[Path]:
    """Give a new hidden folder in `parent` that is removed in the end, by others if we are killed.

    Raises
    ------
    OSError
    """
    while True:
        place = parent / f".{name}.{secrets.token_hex(8)}"
        place.mkdir(parents=True)
        with contextlib.suppress(FileNotFoundError), held_folder(place) as ours:
            if ours and place.exists():  # nobody took it for a leftover before it was held
                try:
                    yield place
                finally:
                    shutil.rmtree(place, ignore_errors=True)
                return


def checksum(path: Path) -> str:
    """Return the checksum of a file's bytes: XXH3 of 128 bits, 32 hexadecimal digits."""
    import xxhash

    digest = xxhash.xxh3_128()
    with path.open("rb") as file:
        while block := file.read(_BLOCK):
            digest.update(block)
    return digest.hexdigest()
