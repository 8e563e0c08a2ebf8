"""Turn columns of numbers, the pixels of a picture a row, into one column of pictures."""

from __future__ import annotations

import math
from dataclasses import replace

from axiarch.data.pictures import PICTURE
from axiarch.data.plan import DataPlan
from axiarch.data.table import PART, Table
from axiarch.errors import DataError
from axiarch.text import count, shown


def with_pictures(table: Table, plan: DataPlan, targets: tuple[str, ...]) -> Table:
    """Return a table whose columns of pixels have become one column of pictures.

    Every column is a pixel except the targets, ignored columns, and those that rows are split by.

    Raises
    ------
    DataError
        If there are not as many columns of numbers as a picture has pixels.
    """
    import polars

    height, width, channels = plan.pixels()
    split = plan.split
    apart = {*targets, *plan.ignore, split.group, split.order, split.part, PART}
    pixels = [name for name in table.columns if name not in apart]
    _check_pixels(table, plan, pixels)
    joined = polars.concat_arr([polars.col(n).cast(polars.Float32).fill_null(0) for n in pixels])
    shaped = joined.reshape((-1, height, width, channels)).alias(PICTURE)
    rest = [name for name in table.columns if name in apart]
    pictures = Table.scan(table.source.lazy().select([shaped, *rest]))
    return replace(pictures, decimal=table.decimal)


def _check_pixels(table: Table, plan: DataPlan, pixels: list[str]) -> None:
    wanted = math.prod(plan.pixels())
    if len(pixels) != wanted:
        raise DataError(
            f"{count(len(pixels), 'column')} cannot be pictures of {shown(plan.pictures)}, "
            f"which have {wanted} pixels", "pictures",
            "name the target and ignore every column that is no pixel")
    odd = next((n for n in pixels if not table.schema[n].is_numeric()), None)
    if odd is not None:
        raise DataError("it does not hold numbers, so it cannot be a pixel",
                        f"column {shown(odd)!r}", "fix the cells, or ignore the column")
