"""A workspace: one folder with data sets, searches, results and checkpoints.

    axiarch.json          format of the folder
    lock                  held by the one process that writes; says who and since when
    journal.sqlite        every search, recipe, run and epoch
    draft.toml            the recipe and space being edited
    devices.toml          devices whose memory a batch may be meant for, where others than ship
    data/NAME/            data sets
    searches/NUMBER/      search.toml, checkpoints/, inbox/, runner.log
    exports/              what was exported
    models/NAME.safetensors  trained networks that were kept, each with all it needs to predict
"""

from __future__ import annotations

import contextlib
import fcntl
import json
import os
import re
import shutil
import stat
import time
from collections.abc import Iterator
from dataclasses import asdict, dataclass
from pathlib import Path
from typing import TextIO

from axiarch.errors import (
    WorkspaceError,
    WorkspaceLocked,
    WorkspaceMissing,
    WorkspaceNewer,
    WorkspaceReadOnly,
    not_written,
)
from axiarch.files import held_folder, read_json, write_whole
from axiarch.recipes.bounds import is_whole
from axiarch.text import duration, shown

#: The format of the folder written, and the latest one read.
FORMAT = 1
#: Bytes of the lock that are read: it names one process.
_MOST_LOCK = 4096
#: Seconds that a lock may take to change hands.
_CHANGING = 1.0


@dataclass(frozen=True)
class Owner:
    """Who writes a workspace.

    Attributes
    ----------
    pid : int
    born : str
        When that process started, by a clock that nobody can set, so that a later process with the
        same number is not taken for it (see :func:`born`).
    since : float
        When it took the lock, in seconds since 1970.
    what : str
        What for.
    """

    pid: int
    born: str
    since: float
    what: str


@dataclass(frozen=True)
class Workspace:
    """Where everything lies. Opening never writes; :meth:`create` does."""

    folder: Path

    # -- places ----------------------------------------------------------------------------------

    @property
    def journal(self) -> Path:
        """The journal's file."""
        return self.folder / "journal.sqlite"

    @property
    def draft(self) -> Path:
        """The search file being edited."""
        return self.folder / "draft.toml"

    @property
    def exports(self) -> Path:
        """Where exports go unless another place is named."""
        return self.folder / "exports"

    @property
    def models(self) -> Path:
        """Where kept models lie."""
        return self.folder / "models"

    def data(self, name: str = "") -> Path:
        """The folder of a data set, or of all of them."""
        return self.folder / "data" / slug(name) if name else self.folder / "data"

    def search(self, number: int) -> Path:
        """The folder of a search."""
        return self.folder / "searches" / f"{number:04d}"

    def data_names(self) -> list[str]:
        """The folders of the data sets, in the order of their names."""
        return sorted(p.parent.name
                      for p in self.data().glob("*/data.json")
                      if not p.parent.name.startswith("."))

    def search_numbers(self) -> list[int]:
        """The numbers of all searches."""
        return sorted(int(p.parent.name) for p in self.folder.glob("searches/*/search.toml")
                      if is_whole(p.parent.name))

    # -- opening ---------------------------------------------------------------------------------

    @classmethod
    def create(cls, folder: Path) -> Workspace:
        """Return the workspace in `folder`, made if the folder is new or empty."""
        folder = folder.absolute()
        if os.path.lexists(folder / "axiarch.json"):
            return cls.open(folder)
        try:
            folder.mkdir(parents=True, exist_ok=True)
            if any(folder.iterdir()):
                raise WorkspaceMissing("the folder is not empty and is not a workspace",
                                       shown(folder), "give a new or empty folder")
            write_whole(folder / "axiarch.json", json.dumps({"format": FORMAT}) + "\n")
            for each in ("data", "searches", "exports"):
                (folder / each).mkdir(exist_ok=True)
        except OSError as error:
            raise not_written("a workspace cannot be made", shown(folder), error,
                              "choose a folder that you may write to") from None
        return cls(folder)

    @classmethod
    def open(cls, folder: Path) -> Workspace:
        """Return the workspace in `folder`, changing nothing.

        Raises
        ------
        WorkspaceMissing, WorkspaceNewer
        WorkspaceError
            If a file of it cannot be read, or a part of it is a link, a pipe or a device.
        """
        folder = folder.absolute()
        _check_places(folder)
        try:
            found = read_json(folder / "axiarch.json")["format"]
            if type(found) is not int:
                raise ValueError("its format is not a whole number")
        except FileNotFoundError:
            raise WorkspaceMissing("there is no workspace here", shown(folder),
                                   "name another folder") from None
        except NotADirectoryError:
            raise WorkspaceMissing("this is a file, not a workspace", shown(folder),
                                   "name a folder") from None
        except (OSError, ValueError, KeyError, TypeError) as error:
            raise WorkspaceError(f"the workspace cannot be read: {shown(error, 100)}",
                                 shown(folder / "axiarch.json"),
                                 "restore the file; nothing was changed") from None
        if found > FORMAT:
            raise WorkspaceNewer(
                f"the workspace has format {found}; this program reads up to {FORMAT}",
                shown(folder), "use a later version of the program; nothing was changed")
        return cls(folder)

    def check_writable(self) -> None:
        """Raise :class:`WorkspaceReadOnly` if nothing can be written here."""
        places = [self.folder, *(p for p in (self.journal, self.folder / "lock") if p.exists())]
        for place in places:
            if not os.access(place, os.W_OK, effective_ids=os.access in os.supports_effective_ids):
                raise WorkspaceReadOnly(
                    "this workspace is read-only", shown(place),
                    "change its permissions, or copy the folder; nothing was changed")

    # -- the lock --------------------------------------------------------------------------------

    def owner(self) -> Owner | None:
        """Return who writes this workspace now, or None."""
        try:
            owner = Owner(**read_json(self.folder / "lock", _MOST_LOCK))
            real = isinstance(owner.since, int | float) and isinstance(owner.what, str)
            alive = real and type(owner.pid) is int and 0 < owner.pid < 1 << 31 and (
                born(owner.pid) == owner.born)
        except (OSError, ValueError, TypeError):
            return None
        return owner if alive else None

    @contextlib.contextmanager
    def locked(self, what: str) -> Iterator[None]:
        """Hold the workspace for writing.

        Raises
        ------
        WorkspaceLocked
            If another process holds it: says which, since when and what for.
        WorkspaceReadOnly
        """
        self.check_writable()
        try:
            _check_places(self.folder)
            descriptor = os.open(self.folder / "lock", os.O_RDWR | os.O_CREAT | os.O_NOFOLLOW,
                                 0o666)
            file = os.fdopen(descriptor, "r+", encoding="utf-8")
        except OSError as error:
            raise not_written("the workspace cannot be locked", shown(self.folder), error,
                              "change its permissions; nothing was changed") from None
        with file:
            self._take(file)
            owner = Owner(os.getpid(), born(os.getpid()), time.time(), what)
            _note_owner(descriptor, json.dumps(asdict(owner)))
            self._remove_drafts()
            try:
                yield
            finally:
                _note_owner(descriptor, "")

    def _take(self, file: TextIO) -> None:
        """Take the lock. One that nobody is noted to hold is about to be let go of, or its holder
        about to note itself: waited for a moment.
        """
        end = time.monotonic() + _CHANGING
        while True:
            try:
                return fcntl.flock(file, fcntl.LOCK_EX | fcntl.LOCK_NB)
            except OSError:
                if self.owner() is not None or time.monotonic() > end:
                    raise self._locked() from None
                time.sleep(0.005)

    def _remove_drafts(self) -> None:
        """Remove what killed processes left half made among the data sets."""
        with contextlib.suppress(OSError):
            for place in self.data().glob(".*"):
                with contextlib.suppress(OSError), held_folder(place) as ours:
                    if ours:
                        shutil.rmtree(place, ignore_errors=True)

    def _locked(self) -> WorkspaceLocked:
        owner = self.owner()
        who = "another process"
        if owner:
            who = (f"process {owner.pid} ({shown(owner.what, 60)}, for "
                   f"{duration(time.time() - owner.since)})")
        return WorkspaceLocked(f"{who} writes this workspace", shown(self.folder),
                               "wait for it, stop it, or only watch; nothing was changed")


def _note_owner(descriptor: int, text: str) -> None:
    """Write into the lock who holds it; on a full disk the lock holds without a name."""
    with contextlib.suppress(OSError):
        os.ftruncate(descriptor, 0)
        os.pwrite(descriptor, text.encode(), 0)


def born(pid: int) -> str:
    """Return when a process started, as text that no other process shares; empty if it is gone.

    Ticks since the machine started where the system says them, so that setting the clock changes
    nothing; else the time of day to the second.
    """
    try:
        text = Path(f"/proc/{pid}/stat").read_text(encoding="utf-8", errors="replace")
        state, *rest = text.rpartition(")")[2].split()
        boot = Path("/proc/sys/kernel/random/boot_id").read_text(encoding="utf-8").strip()
        return "" if state in "ZX" else f"{boot} {rest[18]}"
    except (OSError, IndexError, ValueError):
        pass
    if Path("/proc/self/stat").exists():
        return ""
    import psutil

    try:
        process = psutil.Process(pid)
        gone = process.status() == psutil.STATUS_ZOMBIE
        return "" if gone else f"second {round(process.create_time())}"
    except psutil.Error:
        return ""


#: Folders of a workspace that are looked into for links, below each of these names.
_DEPTH = {"data": 4, "searches": 2, "exports": 1, "models": 1, "versions": 1}


def _check_places(folder: Path) -> None:
    """Raise where a part of a workspace leads elsewhere: one that a stranger sent may hold links.

    Files of checkpoints are not looked at one by one: they are replaced, never written through.

    Raises
    ------
    WorkspaceError
        Naming the link, pipe or device.
    """
    with contextlib.suppress(FileNotFoundError, NotADirectoryError):
        _check_folder(folder, 1, _DEPTH)


def _check_folder(folder: Path, depth: int, below: dict[str, int]) -> None:
    try:
        entries = list(os.scandir(folder))
    except PermissionError:
        return  # what cannot be listed is reported by whoever needs it
    for entry in entries:
        if not entry.is_file(follow_symlinks=False) and not entry.is_dir(follow_symlinks=False):
            raise WorkspaceError(f"{_kind(entry)} is in the place of a file or folder",
                                 shown(entry.path), "remove it; nothing was read or changed")
        deeper = below.get(entry.name, depth - 1)
        if deeper > 0 and entry.is_dir(follow_symlinks=False):
            _check_folder(Path(entry.path), deeper, {})


def _kind(entry: os.DirEntry[str]) -> str:
    if entry.is_symlink():
        return "a symbolic link"
    mode = entry.stat(follow_symlinks=False).st_mode
    return "a named pipe" if stat.S_ISFIFO(mode) else "a socket or device"


def slug(name: str) -> str:
    """Return a folder name for `name`: lower-case letters, digits and dashes."""
    return re.sub(r"[^a-z0-9]+", "-", name.lower()).strip("-")[:60] or "data"
