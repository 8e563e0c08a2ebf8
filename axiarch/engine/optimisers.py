"""Optimisers: the numbers that their kernels need, worked out for some epochs at once."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from axiarch.recipes import members
from axiarch.recipes.recipe import Recipe

Floats = NDArray[np.float64]

@dataclass(frozen=True)
class Optimiser:
    """One rule that turns gradients into steps: the numbers that its kernel in ``kernels/steps.py``
    is given.

    Attributes
    ----------
    known : members.Optimiser
    """

    known: members.Optimiser

    def coefficients(self, recipe: Recipe, rates: Floats, steps: Floats) -> Floats:
        """Return the kernel's numbers (T, n) for the rates (T,) and the numbers (T,), from 1, of
        T steps.
        """
        names = (self.known.rate, "l2", self.known.decay, *self.known.columns)
        return np.stack(
            [np.broadcast_to(COLUMNS[name](recipe, rates, steps), rates.shape) for name in names],
            axis=1)


Column = Callable[[Recipe, Floats, Floats], Floats | float]


def _value(name: str) -> Column:
    return lambda recipe, rates, steps: recipe.real(name)


def _rest(name: str) -> Column:
    return lambda recipe, rates, steps: 1.0 - recipe.real(name)


def _correction(recipe: Recipe, rates: Floats, steps: Floats) -> Floats:
    """What makes up for a running mean that began at zero (Kingma & Ba 2015)."""
    corrected: Floats = 1.0 / (1.0 - recipe.real("beta1") ** steps)
    return corrected


def _root(recipe: Recipe, rates: Floats, steps: Floats) -> Floats:
    """The same for the root of the running square."""
    corrected: Floats = 1.0 / np.sqrt(1.0 - recipe.real("beta2") ** steps)
    return corrected


def _ahead(recipe: Recipe, rates: Floats, steps: Floats) -> Floats:
    """What the running mean counts in a step that looks ahead (Dozat 2016)."""
    beta = recipe.real("beta1")
    counts: Floats = beta / (1.0 - beta ** (steps + 1))
    return counts


#: What a kernel may be given for each step, from a recipe, the rates (T,) and the numbers of the
#: steps (T,).
COLUMNS: Mapping[str, Column] = {
    "rate": lambda recipe, rates, steps: rates,
    "number": lambda recipe, rates, steps: steps,
    "corrected rate": lambda recipe, rates, steps: rates * _correction(recipe, rates, steps),
    "l2": _value("l2"),
    "decay": lambda recipe, rates, steps: rates * recipe.real("weight_decay"),
    "strength": _value("weight_decay"),
    "momentum": _value("momentum"),
    "beta1": _value("beta1"),
    "rest of beta1": _rest("beta1"),
    "beta2": _value("beta2"),
    "rest of beta2": _rest("beta2"),
    "rho": _value("rho"),
    "rest of rho": _rest("rho"),
    "epsilon": _value("epsilon"),
    "correction": _correction,
    "root": _root,
    "ahead": _ahead,
    "now": lambda recipe, rates, steps:
    (1.0 - recipe.real("beta1")) * _correction(recipe, rates, steps),
}

#: By name.
OPTIMISERS: Mapping[str, Optimiser] = {
    name: Optimiser(known) for name, known in members.OPTIMISERS.items()
}
