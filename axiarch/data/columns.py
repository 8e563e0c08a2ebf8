"""What each column holds, and a sensible proposal of its role."""

from __future__ import annotations

from dataclasses import dataclass
from typing import TYPE_CHECKING, Literal

import numpy as np

from axiarch.errors import DataError
from axiarch.plain import shown

if TYPE_CHECKING:
    import polars

Role = Literal["input", "target", "ignored"]

#: Bars of the small drawn distribution of a number.
BINS = 16
#: Categories that a column's summary names, commonest first.
NAMED = 12
#: A text column with more different values than this share of its rows is taken for an identifier.
_ID_SHARE = 0.5
#: Different values a text column may have as an input; beyond it one-hot inputs would outnumber the rest.
MOST_CATEGORIES = 50
#: Names that people give to the column to be predicted.
_TARGET_NAMES = ("target", "label", "class", "state", "y", "outcome")


@dataclass(frozen=True)
class Column:
    """One column as it was looked at (never on the sealed rows).

    Attributes
    ----------
    name : str
    kind : {"number", "text", "date"}
    role : {"input", "target", "ignored"}
    reason : str
        Why that role was proposed.
    missing, rows, distinct : int
    low, high, middle : float or None
        Smallest, largest and median number; None for text.
    bars : tuple of int
        Rows in each of :data:`BINS` equal stretches of the range, or of each of `names`.
    names : tuple of str
        The commonest categories of a text column; the first and last date of a date column.
    """

    name: str
    kind: Literal["number", "text", "date"]
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


def choose_target(frame: polars.DataFrame, target: str | None = None) -> tuple[str, str]:
    """Return the column to be predicted, the one named or else a proposal, and why.

    Raises
    ------
    DataError
        If there is no such column, or none that looks like classes.
    """
    if target is None:
        return _propose_target(frame)
    _check_names(frame, (target,))
    return target, "chosen"


def _check_names(frame: polars.DataFrame, names: tuple[str, ...]) -> None:
    for name in names:
        if name not in frame.columns:
            raise DataError(f"there is no column {shown(name)!r}", "", "columns are " + _names(frame))


def propose_roles(frame: polars.DataFrame, aim: str, why: str, ignore: tuple[str, ...] = (),
                  use: tuple[str, ...] = ()) -> dict[str, tuple[Role, str]]:
    """Return role and reason of every column, judged by the rows given (which must not include sealed ones).

    Parameters
    ----------
    aim, why : str
        The target and why it is, from :func:`choose_target`.
    ignore : tuple of str
        Columns to leave out in any case.
    use : tuple of str
        Columns to take in although they would be left out.

    Raises
    ------
    DataError
        If a column named does not exist, or there is nothing left to learn from.
    """
    _check_names(frame, (*ignore, *use))
    roles: dict[str, tuple[Role, str]] = {}
    for name in frame.columns:
        if name == aim:
            roles[name] = ("target", why)
        elif name in ignore:
            roles[name] = ("ignored", "chosen")
        elif name in use and frame[name].drop_nulls().len():
            roles[name] = ("input", "chosen")
        else:
            roles[name] = _propose_role(frame, name)
    if not any(role == "input" for role, _ in roles.values()):
        raise DataError("no column is left to learn from", "", "ignore fewer columns")
    return roles


def _names(frame: polars.DataFrame) -> str:
    return shown(", ".join(frame.columns), 400)


def _propose_target(frame: polars.DataFrame) -> tuple[str, str]:
    for wanted in _TARGET_NAMES:
        for name in frame.columns:
            if name.lower() == wanted and _few_values(frame, name):
                return name, "its name says so"
    for name in reversed(frame.columns):
        if _few_values(frame, name):
            return name, "the last column with few different values"
    raise DataError("no column looks like classes to predict", "", "name one; columns are " + _names(frame))


def _few_values(frame: polars.DataFrame, name: str) -> bool:
    return 2 <= frame[name].drop_nulls().n_unique() <= max(2, min(MOST_CATEGORIES, frame.height // 5))


def _propose_role(frame: polars.DataFrame, name: str) -> tuple[Role, str]:
    import polars

    series = frame[name].drop_nulls()
    if series.len() == 0:
        return "ignored", "empty"
    distinct = series.n_unique()
    if distinct == 1:
        return "ignored", "the same in every row"
    if series.dtype.is_numeric():
        counted = series.dtype.is_integer() and distinct == frame.height
        if counted and int(series.max()) - int(series.min()) < 2 * frame.height:  # type: ignore[arg-type]
            return "ignored", "counts the rows"
        return "input", "number"
    if series.dtype.is_temporal():
        return "input", "date: year, month, weekday" + (", hour" if series.dtype != polars.Date else "")
    if distinct > _ID_SHARE * series.len():
        return "ignored", "nearly every row differs, like an identifier"
    if distinct > MOST_CATEGORIES:
        return "ignored", f"{distinct} different texts are too many to encode"
    return "input", f"text with {distinct} categories"


def look(frame: polars.DataFrame, roles: dict[str, tuple[Role, str]]) -> tuple[Column, ...]:
    """Summarise every column of the rows given (which must not include sealed ones)."""
    return tuple(_look_at(frame[name], *roles[name]) for name in frame.columns)


def _date_bars(present: polars.Series) -> tuple[int, ...]:
    """Return the rows in each equal stretch of time."""
    import polars

    times = present.cast(polars.Datetime).cast(polars.Int64).to_numpy().astype(np.float64)
    return tuple(int(n) for n in np.histogram(times, BINS)[0]) if times.size else (0,) * BINS


def _look_at(series: polars.Series, role: Role, reason: str) -> Column:
    missing = series.null_count()
    present = series.drop_nulls()
    if present.dtype.is_numeric() and role != "target":
        values = present.to_numpy().astype(np.float64)
        values = values[np.isfinite(values)]
        bars = np.histogram(values, BINS)[0] if values.size else np.zeros(BINS, int)
        ends = (float(values.min()), float(values.max()), float(np.median(values))) if values.size else (None,) * 3
        return Column(series.name, "number", role, reason, missing, series.len(), present.n_unique(),
                      ends[0], ends[1], ends[2], tuple(int(b) for b in bars))
    if present.dtype.is_temporal() and role != "target":
        first_and_last = (str(present.min()), str(present.max())) if present.len() else ()
        return Column(series.name, "date", role, reason, missing, series.len(), present.n_unique(),
                      bars=_date_bars(present), names=first_and_last)
    texts, counts = np.unique([str(v) for v in present], return_counts=True)
    order = sorted(range(len(texts)), key=lambda i: (-counts[i], texts[i]))[:NAMED]
    return Column(series.name, "text", role, reason, missing, series.len(), len(texts),
                  bars=tuple(int(counts[i]) for i in order), names=tuple(str(texts[i]) for i in order))
