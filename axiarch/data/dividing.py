"""Divide the rows of a table: read the columns that they are split by, and number the parts."""

from __future__ import annotations

from dataclasses import replace
from typing import TYPE_CHECKING

import numpy as np
from numpy.typing import NDArray

from axiarch.data.aim import Aim
from axiarch.data.columns import propose_role
from axiarch.data.encoding import as_floats
from axiarch.data.findings import option
from axiarch.data.plan import DataPlan
from axiarch.data.split import Parts, Rows, SplitKeys, bands, fewer, split
from axiarch.data.table import PART, Table
from axiarch.data.target import FEWEST_ROWS, Target, class_numbers
from axiarch.errors import DataError
from axiarch.text import count, shown

if TYPE_CHECKING:
    import polars

#: Words that a column of given parts may hold, and the part each means.
PART_WORDS = {"train": 0, "training": 0, "validation": 1, "valid": 1, "test": 2}


def with_given_parts(plan: DataPlan, table: Table) -> DataPlan:
    """Return the plan, split as the table says where it came in parts."""
    if PART not in table.columns or plan.split.part:
        return plan
    return replace(plan, split=replace(plan.split, part=PART))


def divide(aim: Aim, plan: DataPlan) -> tuple[Parts, ...]:
    """Return the parts of every fold as row numbers of the table.

    Raises
    ------
    DataError
        If the rows cannot be split as planned.
    """
    keys = _split_keys(aim, plan)
    folds = [fewer(parts, keys.strata, plan.rows, plan.split.seed)
             for parts in split(keys, plan.split)]
    if keys.classes:
        for parts in folds:
            _check_trained(keys.strata, parts.train, aim.target)
    kept = aim.kept
    return tuple(Parts(kept[p.train], kept[p.validation], kept[p.test]) for p in folds)


def _split_keys(aim: Aim, plan: DataPlan) -> SplitKeys:
    """Return what the rows are split by."""
    by, target = plan.split, aim.target
    labels = aim.columns[target.columns[0]]
    classes = target.task != "regression"
    strata = class_numbers(labels, target.classes) if classes else bands(as_floats(labels))
    if classes and not (by.group or by.order or by.part or by.equal_rows):
        _check_classes(strata, target)
    groups = _equal_rows(aim, plan) if by.equal_rows else _groups(aim, by.group)
    return SplitKeys(strata, classes, groups, _order(aim, by.order), _parts(aim, by.part))


def _check_classes(labels: NDArray[np.int64], target: Target) -> None:
    counts = np.bincount(labels, minlength=len(target.classes))
    few = [f"{shown(target.classes[i], 30)!r} has only {count(int(counts[i]), 'row')}"
           for i in np.flatnonzero(counts < FEWEST_ROWS)]
    if few:
        more = f", and {len(few) - 1} more classes have fewer than three" if len(few) > 1 else ""
        raise DataError(
            f"the class {few[0]}{more}", f"column {shown(target.columns[0])!r}",
            "every part needs one: drop those rows, pool classes, or give them three rows or more")


def _check_trained(labels: NDArray[np.int64], train: Rows, target: Target) -> None:
    """Refuse parts that leave a class without a training row: it could not be learnt, and no share
    of the training rows says how likely it is.
    """
    missing = np.setdiff1d(labels, labels[train])
    if not missing.size:
        return
    name, classes = target.columns[0], [target.classes[i] for i in missing]
    others = len(classes) - 1
    more = f", nor {'has' if others == 1 else 'have'} {count(others, 'other')}" if others else ""
    options = [option("missing", name, f"={each}").removeprefix(", or ") if "=" not in each else ""
               for each in classes]  # the last = ends the column's name
    out = f", or leave these rows out: {' '.join(options)}" if all(options) else ""
    raise DataError(f"the class {shown(classes[0], 30)!r} has no training row{more}",
                    f"column {shown(name)!r}",
                    f"split another way, use more training rows{out}")


def _named(aim: Aim, name: str) -> polars.Series:
    """Return the usable rows (N,) of a column that rows are split by."""
    if name not in aim.table.columns:
        raise DataError(f"there is no column {shown(name)!r} to split by", "split",
                        "columns are " + shown(", ".join(aim.table.columns), 400))
    return aim.early.settle(name)[aim.kept]


def _equal_rows(aim: Aim, plan: DataPlan) -> NDArray[np.int64]:
    """Return a number for each row (N,) that rows with the same inputs share."""
    import polars

    apart = {*aim.names, *plan.ignore, PART}
    series = [aim.early.column(n)[aim.kept] for n in aim.table.columns if n not in apart]
    inputs = [s for s in series if s.name in plan.use
              or propose_role(s.drop_nulls(), len(aim.kept))[0] == "input"]
    if not inputs:
        raise DataError("no column is left to learn from", "", "ignore fewer columns")
    hashes = polars.DataFrame([_hashable(s) for s in inputs]).hash_rows(seed=1)
    return hashes.rank("dense").to_numpy().astype(np.int64)


def _hashable(series: polars.Series) -> polars.Series:
    """Return a column (N,), pictures as their bytes."""
    import polars

    if not isinstance(series.dtype, polars.Array):
        return series
    return polars.Series(series.name, [picture.tobytes() for picture in series.to_numpy()])


def _groups(aim: Aim, name: str) -> NDArray[np.int64] | None:
    """Return a number for each row's group (N,); a missing value is a group of its own."""
    if not name:
        return None
    rank = _named(aim, name).rank("dense").fill_null(0).to_numpy().astype(np.int64)
    missing = np.flatnonzero(rank == 0)
    rank[missing] = -1 - np.arange(len(missing))
    return rank


def _order(aim: Aim, name: str) -> NDArray[np.float64] | None:
    """Return what puts the rows in order (N,): numbers and dates as they are, text by the
    alphabet.
    """
    import polars

    if not name:
        return None
    series = _named(aim, name)
    if series.dtype.is_temporal():
        series = series.cast(polars.Datetime).cast(polars.Int64)
    elif not series.dtype.is_numeric():
        series = series.rank("dense")
    return as_floats(series)


def _parts(aim: Aim, name: str) -> NDArray[np.int64] | None:
    """Return the part each row is given to (N,): 0 train, 1 validation, 2 test."""
    import polars

    if not name:
        return None
    words = _named(aim, name).cast(polars.String).str.strip_chars().str.to_lowercase()
    found = words.replace_strict(list(PART_WORDS), list(PART_WORDS.values()), default=-1,
                                 return_dtype=polars.Int64).fill_null(-1).to_numpy()
    if (found < 0).any():
        bad: Rows = np.flatnonzero(found < 0)
        row = int(aim.kept[bad[0]]) + 1
        raise DataError(
            f"row {row} holds {shown(words[int(bad[0])], 30)!r}, which is not the name of a part",
            f"column {shown(name)!r}", "write train, validation or test into every row")
    return found
