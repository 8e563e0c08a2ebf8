"""Epochs as rows of the journal: a column for every field of :class:`~axiarch.runs.epoch.Epoch`."""

from __future__ import annotations

import json
import math
from collections.abc import Callable, Iterable
from dataclasses import fields
from typing import Any

from axiarch.files import decode
from axiarch.runs.epoch import COLUMNS, Epoch

#: The columns as they stand in a statement, and as many question marks.
LISTED, MARKS = ", ".join(COLUMNS), ", ".join("?" * len(COLUMNS))
#: Numbers of a layer; rows of earlier versions have fewer, the last of which were not measured.
_LAYER = 4


def values(epoch: Epoch) -> tuple[Any, ...]:
    """Return the values of an epoch's row; a number that is not finite becomes NULL."""
    return tuple(_written(getattr(epoch, name)) for name in COLUMNS)


def epoch_of(row: Iterable[Any]) -> Epoch:
    """Return the epoch that a row holds, its columns in the order of :data:`COLUMNS`.

    Raises
    ------
    ValueError, TypeError
        If the row holds something else.
    """
    found = Epoch(*[read(value) for read, value in zip(_READ, row, strict=True)])
    if found.epoch < 1:
        raise ValueError(f"epoch {found.epoch} of run {found.run} cannot be")
    return found


def _written(value: Any) -> Any:
    if isinstance(value, tuple):
        return json.dumps(_finite(value))
    return value if isinstance(value, int) or math.isfinite(value) else None


def _finite(value: Any) -> Any:
    """Return numbers, or tuples of them, as lists with None for what is not finite."""
    if isinstance(value, tuple):
        return [_finite(each) for each in value]
    return value if math.isfinite(value) else None


def whole(value: object) -> int:
    """Return a whole number of a row.

    Raises
    ------
    TypeError
        If it is none.
    """
    if type(value) is not int:
        raise TypeError(f"{value!r:.40} is not a whole number")
    return value


def real(value: float | None) -> float:
    """Return a number of a row; NULL is one that was not finite.

    Raises
    ------
    TypeError
        If it is none.
    """
    if value is None:
        return math.inf
    if not isinstance(value, float | int):
        raise TypeError(f"{value!r:.40} is not a number")
    return float(value)


def _list(text: str) -> tuple[float, ...]:
    return tuple(map(real, decode(text, list[float | None])))


def _layers(text: str) -> tuple[tuple[float, ...], ...]:
    found = decode(text, list[list[float | None]])
    return tuple((*map(real, layer), *[0.0] * (_LAYER - len(layer))) for layer in found)


#: How a field of each type is read.
_KINDS: dict[str, Callable[[Any], Any]] = {
    "int": whole, "float": real, "tuple[float, ...]": _list, "tuple[Layer, ...]": _layers,
}
_READ = tuple(_KINDS[str(field.type)] for field in fields(Epoch))
