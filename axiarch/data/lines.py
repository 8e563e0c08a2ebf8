"""Text files in pieces that end where a line ends, decoded, with line numbers: any size in little memory."""

from __future__ import annotations

import codecs
import io
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path

from axiarch.errors import DataError

#: Bytes read at once.
BLOCK = 8 << 20
#: Characters that one quoted cell may run on for before its quote counts as never closed.
LONGEST = 64 << 20

_MARKS = ((b"\xef\xbb\xbf", "utf-8-sig"), (b"\xff\xfe\x00\x00", "utf-32"), (b"\x00\x00\xfe\xff", "utf-32"),
          (b"\xff\xfe", "utf-16"), (b"\xfe\xff", "utf-16"))


@dataclass(frozen=True)
class Piece:
    """Some whole lines of a file.

    Attributes
    ----------
    line : int
        The number of the first, from 1.
    text : str
        Line ends are line feeds.
    done : float
        The share of the file's bytes read so far.
    """

    line: int
    text: str
    done: float


def found_encoding(start: bytes) -> str:
    """Return the encoding that the first bytes of a file give away; UTF-8 where they do not."""
    for mark, name in _MARKS:
        if start.startswith(mark):
            return name
    start = start[:400]
    if b"\x00" in start:
        return "utf-16-le" if start[1::2].count(0) > start[::2].count(0) else "utf-16-be"
    return "utf-8"


def pieces(path: Path, encoding: str, where: str, quoted: bool = True) -> Iterator[Piece]:
    """Walk a text file.

    Parameters
    ----------
    quoted : bool
        Whether a line end between double quotes is part of a cell.

    Raises
    ------
    DataError
        Where bytes are not of that encoding, or a quote is never closed; with the line.
    """
    decoder = io.IncrementalNewlineDecoder(_decoder(encoding, where), translate=True)
    size = max(path.stat().st_size, 1)
    line, rest, read = 1, "", 0
    with path.open("rb") as file:
        while True:
            block = file.read(BLOCK)
            read += len(block)
            last = len(block) < BLOCK
            try:
                rest += decoder.decode(block, final=last)
            except UnicodeDecodeError as error:
                bad = line + rest.count("\n") + error.object[: error.start].count(b"\n")
                raise _not_text(error, encoding, f"{where}, line {bad}") from None
            cut = len(rest) if last else _last_line_end(rest, quoted)
            if cut:
                yield Piece(line, rest[:cut], min(read / size, 1.0))
                line += rest.count("\n", 0, cut)
                rest = rest[cut:]
            if last:
                return
            if len(rest) > LONGEST:
                raise DataError("a quote that is opened here is not closed again",
                                f"{where}, line {line} or soon after", "mend the row, or name the separator")


def _decoder(encoding: str, where: str) -> codecs.IncrementalDecoder:
    try:
        return codecs.getincrementaldecoder(encoding)()
    except LookupError:
        raise DataError(f"no encoding is called {encoding!r}", where,
                        "such as utf-8, utf-16, windows-1252, latin-1") from None


def _last_line_end(text: str, quoted: bool) -> int:
    """Return where the last line that is whole ends; 0 if none is."""
    end = text.rfind("\n")
    if not quoted or '"' not in text:
        return end + 1
    open_quotes = text.count('"', 0, end) % 2 if end >= 0 else 0
    while end >= 0 and open_quotes:
        before = text.rfind("\n", 0, end)
        if before < 0:
            return 0
        open_quotes = (open_quotes - text.count('"', before, end)) % 2
        end = before
    return end + 1


def _not_text(error: UnicodeDecodeError, encoding: str, where: str) -> DataError:
    western = b"\x00" not in error.object and _reads_as_western(error.object)
    other = " (windows-1252 would read it)" if encoding.startswith("utf-8") and western else ""
    return DataError(f"byte 0x{error.object[error.start]:02X} is not {encoding} text", where,
                     f"save the file as UTF-8, or name its encoding{other}")


def _reads_as_western(content: bytes) -> bool:
    try:
        content.decode("windows-1252")
    except UnicodeDecodeError:
        return False
    return True
