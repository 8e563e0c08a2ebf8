"""What more training rows would bring: a trend through the losses that fewer rows came to.

The logarithm of the loss by the doublings of the training rows is a local linear trend (Harvey
1989, Forecasting, structural time series models and the Kalman filter): its slope changes from one
doubling to the next by chance, by how much is not known. Losses that a power law describes fall on
a straight line, those that come near what noise leaves flatten, those of networks that begin to
learn with some number of rows fall ever faster; all three are such trends. How much the slope
changes and how far a loss lies off the trend are averaged over, weighted by how well they explain
what was measured; how common each is was learnt from trainings (:mod:`benchmarks.more_rows`).
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

Floats = NDArray[np.float64]

#: By how much the slope may change in a doubling, and how common that is; by how much the rows that
#: happen to be there may move the loss of all of them off the trend, and how common that is: with
#: fewer rows it is more, by the root of their share. Both in natural logarithms of the loss.
_TURNS = ((0.003, 0.04), (0.01, 0.06), (0.03, 0.38), (0.1, 0.25), (0.2, 0.22), (0.4, 0.05))
_MISSES = ((0.001, 0.34), (0.003, 0.22), (0.01, 0.14), (0.03, 0.3))
#: Fall of the loss in a first doubling: its mean and standard deviation.
_FALL = (0.1, 0.2)
#: Variance of the level, which is not known, and draws that intervals are taken from.
_ANY, _DRAWS = 25.0, 4000
#: The least loss, as a share of the highest, that has a logarithm.
_LEAST = 1e-3


@dataclass(frozen=True)
class RowPoint:
    """The loss of a recipe on some training rows: its mean over runs, and its standard error."""

    rows: int
    loss: float
    error: float
    runs: int = 3


@dataclass(frozen=True)
class RowTrend:
    """Losses by training rows, the last of them all there are.

    Attributes
    ----------
    points : tuple of RowPoint
        Rising in rows.
    twice : (float, float, float)
        The loss that twice as many rows are expected to come to, with its 95 % interval.
    gain : (float, float, float)
        By how much that is lower than on all rows.
    """

    points: tuple[RowPoint, ...]
    twice: tuple[float, float, float]
    gain: tuple[float, float, float]

    @property
    def half_widths(self) -> tuple[float | None, ...]:
        """Half of the 95 % interval over seeds of each point; they share one relative error."""
        from scipy.special import stdtrit

        freedoms = sum(p.runs - 1 for p in self.points)
        reach = float(stdtrit(freedoms, 0.975)) * _error(self.points) if freedoms else None
        return tuple(reach and reach * p.loss for p in self.points)


def row_trend(points: Sequence[RowPoint], seed: int = 0) -> RowTrend:
    """Return what more rows would bring.

    Parameters
    ----------
    points : sequence of RowPoint
        At least four, of different rows.
    """
    points = tuple(sorted(points, key=lambda p: p.rows))
    losses = np.array([p.loss for p in points])
    if not losses.max() > 0:  # an error that is 0 everywhere stays it
        return RowTrend(points, (0.0, 0.0, 0.0), (0.0, 0.0, 0.0))
    levels = np.maximum(losses, _LEAST * losses.max())
    doublings = np.log2([p.rows / points[0].rows for p in points])
    drawn = np.exp(_drawn(doublings, np.log(levels), _error(points), np.random.default_rng(seed)))
    drawn[1] = np.minimum(drawn[1], drawn[0])  # more rows do no harm
    return RowTrend(points, _interval(drawn[1]), _interval(drawn[0] - drawn[1]))


def _error(points: Sequence[RowPoint]) -> float:
    """Return the standard error of a point, as a share of its loss: three seeds say little of one,
    so all are taken to be alike.
    """
    least = _LEAST * max(p.loss for p in points)
    own = [p.error / max(p.loss, least) for p in points if p.runs > 1]
    return math.sqrt(sum(error**2 for error in own) / max(len(own), 1))


def _interval(drawn: Floats) -> tuple[float, float, float]:
    low, middle, high = np.quantile(drawn, (0.025, 0.5, 0.975))
    return float(middle), float(low), float(high)


def _drawn(at: Floats, levels: Floats, error: float, rng: np.random.Generator) -> Floats:
    """Return draws (2, S) of the levels at the last place and one doubling further, given levels
    (n,) that were measured at some places with a standard error.
    """
    n = len(at)
    places = np.append(at, at[-1] + 1)
    away = levels - levels.mean() + _FALL[0] * at
    luck = 2.0 ** (at[-1] - places)
    ends = levels.mean() - _FALL[0] * places[n - 1:]
    fits, means, roots = [], [], []
    for turn, often in _TURNS:
        for miss, share in _MISSES:
            own = _covariance(places, turn) + miss**2 * np.diag(luck)
            seen = own[:n, :n] + error**2 * np.eye(n)
            known = np.linalg.solve(seen, np.column_stack([away, own[:n, n - 1:]]))
            fits.append(np.log(often * share) - 0.5 * (away @ known[:, 0]
                                                       + np.linalg.slogdet(seen)[1]))
            means.append(ends + own[n - 1:, :n] @ known[:, 0])
            left = own[n - 1:, n - 1:] - own[n - 1:, :n] @ known[:, 1:]
            roots.append(np.linalg.cholesky(left + 1e-12 * np.eye(2)))
    chance = np.exp(np.array(fits) - max(fits))
    which = rng.choice(len(chance), _DRAWS, p=chance / chance.sum())
    moved = np.einsum("sij,sj->is", np.array(roots)[which], rng.normal(size=(_DRAWS, 2)))
    return np.asarray(np.array(means)[which].T + moved)


def _covariance(places: Floats, turn: float) -> Floats:
    """Return the covariance (m, m) of a local linear trend whose slope changes by `turn`."""
    low, high = np.minimum.outer(places, places), np.maximum.outer(places, places)
    slopes = _FALL[1]**2 * np.outer(places, places)
    return np.asarray(turn**2 * low**2 * (3 * high - low) / 6 + slopes + _ANY)
