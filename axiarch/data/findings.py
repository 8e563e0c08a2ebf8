"""What the checks of a table look at, and what they report."""

from __future__ import annotations

import shlex
from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import Any

import numpy as np
from numpy.typing import NDArray

from axiarch.data.conversions import Conversion
from axiarch.data.decisions import Decision
from axiarch.data.encoding import Encoding
from axiarch.data.linear import LinearBaseline
from axiarch.data.plan import SplitPlan
from axiarch.data.table import Table
from axiarch.data.target import Answers
from axiarch.files import typed
from axiarch.runs.proposal import Proposal, Sure
from axiarch.text import shown

#: Findings that are proposals and facts rather than faults: many a healthy table has them.
NOTES = frozenset({"constant", "strong column", "time"})
#: Findings that are counts of rows and values; all others are judgements.
_COUNTED = frozenset({"constant", "duplicates", "few rows", "imbalance", "letter case",
                      "more inputs than rows", "small part", "trained on"})
#: Characters that a remedy asks people to type, at the most.
_TYPED = 60


#: Something to know before training; `advice` says what to weigh, `changes` what one key does.
Finding = Proposal[Decision]


def finding(name: str, evidence: str, advice: str, column: str = "",
            changes: tuple[Decision, ...] = ()) -> Finding:
    """Return a finding, by what it is called, what was seen and what to do."""
    sure = Sure.CERTAIN if name in _COUNTED else Sure.LIKELY
    return Finding(name, name, evidence, sure, changes, column=column, advice=advice)


def grave(found: Finding) -> bool:
    """Whether a finding should be looked into before anything is trained."""
    return found.name not in NOTES


def read_finding(known: Mapping[str, Any]) -> Finding:
    """Return a finding as the file of a data set holds it, or as earlier versions wrote it."""
    if "kind" in known:
        known = {"name": known["kind"], "title": known["kind"], "evidence": known["evidence"],
                 "column": known["column"], "advice": known["remedy"]}
    found: Finding = typed(known, Finding)
    return found


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
    split : SplitPlan
        How rows came into their parts.
    validated : int
        Rows that validate in any fold; 0 if there is but one.
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
    split: SplitPlan = field(default_factory=SplitPlan)
    validated: int = 0
    conversions: Mapping[str, Conversion] = field(default_factory=dict)

    @property
    def split_by_chance(self) -> bool:
        """Whether rows came into their parts by chance, and not by groups, by order or as given."""
        return not (self.split.group or self.split.order or self.split.part)

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
