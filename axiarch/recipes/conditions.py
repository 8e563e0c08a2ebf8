"""When a value applies: ``optimiser = momentum | sgd``, ``depth >= 2``."""

from __future__ import annotations

import operator
from collections.abc import Callable, Mapping
from dataclasses import dataclass

Value = int | float | str

#: How each comparison of one value with one other is decided.
COMPARE: Mapping[str, Callable[[Value, Value], bool]] = {
    "=": operator.eq,
    "!=": operator.ne,
    "<=": lambda a, b: _number(a) <= _number(b),
    ">=": lambda a, b: _number(a) >= _number(b),
    "<": lambda a, b: _number(a) < _number(b),
    ">": lambda a, b: _number(a) > _number(b),
}


def _number(value: Value) -> float:
    return float(value)


def written(value: Value) -> str:
    """Return the shortest text that reads back as exactly this value."""
    if isinstance(value, float):
        short = f"{value:g}"
        text = short if float(short) == value else repr(value)
        mantissa, e, exponent = text.partition("e")
        return f"{mantissa}e{int(exponent)}" if e else text
    return str(value)


@dataclass(frozen=True)
class Condition:
    """A comparison of one named value with one or several.

    Attributes
    ----------
    name : str
        The value looked at.
    sign : str
        A key of :data:`COMPARE`. ``=`` holds if any of `values` is equal, ``!=`` if none is.
    values : tuple of Value
    """

    name: str
    sign: str
    values: tuple[Value, ...]

    def holds(self, recipe: Mapping[str, Value]) -> bool:
        """Say whether the condition holds for a recipe's values."""
        value = recipe[self.name]
        results = [COMPARE[self.sign](value, other) for other in self.values]
        return all(results) if self.sign == "!=" else any(results)

    def __str__(self) -> str:
        return f"{self.name} {self.sign} {' | '.join(written(v) for v in self.values)}"
