"""Learning-rate schedules: pure functions of the step, so that they can be drawn before any training."""

from __future__ import annotations

from collections.abc import Callable, Mapping

import numpy as np
from numpy.typing import NDArray

from axiarch.recipes.recipe import Recipe

Floats = NDArray[np.float64]
Schedule = Callable[[Recipe, Floats, int], Floats]


def constant(recipe: Recipe, steps: Floats, per_epoch: int) -> Floats:
    """The same factor 1 at all `steps` (T,)."""
    return np.ones_like(steps)


def exponential(recipe: Recipe, steps: Floats, per_epoch: int) -> Floats:
    """``rate_decay ** (step / per_epoch)`` at `steps` (T,), falling at every step."""
    return np.power(recipe.real("rate_decay"), steps / per_epoch)


#: Factor on the learning rate, by name.
SCHEDULES: Mapping[str, Schedule] = {"constant": constant, "exponential": exponential}


def rates(recipe: Recipe, first: int, count: int, per_epoch: int) -> Floats:
    """Return the learning rates (T,) of `count` T steps from number `first` (from 0), `per_epoch` steps an epoch."""
    steps = np.arange(first, first + count, dtype=np.float64)
    return recipe.real("learning_rate") * SCHEDULES[recipe.word("schedule")](recipe, steps, per_epoch)
