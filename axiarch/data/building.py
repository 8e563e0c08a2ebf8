"""Make a data set out of a table: repaired, split, encoded, checked, and written."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path
from typing import TYPE_CHECKING

import numpy as np
from numpy.typing import NDArray

from axiarch.data.checks import Looked, check
from axiarch.data.columns import choose_target, look, propose_roles
from axiarch.data.dataset import Dataset, write_dataset
from axiarch.data.encoding import learn_encoding
from axiarch.data.floor import class_floor
from axiarch.data.plan import DataPlan
from axiarch.data.repair import repaired
from axiarch.data.split import fewer, split
from axiarch.errors import DataError
from axiarch.plain import shown

if TYPE_CHECKING:
    import polars

#: Examples kept for people to look at.
EXAMPLES = 8


def build_dataset(frame: polars.DataFrame, folder: Path, name: str, source: str = "", plan: DataPlan | None = None,
                  how: str = "") -> Dataset:
    """Split, encode, check and write a table; the folder appears whole or not at all.

    Parameters
    ----------
    plan : DataPlan, optional
        The decisions; by default all as proposed.
    how : str, optional
        How the table was read.

    Raises
    ------
    DataError
        If the table cannot be used.
    """
    plan = plan or DataPlan()
    table = frame
    frame, repairs = repaired(frame, plan.text)
    aim, why = choose_target(frame, plan.target)
    _check_finite(frame, plan.ignore)
    frame = frame.drop_nulls(subset=[aim])
    labels, classes = _labels(frame, aim)
    parts = split(labels, plan.split, _groups(frame, plan.split.group), _order(frame, plan.split.order))
    all_train = len(parts.train)
    parts = fewer(parts, labels, plan.rows, plan.split.seed)
    train, validation = frame[parts.train], frame[parts.validation]
    open_rows = np.sort(np.concatenate([parts.train, parts.validation]))
    left_out = (*plan.ignore, *((plan.split.group,) if plan.split.group and plan.split.group not in plan.use else ()))
    roles = propose_roles(frame[open_rows], aim, why, left_out, plan.use)
    roles = {name: (role, f"{reason}; {repairs[name]}" if name in repairs else reason)
             for name, (role, reason) in roles.items()}
    encoding = learn_encoding(train, roles, classes, plan)
    dataset = Dataset(
        folder=folder, name=name, source=source, how=how, fingerprint="", seed=plan.split.seed,
        columns=look(frame[open_rows], roles), encoding=encoding,
        class_counts=tuple(int(n) for n in np.bincount(labels[open_rows], minlength=len(classes))),
        rows={"train": len(parts.train), "validation": len(parts.validation), "test": len(parts.test),
              "left out": all_train - len(parts.train)},
        floor=class_floor(encoding.labels(train), encoding.labels(validation), len(classes)),
        findings=check(Looked(encoding, encoding.encode(train), encoding.encode(validation),
                              encoding.labels(validation), frame[open_rows], labels[open_rows].astype(np.int32))),
        examples=tuple(tuple("" if v is None else str(v) for v in row)
                       for row in frame[parts.train[:EXAMPLES]].iter_rows()),
        plan=replace(plan, target=aim),
    )
    return write_dataset(dataset, {"train": train, "validation": validation, "sealed/test": frame[parts.test]}, table)


def _labels(frame: polars.DataFrame, aim: str) -> tuple[NDArray[np.int64], list[str]]:
    """Return the class numbers (N,) of the target, and the classes in order."""
    where = f"column {shown(aim)!r}"
    texts = [str(v) for v in frame[aim]]
    if not texts:
        raise DataError("the target has no value in any row", where, "choose another target")
    classes = sorted(set(texts))
    if len(classes) < 2:
        raise DataError("the target is the same in every row", where, "choose another target")
    if len(classes) > len(texts) // 3:
        raise DataError(f"the target has {len(classes)} different values in {len(texts)} rows", where,
                        "choose a column of classes")
    number = {text: i for i, text in enumerate(classes)}
    return np.array([number[t] for t in texts], dtype=np.int64), classes


def _named(frame: polars.DataFrame, name: str) -> polars.Series:
    if name not in frame.columns:
        raise DataError(f"there is no column {shown(name)!r} to split by", "split",
                        "columns are " + shown(", ".join(frame.columns), 400))
    return frame[name]


def _groups(frame: polars.DataFrame, name: str) -> NDArray[np.int64] | None:
    """Return a number for each row's group (N,); a gap is a group of its own."""
    if not name:
        return None
    texts = np.array([f"gap {i}" if v is None else f"= {v}" for i, v in enumerate(_named(frame, name))])
    return np.unique(texts, return_inverse=True)[1].astype(np.int64)


def _order(frame: polars.DataFrame, name: str) -> NDArray[np.float64] | None:
    """Return what puts the rows in order (N,): numbers and dates as they are, text by the alphabet."""
    import polars

    if not name:
        return None
    series = _named(frame, name)
    if series.dtype.is_temporal():
        series = series.cast(polars.Datetime).cast(polars.Int64)
    elif not series.dtype.is_numeric():
        series = series.rank("dense")
    return series.cast(polars.Float64).fill_null(float("nan")).to_numpy().astype(np.float64)


def _check_finite(frame: polars.DataFrame, ignore: tuple[str, ...]) -> None:
    """Raise where a column holds an infinite number: no network can take it in."""
    for series in frame:
        if series.name in ignore or not series.dtype.is_float():
            continue
        bad = np.flatnonzero(np.isinf(series.to_numpy()))
        if bad.size:
            raise DataError(f"row {bad[0] + 1} holds an infinite number", f"column {shown(series.name)!r}",
                            "mend the cell, or ignore the column")
