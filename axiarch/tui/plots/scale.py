"""Axes: from numbers to positions, with round ticks."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from axiarch.text import number

Floats = NDArray[np.float64]


@dataclass(frozen=True)
class Scale:
    """An axis from `low` to `high`, straight or logarithmic; of whole numbers, it has no ticks
    between them.
    """

    low: float
    high: float
    log: bool = False
    whole: bool = False

    def at(self, values: Floats | Sequence[float] | float) -> Floats:
        """Return where values stand: 0 at `low`, 1 at `high`; not finite where there is no such
        place.
        """
        array = np.asarray(values, dtype=np.float64)
        with np.errstate(all="ignore"):
            if self.log:
                return np.asarray((np.log(array) - math.log(self.low)) /
                                  (math.log(self.high) - math.log(self.low)))
            return np.asarray((array - self.low) / (self.high - self.low))

    def ticks(self, most: int) -> list[float]:
        """Return at most about `most` round numbers within the axis."""
        if self.log:
            return _log_ticks(self, most)
        return _ticks(self.low, self.high, min(most, self.high - self.low) if self.whole else most)

    def label(self, tick: float) -> str:
        """Return a tick as text."""
        if not self.log and self.high - self.low > 0 and abs(tick) < (self.high - self.low) * 1e-9:
            return "0"
        return number(tick, 4)


def _ticks(low: float, high: float, most: float) -> list[float]:
    span = high - low
    if span <= 0 or most < 1:
        return [low]
    rough = span / max(most, 1)
    power = 10.0 ** math.floor(math.log10(rough))
    nice = (1, 2, 5, 10) if power == 1 else (1, 2, 2.5, 5,
                                             10)  # two and a half epochs there are not
    step = next(m * power for m in nice if m * power >= rough * 0.999)
    first = math.ceil(low / step - 1e-9)
    count = int((high - first * step) / step + 1e-9) + 1
    return [float(f"{(first + i) * step:.14g}") for i in range(max(count, 0))]


def _log_ticks(scale: Scale, most: int) -> list[float]:
    first, last = math.ceil(math.log10(scale.low) - 1e-9), math.floor(math.log10(scale.high) + 1e-9)
    decades = [10.0**e for e in range(first, last + 1)]
    if len(decades) < 2:
        return [t for t in _ticks(scale.low, scale.high, most) if t >= scale.low]
    return decades[:: max(1, -(-len(decades) // most))]


def span_of(values: Floats, *more: float, margin: float = 0.04, log: bool = False) -> Scale:
    """Return an axis that holds all finite `values` and `more`, with a little room."""
    found = np.concatenate([np.ravel(values), np.array(more, dtype=np.float64)])
    found = found[np.isfinite(found)]
    if log:
        found = found[found > 0]
    if found.size == 0:
        return Scale(0.1 if log else 0.0, 1.0, log)
    low, high = float(found.min()), float(found.max())
    if log:
        return Scale(low / 1.1, high * 1.1, True)
    room = (high - low) * margin or abs(high) * 0.1 or 0.5
    return Scale(low - room, high + room)
