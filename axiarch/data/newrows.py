"""Rows of a new file, read and encoded as a data set stored it: nothing is learnt from them.

What does not fit is counted by column, never silently repaired: columns that are missing or new,
categories and numbers unlike those of training, values that cannot be read.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, field
from pathlib import Path
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray

from axiarch.data.conversions import as_changes
from axiarch.data.dataset import Dataset
from axiarch.data.encoding import (
    Code,
    DateCode,
    Encoding,
    NumberCode,
    OrderCode,
    PictureCode,
    TextCode,
    as_floats,
)
from axiarch.data.pictures import PICTURE
from axiarch.data.pixels import with_pictures
from axiarch.data.reading import Reading, read_table
from axiarch.data.table import PART, Table, Tell, no_progress
from axiarch.data.target import Answers, Target
from axiarch.errors import DataError
from axiarch.text import count, number, shown

if TYPE_CHECKING:
    import polars

#: Columns that a remark names.
_NAMED = 5


@dataclass
class Remarks:
    """What was unlike the training rows, counted while rows are read.

    Attributes
    ----------
    rows : int
    missing, new : tuple of str
        Columns that the file lacks, and those that the model does not know.
    unknown, outside, gaps, unread : dict
        By column, how many rows hold a category not learnt, a number outside the range seen in
        training, no value where training rows all had one, or a value that cannot be read.
    """

    rows: int = 0
    missing: tuple[str, ...] = ()
    new: tuple[str, ...] = ()
    unknown: dict[str, int] = field(default_factory=dict)
    outside: dict[str, int] = field(default_factory=dict)
    gaps: dict[str, int] = field(default_factory=dict)
    unread: dict[str, int] = field(default_factory=dict)

    def lines(self, dataset: Dataset, encoding: Encoding) -> list[str]:
        """Return the remarks as sentences."""
        codes = {code.name: code for code in encoding.codes}
        found = []
        if self.missing:
            found.append(f"{count(len(self.missing), 'input column')} missing from the file: "
                         f"{_listed(self.missing)}; every row counts as having no value there")
        if self.new:
            found.append(f"{count(len(self.new), 'column')} that the model does not use: "
                         f"{_listed(self.new)}")
        for name, rows in self.unread.items():
            found.append(f"{shown(name, 40)}: {count(rows, 'value')} cannot be read as in training "
                         "and count as missing")
        for name, rows in self.gaps.items():
            code = codes[name]
            how = (f"filled with {number(code.fill)}" if isinstance(code, NumberCode)
                   else "counted as no category")
            found.append(
                f"{shown(name, 40)}: {count(rows, 'missing value')}, where the training rows "
                f"had none: {how}")
        for name, rows in self.unknown.items():
            rare = getattr(codes[name], "pooled", False)
            found.append(
                f"{shown(name, 40)}: {count(rows, 'value')} outside the categories learnt, "
                f"counted as {'rare' if rare else 'no category'}")
        columns = {column.name: column for column in dataset.columns}
        for name, rows in self.outside.items():
            low, high = columns[name].low, columns[name].high
            found.append(f"{shown(name, 40)}: {count(rows, 'value')} outside the range seen in "
                         f"training ({number(low)} to {number(high)})")
        return found


def _listed(names: tuple[str, ...]) -> str:
    more = f" and {len(names) - _NAMED} more" if len(names) > _NAMED else ""
    return ", ".join(shown(name, 30) for name in names[:_NAMED]) + more


@dataclass(frozen=True)
class NewRows:
    """Some rows of a new file.

    Attributes
    ----------
    carried : polars.DataFrame
        The columns that are no inputs, such as ids, of N rows.
    inputs : (N, D) float32 array
    targets : (N,) or (N, T) array, or None
        Where the file holds the target: encoded; 0 where `known` says that it is missing.
    known : (N,) bool array
        Rows whose target is there and was learnt.
    done : float
        The share of the file that ends with these rows.
    """

    carried: polars.DataFrame
    inputs: NDArray[np.float32]
    targets: Answers | None
    known: NDArray[np.bool_]
    done: float


def open_rows(path: Path, dataset: Dataset, fold: int = 0, scratch: Path | None = None,
              on_progress: Tell = no_progress) -> tuple[Iterator[NewRows], Remarks]:
    """Read a file and return its rows in pieces, and remarks that grow while these are taken.

    Parameters
    ----------
    dataset : Dataset
        Whose conversions and encodings are used; its arrays are not.
    scratch : Path, optional
        A folder that large files may be turned into files in.

    Raises
    ------
    DataError
        If the file cannot be read, or holds no input of the model.
    """
    encoding = dataset.folds[fold].encoding
    reading = Reading(dataset.plan.said, dataset.plan.ignore, scratch=scratch, fewest=1)
    table, _ = read_table(path, reading, None, on_progress)
    if dataset.plan.pictures and PICTURE not in table.columns:
        table = with_pictures(table, dataset.plan, dataset.target.columns)
    known = {column.name for column in dataset.columns}
    wanted = [code.name for code in encoding.codes]
    remarks = Remarks(missing=tuple(n for n in wanted if n not in table.columns),
                      new=tuple(n for n in table.columns if n not in known | {PICTURE, PART}))
    if len(remarks.missing) == len(wanted):
        raise DataError(
            "the file holds no input column of the model", shown(path),
            "name its columns as in the training data: " + shown(", ".join(wanted), 200))
    _check_pictures(table, encoding, path)
    changes = {c.column: c for c in dataset.conversions if c.column in table.columns}
    read = table.changed(as_changes(changes))
    return _walk(table, read, dataset, encoding, remarks), remarks


def _check_pictures(table: Table, encoding: Encoding, path: Path) -> None:
    """Raise where pictures have another size than those of training."""
    for code in encoding.codes:
        if isinstance(code, PictureCode):
            found = tuple(getattr(table.schema[code.name], "shape", ()))
            height, width, channels = code.shape
            sizes = [found[0] // code.shrink, found[1] // code.shrink] if len(found) == 3 else []
            if sizes != [height, width] or found[2] != channels:
                size = f"{height * code.shrink} x {width * code.shrink}"
                raise DataError(
                    f"its pictures are {' x '.join(map(str, found)) or 'not pictures'}; the "
                    f"model takes {size} with {count(channels, 'channel')}", shown(path),
                    "give pictures of that size")


def _walk(table: Table, read: Table, dataset: Dataset, encoding: Encoding,
          remarks: Remarks) -> Iterator[NewRows]:
    inputs = {code.name for code in encoding.codes}
    carried = [n for n in table.columns if n not in inputs | {PICTURE, PART}]
    held = {c.name: c.missing > 0 for c in dataset.columns}
    target = encoding.target
    has_target = all(name in table.columns for name in target.columns)
    for start, raw in table.pieces():
        stop = start + raw.height
        piece = read.rows(start, stop)
        columns = [_fitted(piece, code) for code in encoding.codes]
        for code, series in zip(encoding.codes, columns, strict=True):
            before = raw[code.name].null_count() if code.name in raw.columns else 0
            _remark(remarks, code, series, before, held.get(code.name, False), dataset)
        x = np.concatenate(
            [code.encode(s) for code, s in zip(encoding.codes, columns, strict=True)], axis=1)
        targets, known = (_answers(piece, target) if has_target
                          else (None, np.zeros(raw.height, np.bool_)))
        remarks.rows += raw.height
        yield NewRows(raw.select(carried), np.ascontiguousarray(x, np.float32), targets, known,
                      stop / table.height)


def _fitted(piece: polars.DataFrame, code: Code) -> polars.Series:
    """Return an input column as its code takes it; without values where the file lacks it."""
    import polars

    kind: Any = (polars.Float64 if isinstance(code, NumberCode) else
                 polars.Datetime if isinstance(code, DateCode) else polars.String)
    if code.name not in piece.columns:
        return polars.Series(code.name, [None] * piece.height, kind)
    series = piece[code.name]
    if isinstance(code, PictureCode):
        return series
    if isinstance(code, DateCode) and series.dtype == polars.String:
        return series.str.to_datetime(strict=False)
    if isinstance(code, DateCode) and not series.dtype.is_temporal():
        return polars.Series(code.name, [None] * piece.height, kind)
    if isinstance(code, NumberCode) and series.dtype.is_float():
        series = series.cast(polars.Float64)
        return polars.select(polars.when(series.is_finite()).then(series)).to_series().alias(
            code.name)
    return series.cast(kind, strict=False) if series.dtype != kind else series


def _remark(remarks: Remarks, code: Code, series: polars.Series, before: int, gappy: bool,
            dataset: Dataset) -> None:
    """Count what is unlike training in a column."""
    if isinstance(code, PictureCode) or code.name in remarks.missing:
        return
    lost = series.null_count()
    if lost > before and not gappy:
        _add(remarks.unread, code.name, lost - before)
    if before and not gappy:
        _add(remarks.gaps, code.name, before)
    if isinstance(code, TextCode | OrderCode):
        present = series.drop_nulls()
        _add(remarks.unknown, code.name, int((~present.is_in(list(code.categories))).sum()))
    elif isinstance(code, NumberCode):
        column = next((c for c in dataset.columns if c.name == code.name), None)
        if column is not None and column.low is not None and column.high is not None:
            values = as_floats(series)
            away = (values < column.low) | (values > column.high)
            _add(remarks.outside, code.name, int(away.sum()))


def _add(counts: dict[str, int], name: str, rows: int) -> None:
    if rows:
        counts[name] = counts.get(name, 0) + rows


def _answers(piece: polars.DataFrame, target: Target) -> tuple[Answers, NDArray[np.bool_]]:
    """Return the encoded targets of some rows, and which of them are there and were learnt."""
    import polars

    if target.task != "regression":
        texts = piece[target.columns[0]].cast(polars.String)
        known = texts.is_in(list(target.classes)).fill_null(False)
        filled = polars.select(
            polars.when(known).then(texts).otherwise(polars.lit(target.classes[0])))
        frame = polars.DataFrame([filled.to_series().alias(target.columns[0])])
        return target.encode(frame), known.to_numpy()
    numbers = [piece[name].cast(polars.Float64, strict=False) for name in target.columns]
    there = np.all([s.is_finite().fill_null(False).to_numpy() for s in numbers], axis=0)
    filled_numbers = [s.fill_nan(None).fill_null(1.0) for s in numbers]
    return target.encode(polars.DataFrame(filled_numbers)), there
