"""Read a table of any of the usual formats, or say exactly why not."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from pathlib import Path
from typing import TYPE_CHECKING, Any

from axiarch.data.delimited import GAPS, Said, read_delimited
from axiarch.errors import DataError
from axiarch.plain import shown

if TYPE_CHECKING:
    import polars


def read_table(path: Path, said: Said | None = None) -> tuple[polars.DataFrame, str]:
    """Read a table and return it with a sentence on how it was read.

    The format follows from the file's ending; anything not known is read as delimited text. Columns come
    out as numbers, text, or dates.

    Parameters
    ----------
    said : Said, optional
        What is said of a delimited text; the rest is found out.

    Raises
    ------
    DataError
        If the file cannot be read as a table with at least two columns and a row.
    """
    where = shown(path)
    if path.is_dir():
        raise DataError("this is a folder, not a table", where, "name a file")
    try:
        content = path.read_bytes()
    except FileNotFoundError:
        raise DataError("there is no such file", where, "check the path") from None
    except OSError as error:
        raise DataError(f"it cannot be read: {error.strerror}", where, "check the permissions") from None
    if not content:
        raise DataError("the file is empty", where, "give a table with rows")
    ending = path.suffix.lower()
    if ending in _BINARY:
        name, read = _BINARY[ending]
        frame, how = _read_binary(read, content, where, name), f"{name} file"
    else:
        frame, form = read_delimited(content, where, said)
        how = str(form)
    return _plain_columns(frame, where), how


def _excel(content: bytes) -> Any:
    import polars

    return polars.read_excel(content, engine="calamine")


def _with_polars(name: str) -> Callable[[bytes], Any]:
    def read(content: bytes) -> Any:
        import io

        import polars

        return getattr(polars, name)(io.BytesIO(content))

    return read


#: Formats by ending: name and reader.
_BINARY: Mapping[str, tuple[str, Callable[[bytes], Any]]] = {
    ".parquet": ("Parquet", _with_polars("read_parquet")), ".pq": ("Parquet", _with_polars("read_parquet")),
    ".arrow": ("Arrow", _with_polars("read_ipc")), ".feather": ("Arrow", _with_polars("read_ipc")),
    ".ipc": ("Arrow", _with_polars("read_ipc")), ".jsonl": ("JSON lines", _with_polars("read_ndjson")),
    ".ndjson": ("JSON lines", _with_polars("read_ndjson")), ".xlsx": ("Excel", _excel), ".xls": ("Excel", _excel),
    ".ods": ("spreadsheet", _excel),
}


def _read_binary(read: Callable[[bytes], Any], content: bytes, where: str, name: str) -> polars.DataFrame:
    try:
        frame: polars.DataFrame = read(content)
    except ImportError:
        raise
    except Exception as error:  # each reader has its own exceptions; all mean that the file is damaged
        first = (str(error).splitlines() or [type(error).__name__])[0]
        raise DataError(f"this is no {name} file that can be read: {shown(first, 140)}", where,
                        "write the file again; it may have been cut short") from None
    if frame.width < 2:
        raise DataError("there are fewer than two columns", where, "a table needs two or more")
    if frame.height == 0:
        raise DataError("the file has columns and no rows", where, "give a table with rows")
    return frame


def _plain_columns(frame: polars.DataFrame, where: str) -> polars.DataFrame:
    """Return the table with every column a number, text or a date; refuse what no network can take in."""
    import polars

    plain = []
    for series in frame:
        kind = series.dtype
        if kind.is_nested() or kind in (polars.Binary, polars.Object):
            raise DataError(f"it holds {kind}, not numbers, text or dates",
                            f"{where}, column {shown(series.name)!r}", "leave it out, or spread it over several")
        if kind.is_decimal() or kind == polars.Duration:
            series = series.cast(polars.Float64)
        elif not (kind.is_numeric() or kind in (polars.Date, polars.String) or kind == polars.Datetime):
            series = series.cast(polars.String)
        if series.dtype == polars.String:
            series = series.replace({gap: None for gap in GAPS})
        plain.append(series)
    return polars.DataFrame(plain)
