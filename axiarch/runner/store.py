"""Where a worker finds data sets, by fingerprint, and keeps checkpoints, by key.

A store is a folder of the worker's own machine. What crosses machines is bytes under names:
an executor takes them from one store and puts them into another. The store of the runner's
machine is the search's own folder, with the data sets of the workspace; a worker elsewhere has one
that fills as it is needed, and forgets what was not used for longest.
"""

from __future__ import annotations

import errno
import os
import re
import shutil
from collections.abc import Mapping
from pathlib import Path

from axiarch.errors import NoSpace, TrainingError
from axiarch.files import regular_file, write_whole
from axiarch.text import shown

#: What names may look like: a part of a data set, or a checkpoint.
_DATA = re.compile(r"data/([0-9a-f]{8,64})/(data\.json|folds/\d+/(train|validation)\.\w+\.npy)")
_CHECKPOINT = re.compile(r"checkpoints/(\d+)(@\d+|\.\w+|)")
_SUFFIX = ".safetensors"


class FolderStore:
    """A store in folders of this machine.

    Parameters
    ----------
    checkpoints : Path
        Folder of the checkpoints.
    data : Path
        Folder of data sets that are named by their fingerprints.
    known : mapping, optional
        Folders of data sets that lie elsewhere, by fingerprint.
    """

    def __init__(self, checkpoints: Path, data: Path, known: Mapping[str, Path] | None = None
                 ) -> None:
        self.checkpoints, self.data, self.known = checkpoints, data, dict(known or {})

    def dataset(self, fingerprint: str) -> Path:
        """Return the folder of a data set, whether it is there or not."""
        return self.known.get(fingerprint, self.data / fingerprint)

    def place(self, name: str) -> Path:
        """Return where something is kept, whether it is there or not.

        Raises
        ------
        ValueError
            If the name is neither that of a part of a data set nor of a checkpoint.
        """
        if match := _DATA.fullmatch(name):
            return self.dataset(match[1]) / match[2]
        if match := _CHECKPOINT.fullmatch(name):
            return self.checkpoint(f"{match[1]}{match[2]}")
        raise ValueError(f"nothing is kept as {name!r:.80}")

    def checkpoint(self, key: str) -> Path:
        """Return where a checkpoint is kept, whether it is there or not."""
        return self.checkpoints / f"{key}{_SUFFIX}"

    def has(self, name: str) -> bool:
        """Whether something is there."""
        return regular_file(self.place(name))

    def get(self, name: str) -> bytes:
        """Return what is kept under a name.

        Raises
        ------
        OSError
            If it is not there, or cannot be read.
        """
        return self.place(name).read_bytes()

    def put(self, name: str, content: bytes) -> None:
        """Keep something, whole or not at all.

        Raises
        ------
        NoSpace
            If the disk is full.
        TrainingError
            If it cannot be written for another reason.
        """
        place = self.place(name)
        try:
            place.parent.mkdir(parents=True, exist_ok=True)
            write_whole(place, content)
        except OSError as error:
            what = "a checkpoint" if name.startswith("checkpoints/") else "a part of a data set"
            what += f" could not be written: {error.strerror}"
            if error.errno in (errno.ENOSPC, errno.EDQUOT):
                raise NoSpace(what, shown(place),
                              "free some space, then resume; nothing is lost") from None
            raise TrainingError(what, shown(place), "check the folder, then train the run from "
                                                    "scratch") from None

    def remove(self, name: str) -> None:
        """Forget something, if it is there."""
        self.place(name).unlink(missing_ok=True)

    def keys(self) -> dict[int, list[str]]:
        """Return the keys of all checkpoints of each run, the latest first."""
        found: dict[int, list[str]] = {}
        for path in self.checkpoints.glob(f"*{_SUFFIX}"):
            match = _CHECKPOINT.fullmatch(f"checkpoints/{path.name.removesuffix(_SUFFIX)}")
            if match and regular_file(path):
                found.setdefault(int(match[1]), []).append(f"{match[1]}{match[2]}")
        return {run: sorted(keys, key=_age) for run, keys in found.items()}

    def shrink(self, most: int, keep: str) -> None:
        """Remove data sets, the least recently used first, until they take `most` bytes or less.

        The data set with the fingerprint `keep` stays.
        """
        places = [place for place in self.data.glob("*") if place.is_dir() and place.name != keep]
        places.sort(key=lambda place: place.stat().st_atime)
        taken = {place: _bytes(place) for place in places}
        total = sum(taken.values()) + _bytes(self.data / keep)
        for place in places:
            if total <= most:
                return
            shutil.rmtree(place, ignore_errors=True)
            total -= taken[place]


def _bytes(folder: Path) -> int:
    return sum(os.path.getsize(Path(place, name)) for place, _, names in os.walk(folder)
               for name in names)


def _age(key: str) -> tuple[int, int]:
    """Return what sorts the checkpoints of a run, the latest first and its origin last."""
    run, _, epoch = key.partition("@")
    if epoch:
        return 0, -int(epoch)
    return {"": 1, "before": 2}.get(run.partition(".")[2], 3), 0


def key_of(run: int, epoch: int) -> str:
    """Return the key of a run's checkpoint after an epoch."""
    return f"{run}@{epoch}"


def origin_of(run: int) -> str:
    """Return the key of the checkpoint that a run starts from, where it continues another's."""
    return f"{run}.start"


def named(key: str) -> str:
    """Return the name under which a store keeps a checkpoint."""
    return f"checkpoints/{key}"


def latest(folder: Path, run: int) -> Path:
    """Return the place of a run's latest checkpoint in a search's folder of checkpoints.

    Where there is none, the place is that of one after no epoch, where no file is.
    """
    found = [path for pattern in (f"{run}@*{_SUFFIX}", f"{run}{_SUFFIX}", f"{run}.*{_SUFFIX}")
             for path in folder.glob(pattern) if regular_file(path)]
    return min(found, key=lambda path: _age(path.name.removesuffix(_SUFFIX)),
               default=folder / f"{key_of(run, 0)}{_SUFFIX}")


def first_model(search: Path) -> Path:
    """Return the place of the model that a search starts from, in the search's folder."""
    return search / f"start{_SUFFIX}"
