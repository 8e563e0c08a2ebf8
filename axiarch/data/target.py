"""What is predicted: the task, the target columns, and how their values become numbers and back.

A class is a number from 0. An amount is centred and scaled by the training rows; a loss or an error
times the scale is in the target's own unit again.
"""

from __future__ import annotations

import math
from dataclasses import dataclass, replace
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray

from axiarch.data.encoding import as_floats, centre_and_scale
from axiarch.data.plan import Scaling, Task
from axiarch.errors import DataError
from axiarch.runs.lowered import APART, Lowered, name_of
from axiarch.runs.measures import Rows, cautious_rows, lowered_rows
from axiarch.text import number, shown

if TYPE_CHECKING:
    import polars

#: Later rows may hold amounts without a logarithm: they count as this share of the spread.
LEAST = 1e-12
#: Logarithms above this count as this, as in the engine.
LARGEST_LOG = 300.0
#: Class numbers (N,) int32, or scaled amounts (N, T) float32.
Answers = NDArray[Any]

_NONE = np.zeros(0, np.int64)

#: The loss that each task is trained by, as the engine names it.
LOSS_OF_TASK: dict[Task, str] = {"classification": "softmax", "binary": "binary",
                                 "regression": "squared"}


@dataclass(frozen=True)
class Target:
    """The target columns of a data set.

    Attributes
    ----------
    task : {"classification", "binary", "regression"}
    columns : tuple of str
        One, or T for a regression.
    classes : tuple of str
        The C classes in the order of their numbers; none for a regression.
    centre, scale : tuple of float
        Of each target of a regression, or of its logarithm, learnt from the training rows.
    spread : tuple of float
        Where networks are trained on ``log(y + shift)``: the standard deviation of each target
        (T,).
    shift : tuple of float
        0 where all amounts are above 0, else the smallest of them that is.
    measure : str
        What is lowered on the validation rows: the loss, or a metric.
    """

    task: Task
    columns: tuple[str, ...]
    classes: tuple[str, ...] = ()
    centre: tuple[float, ...] = ()
    scale: tuple[float, ...] = ()
    spread: tuple[float, ...] = ()
    shift: tuple[float, ...] = ()
    measure: Lowered = "loss"

    @property
    def name(self) -> str:
        """The target columns as people read them."""
        return ", ".join(self.columns)

    @property
    def outputs(self) -> int:
        """Outputs of a network: one a class or an amount, one alone for two classes."""
        return {"classification": len(self.classes), "binary": 1,
                "regression": len(self.columns)}[self.task]

    @property
    def loss(self) -> str:
        """The engine's name of the loss."""
        return "logarithmic" if self.spread else LOSS_OF_TASK[self.task]

    @property
    def loss_name(self) -> str:
        """What is lowered, for people, with its unit."""
        if self.measure != "loss":
            name = name_of(self.measure)
            return f"{name} ({self.unit})" if self.task == "regression" else name
        return self.trained_name

    @property
    def level_name(self) -> str:
        """The same without the unit."""
        return self.loss_name.split(" (")[0]

    @property
    def trained_name(self) -> str:
        """What the loss is that metrics are beside, for people, with its unit."""
        return "loss (nats)" if self.task != "regression" else f"RMSE ({self.trained_unit})"

    @property
    def unit(self) -> str:
        """The unit of what is lowered: nats, the target's own (its column), spreads where there
        are several targets, or a share.
        """
        return self.trained_unit if self.task == "regression" or self.measure == "loss" else "share"

    @property
    def trained_unit(self) -> str:
        """The unit of the loss."""
        if self.task != "regression":
            return "nats"
        return self.columns[0] if len(self.columns) == 1 else "spreads"

    @property
    def metrics(self) -> tuple[str, ...]:
        """What is measured on the validation rows besides what is lowered, in the engine's order;
        the loss is the first where it is not what is lowered.
        """
        beside = () if self.measure == "loss" else (self.trained_name,)
        if self.task != "regression":
            return (*beside, "accuracy", "balanced accuracy")
        if len(self.columns) == 1:
            return (*beside, "mean absolute error", "R²")
        return tuple(f"RMSE of {name}" for name in self.columns)

    @property
    def units(self) -> tuple[float, ...]:
        """What one of the engine's losses is worth in each target's own unit (T,); none for
        classes.
        """
        return self.spread or self.scale

    @property
    def curve(self) -> tuple[float, ...]:
        """Scale, centre and spread (3 T,) of targets trained on by their logarithm; none for
        others.
        """
        return (*self.scale, *self.centre, *self.spread) if self.spread else ()

    def in_units(self, encoded: Answers) -> NDArray[np.float64]:
        """Return encoded amounts (N, T) so that differences times :attr:`units` are in the
        targets' own units.
        """
        if not self.spread:
            return encoded.astype(np.float64)
        return np.asarray(self.decode(encoded)) / self.spread

    def row_losses(self, predicted: NDArray[np.float64], answers: Answers) -> NDArray[np.float64]:
        """Return the loss of each row (N,): minus the logarithm of the share given to its class,
        or the squared error, in the square of the loss's unit, meant over targets.

        Parameters
        ----------
        predicted : (N, C) or (N, T) array
            Shares of the classes, or encoded amounts.
        answers : (N,) or (N, T) array
            Encoded targets.
        """
        if self.task != "regression":
            own = predicted[np.arange(len(answers)), answers.astype(np.int64)]
            return np.asarray(-np.log(np.maximum(own, np.finfo(np.float64).tiny)))
        apart = self.in_units(predicted) - self.in_units(answers)
        unit = self.units[0] if len(self.columns) == 1 else 1.0
        return np.asarray(((apart * unit) ** 2).mean(1))

    @property
    def measures(self) -> tuple[Lowered, ...]:
        """What may be decided to be lowered."""
        if self.task != "regression":
            known: tuple[Lowered, ...] = ("loss", "accuracy", "balanced accuracy", "F1")
            return (*known, "AUC") if self.task == "binary" else known
        return ("loss", "mean absolute error") if len(self.columns) == 1 else ("loss",)

    @property
    def root(self) -> bool:
        """Whether what is lowered is the root of the rows' mean."""
        return self.task == "regression" and self.measure == "loss"

    def lowered_rows(self, losses: NDArray[np.floating], answers: Answers,
                     predicted: NDArray[np.integer] | None, cautious: bool = False
                     ) -> NDArray[np.float64]:
        """Return what each row adds to what is lowered (N,), from its loss; `cautious`, followed
        by rows that leave some doubt where all are right.

        Parameters
        ----------
        losses : (N,) array
            As of :meth:`row_losses`.
        answers : (N,) or (N, T) array
            Encoded targets.
        predicted : (N,) array or None
            The class predicted of each row; None for amounts.
        """
        known = losses.astype(np.float64)
        if self.measure == "loss":
            return known
        if self.task == "regression":
            return lowered_rows(self.measure, Rows(known, _NONE, _NONE))
        assert predicted is not None
        rows = Rows(known, answers.astype(np.int64), predicted.astype(np.int64),
                    len(self.classes))
        return (cautious_rows if cautious else lowered_rows)(self.measure, rows)

    def apart(self, predicted: NDArray[np.float64], answers: Answers) -> float:
        """Return the value of what is lowered where no other metric has it, of rows (N,); nan
        elsewhere.

        Parameters
        ----------
        predicted : (N, C) array
            Shares of the classes.
        answers : (N,) array
            Encoded targets.
        """
        if self.measure not in APART:
            return math.nan
        return 1 - float(self.lowered_rows(self.row_losses(predicted, answers), answers,
                                           predicted.argmax(1)).mean())

    def encode(self, frame: polars.DataFrame) -> Answers:
        """Return class numbers (N,) or scaled amounts (N, T) of a table of N rows without gaps
        in its targets.
        """
        if self.task != "regression":
            return class_numbers(frame[self.columns[0]], self.classes).astype(np.int32)
        values = np.stack([as_floats(frame[name]) for name in self.columns], axis=1)
        if self.spread:
            values = np.log(np.maximum(values + self.shift, LEAST * np.array(self.spread)))
        return np.ascontiguousarray((values - self.centre) / self.scale, dtype=np.float32)

    def decode(self, encoded: Answers) -> list[str] | NDArray[np.float64]:
        """Return the classes, or the amounts (N, T) in their own units: the inverse of
        :meth:`encode`.
        """
        if self.task != "regression":
            return [self.classes[i] for i in encoded]
        linear = encoded.astype(np.float64) * self.scale + self.centre
        return np.exp(np.minimum(linear, LARGEST_LOG)) - self.shift if self.spread else linear


def class_numbers(series: polars.Series, classes: tuple[str, ...]) -> NDArray[np.int64]:
    """Return the number of each row's class (N,)."""
    import polars

    texts = series.cast(polars.String)
    return texts.replace_strict(list(classes), range(len(classes)),
                                return_dtype=polars.Int64).to_numpy()


def measured_by(target: Target, measure: Lowered) -> Target:
    """Return a target with what is lowered decided.

    Raises
    ------
    DataError
        If it does not fit the task.
    """
    if measure not in target.measures:
        what = "several targets" if len(target.columns) > 1 else (
            "amounts" if target.task == "regression" else "classes")
        raise DataError(f"recipes that predict {what} cannot be ranked by {measure}", "ranked by",
                        "give " + " or ".join(target.measures))
    return replace(target, measure=measure)


def learn_target(task: Task, columns: dict[str, polars.Series], scaling: Scaling) -> Target:
    """Learn classes or scales from the target columns of the training rows, the task being settled.

    `columns` must hold all classes that any part holds; amounts are scaled by the rows given alone.
    """
    if task == "regression":
        if scaling == "logarithm":
            return _learn_logarithms(columns)
        found = [centre_and_scale(as_floats(series), scaling) for series in columns.values()]
        return Target(task, tuple(columns), (), tuple(c for c, _ in found),
                      tuple(s or 1.0 for _, s in found))
    (name, series), = columns.items()
    return Target(task, (name,), found_classes(series))


def _learn_logarithms(columns: dict[str, polars.Series]) -> Target:
    """Learn the scales of amounts that are trained on by their logarithm."""
    found, spread, shift = [], [], []
    for name, series in columns.items():
        values = as_floats(series)
        if values.size and values.min() < 0:
            raise DataError(
                f"it holds {number(float(values.min()))}, and amounts below 0 have no logarithm",
                f"column {shown(name)!r}", "scale the target another way, such as z-score")
        above = values[values > 0]
        if not above.size:
            raise DataError("no amount is above 0, so there is no logarithm",
                            f"column {shown(name)!r}",
                            "scale the target another way, such as z-score")
        shift.append(0.0 if above.size == values.size else float(above.min()))
        found.append(centre_and_scale(np.log(values + shift[-1]), "z-score"))
        spread.append(float(values.std()) or 1.0)
    return Target("regression", tuple(columns), (), tuple(c for c, _ in found),
                  tuple(s or 1.0 for _, s in found), tuple(spread), tuple(shift))


def found_classes(series: polars.Series) -> tuple[str, ...]:
    """Return the classes of a column in order: numbers by size, text by the alphabet."""
    import polars

    return tuple(series.unique().drop_nulls().sort().cast(polars.String).to_list())


def settle_task(columns: dict[str, polars.Series], wanted: str) -> tuple[Task, str]:
    """Return the task, the one wanted or else a proposal, and why; `columns` have no gaps.

    Raises
    ------
    DataError
        If the columns do not fit it.
    """
    if wanted == "regression" or len(columns) > 1:
        _check_amounts(columns, wanted)
        return "regression", "chosen" if wanted else "several targets"
    (name, series), = columns.items()
    where = f"column {shown(name)!r}"
    rows, distinct = series.len(), series.n_unique()
    if rows == 0:
        raise DataError("the target has no value in any row", where, "choose another target")
    if distinct < 2:
        raise DataError("the target is the same in every row", where, "choose another target")
    if not wanted and is_amount(series):
        _check_amounts(columns, wanted)
        return "regression", f"{distinct} different numbers"
    if not wanted and distinct > 2 and series.dtype.is_numeric() and rarest(series) < FEWEST_ROWS:
        return "regression", f"{distinct} different numbers, some too rare for classes"
    if distinct > max(rows // 3, 2):
        raise DataError(f"the target has {distinct} different values in {rows} rows", where,
                        "choose a column of classes, or the task regression if it holds amounts")
    if wanted == "binary" and distinct != 2:
        raise DataError(f"the target has {distinct} classes, not two", where,
                        "choose the task classification")
    if wanted == "classification":
        return "classification", "chosen"
    return ("binary", "two classes") if distinct == 2 else ("classification", f"{distinct} classes")


#: Rows that each class needs at the least: one in each part.
FEWEST_ROWS = 3


def rarest(series: polars.Series) -> int:
    """Return how many rows the rarest value of a column has."""
    return int(series.value_counts()["count"].min())  # type: ignore[arg-type]


#: A column of numbers with more different values than this is taken for amounts, not for classes.
MOST_NUMBERED_CLASSES = 20


def is_amount(series: polars.Series) -> bool:
    """Say whether a target column holds amounts rather than classes."""
    if not series.dtype.is_numeric():
        return False
    distinct = series.n_unique()
    if distinct > MOST_NUMBERED_CLASSES:
        return True
    return bool(series.dtype.is_float() and distinct > 2 and (series.round(0) != series).any())


def _check_amounts(columns: dict[str, polars.Series], wanted: str) -> None:
    for name, series in columns.items():
        where = f"column {shown(name)!r}"
        if not series.dtype.is_numeric():
            raise DataError("the target holds text, not amounts", where,
                            "choose the task classification" if len(columns) == 1 else
                            "several targets must all be numbers")
        if series.len() == 0:
            raise DataError("the target has no value in any row", where, "choose another target")
        if series.n_unique() < 2:
            raise DataError("the target is the same in every row", where, "choose another target")
