"""Whether few epochs tell the order at the end: rank correlation among the best, with its interval.

Recipes that fail are told from good ones by any proxy; what matters is the order among the best. Of
the recipes that were trained in full, the better half by their end is compared.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass

from axiarch.runs.steady import steady

#: Shares of the epochs that are looked at, and recipes that are needed.
SHARES, FEWEST = (1 / 27, 1 / 9, 1 / 3, 2 / 3), 8


@dataclass(frozen=True)
class Agreement:
    """How the order after some epochs agrees with that at the end.

    Attributes
    ----------
    epochs : int
    share : float
        Of the whole training.
    correlation, low, high : float
        Spearman's rank correlation among the better half, and its 95 % interval (Fisher 1915, with
        the variance of Bonett & Wright 2000).
    recipes : int
        That it was taken over.
    """

    epochs: int
    share: float
    correlation: float
    low: float
    high: float
    recipes: int


def agreements(curves: Sequence[Sequence[float]]) -> list[Agreement]:
    """Return how the order after few epochs agrees with that at the end.

    Parameters
    ----------
    curves : sequence of (E,) sequences
        Validation losses of recipes that came to their own end, one run each.

    Returns
    -------
    list of Agreement
        By rising epochs; none where there are too few recipes.
    """
    from scipy.stats import spearmanr

    known = [tuple(c) for c in curves if c and all(map(math.isfinite, c))]
    ends = [steady(c)[1] for c in known]
    order = sorted(range(len(known)), key=ends.__getitem__)
    best = [known[i] for i in order[: max(len(order) // 2, min(len(order), FEWEST))]]
    if len(best) < FEWEST:
        return []
    longest = max(map(len, best))
    found = []
    for share in SHARES:
        epochs = max(round(share * longest), 1)
        then = [steady(c[:epochs])[1] for c in best]
        correlation = float(spearmanr(then, [steady(c)[1] for c in best]).statistic)
        if not math.isfinite(correlation):
            continue
        reach = 1.959964 * math.sqrt((1 + correlation**2 / 2) / (len(best) - 3))
        z = math.atanh(min(max(correlation, -0.9999), 0.9999))
        found.append(Agreement(epochs, epochs / longest, correlation, math.tanh(z - reach),
                               math.tanh(z + reach), len(best)))
    return list({each.epochs: each for each in found}.values())


def smallest(found: Sequence[Agreement], least: float = 0.6) -> Agreement | None:
    """Return the fewest epochs whose order surely agrees, from there on; None for none."""
    kept = None
    for each in sorted(found, key=lambda a: -a.epochs):
        if each.low < least:
            break
        kept = each
    return kept
