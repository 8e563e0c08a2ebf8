"""Turn columns into the inputs of a network; everything is learnt from the training rows alone.

Numbers: gaps are filled, with an extra 0/1 input that says so; a long tail is taken to its logarithm; then
centred and scaled. Text: one 0/1 input per category, rare ones pooled; a category never seen counts as rare,
or is all zeros where none is. Dates: the year as a number, month, weekday and hour as points on a circle.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass
from typing import TYPE_CHECKING

import numpy as np
from numpy.typing import NDArray

from axiarch.data.plan import DataPlan, Gaps, Scaling
from axiarch.errors import DataError
from axiarch.plain import shown

if TYPE_CHECKING:
    import polars

    from axiarch.data.columns import Role

Floats = NDArray[np.float64]

#: A number is long-tailed if its largest values are this many times its median, and it is never negative.
LONG_TAIL = 30.0
#: A category with a smaller share of the training rows is rare, if there are more than :data:`FEW` categories.
RARE = 0.005
FEW = 12
#: The input that rare categories share.
POOL = "(rare)"


@dataclass(frozen=True)
class NumberCode:
    """How one column of numbers is encoded: ``(f(x) - centre) / scale``, gaps filled with `fill` first.

    `f` is ``log(1 + x)`` for a long tail (negative values count as zero), else the number itself.
    """

    name: str
    fill: float
    centre: float
    scale: float
    indicator: bool
    log: bool = False

    @property
    def inputs(self) -> tuple[str, ...]:
        """The names of the inputs it becomes."""
        return (self.name, f"{self.name} missing") if self.indicator else (self.name,)

    def encode(self, series: polars.Series) -> Floats:
        """Return the inputs (N, 1 or 2) of a column of N rows."""
        raw = _numbers(series)
        gap = np.isnan(raw)
        scaled = (_bent(np.where(gap, self.fill, raw), self.log) - self.centre) / self.scale
        return np.stack([scaled, gap.astype(np.float64)] if self.indicator else [scaled], axis=1)


@dataclass(frozen=True)
class TextCode:
    """How one column of text is encoded: one 0/1 input per category, the last for rare ones if `pooled`."""

    name: str
    categories: tuple[str, ...]
    pooled: bool = False

    @property
    def inputs(self) -> tuple[str, ...]:
        """The names of the inputs it becomes."""
        return tuple(f"{self.name} = {c}" for c in (*self.categories, *((POOL,) if self.pooled else ())))

    def encode(self, series: polars.Series) -> Floats:
        """Return the inputs (N, categories) of a column of N rows."""
        texts = np.array([None if v is None else str(v) for v in series], dtype=object)
        found = np.zeros((len(texts), len(self.inputs)))
        for i, category in enumerate(self.categories):
            found[:, i] = texts == category
        if self.pooled:
            present = np.array([t is not None for t in texts])
            found[:, -1] = present & (found[:, :-1].sum(1) == 0)
        return found


@dataclass(frozen=True)
class DateCode:
    """How one column of dates is encoded.

    The year is centred and scaled; month, weekday and, where `hours`, the time of day are points on a
    circle (cosine and sine), so that December lies beside January. A gap is zero everywhere.
    """

    name: str
    centre: float
    scale: float
    hours: bool

    @property
    def inputs(self) -> tuple[str, ...]:
        """The names of the inputs it becomes."""
        parts = ["month", "weekday", *(["time of day"] if self.hours else [])]
        return (f"{self.name} year", *(f"{self.name} {p} {f}" for p in parts for f in ("cosine", "sine")))

    def encode(self, series: polars.Series) -> Floats:
        """Return the inputs (N, 5 or 7) of a column of N rows."""
        import polars

        dates = series.cast(polars.Datetime)
        gap = dates.is_null().to_numpy()
        turns = [(dates.dt.month(), 1, 12), (dates.dt.weekday(), 1, 7)]
        if self.hours:
            turns.append((dates.dt.hour() + dates.dt.minute() / 60, 0, 24))
        columns = [(_numbers(dates.dt.year()) - self.centre) / self.scale]
        for part, first, length in turns:
            angle = 2 * math.pi * (_numbers(part) - first) / length
            columns += [np.cos(angle), np.sin(angle)]
        return np.where(gap[:, None], 0.0, np.stack(columns, axis=1))


Code = NumberCode | TextCode | DateCode
#: Codes by the name that marks them in files.
CODES: dict[str, type[Code]] = {"number": NumberCode, "text": TextCode, "date": DateCode}


@dataclass(frozen=True)
class Encoding:
    """The codes of all input columns in order, and the classes of the target in order."""

    codes: tuple[Code, ...]
    target: str
    classes: tuple[str, ...]

    @property
    def inputs(self) -> tuple[str, ...]:
        """The names of the D inputs of a network."""
        return tuple(name for code in self.codes for name in code.inputs)

    def encode(self, frame: polars.DataFrame) -> NDArray[np.float32]:
        """Return the inputs (N, D) of a table of N rows."""
        parts = [code.encode(frame[code.name]) for code in self.codes]
        return np.ascontiguousarray(np.concatenate(parts, axis=1), dtype=np.float32)

    def labels(self, frame: polars.DataFrame) -> NDArray[np.int32]:
        """Return the class numbers (N,) of a table of N rows."""
        known = {name: i for i, name in enumerate(self.classes)}
        return np.array([known[str(v)] for v in frame[self.target]], dtype=np.int32)


def learn_encoding(train: polars.DataFrame, roles: dict[str, tuple[Role, str]], classes: Sequence[str],
                   plan: DataPlan | None = None) -> Encoding:
    """Learn how to encode from the training rows, by the decisions of `plan`."""
    plan = plan or DataPlan()
    target = next(name for name, (role, _) in roles.items() if role == "target")
    codes = tuple(_learn(train[name], plan) for name, (role, _) in roles.items() if role == "input")
    return Encoding(codes, target, tuple(classes))


def _learn(series: polars.Series, plan: DataPlan) -> Code:
    if series.dtype.is_numeric():
        return _learn_number(series, plan.gaps, plan.scaling)
    if series.dtype.is_temporal():
        return _learn_date(series)
    return _learn_text(series)


def _learn_number(series: polars.Series, gaps: Gaps, scaling: Scaling) -> NumberCode:
    values = _numbers(series)
    missing = np.isnan(values)
    fill = _fill(values[~missing], gaps)
    filled = np.where(missing, fill, values)
    log = scaling != "none" and is_long_tailed(filled)
    centre, scale = _centre_and_scale(_bent(filled, log), scaling)
    if not math.isfinite(centre) or not math.isfinite(scale):
        raise DataError("its numbers are too large to scale", f"column {shown(series.name)!r}",
                        "mend or ignore the column")
    return NumberCode(series.name, fill, centre, scale if scale > 0 else 1.0, bool(missing.any()), log)


def _fill(values: Floats, gaps: Gaps) -> float:
    if values.size == 0 or gaps == "zero":
        return 0.0
    if gaps == "mean":
        return float(values.mean())
    if gaps == "most frequent":
        found, counts = np.unique(values, return_counts=True)
        return float(found[counts.argmax()])
    return float(np.median(values))


def is_long_tailed(values: Floats) -> bool:
    """Say whether numbers (N,) are better taken to their logarithm: never negative, and far from even."""
    if values.size == 0 or values.min() < 0:
        return False
    middle = float(np.median(values))
    return middle > 0 and float(np.quantile(values, 0.995)) > LONG_TAIL * middle


def _bent(values: Floats, log: bool) -> Floats:
    return np.log1p(np.maximum(values, 0.0)) if log else values


def _centre_and_scale(values: Floats, scaling: Scaling) -> tuple[float, float]:
    with np.errstate(over="ignore", invalid="ignore"):
        if scaling == "z-score":
            return float(values.mean()), float(values.std())
        if scaling == "0-1":
            return float(values.min()), float(values.max() - values.min())
        if scaling == "robust":
            low, high = np.quantile(values, (0.25, 0.75))
            return float(np.median(values)), float(high - low) or float(values.std())
    return 0.0, 1.0


def _learn_text(series: polars.Series) -> TextCode:
    texts, counts = np.unique([str(v) for v in series.drop_nulls()], return_counts=True)
    if len(texts) <= FEW:
        return TextCode(series.name, tuple(map(str, texts)))
    kept = tuple(str(t) for t, n in zip(texts, counts, strict=True) if n >= RARE * series.len())
    return TextCode(series.name, kept, pooled=len(kept) < len(texts))


def _learn_date(series: polars.Series) -> DateCode:
    import polars

    dates = series.drop_nulls().cast(polars.Datetime)
    years = _numbers(dates.dt.year())
    hours = bool((_numbers(dates.dt.hour()) + _numbers(dates.dt.minute())).any()) if dates.len() else False
    centre, scale = (float(years.mean()), float(years.std())) if years.size else (0.0, 1.0)
    return DateCode(series.name, centre, scale or 1.0, hours)


def _numbers(series: polars.Series) -> Floats:
    """Return a numeric column as floats (N,) with NaN for gaps."""
    import polars

    return series.cast(polars.Float64).fill_null(float("nan")).to_numpy().astype(np.float64)
