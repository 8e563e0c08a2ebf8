"""Read a table or pictures of any of the usual formats, or say exactly why not."""

from __future__ import annotations

import stat
from collections.abc import Callable, Mapping
from dataclasses import dataclass, field, replace
from pathlib import Path

from axiarch.data.archives import MOST_SHEETS, check_archive, unpacked
from axiarch.data.delimited import read_delimited
from axiarch.data.lines import pieces
from axiarch.data.pictures import PICTURES, read_pictures
from axiarch.data.plan import FormatOverrides
from axiarch.data.table import PART, Table, Tell, no_progress
from axiarch.errors import AxiarchError, DataError
from axiarch.text import shown


@dataclass(frozen=True)
class CompanionFiles:
    """Files that hold the other parts, and the labels of pictures that come without."""

    validation: Path | None = None
    test: Path | None = None
    labels: Path | None = None


@dataclass(frozen=True)
class Reading:
    """How files are read.

    Attributes
    ----------
    said : Said
        What is said of the form of a text; the rest is found out.
    ignored : tuple of str
        Columns that may hold anything.
    skip_bad : bool
        Whether pictures that cannot be read are left out.
    scratch : Path or None
        A folder that large and compressed files may be turned into files in.
    fewest : int
        Columns that a table must have: an input and a target, unless it is only predicted.
    """

    said: FormatOverrides = field(default_factory=FormatOverrides)
    ignored: tuple[str, ...] = ()
    skip_bad: bool = False
    scratch: Path | None = None
    fewest: int = 2

    def within(self, name: str) -> Reading:
        """Return the same with a folder of its own in the scratch folder."""
        return replace(self, scratch=self.scratch and self.scratch / name)


def read_table(path: Path, how: Reading | None = None, given: CompanionFiles | None = None,
               on_progress: Tell = no_progress) -> tuple[Table, str]:
    """Read a table or pictures and return them with a sentence on how they were read.

    The format follows from the file's ending; anything not known is read as delimited text. A
    folder holds pictures, one sub-folder a class. Columns come out as numbers, text, dates or
    pictures.

    Parameters
    ----------
    how : Reading, optional
    given : Given, optional
        Files of the same columns that hold the validation and test rows. The table then has the
        column :data:`PART`.
    on_progress : callable, optional
        Takes how far the work is.

    Raises
    ------
    DataError
        If something cannot be read as a table with at least two columns and a row.
    """
    given, how = given or CompanionFiles(), how or Reading()
    table, words = _read(path, how.within("train"), given.labels, on_progress)
    if given.validation is None and given.test is None:
        return table, words
    others = [(part, _read(file, how.within(part), None, on_progress)[0], file)
              for part, file in (("validation", given.validation), ("test", given.test))
              if file is not None]
    return _joined(table, others), words


def _joined(table: Table, others: list[tuple[str, Table, Path]]) -> Table:
    """Return one table of several that have the same columns, with a column that tells them
    apart.
    """
    import polars

    for part, other, file in others:
        lacking = [name for name in table.columns if name not in other.columns]
        further = [name for name in other.columns if name not in table.columns]
        if lacking or further:
            what = f"lacks the column {shown(lacking[0], 60)!r}" if lacking else (
                f"has the further column {shown(further[0], 60)!r}")
            raise DataError(f"the {part} file {what}", shown(file),
                            "all parts need the same columns")
    lazies = [t.source.lazy().select(table.columns).with_columns(polars.lit(part).alias(PART))
              for part, t in [("train", table), *((part, t) for part, t, _ in others)]]
    return Table.scan(polars.concat(lazies, how="vertical_relaxed"))


def _read(path: Path, how: Reading, labels: Path | None, on_progress: Tell) -> tuple[Table, str]:
    where = shown(path)
    try:
        check_source(path)
        if path.is_dir() or path.name.lower().endswith(PICTURES):
            return read_pictures(path, labels, on_progress, how.skip_bad)
        before = signature(path)
        source, packed = unpacked(path, how.scratch, on_progress)
        ending = source.suffix.lower()
        if ending in _FORMATS:
            name, read = _FORMATS[ending]
            table, words = _read_format(read, source, where, name, how, on_progress), f"{name} file"
        else:
            scratch = how.scratch
            table, form = read_delimited(source, where, how.said, scratch, on_progress, how.fewest)
            words = str(form)
        if signature(path) != before:
            raise DataError("the file changed while it was read", where,
                            "wait until it is written, then add it again")
        return table, f"{words}, {packed}" if packed else words
    except FileNotFoundError:
        raise DataError("there is no such file", where, "check the path") from None
    except OSError as error:
        raise DataError(f"it cannot be read: {error.strerror or error}", where,
                        "check the permissions") from None
    except ValueError as error:
        if "null" in str(error):
            raise DataError("a path cannot hold a NUL character", where, "check the path") from None
        raise


def check_source(path: Path) -> None:
    """Raise where a path is no file or folder: a pipe or device would never end.

    Raises
    ------
    DataError
    FileNotFoundError
    """
    mode = path.stat().st_mode
    if not stat.S_ISREG(mode) and not stat.S_ISDIR(mode):
        kind = "a named pipe" if stat.S_ISFIFO(mode) else "a device or socket"
        raise DataError(f"this is {kind}, not a file", shown(path),
                        "write what it gives to a file and add that")


def signature(path: Path) -> tuple[int, int, int]:
    """Return what changes whenever a file is written: its number, size and time."""
    known = path.stat()
    return known.st_ino, known.st_size, known.st_mtime_ns


def _excel(path: Path, how: Reading, on_progress: Tell) -> Table:
    import polars

    check_archive(path, shown(path), MOST_SHEETS)
    return Table.of(polars.read_excel(path, engine="calamine"), shown(path), how.ignored)


def _parquet(path: Path, how: Reading, on_progress: Tell) -> Table:
    import polars

    return Table.scan(polars.scan_parquet(path), shown(path), how.ignored)


def _arrow(path: Path, how: Reading, on_progress: Tell) -> Table:
    import polars

    return Table.scan(polars.scan_ipc(path), shown(path), how.ignored)


def _json_lines(path: Path, how: Reading, on_progress: Tell) -> Table:
    """Read JSON lines; in pieces, turned into Parquet files, where they are many."""
    import io

    import polars

    frames, schema = 0, polars.Schema()
    for piece in pieces(path, "utf-8-sig", shown(path), quoted=False):
        on_progress("reading", piece.done / 2)
        frame = polars.read_ndjson(io.BytesIO(piece.text.encode()), infer_schema_length=None)
        schema = frame.schema if not frames else polars.concat(
            [frame.clear(), polars.DataFrame(schema=schema)], how="diagonal_relaxed").schema
        frames += 1
    if frames == 1:
        return Table.of(frame, shown(path), how.ignored)
    scratch = how.scratch
    assert scratch is not None, "a file this large needs a folder to be turned into a table in"
    scratch.mkdir(parents=True, exist_ok=True)
    for i, piece in enumerate(pieces(path, "utf-8-sig", shown(path), quoted=False)):
        on_progress("reading", 0.5 + piece.done / 2)
        polars.read_ndjson(io.BytesIO(piece.text.encode()),
                           schema=schema).write_parquet(scratch / f"{i:05d}.parquet")
    return Table.open(scratch)


_Read = Callable[[Path, Reading, Tell], Table]
#: Formats by ending: name and reader.
_FORMATS: Mapping[str, tuple[str, _Read]] = {
    ".parquet": ("Parquet", _parquet), ".pq": ("Parquet", _parquet), ".arrow": ("Arrow", _arrow),
    ".feather": ("Arrow", _arrow), ".ipc": ("Arrow", _arrow), ".jsonl": ("JSON lines", _json_lines),
    ".ndjson": ("JSON lines", _json_lines), ".xlsx": ("Excel", _excel), ".xls": ("Excel", _excel),
    ".ods": ("spreadsheet", _excel),
}


def _read_format(read: _Read, path: Path, where: str, name: str, how: Reading,
                 on_progress: Tell) -> Table:
    try:
        table = read(path, how, on_progress)
    except (ImportError, AxiarchError, OSError):
        raise
    # each reader has its own exceptions; all mean that the file is damaged
    except Exception as error:
        if type(error).__name__ == "KeyboardInterrupt":
            raise
        first = (str(error).splitlines() or [type(error).__name__])[0]
        raise DataError(f"cannot read this as a {name} file: {shown(first, 140)}", where,
                        "write the file again; it may have been cut short") from None
    if len(table.columns) < how.fewest:
        raise DataError("there are fewer than two columns", where, "a table needs two or more")
    if table.height == 0:
        raise DataError("the file has columns and no rows", where, "give a table with rows")
    return table
