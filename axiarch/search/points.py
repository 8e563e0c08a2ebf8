"""Recipes as points of the unit cube, one coordinate a knob."""

from __future__ import annotations

import math

from axiarch.recipes.conditions import Value
from axiarch.recipes.ranges import Ladder, OneOf, Range, Span, Whole


def position(values: Range, value: Value) -> float:
    """Return where `value` stands in a range, in [0, 1): the middle of all that gives it; the
    nearest if outside.
    """
    if isinstance(values, OneOf | Ladder):
        every = values.grid(0)
        if value in every:
            return (every.index(value) + 0.5) / len(every)
        if isinstance(value, str) or any(isinstance(v, str) for v in every):
            return 0.5
        nearest = min(range(len(every)), key=lambda i: abs(float(every[i]) - float(value)))
        return (nearest + 0.5) / len(every)
    assert isinstance(values, Span | Whole)
    if isinstance(value, str):
        return 0.5
    low, high = float(values.low), float(values.high)
    if isinstance(values, Whole):
        low, high = low - 0.5, high + 0.5
    at = min(max(float(value), low), high)
    if values.log:
        low, high, at = math.log(low), math.log(high), math.log(at)
    return min(max((at - low) / (high - low) if high > low else 0.5, 0.0), 1.0 - 1e-12)


def is_words(values: Range) -> bool:
    """Say whether a range is a choice of words, which have no order."""
    return isinstance(values, OneOf) and any(isinstance(v, str) for v in values.values)
