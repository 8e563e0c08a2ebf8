"""Read a delimited text file into a table, or say exactly why not."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

from axiarch.errors import DataError
from axiarch.plain import shown

if TYPE_CHECKING:
    from _csv import Reader as CsvReader

    import polars

#: Cells that mean "no value".
GAPS = ("", "NA", "N/A", "NaN", "nan", "null", "None", "-", "?")


def read_table(path: Path) -> polars.DataFrame:
    """Read a CSV file; every column is a number where all its cells are, else text.

    Raises
    ------
    DataError
        If the file cannot be read as a table with a header and rows.
    """
    import polars

    where = shown(path)
    if not path.is_file():
        raise DataError("there is no such file", where, "check the path")
    text = _text(path, where)
    _check_header(text, where)
    try:
        frame = polars.read_csv(text.encode(), infer_schema_length=None, null_values=list(GAPS))
    except polars.exceptions.PolarsError as error:
        raise DataError(f"this is not a table: {shown(str(error).splitlines()[0], 160)}", where,
                        "give comma-separated text with one header line") from None
    if frame.height == 0:
        raise DataError("the file has a header and no rows", where, "give a table with rows")
    return frame


def _text(path: Path, where: str) -> str:
    try:
        text = path.read_bytes().decode("utf-8-sig")
    except UnicodeDecodeError as error:
        raise DataError(f"byte {error.start + 1} is not UTF-8 text", where, "save the file as UTF-8") from None
    except OSError as error:
        raise DataError(f"it cannot be read: {error.strerror}", where, "check the permissions") from None
    if not text.strip():
        raise DataError("the file is empty", where, "give a table with a header and rows")
    return text


def _check_header(text: str, where: str) -> None:
    """Find what polars would repair silently or describe badly: twice-named columns and ragged rows."""
    import csv
    import io

    rows = csv.reader(io.StringIO(text))
    try:
        _check_rows(next(rows), rows, where)
    except csv.Error as error:
        raise DataError(f"this is not a table: {error}", f"{where}, line {rows.line_num}",
                        "mend the row") from None


def _check_rows(header: list[str], rows: CsvReader, where: str) -> None:
    for name in header:
        if header.count(name) > 1:
            raise DataError(f"two columns are called {shown(name)!r}", where, "rename one")
    if len(header) < 2:
        raise DataError("there is only one column", where, "separate columns with commas; two or more are needed")
    for row in rows:
        if row and len(row) != len(header):
            raise DataError(f"the row has {len(row)} cells; the header has {len(header)}",
                            f"{where}, line {rows.line_num}", "mend the row")
