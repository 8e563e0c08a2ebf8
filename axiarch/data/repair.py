"""Text that is really numbers or dates: found, converted, and said so."""

from __future__ import annotations

from typing import TYPE_CHECKING

from axiarch.plain import share

if TYPE_CHECKING:
    import polars

#: Share of a column's values that must convert before it is taken for numbers or dates: the rest become gaps.
ENOUGH = 0.95
#: Ways of writing a date that are tried; the day first where it cannot be told otherwise.
DATES = ("%Y-%m-%d", "%Y-%m-%d %H:%M:%S", "%Y-%m-%dT%H:%M:%S", "%Y-%m-%d %H:%M", "%d.%m.%Y", "%d/%m/%Y",
         "%m/%d/%Y", "%d.%m.%Y %H:%M", "%Y/%m/%d")


def repaired(frame: polars.DataFrame, keep: tuple[str, ...] = ()) -> tuple[polars.DataFrame, dict[str, str]]:
    """Return the table with text that is numbers or dates converted, and what was done to which column.

    Parameters
    ----------
    keep : tuple of str
        Columns that stay text.
    """
    import polars

    done: dict[str, str] = {}
    columns = []
    for series in frame:
        if series.dtype == polars.String and series.name not in keep:
            series, what = _as_number(series)
            if not what:
                series, what = _as_date(series)
            if what:
                done[series.name] = what
        columns.append(series)
    return polars.DataFrame(columns), done


def _as_number(series: polars.Series) -> tuple[polars.Series, str]:
    """Return numbers without their blanks, thousands marks and percent or currency signs."""
    import polars

    bare = series.str.replace_all(r"[\s\u00a0\u202f'’%€$£]", "").str.replace(r"^\((.*)\)$", "-$1")
    thousands = bare.str.contains(r"^[+-]?\d{1,3}(,\d{3})+(\.\d+)?$").fill_null(False)
    bare = polars.select(polars.when(thousands).then(bare.str.replace_all(",", "")).otherwise(bare)).to_series()
    found = bare.cast(polars.Float64, strict=False).alias(series.name)
    return _if_enough(series, found, "numbers stored as text")


def _as_date(series: polars.Series) -> tuple[polars.Series, str]:
    import polars

    for form in DATES:
        found = series.str.strip_chars().str.to_datetime(form, strict=False)
        kept, what = _if_enough(series, found, "dates")
        if what:
            days_alone = kept.drop_nulls().dt.time().n_unique() == 1 and "%H" not in form
            return kept.cast(polars.Date) if days_alone else kept, what
    return series, ""


def _if_enough(series: polars.Series, found: polars.Series, what: str) -> tuple[polars.Series, str]:
    present = series.len() - series.null_count()
    converted = found.len() - found.null_count()
    if present == 0 or converted < max(ENOUGH * present, 2):
        return series, ""
    lost = present - converted
    return found, what + (f"; {share(lost / present)} could not be read and are gaps" if lost else "")
