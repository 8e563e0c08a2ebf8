"""A proposal: a suggested change with its evidence, applied by one key.

Everything that suggests a change is one: a check of the data, a warning about a recipe, the edge of
a range, a probe, a finding of the diagnosis. What differs is what would be changed.
"""

from __future__ import annotations

from dataclasses import dataclass
from enum import StrEnum
from typing import Generic, TypeVar

ChangeT = TypeVar("ChangeT")


class Sure(StrEnum):
    """How sure a proposal is."""

    CERTAIN = "certain"
    LIKELY = "likely"
    POSSIBLE = "possible"


@dataclass(frozen=True)
class Proposal(Generic[ChangeT]):
    """A suggested change.

    Attributes
    ----------
    name : str
        Its kind, for programs.
    title : str
        What is so, in a few words.
    evidence : str
        The numbers it rests on, a sentence.
    sure : Sure
    changes : tuple
        What may be done, in the order in which a practitioner would try it.
    epoch : int
        Where on a curve it shows, from 1; 0 where that has no place.
    layer : int
        The layer with weights where it shows, from 1; 0 for none.
    column : str
        The column of the table that it is about; empty for none.
    advice : str
        What to do or to weigh, in words: the only remedy where no change could be made for you.
    """

    name: str
    title: str
    evidence: str
    sure: Sure = Sure.LIKELY
    changes: tuple[ChangeT, ...] = ()
    epoch: int = 0
    layer: int = 0
    column: str = ""
    advice: str = ""

    def __str__(self) -> str:
        return self.evidence
