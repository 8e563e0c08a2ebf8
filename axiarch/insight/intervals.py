"""95 % intervals of metrics, from their redraws over rows.

A redraw of rows that are all right is all right again, so shares near 0 or 1 have intervals of
their own: Wilson's (1927), which for a share of 1 reaches down to what so few rows can rule out.
Levels above 0, such as errors, are taken by their logarithm with Student's t.
"""

from __future__ import annotations

import math

import numpy as np
from numpy.typing import NDArray

Floats = NDArray[np.float64]
#: A metric with the two ends of its interval.
Interval = list[float]
#: Half a 95 % interval of a normal distribution, in its standard deviations.
_Z = 1.959964


def effective_rows(share: float, drawn: Floats, rows: float, runs: int = 1) -> float:
    """Return how many rows of a single run would say as much of a share.

    Parameters
    ----------
    drawn : (B,) array
        Its redraws: their variance says how much several runs on the same rows agree.
    rows : float
        Rows that it is a share of.
    runs : int
        Runs on the same rows that it is the mean of.
    """
    spread = float(drawn.var())
    if not 0 < share < 1 or spread == 0:
        return rows
    return min(max(share * (1 - share) / spread, rows), runs * rows)


def of_share(share: float, rows: float) -> Interval:
    """Return a share, measured on a number of rows, with its interval."""
    if rows <= 0:
        return [share, 0.0, 1.0]
    middle = (share + _Z**2 / (2 * rows)) / (1 + _Z**2 / rows)
    half = _Z / (1 + _Z**2 / rows) * math.sqrt(share * (1 - share) / rows + (_Z / rows) ** 2 / 4)
    return [share, max(middle - half, 0.0), min(middle + half, 1.0)]


def of_f1(f1: float, drawn: Floats, rows: float, runs: int = 1) -> Interval:
    """Return an F1 with its interval, by way of the share that it rises with: of `rows` that are of
    a class or predicted as it, those that are both.
    """
    share = f1 / (2 - f1)
    _, low, high = of_share(share, effective_rows(share, drawn / (2 - drawn), rows, runs))
    return [f1, 2 * low / (1 + low), 2 * high / (1 + high)]


def of_mean(shares: Floats, rows: Floats) -> Interval:
    """Return the mean of independent shares (C,) with its interval; `rows` (C,) is how many each
    was measured on.

    It is the wider of two, at each end: from the intervals of the shares (Zou & Donner 2008), too
    narrow above where most of them are 1, and that of a single share as uncertain, with one more
    row right and one wrong in each (Agresti & Caffo 2000), too narrow where one has few rows.
    """
    mean, classes = float(shares.mean()), len(shares)
    ends = np.array([of_share(share, n) for share, n in zip(shares, rows, strict=True)])
    below, above = np.sqrt(((ends[:, 1:] - ends[:, :1]) ** 2).sum(0)) / classes
    softened = (shares * rows + 1) / (rows + 2)
    spread = float((softened * (1 - softened) / (rows + 2)).sum()) / classes**2
    middle = float(softened.mean())
    _, low, high = of_share(mean, middle * (1 - middle) / spread)
    return [mean, min(low, mean - float(below)), max(high, mean + float(above))]


def of_level(level: float, drawn: Floats, rows: int) -> Interval:
    """Return a positive level, measured on a number of rows, with its interval."""
    from scipy.special import stdtrit

    if rows < 2 or not level > 0 or not (drawn > 0).any():
        return [level, level, level]
    reach = float(stdtrit(rows - 1, 0.975)) * float(np.log(drawn[drawn > 0]).std())
    return [level, level * math.exp(-reach), level * math.exp(reach)]
