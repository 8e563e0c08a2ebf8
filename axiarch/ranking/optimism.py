"""By how much a winner's loss is too low because it was chosen for being low.

What the recipes' true losses look like is learnt from all of them (the mixing distribution of
greatest likelihood; Kiefer & Wolfowitz 1956, Jiang & Zhang 2009), and the winner's true loss is
expected to be the mean of what that leaves possible. Unlike the loss itself, this is no less true
of a winner (Efron 2011). Errors are Student's t, since their size is an estimate as well.
"""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

Floats = NDArray[np.float64]

#: Places that a true loss may take, between the lowest loss and the highest that matters.
_PLACES = 160
#: Steps of the EM algorithm. More change the mean by less than a hundredth of its error.
_STEPS = 200
#: Recipes that are worse than the winner by so many errors cannot be why it won.
_NEAR = 10.0
#: Recipes looked at, the best ones: more change nothing.
_MOST = 400


def optimism(levels: Floats, errors: Floats, freedoms: Floats) -> float | None:
    """Return by how much the lowest of the levels (K,) is expected to be too low.

    Parameters
    ----------
    levels : (K,) array
        Losses, the lowest first.
    errors : (K,) array
        Their standard errors: of what tells recipes apart, not of what all share.
    freedoms : (K,) array

    Returns
    -------
    float or None
        None where fewer than two recipes can be compared.
    """
    near = levels <= levels[0] + _NEAR * max(float(errors[0]), float(np.median(errors)))
    y, spread, freedom = (each[near][:_MOST] for each in (levels, errors, freedoms))
    if len(y) < 2 or y.max() <= y[0] or not (spread > 0).all():
        return None if len(levels) < 2 else 0.0
    places = np.linspace(y[0], float(y.max()), _PLACES)
    # t with many degrees of freedom is the normal distribution
    power = (np.minimum(freedom, 1e4)[:, None] + 1) / 2
    squares = ((y[:, None] - places) / spread[:, None]) ** 2
    logs = -power * np.log1p(squares / (2 * power - 1))
    likely = np.exp(logs - logs.max(1, keepdims=True))
    shares = np.full(_PLACES, 1 / _PLACES)
    for _ in range(_STEPS):
        weights = likely * shares
        shares = (weights / weights.sum(1, keepdims=True)).mean(0)
    weights = likely[0] * shares
    return float(weights @ places / weights.sum() - y[0])
