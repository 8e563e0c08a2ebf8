"""A workspace: one folder with data sets, searches, results and checkpoints.

    axiarch.json          format of the folder
    lock                  held by the one process that writes; says who and since when
    journal.sqlite        every search, recipe, run and epoch
    draft.toml            the recipe and space being edited
    data/NAME/            data sets
    searches/NUMBER/      search.toml, checkpoints/, inbox/, runner.log
    exports/              what was exported
"""

from __future__ import annotations

import contextlib
import fcntl
import json
import os
import re
import time
from collections.abc import Iterator
from dataclasses import asdict, dataclass
from pathlib import Path

from axiarch.errors import (
    WorkspaceError,
    WorkspaceLocked,
    WorkspaceMissing,
    WorkspaceNewer,
    WorkspaceReadOnly,
)
from axiarch.plain import duration, shown

#: The format of the folder written, and the latest one read.
FORMAT = 1


@dataclass(frozen=True)
class Owner:
    """Who writes a workspace.

    Attributes
    ----------
    pid : int
    born : float
        When that process started, so that a later process with the same number is not taken for it.
    since : float
        When it took the lock, in seconds since 1970.
    what : str
        What for.
    """

    pid: int
    born: float
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

    def data(self, name: str = "") -> Path:
        """The folder of a data set, or of all of them."""
        return self.folder / "data" / slug(name) if name else self.folder / "data"

    def search(self, number: int) -> Path:
        """The folder of a search."""
        return self.folder / "searches" / f"{number:04d}"

    def data_names(self) -> list[str]:
        """The folders of the data sets, in the order of their names."""
        return sorted(p.parent.name for p in self.data().glob("*/data.json") if not p.parent.name.startswith("."))

    def search_numbers(self) -> list[int]:
        """The numbers of all searches."""
        return sorted(int(p.parent.name) for p in self.folder.glob("searches/*/search.toml")
                      if p.parent.name.isdigit())

    # -- opening ---------------------------------------------------------------------------------

    @classmethod
    def create(cls, folder: Path) -> Workspace:
        """Return the workspace in `folder`, made if the folder is new or empty."""
        if (folder / "axiarch.json").is_file():
            return cls.open(folder)
        try:
            folder.mkdir(parents=True, exist_ok=True)
            if any(folder.iterdir()):
                raise WorkspaceMissing("the folder holds other things and no workspace", shown(folder),
                                       "give a new or empty folder")
            (folder / "axiarch.json").write_text(json.dumps({"format": FORMAT}) + "\n", encoding="utf-8")
            for each in ("data", "searches", "exports"):
                (folder / each).mkdir(exist_ok=True)
        except OSError as error:
            raise WorkspaceReadOnly(f"a workspace cannot be made: {error.strerror}", shown(folder),
                                    "choose a folder you may write") from None
        return cls(folder)

    @classmethod
    def open(cls, folder: Path) -> Workspace:
        """Return the workspace in `folder`, changing nothing.

        Raises
        ------
        WorkspaceMissing, WorkspaceNewer
        """
        try:
            known = json.loads((folder / "axiarch.json").read_text(encoding="utf-8"))
            found = int(known["format"])
        except FileNotFoundError:
            raise WorkspaceMissing("there is no workspace here", shown(folder), "name another folder") from None
        except (OSError, ValueError, KeyError, TypeError) as error:
            raise WorkspaceError(f"the workspace cannot be read: {shown(error, 100)}",
                                 shown(folder / "axiarch.json"), "restore the file; nothing was changed") from None
        if found > FORMAT:
            raise WorkspaceNewer(f"the workspace has format {found}; this program reads up to {FORMAT}",
                                 shown(folder), "use a later version of the program; nothing was changed")
        return cls(folder)

    def check_writable(self) -> None:
        """Raise :class:`WorkspaceReadOnly` if nothing can be written here."""
        places = [self.folder, *(p for p in (self.journal, self.folder / "lock") if p.exists())]
        for place in places:
            if not os.access(place, os.W_OK, effective_ids=os.access in os.supports_effective_ids):
                raise WorkspaceReadOnly("this workspace is read-only", shown(place),
                                        "change its permissions, or copy the folder; nothing was changed")

    # -- the lock --------------------------------------------------------------------------------

    def owner(self) -> Owner | None:
        """Return who writes this workspace now, or None."""
        import psutil

        try:
            owner = Owner(**json.loads((self.folder / "lock").read_text(encoding="utf-8")))
            process = psutil.Process(owner.pid)
            alive = abs(process.create_time() - owner.born) < 1 and process.status() != psutil.STATUS_ZOMBIE
        except (OSError, ValueError, TypeError, psutil.Error):
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
        import psutil

        self.check_writable()
        try:
            file = (self.folder / "lock").open("a+", encoding="utf-8")
        except OSError as error:
            raise WorkspaceReadOnly(f"the workspace cannot be locked: {error.strerror}", shown(self.folder),
                                    "change its permissions; nothing was changed") from None
        with file:
            try:
                fcntl.flock(file, fcntl.LOCK_EX | fcntl.LOCK_NB)
            except OSError:
                raise self._locked() from None
            file.truncate(0)
            owner = Owner(os.getpid(), psutil.Process().create_time(), time.time(), what)
            file.write(json.dumps(asdict(owner)))
            file.flush()
            try:
                yield
            finally:
                file.truncate(0)

    def _locked(self) -> WorkspaceLocked:
        owner = self.owner()
        who = "another process"
        if owner:
            who = f"process {owner.pid} ({shown(owner.what, 60)}, for {duration(time.time() - owner.since)})"
        return WorkspaceLocked(f"{who} writes this workspace", shown(self.folder),
                               "wait for it, stop it, or only watch; nothing was changed")


def slug(name: str) -> str:
    """Return a folder name for `name`: lower-case letters, digits and dashes."""
    return re.sub(r"[^a-z0-9]+", "-", name.lower()).strip("-")[:60] or "data"
