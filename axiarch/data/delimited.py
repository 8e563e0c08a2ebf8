"""Delimited text: how it is written is found out, shown, and can be said otherwise."""

from __future__ import annotations

import csv
import io
import re
from collections.abc import Iterable, Mapping
from dataclasses import dataclass, replace
from pathlib import Path
from typing import TYPE_CHECKING, Literal

import numpy as np

from axiarch.data.lines import Piece, found_encoding, pieces
from axiarch.data.plan import SEPARATOR_NAMES, FormatOverrides
from axiarch.data.table import Table, Tell, no_progress
from axiarch.errors import DataError
from axiarch.text import count, shown

if TYPE_CHECKING:
    import polars

#: Separators tried, in the order preferred where several fit as well.
SEPARATORS = (",", ";", "\t", "|")
#: Rows looked at to find out how a file is written.
_LOOKED_AT = 300

#: A cell of digits with a zero in front.
LEADING_ZERO_CELL = r"^\s*[+-]?0\d+\s*$"
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
        What stands before the decimals of a number.
    header : bool
        Whether the first row names the columns.
    """

    separator: str = ","
    encoding: str = "utf-8"
    decimal: Literal[".", ","] = "."
    header: bool = True

    def __str__(self) -> str:
        names = {mark: name for name, mark in SEPARATOR_NAMES.items()}
        head = "first row names the columns" if self.header else "no header"
        return (
            f"{self.encoding} text, {names.get(self.separator, shown(self.separator))} between "
            f"cells, decimal {'comma' if self.decimal == ',' else 'point'}, {head}")


def read_delimited(path: Path,
                   where: str,
                   said: FormatOverrides | None = None,
                   scratch: Path | None = None,
                   on_progress: Tell = no_progress,
                   fewest: int = 2) -> tuple[Table, TextForm]:
    """Return the table in a text file, and how it was written.

    A file of more than one piece is walked twice, first to find out what its columns hold, and
    becomes Parquet files in `scratch`.

    Raises
    ------
    DataError
        With the line, where there is one.
    """
    said = said or FormatOverrides()
    encoding = said.encoding or found_encoding(path)
    reader: _Reader | None = None
    kinds: dict[str, polars.DataType | None] = {}
    frames = 0
    for piece in pieces(path, encoding, where):
        on_progress("reading", piece.done / 2)
        if reader is None:
            if not piece.text.strip():
                break
            reader = _Reader(_form(piece.text, replace(said, encoding=encoding)), where, fewest)
        frame = reader.checked(piece)
        kinds = {s.name: _common(kinds.get(s.name), s) for s in frame}
        frames += 1
    if reader is None:
        raise DataError("the file is empty", where, "give a table with a header and rows")
    if frames == 1:
        if frame.height == 0:
            raise DataError("the file has a header and no rows", where, "give a table with rows")
        return replace(Table.of(frame, where), decimal=reader.form.decimal), reader.form
    assert scratch is not None, "a file this large needs a folder to be turned into a table in"
    return _converted(path, reader, kinds, scratch, on_progress), reader.form


def _converted(path: Path, reader: _Reader, kinds: dict[str, polars.DataType | None], scratch: Path,
               on_progress: Tell) -> Table:
    """Walk the file again, every piece read as the same kinds of columns, and keep it as Parquet
    files.
    """
    import polars

    settled = {name: kind or polars.String() for name, kind in kinds.items()}
    scratch.mkdir(parents=True, exist_ok=True)
    for i, piece in enumerate(pieces(path, reader.form.encoding, reader.where)):
        on_progress("reading", 0.5 + piece.done / 2)
        reader.parsed(piece, settled).write_parquet(scratch / f"{i:05d}.parquet")
    return replace(Table.open(scratch), decimal=reader.form.decimal)


def _common(known: polars.DataType | None, series: polars.Series) -> polars.DataType | None:
    """Return the kind that holds what was seen of a column and what `series` holds; None while
    all are gaps.
    """
    import polars

    kind = series.dtype
    if series.null_count() == series.len() or kind == known:
        return known
    whole, real = polars.Int64(), polars.Float64()
    if kind not in (whole, real):
        return polars.String()
    if known is None:
        return kind
    return real if known in (whole, real) else polars.String()


class _Reader:
    """Reads pieces of one file by its form; the first names the columns."""

    def __init__(self, form: TextForm, where: str, fewest: int = 2) -> None:
        self.form = form
        self._fewest = fewest
        self.where = where
        self.names: list[str] = []

    def checked(self, piece: Piece) -> polars.DataFrame:
        """Return a piece as a table of whatever its own columns hold, or raise where its rows
        are ragged.
        """
        if piece.line == 1:
            self.names = _first_names(piece.text, self.form, self.where, self._fewest)
        self._check_widths(piece)
        return self.parsed(piece, None)

    def parsed(self, piece: Piece, kinds: dict[str, polars.DataType] | None) -> polars.DataFrame:
        """Return a piece as a table, of `kinds` where they are settled."""
        import polars

        first = piece.line == 1 and self.form.header
        try:
            texts = polars.read_csv(piece.text.encode(),
                                    separator=self.form.separator,
                                    has_header=False,
                                    skip_rows=1 if first else 0,
                                    new_columns=self.names,
                                    infer_schema=False,
                                    null_values=[""])
        except polars.exceptions.NoDataError:
            texts = polars.DataFrame({name: [] for name in self.names},
                                     schema={n: polars.String for n in self.names})
        except polars.exceptions.PolarsError as error:
            raise DataError(f"this is not a table: {shown(str(error).splitlines()[0], 160)}",
                            self.where, "name its separator or encoding, or fix it") from None
        return texts.select(self._typed(texts, kinds or self._kinds(texts)))

    def _typed(self, texts: polars.DataFrame, kinds: Mapping[str,
                                                             polars.DataType]) -> list[polars.Expr]:
        """Return how columns of text become the kinds that are settled; what cannot is missing."""
        import polars

        return [self._plain(polars.col(name), kinds[name]).cast(kinds[name], strict=False)
                if kinds[name].is_numeric() else polars.col(name) for name in texts.columns]

    def _kinds(self, texts: polars.DataFrame) -> dict[str, polars.DataType]:
        """Return the first kind that fits every cell of each column: whole numbers, numbers, text.

        Digits with a zero in front are codes: as numbers they would lose it. All columns are tried
        in one go, which wide tables need.
        """
        import polars

        tried: list[polars.Expr] = []
        for name in texts.columns:
            column = polars.col(name)
            lost = [self._plain(column, kind).cast(kind, strict=False).null_count()
                    - column.null_count() for kind in (polars.Int64(), polars.Float64())]
            codes = column.str.contains(LEADING_ZERO_CELL).any()
            tried.append(polars.concat_arr(codes.cast(polars.Int64), *(
                each.cast(polars.Int64) for each in lost)).alias(name))
        found = texts.select(tried).row(0)
        kinds: dict[str, polars.DataType] = {}
        for name, (codes_, not_whole, not_real) in zip(texts.columns, found, strict=True):
            kinds[name] = (polars.String() if codes_ else polars.Int64() if not_whole == 0
                           else polars.Float64() if not_real == 0 else polars.String())
        return kinds

    def _plain(self, column: polars.Expr, kind: polars.DataType) -> polars.Expr:
        """Return a column of text with decimal points, where `kind` has decimals."""
        import polars

        comma = self.form.decimal == "," and kind == polars.Float64
        return column.str.replace(",", ".", literal=True) if comma else column

    def _check_widths(self, piece: Piece) -> None:
        """Raise at the first row with more or fewer cells than there are columns."""
        if '"' not in piece.text and len(self.form.separator.encode()) == 1 and self._even(
                piece.text):
            return
        rows = csv.reader(io.StringIO(piece.text), delimiter=self.form.separator)
        try:
            for row in rows:
                if row and len(row) != len(self.names):
                    raise DataError(
                        f"the row has {count(len(row), 'cell')}; the first has {len(self.names)}",
                        f"{self.where}, line {piece.line - 1 + rows.line_num}",
                        "fix the row, or name the separator")
        except csv.Error as error:
            raise DataError(f"this is not a table: {error}",
                            f"{self.where}, line {piece.line - 1 + rows.line_num}",
                            "fix the row") from None

    def _even(self, text: str) -> bool:
        """Say whether every line of a text without quotes has as many cells as there are
        columns.
        """
        raw = np.frombuffer((text if text.endswith("\n") else text + "\n").encode(), np.uint8)
        ends = np.flatnonzero(raw == 10)
        marks = np.flatnonzero(raw == ord(self.form.separator))
        cells = np.diff(np.searchsorted(marks, ends), prepend=0) + 1
        blank = np.diff(ends, prepend=-1) == 1
        return bool(((cells == len(self.names)) | blank).all())


def _form(text: str, said: FormatOverrides) -> TextForm:
    """Return the form of a text: what is said of it, the rest found out."""
    sample = "".join(io.StringIO(text).readlines(1 << 20)[:_LOOKED_AT])
    separator = said.separator or _separator(sample)
    rows = _sampled(sample, separator)
    found = said.decimal or _decimal(rows[1:] or rows, separator)
    decimal: Literal[".", ","] = "," if found == "," else "."
    header = _header(rows, decimal) if said.header is None else said.header
    return TextForm(separator, said.encoding or "utf-8", decimal, header)


def _sampled(sample: str, separator: str) -> list[list[str]]:
    """Return the first rows of a text; none where they cannot be cut, which is said later with
    the line.
    """
    try:
        return [row for row in csv.reader(io.StringIO(sample), delimiter=separator) if row]
    except (csv.Error, TypeError):
        return []


def _separator(sample: str) -> str:
    """Return the separator that explains most of a text; of equal ones the first of SEPARATORS.

    It must cut the first row into several cells. What it explains is the share of the rows that it
    cuts into as many, times the share of their cells that hold no other separator, or are a number.
    """
    best, score = ",", 0.0
    for separator in SEPARATORS:
        rows = _sampled(sample, separator)
        if not rows or len(rows[0]) < 2:
            continue
        even = [row for row in rows if len(row) == len(rows[0])]
        cells = [cell for row in even for cell in row]
        clean = sum(_is_clean(cell, separator) for cell in cells)
        found = round(len(even) / len(rows) * clean / len(cells), 3)
        if found > score:
            best, score = separator, found
    return best


def _is_clean(cell: str, separator: str) -> bool:
    """Whether a cell is a number, or holds nothing that other separators would cut."""
    if _COMMA_NUMBER.fullmatch(cell):
        return True
    return not any(mark in cell for mark in SEPARATORS if mark != separator)


def _decimal(rows: Iterable[list[str]], separator: str) -> str:
    if separator == ",":
        quoted = sum(bool(_COMMA_NUMBER.fullmatch(cell)) for row in rows for cell in row)
        return "," if quoted > sum(
            bool(_POINT_NUMBER.fullmatch(cell)) for row in rows for cell in row) else "."
    cells = [cell for row in rows for cell in row]
    commas = sum(bool(_COMMA_NUMBER.fullmatch(cell)) for cell in cells)
    points = sum("." in cell and bool(_POINT_NUMBER.fullmatch(cell)) for cell in cells)
    return "," if commas > points else "."


def _header(rows: list[list[str]], decimal: str) -> bool:
    """The first row is a header unless it holds a number, or a name twice where no number stands
    below either.
    """
    if not rows:
        return True
    pattern = _COMMA_NUMBER if decimal == "," else _POINT_NUMBER
    return not any(_POINT_NUMBER.fullmatch(cell) or pattern.fullmatch(cell) for cell in rows[0])


def _first_names(text: str, form: TextForm, where: str, fewest: int = 2) -> list[str]:
    """Return the column names."""
    rows = csv.reader(io.StringIO(text), delimiter=form.separator)
    try:
        first = next(row for row in rows if row)
    except csv.Error as error:
        raise DataError(f"this is not a table: {error}", f"{where}, line {rows.line_num}",
                        "fix the row") from None
    names = first if form.header else [f"column {i}" for i in range(1, len(first) + 1)]
    _check_names(names, where, fewest)
    return names


def _check_names(names: list[str], where: str, fewest: int = 2) -> None:
    first: dict[str, int] = {}
    for i, name in enumerate(names):
        if first.setdefault(name, i) < i:
            raise DataError(f"two columns are called {shown(name)!r}",
                            f"{where}, columns {first[name] + 1} and {i + 1}", "rename one")
        if not name.strip():
            raise DataError("a column has no name", f"{where}, column {i + 1}",
                            "name it in the first row")
    if len(names) < fewest:
        raise DataError("there is only one column", where,
                        "a table needs two or more; name the separator if it is an unusual one")
