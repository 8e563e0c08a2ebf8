"""What searches lower on the validation rows, and recipes are ranked by: the loss, or a metric.

It is decided with the data. A metric stands where the loss stands, from the first epoch to the test
rows, as what is to be lowered (one minus an accuracy); the loss is the first of the metrics then.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from typing import Literal

Lowered = Literal["loss", "accuracy", "balanced accuracy", "F1", "AUC", "mean absolute error"]

#: What is lowered, as people name it, and its place among the metrics of an epoch, in the engine's
#: order; -1 where it is none of them.
_METRICS: dict[Lowered, tuple[str, int]] = {
    "accuracy": ("error rate", 0), "balanced accuracy": ("balanced error rate", 1),
    "F1": ("1 − F1", -1), "AUC": ("1 − AUC", -1),
    "mean absolute error": ("mean absolute error", 0)
}
#: Measures that are worked out only where they are what is lowered: no epoch has them beside its
#: loss.
APART: frozenset[Lowered] = frozenset(name for name, (_, place) in _METRICS.items() if place < 0)


def name_of(lowered: Lowered) -> str:
    """Return what is lowered, as people name it."""
    return _METRICS[lowered][0] if lowered in _METRICS else "loss"


def scored(lowered: Lowered, loss: float, metrics: Sequence[float], apart: float = math.nan
           ) -> tuple[float, tuple[float, ...]]:
    """Return what is to be lowered, and the metrics beside it: the loss as the first of them where
    it is another.

    A loss that is not finite leaves nothing to be lowered: infinity stands for it. `apart` is the
    measure's value where it is one of :data:`APART`.
    """
    if lowered == "loss":
        return loss, tuple(metrics)
    name, place = _METRICS[lowered]
    value = apart if lowered in APART else metrics[place]
    level = value if name == lowered else 1 - value
    return level if math.isfinite(loss) else math.inf, (loss, *metrics)


def unscored(lowered: Lowered, level: float, metrics: Sequence[float]
             ) -> tuple[float, tuple[float, ...]]:
    """Return the loss and the metrics beside it of what :func:`scored` returned."""
    return (level, tuple(metrics)) if lowered == "loss" else (metrics[0], tuple(metrics[1:]))
