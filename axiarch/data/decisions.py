"""Single decisions about a table that a check of the data proposes: applied, previewed, stored."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass, fields, replace
from typing import Literal, cast

from axiarch.data.plan import DataPlan, Scaling, SplitPlan, Treatment
from axiarch.errors import DataError
from axiarch.runs.lowered import Lowered
from axiarch.text import number, shown

What = Literal["ignore", "missing", "merge case", "order", "equal rows", "folds", "validation",
               "scaling", "target scaling", "ranked by"]

#: Decisions whose name on a screen is another than their field's.
_LABELS = {"said": "format", "gaps": "filling of missing values", "use": "columns used anyway",
           "ignore": "ignored columns", "text": "text columns", "numbers": "number columns",
           "missing": "texts that mean missing", "validation": "validation share",
           "test": "test share", "group": "grouped by", "order": "in the order of",
           "part": "parts given by", "equal_rows": "equal rows in one part",
           "merge_case": "letter case ignored", "targets": "target",
           "dates": "date order"}
#: Characters of a value on a screen.
_LONGEST = 60


@dataclass(frozen=True)
class Decision:
    """One change of the decisions about a table.

    Attributes
    ----------
    words : str
        What it does, an imperative.
    what : str
        Which decision.
    column : str
        The column it is about; empty for none.
    value : str
        What is decided, where that is not clear from `what`.
    """

    words: str
    what: What
    column: str = ""
    value: str = ""

    def applied(self, plan: DataPlan) -> DataPlan:
        """Return a plan with the decision made; all others stay as they are.

        Raises
        ------
        DataError
            If it does not go with the others.
        """
        try:
            return _APPLIED[self.what](plan, self.column, self.value)
        except ValueError:
            raise DataError(f"{shown(self.value, 40)!r} does not fit", self.what,
                            "rebuild the data set to check it again") from None

    def preview(self, plan: DataPlan) -> list[str]:
        """Return what it would change in a plan, a line a decision: before and after."""
        return differences(plan, self.applied(plan))


def ignore_column(name: str) -> Decision:
    """Return the decision to leave a column out."""
    return Decision(f"Ignore the column {shown(name, 30)}", "ignore", name)


def _ignored(plan: DataPlan, column: str, value: str) -> DataPlan:
    return replace(plan, ignore=(*plan.ignore, column),
                   use=tuple(name for name in plan.use if name != column))


def _marked(plan: DataPlan, column: str, value: str) -> DataPlan:
    """Numbers add to the marks that are known; those given before stay."""
    own = plan.treatment(column).missing or ()
    return plan.treated(column, missing=tuple(dict.fromkeys((*own, value))))


def _ordered(plan: DataPlan, column: str, value: str) -> DataPlan:
    return replace(plan, split=replace(plan.split, order=column, group="", part="",
                                       fold_repeats=1, equal_rows=False))


def _together(plan: DataPlan, column: str, value: str) -> DataPlan:
    return replace(plan, split=replace(plan.split, equal_rows=True, group="", order="", part=""))


def _folded(plan: DataPlan, column: str, value: str) -> DataPlan:
    return replace(plan, split=replace(plan.split, folds=int(value), part="", fold_repeats=1))


def _scaled(plan: DataPlan, column: str, value: str) -> DataPlan:
    """Scale what is left unscaled; columns that are scaled another way stay as they are."""
    for name, treatment in plan.columns:
        if treatment.scaling == "none":
            plan = plan.treated(name, scaling=None)
    return replace(plan, scaling=cast(Scaling, value)) if plan.scaling == "none" else plan


def _target_scaled(plan: DataPlan, column: str, value: str) -> DataPlan:
    return replace(plan, target_scaling=cast(Scaling, value))


_APPLIED: Mapping[What, Callable[[DataPlan, str, str], DataPlan]] = {
    "ignore": _ignored,
    "missing": _marked,
    "merge case": lambda plan, column, value: plan.treated(column, merge_case=True),
    "order": _ordered,
    "equal rows": _together,
    "folds": _folded,
    "validation": lambda plan, column, value: replace(
        plan, split=replace(plan.split, validation=float(value))),
    "scaling": _scaled,
    "target scaling": _target_scaled,
    "ranked by": lambda plan, column, value: replace(plan, ranked_by=cast(Lowered, value)),
}


def differences(before: DataPlan, after: DataPlan) -> list[str]:
    """Return in which decisions two plans differ, a line each: before and after."""
    lines = _lines("", before, after, {"split", "columns"})
    lines += _lines("", before.split, after.split, set())
    names = dict.fromkeys(name for plan in (before, after) for name, _ in plan.columns)
    for name in names:
        was, now = before.treatment(name), after.treatment(name)
        lines += _lines(f"{shown(name, 30)}: ", was, now, set())
    return lines


def _lines(about: str, before: DataPlan | SplitPlan | Treatment,
           after: DataPlan | SplitPlan | Treatment, without: set[str]) -> list[str]:
    found = []
    for field in fields(before):
        was, now = (getattr(each, field.name) for each in (before, after))
        if was != now and field.name not in without:
            label = _LABELS.get(field.name, field.name.replace("_", " "))
            found.append(f"{about}{label}: {_written(was)} → {_written(now)}")
    return found


def _written(value: object) -> str:
    if isinstance(value, bool):
        return "yes" if value else "no"
    if isinstance(value, tuple):
        return shown(", ".join(map(str, value)), _LONGEST) or "none"
    if isinstance(value, float):
        return number(value)
    return shown(str(value), _LONGEST) if value not in (None, "", 0) else "none"
