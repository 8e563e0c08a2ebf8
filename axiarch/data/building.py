"""Make a data set out of a table: repaired, split, encoded, checked, and written."""

from __future__ import annotations

import json
from collections.abc import Callable
from dataclasses import replace
from pathlib import Path
from typing import TYPE_CHECKING

import numpy as np
from numpy.typing import NDArray

from axiarch.data.baseline import Baseline, floor_of
from axiarch.data.checks import ALL_OPEN, check
from axiarch.data.columns import check_names, choose_targets, look, propose_role, propose_roles
from axiarch.data.conversions import Conversion, as_changes, learn_conversions
from axiarch.data.dataset import Dataset, Fold, read_dataset
from axiarch.data.encoding import Encoding, as_floats, learn_encoding
from axiarch.data.findings import CheckInput
from axiarch.data.linear import linear_baseline
from axiarch.data.pictures import PICTURE
from axiarch.data.plan import DataPlan
from axiarch.data.split import Parts, Rows, SplitKeys, bands, fewer, split
from axiarch.data.table import PART, Table, Tell, no_progress
from axiarch.data.target import Target, class_numbers, learn_target, settle_task
from axiarch.data.writing import DatasetWriter, FoldArrays, FoldPlan
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


def build_dataset(table: Table,
                  folder: Path,
                  name: str,
                  source: str = "",
                  plan: DataPlan | None = None,
                  how: str = "",
                  best: Baseline | None = None,
                  on_progress: Tell = no_progress,
                  confirm: Callable[[], None] = lambda: None,
                  rule: str = "") -> Dataset:
    """Split, encode, check and write a table; the folder appears whole or not at all.

    Parameters
    ----------
    plan : DataPlan, optional
        The decisions; by default all as proposed.
    how : str, optional
        How the table was read.
    best : Baseline, optional
        For generated data, what the rule behind them scores: its noise alone.
    on_progress : callable, optional
        Takes how far the work is.
    confirm : callable, optional
        Called before the data set appears; may raise to leave everything as it was.
    rule : str, optional
        For generated data, the name of the rule in :mod:`axiarch.data.rules`.

    Raises
    ------
    DataError
        If the table cannot be used.
    """
    plan = plan or DataPlan()
    given = table
    if PART in table.columns and not plan.split.part:
        plan = replace(plan, split=replace(plan.split, part=PART))
    on_progress("looking for what is predicted", 0.0)
    check_names(table, (*plan.text, *plan.numbers, *(name for name, _ in plan.columns)))
    known = _Known(table, plan)
    names, why = choose_targets(known, plan.targets,
                                (*plan.ignore, plan.split.group, plan.split.part))
    if plan.pictures:
        table = with_pictures(table, plan, names)
        known = _Known(table, plan)
    kept = known.present(names)
    aims = {n: known.column(n)[kept] for n in names}
    task, because = settle_task(aims, plan.task)
    target = learn_target(task, aims, "none")
    on_progress("splitting the rows", 0.0)
    keys = _split_keys(known, kept, aims, target, plan)
    folds = [_numbered(fewer(parts, keys.strata, plan.rows, plan.split.seed), kept)
             for parts in split(keys, plan.split)]
    first = folds[0]
    rows = np.union1d(first.train, first.validation)
    on_progress("looking for numbers, dates and missing values", 0.0)
    others = tuple(n for n in table.columns if n not in known.settled)
    conversions = known.settled | learn_conversions(
        table, plan, others, table.taken(first.train))
    table = table.changed(as_changes(conversions))
    _check_numbers(table, plan)
    left = plan.ignore + tuple(
        n for n in (plan.split.group, plan.split.part) if n and n not in plan.use)
    on_progress("looking at the columns", 0.0)
    roles = propose_roles(table, rows, names, f"{why}; {because}", left, plan.use, on_progress)
    words = {n: c.words for n, c in conversions.items() if c.words}
    roles = {n: (role, f"{reason}; {words[n]}" if n in words else reason)
             for n, (role, reason) in roles.items()}
    inputs = tuple(n for n, (role, _) in roles.items() if role == "input")
    on_progress("learning how to encode them", 0.0)
    encodings = [learn_encoding(table.taken(parts.train), inputs,
                                _scaled(target, table, parts, plan), plan) for parts in folds]
    columns = look(table, rows, roles, task != "regression", on_progress)
    with DatasetWriter(folder) as draft:
        written = draft.encode(table, [FoldPlan(e, p.train, p.validation)
                                       for e, p in zip(encodings, folds, strict=True)], on_progress)
        made = []
        for i, (own, parts, arrays) in enumerate(zip(encodings, folds, written, strict=True)):
            on_progress("fitting a linear model", i / len(folds))
            made.append(_fold(own, parts, arrays))
        on_progress("checking", 0.0)
        findings = (ALL_OPEN, ) if plan.split.all_open else check(
            CheckInput(
                table,
                rows,
                encodings[0],
                first.train,
                first.validation,
                written[0].inputs,
                written[0].targets,
                made[0].linear,
                made[0].baseline.loss,
                tuple(n for n, (_, reason) in roles.items()
                      if reason.startswith("the same in every row")),
                split_by_chance=not (plan.split.group or plan.split.order or plan.split.part),
                conversions=conversions))
        dataset = Dataset(
            folder=folder, name=name, source=source, how=how, fingerprint="", seed=plan.split.seed,
            columns=columns, folds=tuple(made), class_counts=_class_counts(target, table, rows),
            rows={"train": len(first.train), "validation": len(first.validation),
                  "test": len(first.test),
                  "left out": len(kept) - len(rows) - len(first.test),
                  "without target": table.height - len(kept)},
            findings=findings, plan=replace(plan, targets=names, task=plan.task), best=best,
            conversions=tuple(conversions.values()), decimal=given.decimal,
            table=_same_table(given, names), rule=rule,
        )
        draft.keep(given, first.test, table, first.train[_spread(len(first.train))], on_progress)
        confirm()
        draft.finish(dataset)
    return read_dataset(folder)


def _same_table(given: Table, targets: tuple[str, ...]) -> str:
    """Return digits that follow from the targets of all rows alone, as they were read."""
    import polars
    import xxhash

    digest = xxhash.xxh3_64(json.dumps(targets).encode())
    for name in targets:
        texts = given.column(name).cast(polars.String).fill_null("\0")
        digest.update("\n".join(texts.to_list()).encode())
    return digest.hexdigest()


def _fold(encoding: Encoding, parts: Parts, written: FoldArrays) -> Fold:
    """Return what is known of a fold, with what it must beat."""
    train, validation = ((written.inputs[p], written.targets[p]) for p in ("train", "validation"))
    return Fold(encoding, {"train": len(parts.train), "validation": len(parts.validation)},
                floor_of(encoding.target, train[1], validation[1]),
                linear_baseline(encoding.target, train, validation))


class _Known:
    """Columns that are read before there are training rows: targets, and those rows are split by.

    Their conversions are learnt from all rows; a column is looked at only when it is asked for.
    """

    def __init__(self, table: Table, plan: DataPlan) -> None:
        self._table, self._plan = table, plan
        self.settled: dict[str, Conversion] = {}
        self.columns, self.height = table.columns, table.height

    def column(self, name: str) -> polars.Series:
        """Return a column (N,) as it is read."""
        series = self._table.column(name)
        found = learn_conversions(self._table, self._plan, (name,), lambda _: series)
        self._tried = found[name]
        return found[name](series)

    def settle(self, name: str) -> polars.Series:
        """Return a column, and keep how it is read."""
        series = self.column(name)
        self.settled[name] = self._tried
        return series

    def present(self, names: tuple[str, ...]) -> Rows:
        """Return the numbers of the rows in which no target is missing."""
        gap = np.zeros(self.height, bool)
        for name in names:
            gap |= self.settle(name).is_null().to_numpy()
        return np.flatnonzero(~gap)


def with_pictures(table: Table, plan: DataPlan, targets: tuple[str, ...]) -> Table:
    """Return a table whose columns of pixels have become one column of pictures.

    Raises
    ------
    DataError
        If there are not as many columns of numbers as a picture has pixels.
    """
    import polars

    height, width, channels = plan.pixels()
    apart = {*targets, *plan.ignore, plan.split.group, plan.split.order, plan.split.part, PART}
    pixels = [n for n in table.columns if n not in apart]
    wanted = height * width * channels
    if len(pixels) != wanted:
        raise DataError(
            f"{count(len(pixels), 'column')} cannot be pictures of {shown(plan.pictures)}, "
            f"which have {wanted} pixels", "pictures",
            "name the target and ignore every column that is no pixel")
    odd = next((n for n in pixels if not table.schema[n].is_numeric()), None)
    if odd is not None:
        raise DataError("it does not hold numbers, so it cannot be a pixel",
                        f"column {shown(odd)!r}", "fix the cells, or ignore the column")
    joined = polars.concat_arr([polars.col(n).cast(polars.Float32).fill_null(0) for n in pixels])
    shaped = joined.reshape((-1, height, width, channels)).alias(PICTURE)
    rest = [n for n in table.columns if n in apart]
    return replace(Table.scan(table.source.lazy().select([shaped, *rest])), decimal=table.decimal)


def _spread(rows: int) -> NDArray[np.int64]:
    """Return the places (at most EXAMPLES) of examples among the training rows: spread over the
    whole part.
    """
    return np.unique(np.linspace(0, rows - 1, min(rows, EXAMPLES)).astype(np.int64))


def _check_numbers(table: Table, plan: DataPlan) -> None:
    """Raise where a column holds an infinite or absurdly large number: no network can take it
    in.
    """
    for name, kind in table.schema.items():
        if name in plan.ignore or not kind.is_float():
            continue
        values = as_floats(table.column(name))
        bad = np.flatnonzero(
            np.abs(np.nan_to_num(values, nan=0.0, posinf=np.inf, neginf=-np.inf)) > ABSURD)
        if bad.size:
            found = "an infinite number" if np.isinf(values[bad[0]]) else (
                f"{values[bad[0]]:g}, an absurdly large number")
            raise DataError(f"row {bad[0] + 1} holds {found}", f"column {shown(name)!r}",
                            "fix the cell, or ignore the column")


def _split_keys(table: _Known, kept: Rows, aims: dict[str, polars.Series], target: Target,
                plan: DataPlan) -> SplitKeys:
    """Return what the rows are split by."""
    if target.task == "regression":
        strata = bands(as_floats(aims[target.columns[0]]))
    else:
        strata = class_numbers(aims[target.columns[0]], target.classes)
        if not (plan.split.group or plan.split.order or plan.split.part or plan.split.equal_rows):
            _check_classes(strata, target)
    groups = _equal_rows(table, kept, target, plan) if plan.split.equal_rows else (
        _groups(table, plan.split.group, kept))
    return SplitKeys(strata, target.task != "regression", groups,
                 _order(table, plan.split.order, kept), _parts(table, plan.split.part, kept))


def _check_classes(labels: NDArray[np.int64], target: Target) -> None:
    counts = np.bincount(labels, minlength=len(target.classes))
    few = [f"{shown(target.classes[i], 30)!r} has only {count(int(counts[i]), 'row')}"
           for i in np.flatnonzero(counts < 3)]
    if few:
        more = f", and {len(few) - 1} more classes have fewer than three" if len(few) > 1 else ""
        raise DataError(
            f"the class {few[0]}{more}", f"column {shown(target.columns[0])!r}",
            "every part needs one: drop those rows, pool classes, or give them three rows or more")


def _numbered(parts: Parts, kept: Rows) -> Parts:
    """Return parts of the usable rows as row numbers of the table."""
    return Parts(kept[parts.train], kept[parts.validation], kept[parts.test])


def _scaled(target: Target, table: Table, parts: Parts, plan: DataPlan) -> Target:
    """Return the target with its scale learnt from the training rows; classes stay as they are."""
    if target.task != "regression":
        return target
    return learn_target("regression", {n: table.column(n)[parts.train] for n in target.columns},
                        plan.target_scaling)


def _class_counts(target: Target, table: Table, rows: Rows) -> tuple[int, ...]:
    if target.task == "regression":
        return ()
    labels = class_numbers(table.column(target.columns[0])[rows], target.classes)
    return tuple(int(n) for n in np.bincount(labels, minlength=len(target.classes)))


def _named(table: _Known, name: str) -> polars.Series:
    if name not in table.columns:
        raise DataError(f"there is no column {shown(name)!r} to split by", "split",
                        "columns are " + shown(", ".join(table.columns), 400))
    return table.settle(name)


def _equal_rows(table: _Known, kept: Rows, target: Target, plan: DataPlan) -> NDArray[np.int64]:
    """Return a number for each row (N,) that rows with the same inputs share."""
    import polars

    names = [n for n in table.columns if n not in (*target.columns, *plan.ignore, PART)]
    series = {n: table.column(n)[kept] for n in names}
    inputs = [s for s in series.values()
              if s.name in plan.use or propose_role(s.drop_nulls(), len(kept))[0] == "input"]
    if not inputs:
        raise DataError("no column is left to learn from", "", "ignore fewer columns")
    hashes = polars.DataFrame([s if not isinstance(s.dtype, polars.Array) else
                               polars.Series(s.name, [v.tobytes() for v in s.to_numpy()])
                               for s in inputs]).hash_rows(seed=1)
    return hashes.rank("dense").to_numpy().astype(np.int64)


def _groups(table: _Known, name: str, kept: Rows) -> NDArray[np.int64] | None:
    """Return a number for each row's group (N,); a gap is a group of its own."""
    if not name:
        return None
    rank = _named(table, name)[kept].rank("dense").fill_null(0).to_numpy().astype(np.int64)
    gaps = np.flatnonzero(rank == 0)
    rank[gaps] = -1 - np.arange(len(gaps))
    return rank


def _order(table: _Known, name: str, kept: Rows) -> NDArray[np.float64] | None:
    """Return what puts the rows in order (N,): numbers and dates as they are, text by the
    alphabet.
    """
    import polars

    if not name:
        return None
    series = _named(table, name)[kept]
    if series.dtype.is_temporal():
        series = series.cast(polars.Datetime).cast(polars.Int64)
    elif not series.dtype.is_numeric():
        series = series.rank("dense")
    return as_floats(series)


def _parts(table: _Known, name: str, kept: Rows) -> NDArray[np.int64] | None:
    """Return the part each row is given to (N,): 0 train, 1 validation, 2 test."""
    import polars

    if not name:
        return None
    words = _named(table, name)[kept].cast(polars.String).str.strip_chars().str.to_lowercase()
    found = words.replace_strict(list(PART_WORDS), list(PART_WORDS.values()), default=-1,
                                 return_dtype=polars.Int64).fill_null(-1).to_numpy()
    if (found < 0).any():
        bad = int(np.flatnonzero(found < 0)[0])
        raise DataError(
            f"row {int(kept[bad]) + 1} holds {shown(words[bad], 30)!r}, which is not the name of "
            "a part",
            f"column {shown(name)!r}", "write train, validation or test into every row")
    return found
