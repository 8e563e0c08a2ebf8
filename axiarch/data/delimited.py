"""Delimited text: how it is written is found out, shown, and can be said otherwise."""

from __future__ import annotations

import csv
import io
import re
from collections import Counter
from collections.abc import Iterable
from dataclasses import dataclass, replace
from typing import TYPE_CHECKING

from axiarch.errors import DataError
from axiarch.plain import count, shown

if TYPE_CHECKING:
    import polars

#: Cells that mean "no value".
GAPS = ("", "NA", "N/A", "NaN", "nan", "null", "None", "-", "?")
#: Separators tried, in the order preferred where several fit as well.
SEPARATORS = (",", ";", "\t", "|")
#: Rows looked at to find out how a file is written.
_LOOKED_AT = 300

_MARKS = ((b"\xef\xbb\xbf", "utf-8-sig"), (b"\xff\xfe\x00\x00", "utf-32"), (b"\x00\x00\xfe\xff", "utf-32"),
          (b"\xff\xfe", "utf-16"), (b"\xfe\xff", "utf-16"))
_COMMA_NUMBER = re.compile(r"\s*[+-]?\d+,\d+\s*")
_POINT_NUMBER = re.compile(r"\s*[+-]?(\d+\.?\d*|\.\d+)([eE][+-]?\d+)?\s*")


@dataclass(frozen=True)
class TextForm:
    """How a delimited text is written.

    Attributes
    ----------
    separator : str
        One character between cells.
    encoding : str
        As Python names it.
    decimal : {".", ","}
    header : bool
        Whether the first row names the columns.
    """

    separator: str = ","
    encoding: str = "utf-8"
    decimal: str = "."
    header: bool = True

    def __str__(self) -> str:
        names = {",": "comma", ";": "semicolon", "\t": "tab", "|": "bar", " ": "space"}
        head = "first row names the columns" if self.header else "no header"
        return (f"{self.encoding} text, {names.get(self.separator, shown(self.separator))} between cells, "
                f"decimal {'comma' if self.decimal == ',' else 'point'}, {head}")


@dataclass(frozen=True)
class Said:
    """What the user says of a file's form; None is found out."""

    separator: str | None = None
    encoding: str | None = None
    decimal: str | None = None
    header: bool | None = None


def read_delimited(content: bytes, where: str, said: Said | None = None) -> tuple[polars.DataFrame, TextForm]:
    """Return the table in a file's bytes, and how it was written.

    Raises
    ------
    DataError
        With the line, where there is one.
    """
    said = said or Said()
    encoding = said.encoding or _encoding(content)
    text = _decoded(content, encoding, where)
    if not text.strip():
        raise DataError("the file is empty", where, "give a table with a header and rows")
    form = _form(text, replace(said, encoding=encoding))
    names = _checked(text, form, where)
    return _parsed(text, form, names, where), form


def _encoding(content: bytes) -> str:
    for mark, name in _MARKS:
        if content.startswith(mark):
            return name
    start = content[:400]
    if b"\x00" in start:
        return "utf-16-le" if start[1::2].count(0) > start[::2].count(0) else "utf-16-be"
    return "utf-8"


def _decoded(content: bytes, encoding: str, where: str) -> str:
    try:
        return content.decode(encoding).replace("\r\n", "\n").replace("\r", "\n")
    except UnicodeDecodeError as error:
        line = content[: error.start].count(b"\n") + 1
        other = " (windows-1252 would read it)" if encoding.startswith("utf-8") and _reads_as_western(content) else ""
        raise DataError(f"byte 0x{content[error.start]:02X} is not {encoding} text", f"{where}, line {line}",
                        f"save the file as UTF-8, or name its encoding{other}") from None
    except LookupError:
        raise DataError(f"no encoding is called {shown(encoding)!r}", where,
                        "such as utf-8, utf-16, windows-1252, latin-1") from None


def _reads_as_western(content: bytes) -> bool:
    try:
        content.decode("windows-1252")
    except UnicodeDecodeError:
        return False
    return b"\x00" not in content


def _form(text: str, said: Said) -> TextForm:
    """Return the form of a text: what is said of it, the rest found out."""
    sample = "".join(text.splitlines(keepends=True)[:_LOOKED_AT])
    separator = said.separator or _separator(sample)
    rows = _sampled(sample, separator)
    decimal = said.decimal or _decimal(rows[1:] or rows, separator)
    header = _header(rows, decimal) if said.header is None else said.header
    return TextForm(separator, said.encoding or "utf-8", decimal, header)


def _sampled(sample: str, separator: str) -> list[list[str]]:
    """Return the first rows of a text; none where they cannot be cut, which is said later with the line."""
    try:
        return [row for row in csv.reader(io.StringIO(sample), delimiter=separator) if row]
    except (csv.Error, TypeError):
        return []


def _separator(sample: str) -> str:
    """Return the separator that cuts most rows into the same number of cells, more than one."""
    best, score = ",", (0.0, 0)
    for separator in SEPARATORS:
        try:
            widths = Counter(len(row) for row in csv.reader(io.StringIO(sample), delimiter=separator) if row)
        except csv.Error:
            continue
        width, rows = max(widths.items(), key=lambda item: (item[1], item[0]), default=(0, 0))
        if width > 1:
            found = (round(rows / sum(widths.values()), 2), width)
            if found[0] > score[0] or (found[0] == score[0] and separator != "," and found[1] > 2 * score[1]):
                best, score = separator, found
    return best


def _decimal(rows: Iterable[list[str]], separator: str) -> str:
    if separator == ",":
        quoted = sum(bool(_COMMA_NUMBER.fullmatch(cell)) for row in rows for cell in row)
        return "," if quoted > sum(bool(_POINT_NUMBER.fullmatch(cell)) for row in rows for cell in row) else "."
    cells = [cell for row in rows for cell in row]
    commas = sum(bool(_COMMA_NUMBER.fullmatch(cell)) for cell in cells)
    points = sum("." in cell and bool(_POINT_NUMBER.fullmatch(cell)) for cell in cells)
    return "," if commas > points else "."


def _header(rows: list[list[str]], decimal: str) -> bool:
    """The first row is a header unless it holds a number, or a name twice where no number stands below either."""
    if not rows:
        return True
    pattern = _COMMA_NUMBER if decimal == "," else _POINT_NUMBER
    return not any(_POINT_NUMBER.fullmatch(cell) or pattern.fullmatch(cell) for cell in rows[0])


def _checked(text: str, form: TextForm, where: str) -> list[str]:
    """Return the column names, having found what a parser would repair silently or describe badly."""
    rows = csv.reader(io.StringIO(text), delimiter=form.separator)
    try:
        first = next(row for row in rows if row)
        names = first if form.header else [f"column {i}" for i in range(1, len(first) + 1)]
        _check_names(names, where)
        for row in rows:
            if row and len(row) != len(first):
                raise DataError(f"the row has {count(len(row), 'cell')}; the first has {len(first)}",
                                f"{where}, line {rows.line_num}", "mend the row, or name the separator")
    except csv.Error as error:
        raise DataError(f"this is not a table: {error}", f"{where}, line {rows.line_num}", "mend the row") from None
    return names


def _check_names(names: list[str], where: str) -> None:
    for i, name in enumerate(names):
        if name in names[:i]:
            raise DataError(f"two columns are called {shown(name)!r}",
                            f"{where}, columns {names.index(name) + 1} and {i + 1}", "rename one")
        if not name.strip():
            raise DataError("a column has no name", f"{where}, column {i + 1}", "name it in the first row")
    if len(names) < 2:
        raise DataError("there is only one column", where,
                        "a table needs two or more; name the separator if it is an unusual one")


def _parsed(text: str, form: TextForm, names: list[str], where: str) -> polars.DataFrame:
    import polars

    try:
        return polars.read_csv(
            text.encode(), separator=form.separator, decimal_comma=form.decimal == ",", has_header=False,
            skip_rows=1 if form.header else 0, new_columns=names, infer_schema_length=None, null_values=list(GAPS),
        )
    except polars.exceptions.NoDataError:
        raise DataError("the file has a header and no rows", where, "give a table with rows") from None
    except polars.exceptions.PolarsError as error:
        raise DataError(f"this is not a table: {shown(str(error).splitlines()[0], 160)}", where,
                        "name its separator or encoding, or mend it") from None
