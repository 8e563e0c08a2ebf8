"""Where a run stands between two epochs."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from axiarch.engine import codes
from axiarch.engine.network import Array
from axiarch.engine.stopping import StoppingState
from axiarch.errors import TrainingError
from axiarch.recipes.recipe import Recipe


@dataclass
class TrainingState:
    """The state of a run between two epochs: enough to continue it in another process with the same
    bits.

    At epoch 0 it is given weights that the run starts from instead of random ones.

    Attributes
    ----------
    parameters, best_parameters : (P,) arrays
    optimiser : (4, P) array
    epoch : int
        Epochs trained.
    watch : Watch
    kept : (5, P) array, optional
        The weights in training and the optimiser's state as they were after the best epoch.
    """

    parameters: Array
    best_parameters: Array
    optimiser: Array
    epoch: int
    watch: StoppingState
    kept: Array | None = None

    @classmethod
    def from_weights(cls, weights: Array) -> TrainingState:
        """Return where a run starts that is given its first weights (P,)."""
        optimiser = np.zeros((codes.STATES, len(weights)), weights.dtype)
        optimiser[-1] = weights
        return cls(weights, weights, optimiser, 0, StoppingState())

    def at_best(self, recipe: Recipe) -> TrainingState:
        """Return the state after the best epoch, from which a run can continue.

        Raises
        ------
        TrainingError
            If no epoch was kept.
        """
        epoch = self.watch.best_epoch
        if not epoch or self.kept is None:
            raise TrainingError("no epoch of this run was kept", "", "continue from its last epoch")
        return TrainingState(self.kept[0], self.best_parameters, self.kept[1:], epoch,
                        self.watch.rewound(epoch, recipe), self.kept)
