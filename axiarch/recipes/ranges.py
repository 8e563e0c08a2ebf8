"""The values a knob may take: immutable, comparable, and written the way they are typed.

Each kind of range answers the same five questions: how many values, which value stands at a point
of the unit interval, which values a grid takes, whether it contains a value, and how it is written.
"""

from __future__ import annotations

import math
from dataclasses import dataclass
from functools import cached_property
from typing import Protocol, runtime_checkable

from axiarch.recipes.bounds import MOST_VALUES
from axiarch.recipes.conditions import Value, written


@runtime_checkable
class Range(Protocol):
    """What a knob may take."""

    @property
    def size(self) -> int | None:
        """Number of values, or None where there is a continuum of them."""

    def at(self, u: float) -> Value:
        """Return the value at `u` in [0, 1); equal stretches of `u` are equally likely values."""

    def grid(self, points: int) -> tuple[Value, ...]:
        """Return the values of a grid: all of them, or `points` where there are too many to
        count.
        """

    def __contains__(self, value: object) -> bool: ...

    def __str__(self) -> str: ...


@dataclass(frozen=True)
class OneOf:
    """``16 | 32 | 64``: one of the values named, each as likely."""

    values: tuple[Value, ...]

    @property
    def size(self) -> int:
        return len(self.values)

    def at(self, u: float) -> Value:
        return self.values[min(int(u * len(self.values)), len(self.values) - 1)]

    def grid(self, points: int) -> tuple[Value, ...]:
        return self.values

    def __contains__(self, value: object) -> bool:
        return value in self.values

    def __str__(self) -> str:
        return " | ".join(written(v) for v in self.values)


@dataclass(frozen=True)
class Span:
    """``1e-4 .. 1e-1 log``: a continuum, even in the value or in its logarithm."""

    low: float
    high: float
    log: bool = False

    @property
    def size(self) -> None:
        return None

    def at(self, u: float) -> float:
        if self.log:
            value = math.exp(math.log(self.low) + u * (math.log(self.high) - math.log(self.low)))
        else:
            value = self.low + u * (self.high - self.low)
        # Four significant digits: what is shown is what was trained, and can be typed again.
        return min(max(float(f"{value:.4g}"), self.low), self.high)

    def grid(self, points: int) -> tuple[Value, ...]:
        points = min(points, MOST_VALUES)
        if points < 2:
            return (self.at(0.5),)
        inner = [self.at(i / (points - 1)) for i in range(1, points - 1)]
        return (self.low, *inner, self.high)

    def __contains__(self, value: object) -> bool:
        return isinstance(value, int | float) and self.low <= value <= self.high

    def __str__(self) -> str:
        return f"{written(self.low)} .. {written(self.high)}" + (" log" if self.log else "")


@dataclass(frozen=True)
class Whole:
    """``1 .. 4``: whole numbers, even in the value or in its logarithm."""

    low: int
    high: int
    log: bool = False

    @property
    def size(self) -> int:
        return self.high - self.low + 1

    def at(self, u: float) -> int:
        if self.log:
            low, high = math.log(self.low - 0.5), math.log(self.high + 0.5)
            value = round(math.exp(low + u * (high - low)))
        else:
            value = self.low + int(u * self.size)
        return min(max(value, self.low), self.high)

    def grid(self, points: int) -> tuple[Value, ...]:
        points = min(points, MOST_VALUES)
        if self.size <= max(points, 2):
            return tuple(range(self.low, self.high + 1))
        span = Span(self.low, self.high, self.log)
        return tuple(dict.fromkeys(round(span.at(i / (points - 1))) for i in range(points)))

    def __contains__(self, value: object) -> bool:
        return isinstance(value, int) and self.low <= value <= self.high

    def __str__(self) -> str:
        return f"{self.low} .. {self.high}" + (" log" if self.log else "")


@dataclass(frozen=True)
class Ladder:
    """``8 .. 512 doubling`` or ``0 .. 0.6 step 0.1``: rungs from the lowest to the highest
    value.
    """

    low: int | float
    high: int | float
    step: int | float | None = None

    @cached_property
    def rungs(self) -> tuple[Value, ...]:
        """All values, lowest first."""
        if self.step is None:
            number = round(math.log2(self.high / self.low)) + 1
            return tuple(self.low * 2**i for i in range(number))
        number = round((self.high - self.low) / self.step) + 1
        if isinstance(self.low, int) and isinstance(self.step, int):
            return tuple(self.low + i * self.step for i in range(number))
        return tuple(_neat(self.low + i * self.step) for i in range(number))

    @property
    def size(self) -> int:
        if self.step is None:
            return round(math.log2(self.high / self.low)) + 1
        return round((self.high - self.low) / self.step) + 1

    def at(self, u: float) -> Value:
        return OneOf(self.rungs).at(u)

    def grid(self, points: int) -> tuple[Value, ...]:
        return self.rungs

    def __contains__(self, value: object) -> bool:
        return value in self.rungs

    def __str__(self) -> str:
        how = "doubling" if self.step is None else f"step {written(self.step)}"
        return f"{written(self.low)} .. {written(self.high)} {how}"


def _neat(value: float) -> float:
    """Round away the last bits of a computed value, so that it is short to write and still equal
    to itself.
    """
    return float(f"{value:.12g}")
