"""Rows of a file that is mapped and larger than memory, brought there before they are used."""

from __future__ import annotations

import mmap
from concurrent.futures import Future, ThreadPoolExecutor

import numpy as np
from numpy.typing import NDArray

from axiarch.engine.kernels import rows
from axiarch.engine.network import Array


class Ahead:
    """A thread that asks the system for rows, and waits until they are in memory.

    A page at a time is slow on any disk; asked for together, rows are read many at once. The system
    is kept from reading what lies around them, of which the next step needs nothing.

    Parameters
    ----------
    flat : (N D,) array
        The rows, one after the other, mapped or not.
    width : int
        D.
    """

    def __init__(self, flat: Array, width: int) -> None:
        self._flat, self._width, self._bytes = flat, width, width * flat.itemsize
        self._thread = ThreadPoolExecutor(1, "rows")
        self._reading: Future[object] | None = None
        self._file = _file_of(flat)
        if self._file is not None:
            self._file.madvise(mmap.MADV_RANDOM)
            self._start = flat.ctypes.data - np.frombuffer(self._file, np.uint8, 1).ctypes.data

    def wait(self) -> None:
        """Wait until the rows asked for last are there."""
        if self._reading is not None:
            self._reading.result()

    def ask(self, order: NDArray[np.int64], first: int, last: int) -> None:
        """Let the rows ``order[first:last]`` be read meanwhile."""
        self._reading = self._thread.submit(self._read, order, first, last)

    def _read(self, order: NDArray[np.int64], first: int, last: int) -> None:
        if self._file is not None:
            begins = self._start + order[first:last] * self._bytes
            starts = begins // mmap.PAGESIZE * mmap.PAGESIZE
            for start, length in zip(starts.tolist(), (begins + self._bytes - starts).tolist(),
                                     strict=True):
                self._file.madvise(mmap.MADV_WILLNEED, start, length)
        rows.touch(self._flat, self._width, order, first, last)


def _file_of(array: Array) -> mmap.mmap | None:
    """Return the mapped file that an array is a view of; None where it is in memory."""
    base: object = array
    while base is not None and not isinstance(base, mmap.mmap):
        base = getattr(base, "obj", None) if isinstance(base, memoryview) else getattr(
            base, "base", None)
    return base
