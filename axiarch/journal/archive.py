"""A workspace as one archive (ZIP), to be opened elsewhere.

The archive holds regular files alone, and first a list of them with size and checksum. Whoever
unpacks one trusts nothing in it: names must lie below the folder, links are refused, sizes are
bounded by the list, and every file must have its checksum. Nothing is left behind where one does
not.
"""

from __future__ import annotations

import json
import os
import shutil
import sqlite3
import stat
import zipfile
import zlib
from collections.abc import Callable, Iterator
from contextlib import closing
from pathlib import Path, PurePosixPath
from typing import IO

from axiarch.errors import WorkspaceError, not_written
from axiarch.files import checksum, draft_of, load_json, scratch_folder
from axiarch.journal.workspace import Workspace
from axiarch.text import count, shown

Tell = Callable[[str, float], None]

#: The list of files inside, and its version.
LIST, FORMAT = "axiarch-archive.json", 1
#: Files, and bytes of them and of the list, that an archive may hold.
MOST_FILES, MOST_BYTES, MOST_LIST = 1_000_000, 1 << 40, 256 << 20
#: What stays behind: of this machine or this moment alone.
_LEFT = ("lock", "journal.sqlite", "journal.sqlite-wal", "journal.sqlite-shm")
_BLOCK = 4 << 20
#: What the library raises on a damaged archive.
_UNREADABLE = (zipfile.BadZipFile, zipfile.LargeZipFile, zlib.error, EOFError, ValueError,
               NotImplementedError, RuntimeError)
_AGAIN = "pack the workspace again and copy the archive again"


def pack(workspace: Workspace, path: Path, on_progress: Tell = lambda step, done: None) -> int:
    """Write a workspace as an archive and return the number of its files.

    Raises
    ------
    WorkspaceLocked
        If a search runs.
    WorkspaceReadOnly
        If the archive cannot be written; nothing is left behind then.
    """
    try:
        with workspace.locked("packing"), scratch_folder(workspace.folder, "pack") as scratch:
            files = dict(_files(workspace.folder))
            if workspace.journal.exists():
                files["journal.sqlite"] = _journal(workspace.journal, scratch / "journal.sqlite")
            return _written(path, files, on_progress)
    except OSError as error:
        raise not_written("the archive cannot be written", shown(path), error,
                          "choose another place; nothing was changed") from None


def _journal(path: Path, copy: Path) -> Path:
    """Return a whole copy of a journal, what is still in its log included."""
    with closing(sqlite3.connect(path)) as old, closing(sqlite3.connect(copy)) as new:
        old.backup(new)
    return copy


def _files(folder: Path) -> Iterator[tuple[str, Path]]:
    """Yield the regular files of a workspace with their names inside; links and hidden ones are
    left out.
    """
    for place, folders, names in os.walk(folder):
        folders[:] = sorted(name for name in folders if not name.startswith("."))
        for name in sorted(names):
            file = Path(place) / name
            inside = file.relative_to(folder).as_posix()
            if not name.startswith(".") and inside not in _LEFT and stat.S_ISREG(
                    file.lstat().st_mode):
                yield inside, file


def _written(path: Path, files: dict[str, Path], on_progress: Tell) -> int:
    sizes = {name: file.stat().st_size for name, file in files.items()}
    total, done = sum(sizes.values()) or 1, 0
    listed = {}
    for name, file in files.items():
        listed[name] = {"bytes": sizes[name], "checksum": checksum(file)}
        done += sizes[name]
        on_progress("reading", done / total)
    done = 0
    with draft_of(path) as draft, zipfile.ZipFile(draft, "w", zipfile.ZIP_DEFLATED,
                                                  compresslevel=1) as archive:
        archive.writestr(LIST, json.dumps({"format": FORMAT, "files": listed}))
        for name, file in files.items():
            archive.write(file, name)
            done += sizes[name]
            on_progress("packing", done / total)
    return len(files)


def unpack(path: Path, folder: Path, on_progress: Tell = lambda step, done: None) -> Workspace:
    """Unpack an archive into a new folder and return the workspace there.

    Raises
    ------
    WorkspaceError
        If it is not such an archive, is damaged, or names anything outside; nothing is left behind
        then.
    WorkspaceReadOnly
        If the folder cannot be written.
    """
    folder = folder.absolute()
    if folder.exists() and (not folder.is_dir() or any(folder.iterdir())):
        raise WorkspaceError("the folder is not empty", shown(folder), "give a new or empty folder")
    try:
        folder.parent.mkdir(parents=True, exist_ok=True)
        with scratch_folder(folder.parent, "unpack") as scratch:
            place = scratch / "workspace"
            place.mkdir()
            _unpacked(path, place, on_progress)
            Workspace.open(place)
            if folder.exists():
                folder.rmdir()
            place.rename(folder)
    except _UNREADABLE as error:
        raise WorkspaceError(f"the archive cannot be read: {shown(error, 100)}", shown(path),
                             _AGAIN) from None
    except FileNotFoundError:
        raise WorkspaceError("there is no such file", shown(path), "check the path") from None
    except OSError as error:
        raise not_written("the archive cannot be unpacked", shown(folder), error,
                          "choose another folder; nothing was changed") from None
    return Workspace.open(folder)


def _unpacked(path: Path, place: Path, on_progress: Tell) -> None:
    with zipfile.ZipFile(path) as archive:
        listed = _listed(archive, path)
        total, done = sum(size for size, _ in listed.values()) or 1, 0
        free = shutil.disk_usage(place).free
        if total > free:
            raise WorkspaceError(f"it unpacks to {total >> 20} MiB; {free >> 20} MiB are free",
                                 shown(place.parent.parent),
                                 "free some space, or choose another folder")
        for name, (size, wanted) in listed.items():
            target = place.joinpath(*PurePosixPath(name).parts)
            target.parent.mkdir(parents=True, exist_ok=True)
            with archive.open(name) as source, target.open("xb") as out:
                found = _copied(source, out, size)
            if found != wanted:
                raise WorkspaceError("the archive is damaged: a file is not what was packed",
                                     f"{shown(path)}, {shown(name, 80)}", _AGAIN)
            done += size
            on_progress("unpacking", done / total)


def _copied(source: IO[bytes], out: IO[bytes], size: int) -> str:
    """Copy at most one byte more than `size`, and return the checksum of what was copied."""
    import xxhash

    digest, left = xxhash.xxh3_128(), size + 1
    while left > 0 and (block := source.read(min(_BLOCK, left))):
        digest.update(block)
        out.write(block)
        left -= len(block)
    return digest.hexdigest() if left == 1 else ""


def _listed(archive: zipfile.ZipFile, path: Path) -> dict[str, tuple[int, str]]:
    """Return size and checksum of each file that an archive holds, by its name.

    Raises
    ------
    WorkspaceError
        If anything in it is no file below the folder, or is not listed.
    """
    where = shown(path)
    entries = {entry.filename: entry for entry in archive.infolist()}
    known = entries.pop(LIST, None)
    if known is None or known.file_size > MOST_LIST:
        raise WorkspaceError("this is not a packed workspace", where,
                             "give an archive that axiarch pack has written")
    try:
        found = load_json(archive.read(LIST))
        if found["format"] != FORMAT:
            raise ValueError("another version wrote it")
        listed = {
            str(name): (int(each["bytes"]), str(each["checksum"]))
            for name, each in found["files"].items()
        }
    except (ValueError, KeyError, TypeError, AttributeError) as error:
        raise WorkspaceError(f"the list of the archive is damaged: {shown(error, 80)}", where,
                             _AGAIN) from None
    if set(listed) != set(entries) or len(archive.infolist()) != len(listed) + 1:
        raise WorkspaceError("the archive holds other files than it lists", where, _AGAIN)
    if len(listed) > MOST_FILES or sum(size for size, _ in listed.values()) > MOST_BYTES:
        raise WorkspaceError(f"the archive is too large: {count(len(listed), 'file')}", where,
                             "unpack it yourself, if you trust it")
    for name, entry in entries.items():
        kind = stat.S_IFMT(entry.external_attr >> 16)
        if not _lies_below(name) or kind not in (0, stat.S_IFREG) or listed[name][0] < 0:
            raise WorkspaceError(
                f"the archive holds {shown(name, 80)!r}, which is no file below the folder", where,
                "do not unpack it; ask for one that axiarch pack has written")
    return listed


def _lies_below(name: str) -> bool:
    """Whether a name is a plain path below the folder that it is unpacked in."""
    parts = name.split("/")
    return not ("\\" in name or "\0" in name or any(
        part in ("", ".", "..") or part.startswith(".") or ":" in part for part in parts))
