"""One epoch of a run: the numbers that are measured, journalled and drawn."""

from __future__ import annotations

from dataclasses import dataclass, fields, replace

#: Numbers of a layer with weights: the norm of its gradient, the share of dead units, how far the
#: last step moved its weights relative to their size, and the share of saturated units.
Layer = tuple[float, float, float, float]


@dataclass(frozen=True)
class Epoch:
    """What one epoch of a run measured. Every field is a column of the journal.

    Losses are mean cross-entropies in nats, or root mean squared errors in the target's unit;
    penalties are left out. Where recipes are ranked by a metric, `train_loss_eval` and
    `validation_loss` are what is lowered instead, and the loss is the first metric. A number that
    was not finite is read back from the journal as infinity.

    Attributes
    ----------
    run : int
        The run's number in the journal.
    epoch : int
        From 1.
    train_loss : float
        The loss, averaged while training, with dropout on and the weights still moving.
    train_loss_eval : float
        Of the weights after the epoch, in inference mode, on a fixed sample of training rows as
        large as the validation part: the one to compare with `validation_loss`.
    validation_loss : float
        On the validation rows, in inference mode.
    metrics : tuple of float
        What else is measured there: the accuracy, or errors of amounts.
    learning_rate : float
        Of the epoch's last step.
    gradient_norm : float
        Euclidean norm of the gradient at the epoch's last step, as the optimiser took it: after
        the pull of L1 and after clipping.
    seconds : float
        Of training and evaluation.
    layers : tuple of Layer
        Of each layer with weights.
    waited : float
        Of these seconds, those spent waiting for rows of data larger than memory.
    loss_gradient : float
        Euclidean norm of the gradient of the loss alone at that step, before L1 and clipping; 0
        where it was not measured.
    sample_loss : float
        The loss on the sample of training rows, where `train_loss_eval` is another measure of it;
        else 0.
    """

    run: int
    epoch: int
    train_loss: float
    train_loss_eval: float
    validation_loss: float
    metrics: tuple[float, ...]
    learning_rate: float
    gradient_norm: float
    seconds: float
    layers: tuple[Layer, ...] = ()
    waited: float = 0.0
    loss_gradient: float = 0.0
    sample_loss: float = 0.0

    @property
    def by_loss(self) -> Epoch:
        """An epoch that was measured by a metric, by its loss."""
        return replace(self, train_loss_eval=self.sample_loss, validation_loss=self.metrics[0])


#: The columns of an epoch in the journal, in the order of the fields.
COLUMNS = tuple(field.name for field in fields(Epoch))
