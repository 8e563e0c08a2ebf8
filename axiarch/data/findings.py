"""What the checks of a table look at, and what they report."""

from __future__ import annotations

import shlex
from collections.abc import Mapping
from dataclasses import dataclass, field

import numpy as np
from numpy.typing import NDArray

from axiarch.data.conversions import Conversion
from axiarch.data.encoding import Encoding
from axiarch.data.linear import LinearBaseline
from axiarch.data.table import Table
from axiarch.data.target import Answers
from axiarch.text import shown

#: Findings that are proposals and facts rather than faults: many a healthy table has them.
NOTES = frozenset({"constant", "strong column", "time"})
#: Characters that a remedy asks people to type, at the most.
_TYPED = 60


@dataclass(frozen=True)
class Finding:
    """Something to know before training.

    Attributes
    ----------
    kind : str
        One or two words.
    column : str
        The column it is about, or empty.
    evidence, remedy : str
        What was seen, with numbers, and what to do.
    """

    kind: str
    column: str
    evidence: str
    remedy: str

    @property
    def grave(self) -> bool:
        """Whether it should be given into before anything is trained."""
        return self.kind not in NOTES


@dataclass(frozen=True)
class CheckInput:
    """What the checks look at: never a sealed row.

    Attributes
    ----------
    table : Table
    rows : (N,) array
        The rows of training and validation.
    encoding : Encoding
    train, validation : arrays
        Row numbers of the two parts, of the first fold.
    inputs : dict
        By part, the inputs as encoded (N, D), mapped from disk.
    targets : dict
        By part, the encoded targets.
    linear : LinearBaseline or None
        What a linear model scores on the validation part.
    guess : float
        The loss of a predictor that learns nothing.
    constant : tuple of str
        Columns left out because they are the same in every row.
    split_by_chance : bool
        Whether rows came into their parts by chance, and not by groups, by order or as given.
    conversions : mapping
        How each column is read.
    """

    table: Table
    rows: NDArray[np.int64]
    encoding: Encoding
    train: NDArray[np.int64]
    validation: NDArray[np.int64]
    inputs: dict[str, NDArray[np.float32]]
    targets: dict[str, Answers]
    linear: LinearBaseline | None = None
    guess: float = 0.0
    constant: tuple[str, ...] = ()
    split_by_chance: bool = True
    conversions: Mapping[str, Conversion] = field(default_factory=dict)

    @property
    def classes(self) -> bool:
        """Whether classes are predicted."""
        return self.encoding.target.task != "regression"


def option(flag: str, column: str, more: str = "") -> str:
    """Return an option for a column as a shell takes it, or nothing where it could not be typed."""
    given = f"{column}{more}"
    if shown(given) != given or len(given) > _TYPED:
        return ""
    return f", or --{flag} {shlex.quote(given)}"
