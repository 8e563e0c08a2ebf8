"""Which recipes may be the best: multiple comparison with the best (Hsu 1984; Edwards & Hsu 1983).

A recipe is ruled out as the best where another is lower by more than the one-sided critical value
of Dunnett (1955) times the standard error of their difference. The best recipe is ruled out in at
most 5 % of all searches, however many recipes are compared.
"""

from __future__ import annotations

import math
from functools import lru_cache

import numpy as np

#: Confidence of intervals, of ties and of claims.
CONFIDENCE = 0.95
#: Degrees of freedom from which they are rounded, and the step between them.
_COARSE, _STEP = 10.0, 1.025
#: Points of the quadratures.
_POINTS = 64


def quantile(freedom: float, tail: float = (1 - CONFIDENCE) / 2) -> float:
    """Return the upper quantile of Student's t: by default for a two-sided interval."""
    return _quantile(round(min(max(freedom, 1.0), 1e6), 1), tail)


@lru_cache(4096)
def _quantile(freedom: float, tail: float) -> float:
    from scipy.special import stdtrit

    return float(stdtrit(freedom, 1 - tail))


def critical(others: int, freedom: float) -> float:
    """Return the one-sided critical value for comparing one recipe with `others` (Dunnett 1955).

    Exact for equal errors; by Slepian's inequality (1962) on the safe side of none that matter
    where they differ. From ten degrees of freedom on, these are rounded down by up to a fortieth,
    which raises the value by less than 0.02.
    """
    freedom = round(min(max(freedom, 1.0), 1000.0), 1)
    if freedom > _COARSE and others > 1:
        steps = math.floor(math.log(freedom / _COARSE) / math.log(_STEP) + 1e-9)
        freedom = round(_COARSE * _STEP**steps, 1)
    return _critical(max(others, 1), freedom)


@lru_cache(1)
def _quadratures() -> tuple[np.ndarray, ...]:
    """Return nodes and weights of Hermite's quadrature, and of Legendre's."""
    nodes, weights = np.polynomial.hermite_e.hermegauss(_POINTS)
    return nodes, weights / weights.sum(), *np.polynomial.legendre.leggauss(_POINTS)


@lru_cache(4096)
def _critical(others: int, freedom: float) -> float:
    from scipy.optimize import brentq
    from scipy.special import chdtri, ndtr

    if others == 1:
        return _quantile(freedom, 1 - CONFIDENCE)
    nodes, weights, shares, share_weights = _quadratures()
    scales = np.sqrt(chdtri(freedom, (1 - shares) / 2) / freedom)

    def missing(value: float) -> float:
        inner = ndtr(math.sqrt(2) * value * scales[:, None] + nodes) ** others
        return float((inner @ weights) @ share_weights / 2) - CONFIDENCE

    # It is above the quantile for one comparison, and below that of as many independent ones as
    # Bonferroni allows for.
    low, high = (_quantile(freedom, (1 - CONFIDENCE) / many) for many in (1, others))
    return float(brentq(missing, 0.99 * low, 1.01 * high, xtol=1e-4))
