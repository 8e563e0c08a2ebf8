"""Make a data set out of a table: repaired, split, encoded, checked, and written."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path
from typing import TYPE_CHECKING

import numpy as np
from numpy.typing import NDArray

from axiarch.data.checks import Looked, check
from axiarch.data.columns import choose_targets, look, propose_roles
from axiarch.data.dataset import Dataset, Fold, read_dataset
from axiarch.data.encoding import as_floats, learn_encoding
from axiarch.data.floor import Floor, floor_of
from axiarch.data.plan import DataPlan
from axiarch.data.repair import repairs
from axiarch.data.split import Known, Parts, Rows, bands, fewer, split
from axiarch.data.table import PART, Table, Tell, quiet
from axiarch.data.target import Target, class_numbers, learn_target, settle_task
from axiarch.data.writing import Draft, Encoded
from axiarch.errors import DataError
from axiarch.plain import count, shown

if TYPE_CHECKING:
    import polars

#: Examples kept for people to page through.
EXAMPLES = 240
#: Numbers beyond this are mistakes, or need another unit: single precision ends soon after.
ABSURD = 1e30
#: Words that a column of given parts may hold, and the part each means.
PART_WORDS = {"train": 0, "training": 0, "validation": 1, "valid": 1, "test": 2}


def build_dataset(table: Table, folder: Path, name: str, source: str = "", plan: DataPlan | None = None,
                  how: str = "", best: Floor | None = None, tell: Tell = quiet) -> Dataset:
    """Split, encode, check and write a table; the folder appears whole or not at all.

    Parameters
    ----------
    plan : DataPlan, optional
        The decisions; by default all as proposed.
    how : str, optional
        How the table was read.
    best : Floor, optional
        For generated data, what the rule behind them scores: its noise alone.
    tell : callable, optional
        Takes how far the work is.

    Raises
    ------
    DataError
        If the table cannot be used.
    """
    plan = plan or DataPlan()
    given = table
    if PART in table.columns and not plan.split.part:
        plan = replace(plan, split=replace(plan.split, part=PART))
    tell("looking for numbers and dates stored as text", 0.0)
    changes, words = repairs(table, plan.text)
    table = table.changed(changes)
    names, why = choose_targets(table, plan.targets, (*plan.ignore, plan.split.group, plan.split.part))
    kept = _usable(table, names, plan)
    aims = {n: table.column(n)[kept] for n in names}
    task, because = settle_task(aims, plan.task)
    target = learn_target(task, aims, "none")
    known = _known(table, kept, aims, target, plan)
    folds = [_numbered(fewer(parts, known.strata, plan.rows, plan.split.seed), kept)
             for parts in split(known, plan.split)]
    first = folds[0]
    rows = np.sort(np.concatenate([first.train, first.validation]))
    left = plan.ignore + tuple(n for n in (plan.split.group, plan.split.part) if n and n not in plan.use)
    tell("looking at the columns", 0.0)
    roles = propose_roles(table, rows, names, f"{why}; {because}", left, plan.use)
    roles = {n: (role, f"{reason}; {words[n]}" if n in words else reason) for n, (role, reason) in roles.items()}
    inputs = tuple(n for n, (role, _) in roles.items() if role == "input")
    tell("learning how to encode them", 0.0)
    encodings = [learn_encoding(lambda n, p=parts: table.column(n)[p.train], inputs,  # type: ignore[misc]
                                _scaled(target, table, parts, plan), plan) for parts in folds]
    tell("counting values", 0.0)
    columns = look(table, rows, roles, task != "regression")
    with Draft(folder) as draft:
        written = draft.encode(
            table, [Encoded(e, p.train, p.validation) for e, p in zip(encodings, folds, strict=True)], tell)
        tell("checking", 0.0)
        one = written[0]
        findings = check(Looked(
            table, rows, encodings[0], first.train, first.validation, one.inputs, one.targets,
            tuple(n for n, (_, reason) in roles.items() if reason.startswith("the same in every row"))))
        dataset = Dataset(
            folder=folder, name=name, source=source, how=how, fingerprint="", seed=plan.split.seed, columns=columns,
            folds=tuple(Fold(e, {"train": len(p.train), "validation": len(p.validation)},
                             floor_of(e.target, w.targets["train"], w.targets["validation"]))
                        for e, p, w in zip(encodings, folds, written, strict=True)),
            class_counts=_class_counts(target, table, rows),
            rows={"train": len(first.train), "validation": len(first.validation), "test": len(first.test),
                  "left out": len(kept) - len(first.train) - len(first.validation) - len(first.test)},
            findings=findings, plan=replace(plan, targets=names, task=plan.task), best=best,
        )
        draft.keep(given, first.test, table, first.train[_spread(len(first.train))], tell)
        draft.finish(dataset)
    return read_dataset(folder)


def _spread(rows: int) -> NDArray[np.int64]:
    """Return the places (at most EXAMPLES) of examples among the training rows: spread over the whole part."""
    return np.unique(np.linspace(0, rows - 1, min(rows, EXAMPLES)).astype(np.int64))


def _usable(table: Table, targets: tuple[str, ...], plan: DataPlan) -> Rows:
    """Return the numbers of the rows whose targets are known; raise where a column cannot be taken in."""
    for name in table.columns:
        if name not in plan.ignore:
            _check_numbers(table.column(name))
    gap = np.zeros(table.height, bool)
    for name in targets:
        gap |= table.column(name).is_null().to_numpy()
    return np.flatnonzero(~gap)


def _check_numbers(series: polars.Series) -> None:
    """Raise where a column holds an infinite or absurdly large number: no network can take it in."""
    if not series.dtype.is_float():
        return
    values = as_floats(series)
    bad = np.flatnonzero(np.abs(np.nan_to_num(values, nan=0.0, posinf=np.inf, neginf=-np.inf)) > ABSURD)
    if bad.size:
        found = "an infinite number" if np.isinf(values[bad[0]]) else f"{values[bad[0]]:g}, an absurdly large number"
        raise DataError(f"row {bad[0] + 1} holds {found}", f"column {shown(series.name)!r}",
                        "mend the cell, or ignore the column")


def _known(table: Table, kept: Rows, aims: dict[str, polars.Series], target: Target, plan: DataPlan) -> Known:
    """Return what the rows are split by."""
    if target.task == "regression":
        strata = bands(as_floats(aims[target.columns[0]]))
    else:
        strata = class_numbers(aims[target.columns[0]], target.classes)
        if not plan.split.group and not plan.split.order and not plan.split.part:
            _check_classes(strata, target)
    return Known(strata, target.task != "regression", _groups(table, plan.split.group, kept),
                 _order(table, plan.split.order, kept), _parts(table, plan.split.part, kept))


def _check_classes(labels: NDArray[np.int64], target: Target) -> None:
    counts = np.bincount(labels, minlength=len(target.classes))
    few = [f"{shown(target.classes[i], 30)!r} has only {count(int(counts[i]), 'row')}"
           for i in np.flatnonzero(counts < 3)]
    if few:
        more = f", and {len(few) - 1} more classes have fewer than three" if len(few) > 1 else ""
        raise DataError(f"the class {few[0]}{more}", f"column {shown(target.columns[0])!r}",
                        "every part needs one: drop those rows, pool classes, or give them three rows or more")


def _numbered(parts: Parts, kept: Rows) -> Parts:
    """Return parts of the usable rows as row numbers of the table."""
    return Parts(kept[parts.train], kept[parts.validation], kept[parts.test])


def _scaled(target: Target, table: Table, parts: Parts, plan: DataPlan) -> Target:
    """Return the target with its scale learnt from the training rows; classes stay as they are."""
    if target.task != "regression":
        return target
    return learn_target("regression", {n: table.column(n)[parts.train] for n in target.columns}, plan.target_scaling)


def _class_counts(target: Target, table: Table, rows: Rows) -> tuple[int, ...]:
    if target.task == "regression":
        return ()
    labels = class_numbers(table.column(target.columns[0])[rows], target.classes)
    return tuple(int(n) for n in np.bincount(labels, minlength=len(target.classes)))


def _named(table: Table, name: str) -> polars.Series:
    if name not in table.columns:
        raise DataError(f"there is no column {shown(name)!r} to split by", "split",
                        "columns are " + shown(", ".join(table.columns), 400))
    return table.column(name)


def _groups(table: Table, name: str, kept: Rows) -> NDArray[np.int64] | None:
    """Return a number for each row's group (N,); a gap is a group of its own."""
    if not name:
        return None
    rank = _named(table, name)[kept].rank("dense").fill_null(0).to_numpy().astype(np.int64)
    gaps = np.flatnonzero(rank == 0)
    rank[gaps] = -1 - np.arange(len(gaps))
    return rank


def _order(table: Table, name: str, kept: Rows) -> NDArray[np.float64] | None:
    """Return what puts the rows in order (N,): numbers and dates as they are, text by the alphabet."""
    import polars

    if not name:
        return None
    series = _named(table, name)[kept]
    if series.dtype.is_temporal():
        series = series.cast(polars.Datetime).cast(polars.Int64)
    elif not series.dtype.is_numeric():
        series = series.rank("dense")
    return as_floats(series)


def _parts(table: Table, name: str, kept: Rows) -> NDArray[np.int64] | None:
    """Return the part each row is given to (N,): 0 train, 1 validation, 2 test."""
    import polars

    if not name:
        return None
    words = _named(table, name)[kept].cast(polars.String).str.strip_chars().str.to_lowercase()
    found = words.replace_strict(list(PART_WORDS), list(PART_WORDS.values()), default=-1,
                                 return_dtype=polars.Int64).fill_null(-1).to_numpy()
    if (found < 0).any():
        bad = int(np.flatnonzero(found < 0)[0])
        raise DataError(f"row {int(kept[bad]) + 1} holds {shown(words[bad], 30)!r}, which names no part",
                        f"column {shown(name)!r}", "write train, validation or test into every row")
    return found
