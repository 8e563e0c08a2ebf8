"""Text that is really numbers or dates: found, converted, and said so."""

from __future__ import annotations

from typing import TYPE_CHECKING

from axiarch.data.table import PART, Change, Table
from axiarch.plain import share

if TYPE_CHECKING:
    import polars

#: Share of a column's values that must convert before it is taken for numbers or dates: the rest become gaps.
ENOUGH = 0.95
#: Ways of writing a date that are tried; the day first where it cannot be told otherwise.
DATES = ("%Y-%m-%d", "%Y-%m-%d %H:%M:%S", "%Y-%m-%dT%H:%M:%S", "%Y-%m-%d %H:%M", "%d.%m.%Y", "%d/%m/%Y",
         "%m/%d/%Y", "%d.%m.%Y %H:%M", "%Y/%m/%d")


def repairs(table: Table, keep: tuple[str, ...] = ()) -> tuple[dict[str, Change], dict[str, str]]:
    """Return how columns of text that are numbers or dates are converted, and what that is in words.

    Parameters
    ----------
    keep : tuple of str
        Columns that stay text.
    """
    import polars

    changes: dict[str, Change] = {}
    words: dict[str, str] = {}
    for name, kind in table.schema.items():
        if kind == polars.String and name not in keep and name != PART:
            series = table.column(name)
            counts = series.drop_nulls().value_counts(name="rows")
            for change, what in _CONVERSIONS:
                told = _if_enough(counts[name], counts["rows"], change, what)
                if told:
                    changes[name], words[name] = change, told
                    break
    return changes, words


def _as_number(series: polars.Series) -> polars.Series:
    """Return numbers without their blanks, thousands marks and percent or currency signs."""
    import polars

    bare = series.str.replace_all(r"[\s\u00a0\u202f'’%€$£]", "").str.replace(r"^\((.*)\)$", "-$1")
    thousands = bare.str.contains(r"^[+-]?\d{1,3}(,\d{3})+(\.\d+)?$").fill_null(False)
    bare = polars.select(polars.when(thousands).then(bare.str.replace_all(",", "")).otherwise(bare)).to_series()
    return bare.cast(polars.Float64, strict=False)


def _as_date(form: str) -> Change:
    def change(series: polars.Series) -> polars.Series:
        import polars

        found = series.str.strip_chars().str.to_datetime(form, strict=False)
        return found if "%H" in form else found.cast(polars.Date)

    return change


#: What is tried on a column of text, in this order.
_CONVERSIONS: tuple[tuple[Change, str], ...] = (
    (_as_number, "numbers stored as text"), *((_as_date(form), "dates") for form in DATES))


#: Values that a conversion is tried on before it is tried on all.
TRIED = 500


def _if_enough(values: polars.Series, rows: polars.Series, change: Change, what: str) -> str:
    """Return in words what a conversion does to a column; empty if it loses too much.

    `values` are the different ones, `rows` says how many rows hold each.
    """
    few = values.gather_every(max(values.len() // TRIED, 1))
    if few.len() > TRIED // 2 and change(few).null_count() > few.len() // 2:
        return ""
    present = int(rows.sum())
    converted = int(rows.filter(change(values).is_not_null()).sum())
    if present == 0 or converted < max(ENOUGH * present, 2):
        return ""
    lost = present - converted
    return what + (f"; {share(lost / present)} could not be read and are gaps" if lost else "")
