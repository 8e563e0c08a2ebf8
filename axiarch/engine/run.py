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
class EpochNumbers:
    """What one epoch of a run measured.

    Losses are mean cross-entropies in nats, or root mean squared errors in the target's unit;
    penalties are left out.

    Attributes
    ----------
    epoch : int
        From 1.
    train_loss : float
        Averaged while training, with dropout on and the weights still moving.
    train_loss_still : float
        Of the weights after the epoch, in inference mode, on a fixed sample of training rows as
        large as the validation part: the one to hold against `validation_loss`.
    validation_loss : float
        On the validation rows, in inference mode.
    metrics : tuple of float
        What else is measured there: the accuracy, or errors of amounts.
    learning_rate : float
        Of the epoch's last step.
    gradient_norm : float
        Euclidean norm of the gradient at the epoch's last step, as the optimiser took it: after the
        pull of L1 and after clipping.
    seconds : float
        Of training and evaluation.
    layers : tuple
        Of each layer with weights: the gradient's norm, the share of dead units, how far the last
        step moved its weights against their size, and the share of saturated units.
    waited : float
        Of these seconds, those spent waiting for rows of data larger than memory.
    loss_gradient : float
        Euclidean norm of the gradient of the loss alone at that step, before L1 and clipping.
    """

    epoch: int
    train_loss: float
    train_loss_still: float
    validation_loss: float
    metrics: tuple[float, ...]
    learning_rate: float
    gradient_norm: float
    seconds: float
    layers: tuple[tuple[float, float, float, float], ...] = ()
    waited: float = 0.0
    loss_gradient: float = 0.0


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
