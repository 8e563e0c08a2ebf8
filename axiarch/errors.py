"""One tree of errors; each says what happened, where, and what to do.

    AxiarchError                  anything this program reports in words
    ├── InputError                what the user gave cannot be used        (exit code 2)
    │   ├── NotationError         a value or range, marked at the character
    │   ├── RecipeError           a recipe that cannot be trained
    │   ├── SearchFileError       a search file
    │   └── DataError             a table
    ├── WorkspaceError            the folder that holds everything         (exit code 3)
    │   ├── WorkspaceLocked       another process writes it
    │   ├── WorkspaceReadOnly     it cannot be written
    │   ├── WorkspaceNewer        made by a later version
    │   └── WorkspaceMissing      nothing of ours is there
    ├── TrainingError             the training itself could not be done    (exit code 4)
    └── NoSpace                   the disk is full                         (exit code 4)
"""

from __future__ import annotations

import errno
from collections.abc import Iterator


class AxiarchError(Exception):
    """Something the user is told in three parts.

    Parameters
    ----------
    what : str
        What happened, one sentence without a full stop.
    where : str, optional
        The file, line, column, key or folder it happened in.
    remedy : str, optional
        What the user can do about it.
    """

    exit_code = 1

    def __init__(self, what: str, where: str = "", remedy: str = "") -> None:
        super().__init__(what, where, remedy)
        self.what = what
        self.where = where
        self.remedy = remedy

    def __str__(self) -> str:
        place = f"{self.where}: " if self.where else ""
        cure = f" – {self.remedy}" if self.remedy else ""
        return f"{place}{self.what}{cure}"

    def at(self, where: str) -> AxiarchError:
        """Name the place (once a caller knows it), keeping any finer place already named."""
        self.where = f"{where}, {self.where}" if self.where else where
        return self


class InputError(AxiarchError):
    """What the user gave cannot be used."""

    exit_code = 2


class NotationError(InputError):
    """A value or range that cannot be read.

    Parameters
    ----------
    text : str
        All that was read.
    position : int
        Index into `text` of the first character that does not fit; ``len(text)`` means the end.
    what, remedy : str
        What was read there, and what would be right.
    """

    def __init__(self, text: str, position: int, what: str, remedy: str = "") -> None:
        super().__init__(what, f"character {position + 1}", remedy)
        self.text = text
        self.position = position

    def marked(self) -> str:
        """Return the text with a caret under the character, on two lines."""
        return f"{self.text}\n{' ' * self.position}^"


class RecipeError(InputError):
    """A recipe that cannot be trained; `layer` is the number of the layer at fault, from 1,
    where it is one's.
    """

    layer = 0


class SearchFileError(InputError):
    """A search file with a wrong key, value or range."""


class DataError(InputError):
    """A table that cannot be used."""


class WorkspaceError(AxiarchError):
    """The folder that holds data sets, searches and results cannot be used as asked."""

    exit_code = 3


class WorkspaceLocked(WorkspaceError):
    """Another process writes this workspace."""


class WorkspaceReadOnly(WorkspaceError):
    """The workspace cannot be written."""


class WorkspaceNewer(WorkspaceError):
    """The workspace was made by a later version of the program."""


class WorkspaceMissing(WorkspaceError):
    """There is no workspace in this folder, or not the thing asked for in it."""


def not_written(what: str, where: str, error: OSError, remedy: str) -> WorkspaceReadOnly:
    """Return the error for a file that could not be written: with `remedy`, or on a full disk
    with the one for that.
    """
    full = error.errno in (errno.ENOSPC, errno.EDQUOT)
    return WorkspaceReadOnly(
        f"{what}: {error.strerror or error}", where,
        "free some disk space, then try again; nothing was changed" if full else remedy)


def causes(error: BaseException | None) -> Iterator[BaseException]:
    """Yield an error and those that led to it, the last first."""
    seen: set[int] = set()
    while error is not None and id(error) not in seen:
        seen.add(id(error))
        yield error
        error = error.__cause__ or error.__context__


def out_of_memory(error: BaseException) -> bool:
    """Say whether an error comes from memory that could not be had: to map a file, it is the
    system that says so.
    """
    return any(isinstance(each, MemoryError)
               or (isinstance(each, OSError) and each.errno == errno.ENOMEM)
               for each in causes(error))


class TrainingError(AxiarchError):
    """The training itself could not be done."""

    exit_code = 4


class NoSpace(AxiarchError):
    """The disk is full; what was written before is whole."""

    exit_code = 4
