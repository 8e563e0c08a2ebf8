"""Means of a few seeds."""

from __future__ import annotations

import math
from collections.abc import Sequence


def mean(values: Sequence[float]) -> float:
    """Return the mean; infinity where there is no value."""
    return math.fsum(values) / len(values) if values else math.inf


def standard_error(values: Sequence[float]) -> float:
    """Return the standard error of a mean; 0 for a single value."""
    if len(values) < 2 or not all(map(math.isfinite, values)):
        return 0.0
    middle = mean(values)
    return math.sqrt(math.fsum((v - middle) ** 2 for v in values) / (len(values) - 1) / len(values))
