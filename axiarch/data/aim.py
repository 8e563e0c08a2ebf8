"""Find what is predicted: the target's columns, the task, and the rows in which they are known."""

from __future__ import annotations

from dataclasses import dataclass
from typing import TYPE_CHECKING

import numpy as np

from axiarch.data.columns import choose_targets
from axiarch.data.conversions import Conversion, learn_conversions
from axiarch.data.pixels import with_pictures
from axiarch.data.plan import DataPlan
from axiarch.data.split import Rows
from axiarch.data.table import Table
from axiarch.data.target import Target, learn_target, measured_by, settle_task

if TYPE_CHECKING:
    import polars


class EarlyColumns:
    """Columns that are read before there are training rows: targets, and what rows are split by.

    Their conversions are learnt from all rows. A column is looked at only when it is asked for.

    Attributes
    ----------
    settled : dict
        The conversions that the data set keeps.
    """

    def __init__(self, table: Table, plan: DataPlan) -> None:
        self._table, self._plan = table, plan
        self.settled: dict[str, Conversion] = {}
        self.columns, self.height = table.columns, table.height

    def column(self, name: str) -> polars.Series:
        """Return a column (N,) as it is read."""
        return self._read(name)[1]

    def settle(self, name: str) -> polars.Series:
        """Return a column (N,), and keep how it is read."""
        self.settled[name], series = self._read(name)
        return series

    def _read(self, name: str) -> tuple[Conversion, polars.Series]:
        series = self._table.column(name)
        conversion = learn_conversions(self._table, self._plan, (name,), lambda _: series)[name]
        return conversion, conversion(series)


@dataclass(frozen=True)
class Aim:
    """What is predicted.

    Attributes
    ----------
    table : Table
        The table, its pixels joined to pictures where the plan says so.
    names : tuple of str
        The target's columns.
    reason : str
        Why these, and why this task.
    target : Target
        Learnt from all rows, without a scale.
    columns : dict
        The target's columns where none of them is missing, each (N,).
    kept : (N,) array
        The numbers of those rows.
    early : EarlyColumns
    """

    table: Table
    names: tuple[str, ...]
    reason: str
    target: Target
    columns: dict[str, polars.Series]
    kept: Rows
    early: EarlyColumns


def find_aim(table: Table, plan: DataPlan) -> Aim:
    """Return what is predicted.

    Raises
    ------
    DataError
        If a column is not there, or cannot be predicted.
    """
    early = EarlyColumns(table, plan)
    apart = (*plan.ignore, plan.split.group, plan.split.part)
    names, why = choose_targets(early, plan.targets, apart)
    if plan.pictures:
        table = with_pictures(table, plan, names)
        early = EarlyColumns(table, plan)
    read = {name: early.settle(name) for name in names}
    missing = np.zeros(table.height, np.bool_)
    for series in read.values():
        missing |= series.is_null().to_numpy()
    kept = np.flatnonzero(~missing)
    columns = {name: series[kept] for name, series in read.items()}
    task, because = settle_task(columns, plan.task)
    target = measured_by(learn_target(task, columns, "none"), plan.ranked_by)
    return Aim(table, names, f"{why}; {because}", target, columns, kept, early)
