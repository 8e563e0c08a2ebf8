"""One training as it is asked for, as it reports, and as it ends."""

from __future__ import annotations

from dataclasses import dataclass

from axiarch.engine.streams import Streams
from axiarch.recipes.recipe import Recipe


@dataclass(frozen=True)
class RunSpec:
    """One training that is wanted.

    Attributes
    ----------
    id : int
        The run's number in the journal.
    recipe : Recipe
    streams : Streams
        Its random streams.
    """

    id: int
    recipe: Recipe
    streams: Streams


@dataclass(frozen=True)
class RunEnd:
    """Why a run ended, and what it reached.

    Attributes
    ----------
    reason : str
    text : str
        The reason with its numbers, a sentence.
    epochs : int
        Epochs trained.
    best_epoch : int
        The epoch whose weights were kept; 0 if none.
    steady_loss : float
        Its smoothed validation loss.
    """

    reason: str
    text: str
    epochs: int
    best_epoch: int
    steady_loss: float
