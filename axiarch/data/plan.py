"""The decisions that turn a table into arrays; each has a default that is right for most tables."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Literal

from axiarch.data.delimited import Said
from axiarch.errors import DataError

Gaps = Literal["median", "mean", "most frequent", "zero"]
Scaling = Literal["z-score", "0-1", "robust", "none"]

GAPS: tuple[Gaps, ...] = ("median", "mean", "most frequent", "zero")
SCALINGS: tuple[Scaling, ...] = ("z-score", "0-1", "robust", "none")


@dataclass(frozen=True)
class SplitPlan:
    """How rows are divided.

    Attributes
    ----------
    validation, test : float
        Shares of the rows; the rest is for training.
    group : str
        A column whose equal values stay together in one part; empty for none.
    order : str
        A column by which rows are put in order: the last are for the test, those before for validation.
    seed : int
        Fixes the split.
    """

    validation: float = 0.2
    test: float = 0.2
    group: str = ""
    order: str = ""
    seed: int = 1

    def __post_init__(self) -> None:
        for name, share in (("validation", self.validation), ("test", self.test)):
            if not 0.01 <= share <= 0.9:
                raise DataError(f"a {name} part of {share:g} does not fit", "split", "give a share from 0.01 to 0.9")
        if self.validation + self.test > 0.9:
            raise DataError("less than a tenth of the rows is left for training", "split", "give smaller shares")
        if self.group and self.order:
            raise DataError("rows are split by groups or by order, not both", "split", "leave one out")


@dataclass(frozen=True)
class DataPlan:
    """All decisions about a table.

    Attributes
    ----------
    target : str or None
        The column to be predicted; None is proposed.
    ignore : tuple of str
        Columns left out, besides those that look like identifiers.
    use : tuple of str
        Columns taken in although they would be left out.
    text : tuple of str
        Columns that stay text although they could be read as numbers or dates.
    gaps : str
        What fills a gap in a number: the median, mean or commonest value of the training rows, or zero.
    scaling : str
        How a number is brought near zero; all of it learnt from the training rows.
    rows : int
        Training rows used at the most, every class by the same share, for quick work; 0 uses all.
        Validation and test rows stay as they are.
    split : SplitPlan
    said : Said
        How a delimited text is written, where it is not to be found out.
    """

    target: str | None = None
    ignore: tuple[str, ...] = ()
    use: tuple[str, ...] = ()
    text: tuple[str, ...] = ()
    gaps: Gaps = "median"
    scaling: Scaling = "z-score"
    rows: int = 0
    split: SplitPlan = field(default_factory=SplitPlan)
    said: Said = field(default_factory=Said)

    def __post_init__(self) -> None:
        if self.rows < 0:
            raise DataError(f"{self.rows} rows cannot be used", "rows", "give a number above 0, or 0 for all")
