"""Make a data set out of a table, in one direction: find what is predicted, divide the rows,
convert the columns, give them roles, learn encodings, write, check.
"""

from __future__ import annotations

import json
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, replace
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from axiarch.data.aim import Aim, find_aim
from axiarch.data.baseline import Baseline, baseline_of, baseline_rows, rescored
from axiarch.data.checks import ALL_OPEN, check
from axiarch.data.checksums import row_hashes
from axiarch.data.columns import Role, check_names, propose_roles, summarise
from axiarch.data.conversions import Conversion, as_changes, learn_conversions
from axiarch.data.dataset import Dataset, Fold
from axiarch.data.describing import read_dataset
from axiarch.data.dividing import divide, with_given_parts
from axiarch.data.encoding import Encoding, as_floats, learn_encoding
from axiarch.data.findings import CheckInput, Finding
from axiarch.data.linear import fit_linear
from axiarch.data.plan import DataPlan
from axiarch.data.split import Parts, Rows
from axiarch.data.table import Table, Tell, no_progress
from axiarch.data.target import Target, class_numbers, learn_target, measured_by
from axiarch.data.writing import DatasetWriter, FoldArrays, FoldPlan
from axiarch.errors import DataError
from axiarch.runs.rows import kept_rows
from axiarch.text import shown

#: Examples kept for people to page through.
EXAMPLES = 240
#: Numbers beyond this are mistakes, or need another unit: single precision ends soon after.
ABSURD = 1e30


@dataclass(frozen=True)
class Origin:
    """Where a data set comes from, besides its table.

    Attributes
    ----------
    source, how : str
        The file, and how it was read.
    noise_floor : Baseline or None
        For generated data, what the rule behind them scores: its noise alone, by the loss.
    rule : str
        For generated data, the name of the rule in :mod:`axiarch.data.rules`.
    """

    source: str = ""
    how: str = ""
    noise_floor: Baseline | None = None
    rule: str = ""


def build_dataset(table: Table,
                  folder: Path,
                  name: str,
                  plan: DataPlan | None = None,
                  origin: Origin | None = None,
                  on_progress: Tell = no_progress,
                  confirm: Callable[[], None] = lambda: None) -> Dataset:
    """Split, encode, check and write a table; the folder appears whole or not at all.

    Parameters
    ----------
    plan : DataPlan, optional
        The decisions; by default all as proposed.
    on_progress : callable, optional
        Takes how far the work is.
    confirm : callable, optional
        Called before the data set appears; may raise to leave everything as it was.

    Raises
    ------
    DataError
        If the table cannot be used.
    """
    plan = with_given_parts(plan or DataPlan(), table)
    on_progress("looking for what is predicted", 0.0)
    check_names(table, (*plan.text, *plan.numbers, *(name for name, _ in plan.columns)))
    aim = find_aim(table, plan)
    on_progress("splitting the rows", 0.0)
    division = divide(aim, plan)
    on_progress("looking for numbers, dates and missing values", 0.0)
    conversions = _conversions(aim, division[0].train, plan)
    converted = aim.table.changed(as_changes(conversions))
    _check_numbers(converted, plan)
    on_progress("looking at the columns", 0.0)
    open_rows = np.union1d(division[0].train, division[0].validation)
    roles = _roles(converted, open_rows, aim, plan, conversions, on_progress)
    on_progress("learning how to encode them", 0.0)
    encodings = [_encoding(converted, parts.train, roles, aim.target, plan) for parts in division]
    columns = summarise(converted, open_rows, roles, aim.target.task != "regression", on_progress)
    with DatasetWriter(folder) as draft:
        plans = [FoldPlan(encoding, parts.train, parts.validation)
                 for encoding, parts in zip(encodings, division, strict=True)]
        written = draft.encode(converted, plans, on_progress)
        folds = []
        for i, (encoding, arrays) in enumerate(zip(encodings, written, strict=True)):
            on_progress("fitting a linear model", i / len(plans))
            fold, reference = _fold(encoding, arrays)
            folds.append(fold)
            draft.keep_reference(i, reference)
        on_progress("checking", 0.0)
        findings = _findings(converted, division, folds[0], written[0], roles, plan, conversions)
        origin = origin or Origin()
        dataset = Dataset(
            folder=folder, name=name, source=origin.source, how=origin.how, fingerprint="",
            seed=plan.split.seed, columns=columns, folds=tuple(folds),
            class_counts=_class_counts(aim.target, converted, open_rows),
            rows=_row_counts(aim, division[0], open_rows), findings=findings,
            plan=replace(plan, targets=aim.names, task=plan.task),
            noise_by_loss=origin.noise_floor,
            conversions=tuple(conversions.values()), decimal=table.decimal,
            table=_same_table(table, aim.names), rule=origin.rule)
        examples = division[0].train[_spread(len(division[0].train))]
        draft.keep(table, division[0].test, converted, examples, on_progress)
        confirm()
        draft.finish(dataset)
    return read_dataset(folder)


def _conversions(aim: Aim, train: Rows, plan: DataPlan) -> dict[str, Conversion]:
    """Return how every column is read: learnt from the training rows where it was not before."""
    others = tuple(name for name in aim.table.columns if name not in aim.early.settled)
    learnt = learn_conversions(aim.table, plan, others, aim.table.taken(train))
    return aim.early.settled | learnt


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


def _roles(table: Table, rows: Rows, aim: Aim, plan: DataPlan,
           conversions: Mapping[str, Conversion],
           on_progress: Tell) -> dict[str, tuple[Role, str]]:
    """Return the role of every column and its reason, with how the column is read."""
    by = (plan.split.group, plan.split.part)
    left = plan.ignore + tuple(name for name in by if name and name not in plan.use)
    roles = propose_roles(table, rows, aim.names, aim.reason, left, plan.use, on_progress)
    words = {name: each.words for name, each in conversions.items() if each.words}
    return {name: (role, f"{reason}; {words[name]}" if name in words else reason)
            for name, (role, reason) in roles.items()}


def _encoding(table: Table, train: Rows, roles: Mapping[str, tuple[Role, str]], target: Target,
              plan: DataPlan) -> Encoding:
    """Return how a fold is encoded, learnt from its training rows; so is the scale of amounts."""
    inputs = tuple(name for name, (role, _) in roles.items() if role == "input")
    if target.task == "regression":
        amounts = {name: table.column(name)[train] for name in target.columns}
        learnt = learn_target("regression", amounts, plan.target_scaling)
        target = measured_by(learnt, plan.ranked_by)
    return learn_encoding(table.taken(train), inputs, target, plan)


def _fold(encoding: Encoding, arrays: FoldArrays) -> tuple[Fold, NDArray[np.float32]]:
    """Return what is known of a fold, with the baselines that it must beat, and their losses on
    validation rows (3, n), the last line being which rows stand in the training part too.
    """
    train, validation = ((arrays.inputs[p], arrays.targets[p]) for p in ("train", "validation"))
    target, rows = encoding.target, kept_rows(len(validation[1]))
    linear, predicted = fit_linear(target, train, validation)
    repeated = np.isin(row_hashes(validation[0][rows]), row_hashes(train[0]))
    answers = validation[1][rows]
    by_linear = target.lowered_rows(target.row_losses(predicted[rows], answers), answers,
                                    predicted[rows].argmax(1) if target.classes else None)
    reference = np.array([baseline_rows(target, train[1], answers), by_linear, repeated],
                         np.float32)
    fold = Fold(encoding, {"train": len(train[1]), "validation": len(validation[1])},
                baseline_of(target, train[1], validation[1]), linear)
    return fold, reference


def _findings(table: Table, division: Sequence[Parts], fold: Fold, arrays: FoldArrays,
              roles: Mapping[str, tuple[Role, str]], plan: DataPlan,
              conversions: Mapping[str, Conversion]) -> tuple[Finding, ...]:
    """Return what is suspicious about the first fold."""
    if plan.split.all_open:
        return (ALL_OPEN,)
    parts = division[0]
    validated = np.unique(np.concatenate([each.validation for each in division]))
    linear, guess = fold.linear, fold.baseline.loss
    if plan.ranked_by != "loss":  # checks speak of the loss
        guess = rescored(fold.baseline, plan.ranked_by, "loss").loss
        if linear is not None:
            by_loss = rescored(linear, plan.ranked_by, "loss")
            linear = replace(linear, loss=by_loss.loss, metrics=by_loss.metrics,
                             weakest=by_loss.loss)
    return check(CheckInput(
        table=table, rows=np.union1d(parts.train, parts.validation), encoding=fold.encoding,
        train=parts.train, validation=parts.validation, inputs=arrays.inputs,
        targets=arrays.targets, linear=linear, guess=guess,
        constant=tuple(name for name, (_, reason) in roles.items()
                       if reason.startswith("the same in every row")),
        split=plan.split, validated=len(validated) if len(division) > 1 else 0,
        conversions=conversions))


def _row_counts(aim: Aim, parts: Parts, open_rows: Rows) -> dict[str, int]:
    used = len(open_rows) + len(parts.test)
    return {"train": len(parts.train), "validation": len(parts.validation),
            "test": len(parts.test), "left out": len(aim.kept) - used,
            "without target": aim.table.height - len(aim.kept)}


def _class_counts(target: Target, table: Table, rows: Rows) -> tuple[int, ...]:
    if target.task == "regression":
        return ()
    labels = class_numbers(table.column(target.columns[0])[rows], target.classes)
    return tuple(int(n) for n in np.bincount(labels, minlength=len(target.classes)))


def _same_table(given: Table, targets: tuple[str, ...]) -> str:
    """Return digits that follow from the targets of all rows alone, as they were read."""
    import polars
    import xxhash

    digest = xxhash.xxh3_64(json.dumps(targets).encode())
    for name in targets:
        texts = given.column(name).cast(polars.String).fill_null("\0")
        digest.update("\n".join(texts.to_list()).encode())
    return digest.hexdigest()


def _spread(rows: int) -> NDArray[np.int64]:
    """Return the places (at most EXAMPLES) of examples among the training rows: spread over the
    whole part.
    """
    return np.unique(np.linspace(0, rows - 1, min(rows, EXAMPLES)).astype(np.int64))
