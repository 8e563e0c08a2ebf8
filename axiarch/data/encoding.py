"""Turn columns into the inputs of a network; everything is learnt from the training rows alone.

Numbers: gaps take the training median, with an extra 0/1 input that says so; then z-scores.
Text: one 0/1 input per category seen in training; a category never seen is all zeros.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import TYPE_CHECKING

import numpy as np
from numpy.typing import NDArray

from axiarch.errors import DataError
from axiarch.plain import shown

if TYPE_CHECKING:
    import polars

    from axiarch.data.columns import Role


@dataclass(frozen=True)
class NumberCode:
    """How one column of numbers is encoded: ``(x - mean) / scale``, gaps filled with `fill`."""

    name: str
    fill: float
    mean: float
    scale: float
    indicator: bool

    @property
    def inputs(self) -> tuple[str, ...]:
        """The names of the inputs it becomes."""
        return (self.name, f"{self.name} missing") if self.indicator else (self.name,)

    def encode(self, series: polars.Series) -> NDArray[np.float64]:
        """Return the inputs (N, 1 or 2) of a column of N rows."""
        raw = _numbers(series)
        gap = np.isnan(raw)
        scaled = (np.where(gap, self.fill, raw) - self.mean) / self.scale
        return np.stack([scaled, gap.astype(np.float64)] if self.indicator else [scaled], axis=1)


@dataclass(frozen=True)
class TextCode:
    """How one column of text is encoded: one 0/1 input per category."""

    name: str
    categories: tuple[str, ...]

    @property
    def inputs(self) -> tuple[str, ...]:
        """The names of the inputs it becomes."""
        return tuple(f"{self.name} = {c}" for c in self.categories)

    def encode(self, series: polars.Series) -> NDArray[np.float64]:
        """Return the inputs (N, categories) of a column of N rows."""
        texts = np.array([None if v is None else str(v) for v in series], dtype=object)
        found = np.zeros((len(texts), len(self.categories)))
        for i, category in enumerate(self.categories):
            found[:, i] = texts == category
        return found


@dataclass(frozen=True)
class Encoding:
    """The codes of all input columns in order, and the classes of the target in order."""

    codes: tuple[NumberCode | TextCode, ...]
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


def learn_encoding(train: polars.DataFrame, roles: dict[str, tuple[Role, str]],
                   classes: Sequence[str]) -> Encoding:
    """Learn how to encode from the training rows."""
    target = next(name for name, (role, _) in roles.items() if role == "target")
    codes = tuple(_learn(train[name]) for name, (role, _) in roles.items() if role == "input")
    return Encoding(codes, target, tuple(classes))


def _learn(series: polars.Series) -> NumberCode | TextCode:
    if not series.dtype.is_numeric():
        return TextCode(series.name, tuple(sorted({str(v) for v in series.drop_nulls()})))
    values = _numbers(series)
    gaps = bool(np.isnan(values).any())
    fill = float(np.nanmedian(values)) if not np.isnan(values).all() else 0.0
    filled = np.where(np.isnan(values), fill, values)
    mean, scale = float(filled.mean()), float(filled.std())
    if not np.isfinite(scale):
        raise DataError("its numbers are too large to scale", f"column {shown(series.name)!r}",
                        "mend or ignore the column")
    return NumberCode(series.name, fill, mean, scale if scale > 0 else 1.0, gaps)


def _numbers(series: polars.Series) -> NDArray[np.float64]:
    """Return a numeric column as floats (N,) with NaN for gaps."""
    import polars

    return series.cast(polars.Float64).fill_null(float("nan")).to_numpy().astype(np.float64)
