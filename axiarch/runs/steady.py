"""What *steady* means: a validation loss after discounting lucky epochs.

The stopping rule, the choice of the weights that are kept, and the ranking all read this one
definition: the mean of the last :data:`WINDOW` epochs. A single lucky epoch moves it by a third of
its luck, and it looks back only, so it is known while the run trains.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from functools import lru_cache

#: Epochs averaged. Two would leave half of an epoch's luck in; five lag too far behind a short
#: training.
WINDOW = 3
#: Epochs up to which what was found is remembered: a longer curve is another one at every look.
_LONG = 500


def smoothed(losses: Sequence[float]) -> float:
    """Return the smoothed validation loss after the last of `losses` (E,), not finite if any of
    them is not.
    """
    recent = losses[-WINDOW:]
    return math.fsum(recent) / len(recent) if all(map(math.isfinite, recent)) else math.inf


def steady(losses: Sequence[float]) -> tuple[int, float]:
    """Return the chosen epoch (from 1) and its steady loss for the validation losses (E,) of a run.

    The chosen epoch is the first with the lowest smoothed loss; epochs before the window is full
    count only while no later one exists.
    """
    return _steady(tuple(losses)) if len(losses) <= _LONG else _steady_of_long(losses)


def _steady_of_long(losses: Sequence[float]) -> tuple[int, float]:
    """Return the same for many epochs: places that rounding might confuse are looked at one by
    one.
    """
    import numpy as np

    y = np.array(losses, np.float64)
    with np.errstate(all="ignore"):
        means = np.convolve(y, np.ones(WINDOW), "valid") / WINDOW
    means[~np.isfinite(means)] = math.inf
    lowest = float(means.min())
    near = np.flatnonzero(means <= lowest +
                          1e-9 * abs(lowest)) if math.isfinite(lowest) else np.zeros(1, np.int64)
    best = min(near.tolist(), key=lambda i: smoothed(losses[i : i + WINDOW]))
    return best + WINDOW, smoothed(losses[best : best + WINDOW])


@lru_cache(maxsize=1 << 16)
def _steady(losses: tuple[float, ...]) -> tuple[int, float]:
    if not losses:
        return 0, math.inf
    start = min(WINDOW, len(losses))
    curve = [smoothed(losses[max(e - WINDOW, 0) : e]) for e in range(start, len(losses) + 1)]
    best = min(range(len(curve)), key=curve.__getitem__)
    return best + start, curve[best]
