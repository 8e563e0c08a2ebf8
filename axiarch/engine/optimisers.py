"""Optimisers: a kernel that makes one step, and the numbers it needs, worked out for a whole epoch at once."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from axiarch.engine import kernels
from axiarch.recipes.recipe import Recipe

Floats = NDArray[np.float64]

#: Columns of the table of coefficients; an optimiser may use fewer.
COEFFICIENTS = 11
#: Flat buffers of state a run owns: an optimiser may use all but the last, which holds the running mean of weights.
STATES = 4


@dataclass(frozen=True)
class Optimiser:
    """One rule that turns gradients into steps.

    Attributes
    ----------
    step : callable
        Kernel ``(w, g, state, coefficients, slots, weights, starts)`` of :mod:`axiarch.engine.kernels`.
    coefficients : callable
        From a recipe, the rates (T,) and the step numbers (T,) from 1 to a table (T, n).
    states : int
        Flat buffers of state it keeps.
    scales_decay : bool
        Whether the decay is part of a step that it scales as a whole.
    """

    step: Callable[..., Any]
    coefficients: Callable[[Recipe, Floats, Floats], Floats]
    states: int
    scales_decay: bool = False


def _common(recipe: Recipe, rates: Floats) -> list[Floats]:
    """Rate, L2 strength and decoupled decay, which every optimiser has."""
    return [rates, np.full_like(rates, recipe.real("l2")), rates * recipe.real("weight_decay")]


def _sgd(recipe: Recipe, rates: Floats, steps: Floats) -> Floats:
    return np.stack(_common(recipe, rates), axis=1)


def _momentum(recipe: Recipe, rates: Floats, steps: Floats) -> Floats:
    return np.stack([*_common(recipe, rates), np.full_like(rates, recipe.real("momentum"))], axis=1)


def _adam(recipe: Recipe, rates: Floats, steps: Floats) -> Floats:
    beta1, beta2 = recipe.real("beta1"), recipe.real("beta2")
    _, l2, decay = _common(recipe, rates)
    corrected = rates / (1.0 - beta1**steps)
    root = 1.0 / np.sqrt(1.0 - beta2**steps)
    fixed = [np.full_like(rates, v) for v in (beta1, 1.0 - beta1, beta2, 1.0 - beta2)]
    return np.stack([corrected, l2, decay, *fixed, root, np.full_like(rates, recipe.real("epsilon"))], axis=1)


def _adagrad(recipe: Recipe, rates: Floats, steps: Floats) -> Floats:
    return np.stack([*_common(recipe, rates), np.full_like(rates, recipe.real("epsilon"))], axis=1)


def _rho(recipe: Recipe, rates: Floats, steps: Floats) -> Floats:
    rho = recipe.real("rho")
    fixed = [np.full_like(rates, v) for v in (rho, 1.0 - rho, recipe.real("epsilon"))]
    return np.stack([*_common(recipe, rates), *fixed], axis=1)


def _nadam(recipe: Recipe, rates: Floats, steps: Floats) -> Floats:
    beta1 = recipe.real("beta1")
    table = _adam(recipe, rates, steps)
    table[:, 0] = rates
    ahead, now = beta1 / (1.0 - beta1 ** (steps + 1)), (1.0 - beta1) / (1.0 - beta1**steps)
    return np.concatenate([table, ahead[:, None], now[:, None]], axis=1)


def _lion(recipe: Recipe, rates: Floats, steps: Floats) -> Floats:
    table: Floats = _adam(recipe, rates, steps)[:, :7]
    table[:, 0] = rates
    return table


def _lamb(recipe: Recipe, rates: Floats, steps: Floats) -> Floats:
    table = _adam(recipe, rates, steps)
    table[:, 0], table[:, 2] = rates, recipe.real("weight_decay")
    return np.concatenate([table, 1.0 / (1.0 - recipe.real("beta1") ** steps)[:, None]], axis=1)


#: By name. Decoupled decay is there for all of them: adam with ``weight_decay`` is AdamW.
OPTIMISERS: Mapping[str, Optimiser] = {
    "sgd": Optimiser(kernels.sgd_step, _sgd, 0),
    "momentum": Optimiser(kernels.momentum_step, _momentum, 1),
    "nesterov": Optimiser(kernels.nesterov_step, _momentum, 1),
    "adagrad": Optimiser(kernels.adagrad_step, _adagrad, 1),
    "adadelta": Optimiser(kernels.adadelta_step, _rho, 2),
    "rmsprop": Optimiser(kernels.rmsprop_step, _rho, 1),
    "adam": Optimiser(kernels.adam_step, _adam, 2),
    "nadam": Optimiser(kernels.nadam_step, _nadam, 2),
    "amsgrad": Optimiser(kernels.amsgrad_step, _adam, 3),
    "lion": Optimiser(kernels.lion_step, _lion, 1),
    "lamb": Optimiser(kernels.lamb_step, _lamb, 2, scales_decay=True),
}
