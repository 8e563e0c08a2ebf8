"""How the cells of each column are read: as numbers, dates or text, and which texts mean "missing".

Decided once, from the training rows, kept with the data set, and applied as kept to every later
table: new rows are read as the rows that the network learnt from.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass
from typing import TYPE_CHECKING, Literal

from axiarch.data.plan import DATE_ORDERS, DataPlan, Treatment
from axiarch.data.table import PART, Change, Table
from axiarch.text import share, shown

if TYPE_CHECKING:
    import polars

#: Texts that mean "no value" in every column, unless the plan says otherwise.
MISSING = ("NA", "N/A", "NaN", "nan", "null", "None", "-", "?")
#: ... and among numbers, where they can be no category.
NUMBER_MISSING = ("na", "n/a", "n.a.", "NULL", "none", "--", "#N/A", "missing", "unknown")
#: Share of a column's values that must convert before it is taken for numbers or dates.
ENOUGH = 0.95
#: Among numbers, so many different texts at the most are taken for marks of a missing value, where
#: at least this share of the values are numbers.
MARKS, MARKED = 3, 0.5
#: Different values that a conversion is tried on before it is tried on all.
TRIED = 500
#: Ways of writing a date by the order of day and month; the first of each pair is tried first.
_ISO = ("%Y-%m-%d", "%Y-%m-%d %H:%M:%S", "%Y-%m-%dT%H:%M:%S", "%Y-%m-%d %H:%M", "%Y/%m/%d")
_DOTTED = ("%d.%m.%Y", "%d.%m.%Y %H:%M", "%d.%m.%Y %H:%M:%S", "%d.%m.%y")
_DAY_FIRST = ("%d/%m/%Y", "%d-%m-%Y", "%d/%m/%Y %H:%M", "%d/%m/%y")
_MONTH_FIRST = ("%m/%d/%Y", "%m-%d-%Y", "%m/%d/%Y %H:%M", "%m/%d/%y")
#: A whole number with a zero in front: a code or a postal number rather than an amount.
LEADING_ZERO = r"^[+-]?0\d+$"
#: Years that a date is not taken to lie outside of: "20" for 2020 is not the year 20.
_YEARS = (1000, 9999)

Kind = Literal["number", "date", "text", "as it is"]


@dataclass(frozen=True)
class Conversion:
    """How one column is read.

    Attributes
    ----------
    column : str
    kind : {"number", "date", "text", "as it is"}
    missing : tuple of str
        Texts that mean "no value", without blanks around them.
    form : str
        How dates are written, as strptime has it.
    decimal : {".", ","}
        What stands before the decimals of a number.
    merge_case : bool
        Whether texts that differ only in case are one category.
    words : str
        What was decided, for people; empty where there was nothing to decide.
    """

    column: str
    kind: Kind = "as it is"
    missing: tuple[str, ...] = ()
    form: str = ""
    decimal: Literal[".", ","] = "."
    merge_case: bool = False
    words: str = ""

    def __call__(self, series: polars.Series) -> polars.Series:
        """Return a column (N,) as it is read; what cannot be read so is missing."""
        import polars

        if self.kind == "as it is" or isinstance(series.dtype, polars.Array):
            return series
        if self.kind == "number" and series.dtype.is_numeric():
            return self._numbers_without_marks(series)
        if self.kind == "date" and series.dtype.is_temporal():
            return series
        text = series.cast(polars.String).str.strip_chars()
        gaps = text.is_in(["", *self.missing])
        kept = text.str.to_lowercase() if self.merge_case else text
        text = polars.select(polars.when(gaps).then(None).otherwise(kept)).to_series()
        text = text.rename(series.name)
        if self.kind == "number":
            return _as_number(text, self.decimal)
        return _as_date(text, self.form) if self.kind == "date" else text

    def _numbers_without_marks(self, series: polars.Series) -> polars.Series:
        import polars

        marks = [value for value in map(_float, self.missing) if value is not None]
        if not marks:
            return series
        found = series.cast(polars.Float64).is_in(marks)
        return polars.select(polars.when(found).then(None).otherwise(series)).to_series().rename(
            series.name)


def _float(text: str) -> float | None:
    try:
        return float(text)
    except ValueError:
        return None


def as_changes(conversions: Mapping[str, Conversion]) -> dict[str, Change]:
    """Return how a table's columns change when they are read, for :meth:`Table.changed`."""
    return {name: each for name, each in conversions.items() if each.kind != "as it is"}


def learn_conversions(table: Table, plan: DataPlan, names: tuple[str, ...],
                      column: Callable[[str], polars.Series]) -> dict[str, Conversion]:
    """Return how the columns `names` are read.

    Parameters
    ----------
    column : callable
        Gives the rows of a column that decide: the training rows.
    """
    return {name: _learn(column(name), plan, table.decimal) for name in names}


def _learn(series: polars.Series, plan: DataPlan, decimal: Literal[".", ","]) -> Conversion:
    import polars

    name, own = series.name, plan.treatment(series.name)
    missing, find = _marks(own.missing, plan.missing)
    keep_text = name in plan.text
    if name == PART or isinstance(series.dtype, polars.Array) or series.dtype.is_temporal():
        return Conversion(name)
    if series.dtype.is_numeric() and not keep_text:
        marks = tuple(m for m in missing if m not in MISSING and _float(m) is not None)
        return Conversion(name, "number", marks, decimal=decimal, words=_marks_words(marks))
    text = Conversion(name, "text", missing, merge_case=own.merge_case)
    if keep_text:
        return text
    return _typed(series, text, find, plan, own, decimal) or text


def _marks(own: tuple[str, ...] | None,
           all_columns: tuple[str, ...] | None) -> tuple[tuple[str, ...], bool]:
    """Return the marks of a column, and whether more may be found in it.

    Texts replace the usual marks. Numbers alone are added to them: -999 says nothing of "n/a".
    """
    added: list[str] = []
    for said in (own, all_columns):
        stripped = [mark.strip() for mark in said or ()]
        if said is not None and (not stripped or any(_float(mark) is None for mark in stripped)):
            return tuple(dict.fromkeys((*stripped, *added))), False
        added += stripped
    return tuple(dict.fromkeys((*MISSING, *added))), True


def _marks_words(marks: tuple[str, ...]) -> str:
    named = ", ".join(repr(shown(m, 20)) for m in marks)
    return f"{named} {'means' if len(marks) == 1 else 'mean'} missing" if marks else ""


def _typed(series: polars.Series, text: Conversion, find: bool, plan: DataPlan, own: Treatment,
           decimal: Literal[".", ","]) -> Conversion | None:
    """Return the conversion of a column of text that holds numbers or dates; None if it is text."""
    import polars

    counts = text(series).drop_nulls().value_counts(name="rows")
    values, rows = counts[series.name], counts["rows"]
    if values.len() == 0:
        return None
    codes = bool(values.str.contains(LEADING_ZERO).any())
    if codes and series.name not in plan.numbers and _enough(_as_number(values, decimal), rows):
        return Conversion(text.column, "text", text.missing, merge_case=text.merge_case,
                          words="leading zeros, like codes")
    known: tuple[Literal[".", ","], ...] = (decimal, "," if decimal == "." else ".")
    for mark in known[:1] if plan.said.decimal else known:
        marks = _found_marks(values, rows, _as_number(values, mark)) if find else ()
        more = (*NUMBER_MISSING, *marks) if find else ()
        found = Conversion(text.column, "number", (*text.missing, *more), decimal=mark)
        plain = values.filter(~values.is_in([*marks, *found.missing])).cast(polars.Float64,
                                                                            strict=False)
        what = "numbers stored as text" if plain.null_count() else ""
        words = _if_enough(found, values, rows, what, _present(series, found.missing))
        if words is not None:
            return Conversion(text.column, "number", found.missing, decimal=mark, words=words)
    for form, what in _forms(own, values):
        found = Conversion(text.column, "date", text.missing, form)
        words = _if_enough(found, values, rows, what)
        if words is not None:
            return Conversion(text.column, "date", text.missing, form, words=words)
    return None


def _present(series: polars.Series, marks: tuple[str, ...]) -> tuple[str, ...]:
    """Return those marks of a missing value that a column of text holds."""
    held = set(series.str.strip_chars().unique().drop_nulls().to_list()) if series.n_unique(
    ) < 10_000 else (set(series.filter(series.is_in(list(marks))).to_list()))
    return tuple(mark for mark in marks if mark and mark in held)


def _found_marks(values: polars.Series, rows: polars.Series,
                 numbers: polars.Series) -> tuple[str, ...]:
    """Return the few texts that stand among numbers, and so mean that a value is missing."""
    other = values.filter(numbers.is_null() & ~values.is_in(list(NUMBER_MISSING)))
    counted = int(rows.filter(numbers.is_not_null()).sum())
    if not 0 < other.len() <= MARKS or counted < MARKED * int(rows.sum()):
        return ()
    return tuple(sorted(other))


def _enough(converted: polars.Series, rows: polars.Series) -> bool:
    present = int(rows.sum())
    return int(rows.filter(converted.is_not_null()).sum()) >= max(ENOUGH * present, 2)


def _if_enough(found: Conversion, values: polars.Series, rows: polars.Series, what: str,
               marks: tuple[str, ...] = ()) -> str | None:
    """Return in words what a conversion does to a column; None if it loses too much.

    `values` are the different ones, `rows` says how many rows hold each.
    """
    few = values.gather_every(max(values.len() // TRIED, 1))
    if few.len() > TRIED // 2 and found(few).null_count() > few.len() // 2:
        return None
    meant = ~values.is_in([*marks, *found.missing])
    values, rows = values.filter(meant), rows.filter(meant)
    converted = found(values)
    if not _enough(converted, rows):
        return None
    lost = int(rows.filter(converted.is_null()).sum())
    parts = [what, _marks_words(marks)]
    if lost:
        parts.append(f"{share(lost / int(rows.sum()))} could not be read and count as missing")
    return "; ".join(filter(None, parts))


def _forms(own: Treatment, values: polars.Series) -> list[tuple[str, str]]:
    """Return the ways of writing dates to try, each with what it is in words."""
    if own.dates not in (None, *DATE_ORDERS):
        return [(own.dates or "", f"dates written {shown(own.dates, 30)}")]
    day, month = [(f, "dates, day first") for f in _DAY_FIRST], [
        (f, "dates, month first") for f in _MONTH_FIRST]
    plain = [(f, "dates" + (", two-digit years count as 1970 to 2069" if "%y" in f else ""))
             for f in (*_ISO, *_DOTTED)]
    if own.dates == "day first":
        return [*plain, *day]
    if own.dates == "month first":
        return [*plain, *month]
    if own.dates == "year first":
        return [(f, "dates") for f in _ISO]
    both = {}
    for (one, _), (other, _) in zip(day, month, strict=True):
        fits = [_as_date(values, form).null_count() == 0 for form in (one, other)]
        if all(fits):
            both[one] = "dates, day first: month first fits as well, so check which is meant"
    return [*plain, *((f, both.get(f, w)) for f, w in day), *month]


def _as_number(text: polars.Series, decimal: str) -> polars.Series:
    """Return numbers without their blanks, thousands marks and percent or currency signs."""
    import polars

    bare = text.str.replace_all(r"[\s\u00a0\u202f'’%€$£]", "").str.replace(r"^\((.*)\)$", "-$1")
    if decimal == ",":
        grouped = bare.str.contains(r"^[+-]?\d{1,3}(\.\d{3})+(,\d+)?$").fill_null(False)
        bare = polars.select(polars.when(grouped).then(bare.str.replace_all(".", "", literal=True))
                             .otherwise(bare)).to_series().str.replace(",", ".", literal=True)
    else:
        grouped = bare.str.contains(r"^[+-]?\d{1,3}(,\d{3})+(\.\d+)?$").fill_null(False)
        bare = polars.select(polars.when(grouped).then(bare.str.replace_all(",", ""))
                             .otherwise(bare)).to_series()
    return bare.cast(polars.Float64, strict=False).rename(text.name)


def _as_date(text: polars.Series, form: str) -> polars.Series:
    """Return dates, or moments where the form has hours; nothing outside the years that people
    write.
    """
    import polars

    found = text.str.to_datetime(form, strict=False, time_unit="us")
    sensible = found.dt.year().is_between(*_YEARS)
    found = polars.select(polars.when(sensible).then(found).otherwise(None)).to_series()
    return (found if "%H" in form else found.cast(polars.Date)).rename(text.name)
