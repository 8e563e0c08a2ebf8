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
    where they differ.
    """
    return _critical(max(others, 1), round(min(max(freedom, 1.0), 1000.0), 1))


@lru_cache(4096)
def _critical(others: int, freedom: float) -> float:
    from scipy.optimize import brentq
    from scipy.special import ndtr
    from scipy.stats import chi2

    if others == 1:
        return _quantile(freedom, 1 - CONFIDENCE)
    nodes, weights = np.polynomial.hermite_e.hermegauss(_POINTS)
    weights = weights / weights.sum()
    shares, share_weights = np.polynomial.legendre.leggauss(_POINTS)
    scales = np.sqrt(chi2.ppf((shares + 1) / 2, freedom) / freedom)

    def missing(value: float) -> float:
        inner = ndtr(math.sqrt(2) * value * scales[:, None] + nodes) ** others
        return float((inner @ weights) @ share_weights / 2) - CONFIDENCE

    return float(brentq(missing, 0.0, 60.0 if freedom < 3 else 20.0, xtol=1e-4))
