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

    def labels(self, most: int) -> list[tuple[float, str]]:
        """Return at most about `most` round numbers within the axis, each with its text; with as
        many decimals as the others, unless they are of several magnitudes.
        """
        ticks = self.ticks(most)
        largest = max(map(abs, ticks), default=0.0)
        if not self.log:
            ticks = [0.0 if abs(tick) < largest * 1e-9 else tick for tick in ticks]
        decimals = next((d for d in range(_DECIMALS + 1) if _all_whole(ticks, 10.0**d)), None)
        alike = not self.log or largest <= _MAGNITUDES * min(ticks, default=1.0)
        if decimals is None or largest >= _LARGE or not alike:
            return [(tick, number(tick, 4)) for tick in ticks]
        if decimals == 0:
            return [(tick, number(int(tick))) for tick in ticks]
        return [(tick, f"{tick:.{decimals}f}") for tick in ticks]


#: Decimals of a tick at the most: one smaller is written with an exponent.
_DECIMALS = 6
#: A tick from which all are written with an exponent.
_LARGE = 1e7
#: How many times the smallest tick the largest is where each has its own decimals.
_MAGNITUDES = 9.0


def _all_whole(ticks: Sequence[float], times: float) -> bool:
    return all(abs(tick * times - round(tick * times)) <= 1e-6 * abs(tick) * times
               for tick in ticks)


def _ticks(low: float, high: float, most: float) -> list[float]:
    span = high - low
    if span <= 0 or most < 1:
        return [low]
    rough = span / max(most, 1)
    power = 10.0 ** math.floor(math.log10(rough))
    # two and a half epochs there are not
    steps = [m * power for m in ((1, 2, 5, 10) if power == 1 else (1, 2, 2.5, 5, 10))]
    fitting = [step for step in steps if step >= rough * 0.999]
    for step in (fitting[0], *reversed(steps[:steps.index(fitting[0])])):
        first, last = math.ceil(low / step - 1e-9), math.floor(high / step + 1e-9)
        if last >= first:  # else none of its multiples is on the axis
            return [float(f"{i * step:.14g}") for i in range(first, last + 1)]
    return [float(f"{low + span / 2:.2g}")]


def _log_ticks(scale: Scale, most: int) -> list[float]:
    first, last = math.ceil(math.log10(scale.low) - 1e-9), math.floor(math.log10(scale.high) + 1e-9)
    decades = [10.0**e for e in range(first, last + 1)]
    if len(decades) > 1:
        return decades[:: max(1, -(-len(decades) // most))]
    found = [m * 10.0**e for e in (first - 1, first) for m in (1, 2, 5)]
    found = [tick for tick in found if scale.low <= tick * (1 + 1e-9) and tick <= scale.high]
    if 1 < len(found) <= most + 1:
        return found
    return [t for t in _ticks(scale.low, scale.high, most) if t >= scale.low]


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
