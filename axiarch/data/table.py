"""A table of any size: a column or a stretch of rows at a time, from memory or from files.

Small tables are held in memory. A large one stays on disk, and is never there as a whole: whoever
looks at it asks for one column, or walks it in pieces.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass, field, replace
from pathlib import Path
from typing import TYPE_CHECKING, Any, Literal

from axiarch.errors import DataError
from axiarch.text import shown

if TYPE_CHECKING:
    import numpy as np
    import polars
    from numpy.typing import NDArray

#: The column that says which of several files a row came from.
PART = "(part)"
#: Cells of a table that is held in memory; some thirty megabytes.
HELD = 4_000_000
#: Cells read at once from one that is not.
PIECE = 2_000_000

#: Takes the name of a step of work and the share of it that is done; may raise to end the work.
Tell = Callable[[str, float], None]
#: A column of any kind changed into another one of as many rows.
Change = Callable[["polars.Series"], "polars.Series"]


def no_progress(step: str, done: float) -> None:
    """Tell nobody."""


@dataclass(frozen=True)
class Table:
    """Named columns of numbers, text, dates or pictures, all with the same number of rows.

    Attributes
    ----------
    schema : dict
        The type of each column, by name, in order.
    height : int
        The number N of rows.
    source : polars.LazyFrame or polars.DataFrame
    changes : dict
        How columns are changed when they are read.
    decimal : {".", ","}
        What stands before the decimals of numbers that are text.
    """

    schema: dict[str, polars.DataType]
    height: int
    source: polars.LazyFrame | polars.DataFrame
    changes: dict[str, Change] = field(default_factory=dict)
    decimal: Literal[".", ","] = "."

    @classmethod
    def of(cls, frame: polars.DataFrame, where: str = "", ignored: Sequence[str] = ()) -> Table:
        """Return a table held in memory.

        Parameters
        ----------
        ignored : sequence of str
            Columns that may hold anything: what cannot be used of them is left empty.

        Raises
        ------
        DataError
            If another column is neither number, text, date nor picture.
        """
        frame = _emptied(frame.lazy(), dict(frame.schema), ignored).collect()
        _check_kinds(dict(frame.schema), where)
        frame = frame.with_columns(*(_plain(series) for series in frame)) if frame.width else frame
        return cls(dict(frame.schema), frame.height, frame)

    @classmethod
    def scan(cls, source: polars.LazyFrame, where: str = "", ignored: Sequence[str] = ()) -> Table:
        """Return a table that stays where it is, unless it is small; parameters as of
        :meth:`of`.
        """
        import polars

        source = _emptied(source, dict(source.collect_schema()), ignored)
        schema = dict(source.collect_schema())
        _check_kinds(schema, where)
        height = int(source.select(polars.len()).collect().item())
        if height * sum(_cells(kind) for kind in schema.values()) <= HELD:
            return cls.of(source.collect(), where)
        table = cls(schema, height, source)
        return replace(table, schema={name: table.column(name, 1).dtype for name in schema})

    @classmethod
    def open(cls, folder: Path) -> Table:
        """Return the table that :meth:`save` wrote."""
        import polars

        pieces = sorted(folder.glob("*.parquet"))
        if not pieces:
            raise FileNotFoundError(folder)
        return cls.scan(polars.scan_parquet(pieces))

    @property
    def columns(self) -> list[str]:
        """The names of the columns in order."""
        return list(self.schema)

    def column(self, name: str, rows: int | None = None) -> polars.Series:
        """Return a column of N rows, or only its first `rows`."""
        import polars

        if isinstance(self.source, polars.DataFrame):
            series = self.source[name]
            series = series if rows is None else series.head(rows)
        else:
            lazy = self.source.select(polars.col(name))
            series = _plain((lazy if rows is None else lazy.head(rows)).collect().to_series())
        change = self.changes.get(name)
        return change(series).alias(name) if change else series

    def taken(self, rows: NDArray[np.int64]) -> Callable[[str], polars.Series]:
        """Return what gives a column's `rows`; they are gathered once for all columns of a table
        in memory.
        """
        import polars

        if isinstance(self.source, polars.DataFrame) and not self.changes:
            return self.source[rows].get_column
        return lambda name: self.column(name)[rows]

    def rows(self, start: int, stop: int, names: Sequence[str] = ()) -> polars.DataFrame:
        """Return the rows from `start` to `stop`, of all columns or those named."""
        import polars

        names = names or self.columns
        frame = self.source.lazy().select(polars.col(*names)).slice(start, stop - start).collect()
        plain = [_plain(s) if not isinstance(self.source, polars.DataFrame) else s for s in frame]
        changed = [
            self.changes[s.name](s).alias(s.name) if s.name in self.changes else s for s in plain
        ]
        return polars.DataFrame(changed)

    def pieces(self, names: Sequence[str] = ()) -> Iterator[tuple[int, polars.DataFrame]]:
        """Walk the table: the number of the first row of each piece, and the piece."""
        cells = sum(_cells(self.schema[name]) for name in (names or self.columns))
        step = max(PIECE // max(cells, 1), 256)
        for start in range(0, self.height, step):
            yield start, self.rows(start, min(start + step, self.height), names)

    def changed(self, changes: dict[str, Change]) -> Table:
        """Return the table with columns changed whenever they are read."""
        import polars

        if isinstance(self.source, polars.DataFrame):
            frame = self.source.with_columns(*(change(self.source[name]).alias(name)
                                               for name, change in changes.items()))
            return replace(self, schema=dict(frame.schema), source=frame)
        table = replace(self, changes=self.changes | changes)
        return replace(table, schema={n: table.column(n, 1).dtype if n in changes else k
                                      for n, k in self.schema.items()})

    def save(self, folder: Path, on_progress: Tell = no_progress) -> None:
        """Write the table into a new folder, as Parquet files of a piece each."""
        folder.mkdir(parents=True)
        for i, (start, piece) in enumerate(self.pieces()):
            on_progress("keeping the table", start / self.height)
            piece.write_parquet(folder / f"{i:05d}.parquet")


def _cells(kind: polars.DataType) -> int:
    """Return the numbers that one value of a kind takes."""
    import math

    return math.prod(kind.shape) if hasattr(kind, "shape") and not kind.is_numeric() else 1


def _usable(kind: polars.DataType) -> bool:
    import polars

    if isinstance(kind, polars.Array) and len(kind.shape) == 3:
        return True
    return not (kind.is_nested() or kind in (polars.Binary, polars.Object))


def _emptied(source: polars.LazyFrame, schema: dict[str, polars.DataType],
             names: Sequence[str]) -> polars.LazyFrame:
    """Return a table with columns emptied that are ignored and could not be used anyway."""
    import polars

    lost = [name for name in names if name in schema and not _usable(schema[name])]
    return source.with_columns(
        polars.lit(None, dtype=polars.String).alias(name) for name in lost) if lost else source


def _check_kinds(schema: dict[str, polars.DataType], where: str) -> None:
    for name, kind in schema.items():
        if not _usable(kind):
            raise DataError(f"it holds {kind}, not numbers, text or dates",
                            f"{where}, column {shown(name)!r}".strip(", "), "ignore the column")


def _plain(series: polars.Series) -> polars.Series:
    """Return a column as numbers, text, dates or pictures."""
    import polars

    kind = series.dtype
    if isinstance(kind, polars.Array):
        return series
    if kind.is_decimal() or kind == polars.Duration:
        series = series.cast(polars.Float64)
    elif not (kind.is_numeric() or kind in (polars.Date, polars.String) or kind == polars.Datetime):
        series = series.cast(polars.String)
    if series.dtype.is_float():
        series = series.fill_nan(None)
    if series.dtype == polars.String:
        series = series.replace({"": None})
    return series


def frame_of(columns: dict[str, Any], kinds: dict[str, str]) -> polars.DataFrame:
    """Return columns as a table of the kinds ``number``, ``text``, ``moment`` or ``picture``;
    None is a gap.
    """
    import polars

    types = {
        "number": polars.Float64, "text": polars.String, "moment": polars.Datetime, "picture": None
    }
    return polars.DataFrame([
        polars.Series(name, values, types[kinds[name]])
        if kinds[name] != "picture" else polars.Series(name, values)
        for name, values in columns.items()
    ])
