"""The epochs of one run, in order, and what is read from them."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from functools import cached_property
from typing import TYPE_CHECKING, Any

from axiarch.runs.epoch import Epoch
from axiarch.runs.steady import steady

if TYPE_CHECKING:
    import numpy as np
    from numpy.typing import NDArray


@dataclass(frozen=True)
class Curve:
    """The epochs (E,) of one run.

    Attributes
    ----------
    epochs : tuple of Epoch
    spent : tuple of int
        For each epoch, how many epochs of all runs had been journalled when it was.
    """

    epochs: tuple[Epoch, ...] = ()
    spent: tuple[int, ...] = ()

    def __len__(self) -> int:
        return len(self.epochs)

    def extended(self, more: Sequence[tuple[Epoch, int]]) -> Curve:
        """Return the curve with `more` epochs, each with what was spent by then."""
        return Curve(self.epochs + tuple(epoch for epoch, _ in more),
                     self.spent + tuple(spent for _, spent in more))

    def column(self, name: str) -> tuple[Any, ...]:
        """Return one number of every epoch (E,), by the name of its field."""
        return tuple(getattr(epoch, name) for epoch in self.epochs)

    @cached_property
    def train_loss(self) -> tuple[float, ...]:
        """The training loss of each epoch, measured while training."""
        return self.column("train_loss")

    @cached_property
    def train_loss_eval(self) -> tuple[float, ...]:
        """The training loss of each epoch in inference mode."""
        return self.column("train_loss_eval")

    @cached_property
    def validation(self) -> tuple[float, ...]:
        """The validation loss of each epoch."""
        return self.column("validation_loss")

    @cached_property
    def metrics(self) -> tuple[tuple[float, ...], ...]:
        """The metrics of each epoch."""
        return self.column("metrics")

    @cached_property
    def learning_rate(self) -> tuple[float, ...]:
        """The learning rate of each epoch's last step."""
        return self.column("learning_rate")

    @cached_property
    def gradient_norm(self) -> tuple[float, ...]:
        """The norm of the gradient at each epoch's last step, as the optimiser took it."""
        return self.column("gradient_norm")

    @cached_property
    def loss_gradient(self) -> tuple[float, ...]:
        """The norm of the gradient of the loss alone at each epoch's last step."""
        return self.column("loss_gradient")

    @cached_property
    def seconds(self) -> tuple[float, ...]:
        """The seconds of each epoch."""
        return self.column("seconds")

    @cached_property
    def waited(self) -> tuple[float, ...]:
        """Of the seconds of each epoch, those spent waiting for rows."""
        return self.column("waited")

    @cached_property
    def layers(self) -> tuple[tuple[tuple[float, float, float, float], ...], ...]:
        """The numbers of each layer, for each epoch."""
        return self.column("layers")

    @cached_property
    def steady(self) -> float:
        """The steady loss so far."""
        return steady(self.validation)[1]

    @cached_property
    def dead(self) -> tuple[float, ...]:
        """The share of dead or saturated units in the worst layer, for each epoch; 0 where it
        was not measured.
        """
        return tuple(
            max((max(layer[1], layer[3]) for layer in epoch), default=0.0) for epoch in self.layers)

    @cached_property
    def waiting(self) -> float:
        """The share of the time that was spent waiting for rows."""
        return sum(self.waited) / self.total_seconds if self.total_seconds > 0 else 0.0

    @cached_property
    def total_seconds(self) -> float:
        """The seconds that all epochs took."""
        return sum(self.seconds)

    @cached_property
    def against_budget(self) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
        """`spent` and `validation` as arrays (E,), for drawing."""
        import numpy as np

        return np.array(self.spent, dtype=np.float64), np.array(self.validation)
