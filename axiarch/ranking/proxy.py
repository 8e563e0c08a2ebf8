"""Whether a cheaper training tells the order of the full one: rank correlation among the best, with
its interval.

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
#: Half a 95 % interval of a normal law, in its spreads.
_NORMAL = 1.959964


@dataclass(frozen=True)
class Agreement:
    """How the order by a cheaper training agrees with that by the full one.

    Attributes
    ----------
    what : str
        The cheaper training, such as ``12 epochs``.
    share : float
        Of the whole: of its epochs, rows, pixels or units.
    correlation, low, high : float
        Spearman's rank correlation, and its 95 % interval (Fisher 1915, with the variance of
        Bonett & Wright 2000).
    recipes : int
        That it was taken over.
    """

    what: str
    share: float
    correlation: float
    low: float
    high: float
    recipes: int


def agreement(what: str, share: float, small: Sequence[float], full: Sequence[float]
              ) -> Agreement | None:
    """Return how the losses of recipes (R,) under a cheaper training order them as those under the
    full one do; None where there are fewer than four recipes, or all losses of one are equal.
    """
    from scipy.stats import spearmanr

    if len(full) < 4 or len(set(small)) < 2 or len(set(full)) < 2:
        return None
    correlation = float(spearmanr(small, full).statistic)
    reach = _NORMAL * math.sqrt((1 + correlation**2 / 2) / (len(full) - 3))
    z = math.atanh(min(max(correlation, -0.9999), 0.9999))
    return Agreement(what, share, correlation, math.tanh(z - reach), math.tanh(z + reach),
                     len(full))


def best_half(losses: Sequence[float]) -> list[int]:
    """Return the places of the better half of some losses (R,), best first: eight at least, or
    all where there are no more.
    """
    order = sorted(range(len(losses)), key=losses.__getitem__)
    return order[: max(len(order) // 2, min(len(order), FEWEST))]


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
    known = [tuple(c) for c in curves if c and all(map(math.isfinite, c))]
    ends = [steady(c)[1] for c in known]
    best = best_half(ends)
    if len(best) < FEWEST:
        return []
    longest = max(len(known[i]) for i in best)
    found: dict[int, Agreement | None] = {}
    for share in SHARES:
        epochs = max(round(share * longest), 1)
        then = [steady(known[i][:epochs])[1] for i in best]
        found[epochs] = agreement(f"{epochs} epoch{'s' if epochs > 1 else ''}", epochs / longest,
                                  then, [ends[i] for i in best])
    return [each for each in found.values() if each is not None]


def smallest(found: Sequence[Agreement], least: float = 0.6) -> Agreement | None:
    """Return the cheapest training whose order surely agrees, from there on; None for none."""
    kept = None
    for each in sorted(found, key=lambda a: -a.share):
        if each.low < least:
            break
        kept = each
    return kept
