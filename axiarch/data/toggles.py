"""Decisions that one key toggles: about the column under the cursor, or about all rows."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from typing import Any

from axiarch.data.columns import Column
from axiarch.data.dataset import Dataset
from axiarch.data.plan import DATE_ORDERS, FILLS, SCALINGS, TARGET_SCALINGS, DataPlan

#: Training rows that quick work keeps at the least.
QUICK = 200
#: Numbers of folds that one key goes through.
FOLDS = (0, 5, 10)
#: How often pictures are shrunk.
SHRUNK = (1, 2, 4)


def toggled(d: Dataset, column: Column, what: str) -> DataPlan | None:
    """Return a data set's plan with one decision about a column toggled; None where that makes no
    sense.
    """
    plan, name = d.plan, column.name
    general = _toggled_for_all(d, what)
    if general is not None:
        return general
    if what in ("aim", "also aim"):
        return _aimed(d, column, what == "also aim")
    if what == "group":
        group = "" if plan.split.group == name else name
        own = replace(plan.split, group=group, order="", part="", equal_rows=False)
        return replace(plan, use=_without(plan.use, name), split=own)
    if what == "order":
        order = "" if plan.split.order == name else name
        return replace(plan,
                       split=replace(plan.split,
                                     order=order,
                                     group="",
                                     part="",
                                     fold_repeats=1,
                                     equal_rows=False))
    if what in ("dates", "merge case"):
        return _read_otherwise(plan, column, what)
    if what == "scaling" and column.role == "target" and d.target.task == "regression":
        return replace(plan, target_scaling=_next(TARGET_SCALINGS, plan.target_scaling))
    if column.role == "target":
        return None
    if what == "as text":
        return _as_text(plan, column)
    if what in ("gaps", "scaling", "ordinal"):
        return _treated(d, column, what)
    if column.role == "ignored":
        return replace(plan,
                       ignore=_without(plan.ignore, name),
                       use=(*_without(plan.use, name), name))
    return replace(plan, ignore=(*plan.ignore, name), use=_without(plan.use, name))


def _read_otherwise(plan: DataPlan, column: Column, what: str) -> DataPlan | None:
    """Return the plan with the reading of a column's dates or texts changed; None where it holds
    none.
    """
    own = plan.treatment(column.name)
    if what == "merge case":
        text = column.kind == "text"
        return plan.treated(column.name,
                            merge_case=not own.merge_case) if text or own.merge_case else None
    if column.kind == "number":
        return None
    return plan.treated(column.name, dates=_next((None, *DATE_ORDERS[:2]), own.dates))


def _as_text(plan: DataPlan, column: Column) -> DataPlan:
    """Return the plan with a column as text, or as it is proposed; codes with leading zeros as
    numbers.
    """
    name = column.name
    if name in plan.text:
        return replace(plan, text=_without(plan.text, name))
    if name in plan.numbers:
        return replace(plan, numbers=_without(plan.numbers, name))
    if column.kind == "text" and "leading zeros" in column.reason:
        return replace(plan, numbers=(*plan.numbers, name))
    return replace(plan, text=(*plan.text, name))


def _toggled_for_all(d: Dataset, what: str) -> DataPlan | None:
    """Return the plan with a decision toggled that is not about one column."""
    plan = d.plan
    if what == "fewer":
        return replace(
            plan, rows=0 if plan.rows else max(d.rows["train"] // 4, min(QUICK, d.rows["train"])))
    if what == "smaller":
        wanted = _next(SHRUNK, plan.shrink)
        side = min(d.encoding.picture[:2]) * plan.shrink if d.encoding.picture else 0
        return replace(plan, shrink=wanted if side >= 4 * wanted else 1) if side >= 8 else None
    if what == "folds":
        folds = _next(FOLDS, plan.split.folds)
        return replace(plan, split=replace(plan.split, folds=folds, part="", fold_repeats=1))
    if what == "equal rows":
        own = replace(plan.split, equal_rows=not plan.split.equal_rows, group="", order="", part="")
        return replace(plan, split=own)
    if what == "task":
        if len(d.target.columns) > 1:
            return None
        return replace(plan, ranked_by="loss",
                       task="classification" if d.target.task == "regression" else "regression")
    if what == "ranked by":
        known = d.target.measures
        return replace(plan, ranked_by=_next(known, plan.ranked_by)) if len(known) > 1 else None
    return None


def _aimed(d: Dataset, column: Column, also: bool) -> DataPlan | None:
    """Return the plan with a column as the target, or as one more or one less."""
    plan, name = d.plan, column.name
    bare = replace(plan, ignore=_without(plan.ignore, name), use=_without(plan.use, name),
                   ranked_by="loss")
    if not also:
        return None if d.target.columns == (name,) else replace(bare, targets=(name,), task="")
    if name in plan.targets:
        return None if len(plan.targets) == 1 else replace(
            plan, targets=_without(plan.targets, name), task="", ranked_by="loss")
    return replace(bare, targets=(*plan.targets, name), task="")


def _treated(d: Dataset, column: Column, what: str) -> DataPlan | None:
    """Return the plan with the column's own treatment toggled; None where it has none of that
    kind.
    """
    own = d.plan.treatment(column.name)
    if what == "ordinal":
        return d.plan.treated(
            column.name, order=() if own.order is None else None) if column.kind == "text" else None
    if column.kind != "number":
        return None
    if what == "gaps":
        return d.plan.treated(column.name, gaps=_next((None, *FILLS), own.gaps))
    return d.plan.treated(column.name, scaling=_next((None, *SCALINGS), own.scaling))


def _next(values: Sequence[Any], now: Any) -> Any:
    """Return the value after `now`, the first after the last."""
    return values[(list(values).index(now) + 1) % len(values)] if now in values else values[0]


def _without(names: tuple[str, ...], name: str) -> tuple[str, ...]:
    return tuple(n for n in names if n != name)
