"""Checksums of the files of a data set: damage is noticed before anything is trained on it.

XXH3 (128 bits) by the xxhash package: as fast as the file can be read from memory. It notices
damage, not forgery.
"""

from __future__ import annotations

from collections.abc import Mapping
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from axiarch.errors import WorkspaceError
from axiarch.files import checksum, regular_file
from axiarch.text import shown


def checksums(folder: Path) -> dict[str, str]:
    """Return the checksum of every file below a folder, by its path from there."""
    files = sorted(path for path in folder.rglob("*") if path.is_file())
    return {path.relative_to(folder).as_posix(): checksum(path) for path in files}


def verify(folder: Path, known: Mapping[str, str], below: str, remedy: str) -> None:
    """Raise unless the files below `below` are those that were written.

    Raises
    ------
    WorkspaceError
        Naming the first file that is damaged or gone.
    """
    for name, digest in known.items():
        if not name.startswith(below):
            continue
        path = folder / name
        if not regular_file(path):
            raise WorkspaceError("a file of the data set is gone", shown(path), remedy)
        try:
            same = checksum(path) == digest
        except OSError as error:
            raise WorkspaceError(f"a file of the data set cannot be read: {error.strerror}",
                                 shown(path), remedy) from None
        if not same:
            raise WorkspaceError("a file of the data set is damaged: it is not what was written",
                                 shown(path), remedy)


def row_hashes(inputs: NDArray[np.float32]) -> NDArray[np.uint64]:
    """Return a 64-bit hash of each row (N,), worked out in pieces."""
    rng = np.random.default_rng(np.random.SeedSequence(64))
    factors = rng.integers(0, 2**63, inputs.shape[1], np.uint64) * 2 + 1
    out = np.empty(len(inputs), np.uint64)
    step = max(2_000_000 // max(inputs.shape[1], 1), 1)
    for start in range(0, len(inputs), step):
        bits = np.ascontiguousarray(inputs[start : start + step]).view(np.uint32).astype(np.uint64)
        mixed = (bits + np.uint64(0x9E3779B9)) * factors
        out[start : start + step] = (mixed ^ (mixed >> np.uint64(29))).sum(1, dtype=np.uint64)
    return out
