"""Compressed files: unpacked into a scratch folder, and refused where they would fill the
machine.
"""

from __future__ import annotations

import gzip
import lzma
import tempfile
import zipfile
import zlib
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import IO

from axiarch.data.table import Tell, no_progress
from axiarch.errors import DataError
from axiarch.text import memory, shown

#: An archive may unpack to this many times its size: honest tables and pictures do not.
MOST_UNPACKED = 200
#: ... unless that is less than this many bytes.
HARMLESS = 32 << 20
#: Bytes that all sheets of a workbook may unpack to: reading them takes several times as much
#: memory.
MOST_SHEETS = 512 << 20
#: How the names of compressed files end, and what they are.
PACKED = {".gz": "unpacked from gzip", ".zst": "unpacked from Zstandard",
          ".zip": "unpacked from a zip archive"}
_BLOCK = 1 << 20


def check_unpacked(size: int, packed: int, where: str) -> None:
    """Raise where `packed` bytes unpack to `size` bytes and that is more than an honest file
    would.
    """
    if size > HARMLESS and size > MOST_UNPACKED * max(packed, 1):
        raise DataError(f"{memory(packed)} would unpack to {memory(size)}", where,
                        "if that is intended, unpack it yourself and add the files inside")


def check_archive(path: Path, where: str, most: int) -> None:
    """Raise where a zip archive, or a file that is one, unpacks to more than `most` bytes in
    all.
    """
    if not zipfile.is_zipfile(path):
        return
    with zipfile.ZipFile(path) as archive:
        total = sum(member.file_size for member in archive.infolist())
        check_unpacked(total, path.stat().st_size, where)
    if total > most:
        raise DataError(f"it unpacks to {memory(total)}; at most {memory(most)} can be read", where,
                        "save the sheet as CSV or Parquet and add that")


def unpacked(path: Path,
             scratch: Path | None = None,
             on_progress: Tell = no_progress) -> tuple[Path, str]:
    """Return the file that a compressed one holds, and how it was packed; others as they are.

    Parameters
    ----------
    scratch : Path, optional
        The folder to unpack into; by default a temporary one.

    Raises
    ------
    DataError
        If it is damaged, holds several files, or unpacks to far more than its size.
    """
    ending = path.suffix.lower()
    if ending not in PACKED:
        return path, ""
    where = shown(path)
    if scratch is None:
        scratch = Path(tempfile.mkdtemp(prefix="axiarch-"))
    scratch.mkdir(parents=True, exist_ok=True)
    size = path.stat().st_size
    try:
        with _opened(path, ending, where) as (source, name):
            target = scratch / f"unpacked{Path(name).suffix.lower()[:12]}"
            with target.open("wb") as out:
                done = 0
                while block := source.read(_BLOCK):
                    done += len(block)
                    check_unpacked(done, size, where)
                    out.write(block)
                    on_progress("unpacking", 0.0)
    except (EOFError, zlib.error, zipfile.BadZipFile, lzma.LZMAError, gzip.BadGzipFile,
            NotImplementedError, RuntimeError) as error:
        raise DataError(f"it cannot be unpacked: {shown(error, 100)}", where,
                        "write the file again; it may have been cut short") from None
    return target, PACKED[ending]


@contextmanager
def _opened(path: Path, ending: str, where: str) -> Iterator[tuple[IO[bytes], str]]:
    """Open what a compressed file holds, with the name that it had."""
    if ending == ".gz":
        with gzip.open(path) as file:
            yield file, path.stem  # type: ignore[misc]
    elif ending == ".zst":
        import zstandard

        try:
            with path.open("rb") as raw, zstandard.ZstdDecompressor(
                    max_window_size=1 << 27).stream_reader(raw, read_across_frames=True) as file:
                yield file, path.stem
        except zstandard.ZstdError as error:
            raise EOFError(str(error)) from None
    else:
        with zipfile.ZipFile(path) as archive:
            members = [m for m in archive.infolist() if not m.is_dir()
                       and not m.filename.startswith("__MACOSX/")]
            if len(members) != 1:
                raise DataError(f"it holds {len(members)} files; one table is expected", where,
                                "unpack it and add the file that is meant")
            if members[0].flag_bits & 1:
                raise DataError("it is encrypted", where, "unpack it and add what it holds")
            with archive.open(members[0]) as file:
                yield file, members[0].filename
