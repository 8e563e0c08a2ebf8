"""Ranges widened past an end at which the best recipes stand."""

from __future__ import annotations

import math
from typing import Literal

from axiarch.recipes.fields import FIELDS
from axiarch.recipes.ranges import Ladder, OneOf, Span, Whole
from axiarch.recipes.space import Knob

Edge = Literal["low", "high"]

#: By how much of its own width a range grows; in the logarithm where it is even in that.
_GROWTH = 0.5
#: Values added to a range that lists them.
_MORE = 2


def widened(knob: Knob, edge: Edge) -> str:
    """Return a range with one end further out, in the short notation, within the bounds of the
    value; its condition stays.
    """
    field, values = FIELDS[knob.name], knob.range
    if isinstance(values, Span | Whole):
        low, high = float(values.low), float(values.high)
        if edge == "low":
            low = max(_beyond(high, low, values.log), field.low)
        else:
            high = min(_beyond(low, high, values.log), field.high)
        if isinstance(values, Whole):
            text = str(Whole(int(low), math.ceil(high), values.log))
        else:
            text = str(Span(_neat(low) if edge == "low" else low,
                            _neat(high) if edge == "high" else high, values.log))
    else:
        assert isinstance(values, Ladder | OneOf)
        known = sorted(float(v) for v in values.grid(0) if not isinstance(v, str))
        kept = [str(OneOf((v,))) for v in values.grid(0)]
        new = [v for v in _next(known, edge) if field.low <= v <= field.high]
        more = [str(OneOf((int(v) if field.kind == "whole" else _neat(v),))) for v in new]
        text = " | ".join([*reversed(more), *kept] if edge == "low" else [*kept, *more])
    return f"{text} when {knob.when}" if knob.when else text


def can_widen(knob: Knob, edge: Edge) -> bool:
    """Whether a knob may take values beyond an end of its range."""
    low, high = (float(knob.range.at(u)) for u in (0.0, 1.0 - 1e-9))
    field = FIELDS[knob.name]
    return low > field.low if edge == "low" else high < field.high


def _beyond(other: float, end: float, log: bool) -> float:
    """Return a place beyond `end` of a range from `other`, further out by a share of its width."""
    if log:
        return float(end * (end / other) ** _GROWTH)
    return end + _GROWTH * (end - other)


def _next(known: list[float], edge: Edge) -> list[float]:
    """Return the values that follow listed ones, by the last ratio or step between them."""
    a, b = (known[1], known[0]) if edge == "low" else (known[-2], known[-1])
    if a > 0 and b > 0 and (b / a >= 1.5 or b / a <= 1 / 1.5):
        return [b * (b / a) ** i for i in range(1, _MORE + 1)]
    return [b + (b - a) * i for i in range(1, _MORE + 1)]


def _neat(value: float) -> float:
    return float(f"{value:.2g}")
