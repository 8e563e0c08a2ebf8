"""What each column holds, and a sensible proposal of its role."""

from __future__ import annotations

import math
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any, Literal, Protocol

import numpy as np
from numpy.typing import NDArray

from axiarch.data.encoding import category_counts
from axiarch.data.split import Rows
from axiarch.data.table import PART, Table, Tell, no_progress
from axiarch.data.target import is_amount
from axiarch.errors import DataError
from axiarch.text import shown

if TYPE_CHECKING:
    import polars

Role = Literal["input", "target", "ignored"]
Kind = Literal["number", "text", "date", "picture"]

#: Bars of the small drawn distribution of a number.
BINS = 16
#: Categories that a column's summary names, commonest first.
NAMED = 12
#: A text column with more different values than this share of its rows is taken for an identifier.
_ID_SHARE = 0.5
#: Different values a text column may have as an input; beyond it one-hot inputs would outnumber the
#: rest.
MOST_CATEGORIES = 50
#: Rows below which numbers are counted without threads.
_FEW = 20_000
#: Names that people give to the column to be predicted.
_TARGET_NAMES = ("target", "label", "labels", "class", "state", "outcome")
#: Different texts that a column may hold which such a name points at.
MOST_NAMED_CLASSES = 300


@dataclass(frozen=True)
class Column:
    """One column as it was looked at (never on the sealed rows).

    Attributes
    ----------
    name : str
    kind : {"number", "text", "date", "picture"}
    role : {"input", "target", "ignored"}
    reason : str
        Why that role was proposed.
    missing, rows, distinct : int
    low, high, middle : float or None
        Smallest, largest and median number; None for text.
    bars : tuple of int
        Rows in each of at most :data:`BINS` equal stretches of the range, or of each of `names`.
    names : tuple of str
        The commonest categories of a text column; the first and last date of a date column.
    """

    name: str
    kind: Kind
    role: Role
    reason: str
    missing: int
    rows: int
    distinct: int
    low: float | None = None
    high: float | None = None
    middle: float | None = None
    bars: tuple[int, ...] = ()
    names: tuple[str, ...] = ()


class Columns(Protocol):
    """Named columns, read when they are asked for."""

    @property
    def columns(self) -> list[str]:
        """Their names in order."""

    def column(self, name: str) -> polars.Series:
        """Return a column."""


def choose_targets(table: Columns, targets: tuple[str, ...] = (), avoid: tuple[str, ...] = ()
                   ) -> tuple[tuple[str, ...], str]:
    """Return the columns to be predicted, those named or else a proposal, and why.

    Raises
    ------
    DataError
        If there is no such column, or none that could be predicted.
    """
    if targets:
        check_names(table, targets)
        if len(set(targets)) < len(targets):
            raise DataError("a target is named twice", f"column {shown(targets[0])!r}",
                            "name it once")
        return targets, "chosen"
    return _propose_target(table, avoid)


def check_names(table: Columns, names: tuple[str, ...]) -> None:
    """Raise where a column named is not there."""
    known = set(table.columns)
    for name in names:
        if name not in known:
            raise DataError(f"there is no column {shown(name)!r}", "",
                            "columns are " + _names(table))


def propose_roles(table: Table,
                  rows: Rows,
                  targets: tuple[str, ...],
                  why: str,
                  ignore: tuple[str, ...] = (),
                  use: tuple[str, ...] = (),
                  on_progress: Tell = no_progress) -> dict[str, tuple[Role, str]]:
    """Return role and reason of every column, judged by the `rows` given (which must not include
    sealed ones).

    Parameters
    ----------
    targets, why
        From :func:`choose_targets`.
    ignore : tuple of str
        Columns to leave out in any case.
    use : tuple of str
        Columns to take in although they would be left out.

    Raises
    ------
    DataError
        If a column named does not exist, or there is nothing left to learn from.
    """
    check_names(table, (*ignore, *use))
    roles: dict[str, tuple[Role, str]] = {}
    column = table.taken(rows)
    targets_, ignored, used = set(targets), set(ignore), set(use)
    for i, name in enumerate(table.columns):
        if i % 100 == 0:
            on_progress("looking at the columns", i / len(table.columns))
        if name in targets_:
            roles[name] = ("target", why)
        elif name in ignored:
            roles[name] = ("ignored", "chosen")
        elif name == PART:
            roles[name] = ("ignored", "holds the file each row came from")
        else:
            present = column(name).drop_nulls()
            roles[name] = ("input", "chosen") if name in used and present.len() else propose_role(
                present, len(rows))
    if not any(role == "input" for role, _ in roles.values()):
        raise DataError("no column is left to learn from", "", "ignore fewer columns")
    return roles


def _names(table: Columns) -> str:
    return shown(", ".join(table.columns), 400)


def _propose_target(table: Columns, avoid: tuple[str, ...]) -> tuple[tuple[str, ...], str]:
    able = [name for name in table.columns if name not in avoid and name != PART]
    for wanted in _TARGET_NAMES:
        for name in able:
            if name.strip().lower() == wanted and _can_be_predicted(
                    table.column(name), MOST_NAMED_CLASSES):
                return (name,), "chosen by its name"
    for name in reversed(able):
        if _can_be_predicted(table.column(name)):
            return (name,), "the last column that can be predicted"
    flat = [name for name in able if not _is_picture(table.column(name))]
    same = [name for name in flat if table.column(name).drop_nulls().n_unique() < 2]
    left = [name for name in flat if name not in same]
    verb = "is" if len(same) == 1 else "are"
    said = f": {shown(', '.join(same), 200)} {verb} the same in every row" if same else ""
    raise DataError(f"no column looks like something to predict{said}", "",
                    f"name one; columns are {shown(', '.join(left), 400)}" if left else
                    "a column to predict needs at least two different values")


def _is_picture(series: polars.Series) -> bool:
    import polars

    return isinstance(series.dtype, polars.Array)


def _can_be_predicted(series: polars.Series, most: int = MOST_CATEGORIES) -> bool:
    """Say whether a column holds a few classes, or amounts that are no count of the rows."""
    present = series.drop_nulls()
    if _is_picture(present) or present.dtype.is_temporal():
        return False
    distinct = present.n_unique()
    if 2 <= distinct <= max(2, min(most, series.len() // 5)):
        return True
    return is_amount(present) and propose_role(present, series.len())[0] == "input"


def propose_role(present: polars.Series, rows: int) -> tuple[Role, str]:
    """Propose what to do with a column, by its values without gaps."""
    import polars

    if present.len() == 0:
        return "ignored", "empty"
    if isinstance(present.dtype, polars.Array):
        return "input", "picture"
    distinct = _distinct(present)
    if distinct == 1:
        return "ignored", "the same in every row"
    if present.dtype.is_numeric():
        counted = present.dtype.is_integer() and distinct == rows
        if counted and int(present.max()) - int(present.min()) < 2 * rows:  # type: ignore[arg-type]
            return "ignored", "counts the rows"
        return "input", "number"
    if present.dtype.is_temporal():
        return "input", "date: year, month, weekday" + (", hour"
                                                        if present.dtype != polars.Date else "")
    if distinct > _ID_SHARE * present.len():
        return "ignored", "nearly every row differs, like an identifier"
    if distinct > MOST_CATEGORIES:
        return "ignored", f"{distinct} different texts are too many to encode"
    return "input", f"text with {distinct} categories"


def _distinct(present: polars.Series) -> int:
    """Return how many different values a column without gaps has; a short one of numbers is sorted
    here.

    polars shares such work out over threads, which for a few rows costs more than it saves.
    """
    if present.dtype.is_numeric() and present.len() < _FEW:
        values = np.sort(present.to_numpy())
        return int((values[1:] != values[:-1]).sum()) + min(len(values), 1)
    return present.n_unique()


def summarise(table: Table, rows: Rows, roles: dict[str, tuple[Role, str]], classes: bool,
         on_progress: Tell = no_progress) -> tuple[Column, ...]:
    """Summarise every column over the `rows` given (which must not include sealed ones).

    Parameters
    ----------
    classes : bool
        Whether the target holds classes, which are counted and not measured.
    """
    found, column = [], table.taken(rows)
    for i, name in enumerate(table.columns):
        if i % 100 == 0:
            on_progress("counting values", i / len(table.columns))
        found.append(_summary(column(name), *roles[name], classes))
    return tuple(found)


def _date_bars(present: polars.Series) -> tuple[int, ...]:
    """Return the rows in each equal stretch of time."""
    import polars

    times = present.cast(polars.Datetime).cast(polars.Int64).to_numpy().astype(np.float64)
    return tuple(int(n) for n in np.histogram(times, BINS)[0]) if times.size else (0,) * BINS


def _summary(series: polars.Series, role: Role, reason: str, classes: bool) -> Column:
    import polars

    missing = series.null_count()
    present = series.drop_nulls()
    named = role == "target" and classes
    if isinstance(present.dtype, polars.Array):
        pixels = present.to_numpy()
        return _numbers_seen(series.name, "picture", role,
                             f"{reason} of {' x '.join(map(str, pixels.shape[1:]))}", missing,
                             series.len(), len(pixels), pixels.ravel())
    if present.dtype.is_numeric() and not named:
        return _numbers_seen(series.name, "number", role, reason, missing, series.len(),
                             _distinct(present),
                             present.to_numpy().astype(np.float64))
    if present.dtype.is_temporal() and not named:
        first_and_last = (str(present.min()), str(present.max())) if present.len() else ()
        return Column(series.name, "date", role, reason, missing, series.len(), present.n_unique(),
                      bars=_date_bars(present), names=first_and_last)
    texts, counts = category_counts(series)
    order = sorted(range(len(texts)), key=lambda i: (-counts[i], texts[i]))[:NAMED]
    return Column(series.name, "text", role, reason, missing, series.len(), len(texts),
                  bars=tuple(counts[i] for i in order), names=tuple(texts[i] for i in order))


def _numbers_seen(name: str, kind: Kind, role: Role, reason: str, missing: int, rows: int,
                  distinct: int, values: NDArray[Any]) -> Column:
    values = values[np.isfinite(values)]
    if not values.size:
        return Column(name, kind, role, reason, missing, rows, distinct, bars=(0,) * BINS)
    return Column(name, kind, role, reason, missing, rows, distinct, float(values.min()),
                  float(values.max()), float(np.median(values)),
                  tuple(int(b) for b in np.histogram(values, _edges(values))[0]))


def _edges(values: NDArray[Any]) -> int | NDArray[np.float64]:
    """Return the stretches that numbers are counted in: as many whole numbers in each where all
    are whole.
    """
    low, high = float(values.min()), float(values.max())
    if high - low > 1e6 or (values != np.floor(values)).any():
        return BINS
    each = math.ceil((high - low + 1) / BINS)
    edges: NDArray[
        np.float64] = low - 0.5 + each * np.arange(math.ceil((high - low + 1) / each) + 1.0)
    return edges
