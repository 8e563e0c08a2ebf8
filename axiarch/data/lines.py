"""Text files in pieces that end where a line ends, decoded, with line numbers: any size in
little memory.
"""

from __future__ import annotations

import codecs
import io
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path

from axiarch.errors import DataError
from axiarch.text import shown

#: Bytes read at once.
BLOCK = 8 << 20
#: Characters that one quoted cell may run on for before its quote counts as never closed.
LONGEST = 64 << 20

#: Bytes looked at to find out an encoding, and those around the first that is not UTF-8.
_SAMPLE, _AROUND = 8 << 20, 64 << 10

_MARKS = ((b"\xef\xbb\xbf", "utf-8-sig"), (b"\xff\xfe\x00\x00", "utf-32"),
          (b"\x00\x00\xfe\xff", "utf-32"), (b"\xff\xfe", "utf-16"), (b"\xfe\xff", "utf-16"))


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


def found_encoding(path: Path) -> str:
    """Return the encoding that the bytes of a file give away.

    A byte-order mark decides; then UTF-16 is known by its zero bytes; what is not UTF-8 is told by
    charset-normalizer, which may guess wrong between relatives: the guess is shown and changeable.
    """
    with path.open("rb") as file:
        start = file.read(_SAMPLE)
    for mark, name in _MARKS:
        if start.startswith(mark):
            return name
    even, odd = start[:400:2].count(0), start[1:400:2].count(0)
    if max(even, odd) > 0.3 * len(start[:400:2]):
        return "utf-16-le" if odd > even else "utf-16-be"
    try:
        codecs.getincrementaldecoder("utf-8")().decode(start, final=len(start) < _SAMPLE)
        return "utf-8"
    except UnicodeDecodeError as error:
        around = start[max(error.start - _AROUND, 0) : error.start + _AROUND]
        return "utf-8" if b"\x00" in start else _guessed(around)


def _guessed(sample: bytes) -> str:
    """Return the encoding that a sample most likely has; UTF-8, to be refused, if none."""
    from charset_normalizer import from_bytes

    best = from_bytes(sample).best()
    if best is None:
        return "utf-8"
    if "cp1252" in best.could_be_from_charset or (_reads_as_western(sample) and best.encoding in (
            "latin_1", "iso8859_15", "cp1250", "cp1254", "cp1257", "cp1258")):
        return "windows-1252"
    return best.encoding.replace("_", "-")


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
            except UnicodeError:
                raise DataError(f"this is not {shown(encoding, 40)} text", where,
                                "name its encoding") from None
            if "\x00" in rest:
                raise _holds_nul(path, line, rest, where)
            cut = len(rest) if last else _last_line_end(rest, quoted)
            if cut:
                yield Piece(line, rest[:cut], min(read / size, 1.0))
                line += rest.count("\n", 0, cut)
                rest = rest[cut:]
            if last:
                return
            if len(rest) > LONGEST:
                raise DataError("a quote is opened here and never closed",
                                f"{where}, line {line} or soon after",
                                "fix the row, or name the separator")


def _holds_nul(path: Path, line: int, text: str, where: str) -> DataError:
    """Return the error for a NUL character, which no text holds; `text` begins with line `line`."""
    at = text.index("\x00")
    line += text.count("\n", 0, at)
    column = at - text.rfind("\n", 0, at)
    known = path.stat()
    sparse = known.st_blocks * 512 < known.st_size // 2
    return DataError(
        "the file is mostly empty: a stretch of it was never written" if sparse else
        "the text contains a NUL character", f"{where}, line {line}, character {column}",
        "write the file again; if it is UTF-16, name its encoding")


def _decoder(encoding: str, where: str) -> codecs.IncrementalDecoder:
    try:
        if not codecs.lookup(encoding)._is_text_encoding:
            raise LookupError(encoding)
        return codecs.getincrementaldecoder(encoding)()
    except (LookupError, ValueError, TypeError):
        raise DataError(f"no text encoding is called {shown(encoding, 40)!r}", where,
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
