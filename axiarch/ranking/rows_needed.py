"""What more training rows would bring: a power law through the losses that fewer rows came to.

Losses fall with the training rows as ``a + b n^-c`` (Cortes et al. 1994; Hestness et al. 2017).
What twice as many rows would come to is read from the law, its interval from laws through losses
drawn anew from what is known of each.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

Floats = NDArray[np.float64]

#: Powers that are tried, and draws that the interval is taken from.
_POWERS, _DRAWS = np.linspace(0.1, 1.5, 29), 400
#: Student's t over the normal quantile, for the ten degrees of freedom of five means of three.
_FEW = 1.14


@dataclass(frozen=True)
class RowPoint:
    """The loss of a recipe on some training rows: its mean over seeds, and its standard error."""

    rows: int
    loss: float
    error: float


@dataclass(frozen=True)
class RowLaw:
    """Losses by training rows, the last of them all there are.

    Attributes
    ----------
    points : tuple of RowPoint
        Rising in rows.
    twice : (float, float, float)
        The loss that twice as many rows are expected to come to, with its 95 % interval.
    gain : (float, float, float)
        By how much that is lower than on all rows.
    power : float
        The power c of the law.
    """

    points: tuple[RowPoint, ...]
    twice: tuple[float, float, float]
    gain: tuple[float, float, float]
    power: float


def row_law(points: Sequence[RowPoint], seed: int = 0) -> RowLaw:
    """Return what more rows would bring.

    Parameters
    ----------
    points : sequence of RowPoint
        At least four, of different rows.
    """
    points = tuple(sorted(points, key=lambda p: p.rows))
    rows = np.array([float(p.rows) for p in points])
    losses = np.array([p.loss for p in points])
    known = np.array([p.error for p in points if p.error > 0])
    # three seeds say little of one error: they are taken to be alike
    error = float(np.sqrt((known**2).mean())) if len(known) else 0.01 * float(losses.mean())
    ends, powers, misfits = _fitted(rows, losses[None])
    # what the law misses is doubt as well
    missed = math.sqrt(float(misfits[0]) / max(len(points) - 3, 1))
    spread = max(error, missed) * _FEW
    rng = np.random.default_rng(seed)
    drawn = losses + spread * rng.normal(size=(_DRAWS, len(points)))
    others = _fitted(rows, drawn)[0]
    low, high = np.quantile(others, (0.025, 0.975))
    gains = drawn[:, -1] - others
    least, most = np.quantile(gains, (0.025, 0.975))
    twice = float(ends[0])
    return RowLaw(points, (twice, float(low), float(high)),
                  (float(losses[-1]) - twice, float(least), float(most)), float(powers[0]))


def _fitted(rows: Floats, losses: Floats) -> tuple[Floats, Floats, Floats]:
    """Return, for losses (S, n) on rows (n,), the loss on twice the most rows by the law that fits
    best (S,), its power (S,), and its squared misfit (S,).
    """
    x = (rows / rows[-1]) ** -_POWERS[:, None]  # (P, n)
    centred = x - x.mean(1, keepdims=True)
    away = losses - losses.mean(1, keepdims=True)
    # b at least 0, for more rows do no harm, and a too, for no loss is below 0: (S, P)
    slope = np.maximum(away @ centred.T / (centred**2).sum(1), 0.0)
    level = losses.mean(1)[:, None] - slope * x.mean(1)
    below = level < 0
    slope = np.where(below, losses @ x.T / (x**2).sum(1), slope)
    level = np.where(below, 0.0, level)
    misfit = ((losses[:, None] - level[..., None] - slope[..., None] * x) ** 2).sum(-1)
    best = misfit.argmin(1)
    every = np.arange(len(losses))
    ends = level[every, best] + slope[every, best] * 2.0 ** -_POWERS[best]
    return ends, _POWERS[best], misfit[every, best]
