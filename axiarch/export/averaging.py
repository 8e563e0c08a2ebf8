"""What it gains to average the predictions of several networks: paired over validation rows."""

from __future__ import annotations

import math
from collections.abc import Sequence
from typing import Any

import numpy as np
from numpy.typing import NDArray

from axiarch.data.target import Target
from axiarch.engine.predictor import Average, Predictor
from axiarch.errors import TrainingError


def gain(target: Target, networks: Sequence[Predictor], inputs: NDArray[Any],
         targets: NDArray[Any]) -> dict[str, Any]:
    """Compare the mean of several networks with the best of them, row by row.

    The best is the one with the lowest loss on these same rows, so that it looks better than it is
    and the gain is understated. A gain stands apart if the 95 % interval of the mean difference
    (Student 1908, over rows) does not reach zero.

    Parameters
    ----------
    inputs : (N, D) array
    targets : (N,) or (N, T) array

    Returns
    -------
    dict
        ``networks``, ``rows``; ``best`` and ``average``: mean losses over rows, cross-entropy or
        squared error in units of the target's spread; ``gain``, ``half_width`` (None for a single
        row) and ``apart``.
    """
    from scipy.special import stdtrit

    def losses(predicted: NDArray[np.float64]) -> NDArray[np.float64]:
        if target.classes:
            return target.row_losses(predicted, targets)
        units = np.array(target.units)
        true = np.asarray(target.decode(targets)) / units
        return np.asarray(((np.asarray(target.decode(predicted)) / units - true) ** 2).mean(1))

    each = [losses(network.predict(inputs)) for network in networks]
    best = min(each, key=lambda own: float(own.mean()))
    average = losses(Average(networks).predict(inputs))
    away, rows = best - average, len(best)
    half = (float(stdtrit(rows - 1, 0.975)) * float(away.std(ddof=1)) /
            math.sqrt(rows)) if rows > 1 else None
    mean = float(away.mean())
    return {
        "networks": len(networks), "rows": rows, "best": float(best.mean()),
        "average": float(average.mean()), "gain": mean, "half_width": half,
        "apart": half is not None and mean > half
    }


def no_gain(found: dict[str, Any], all_open: bool = False) -> TrainingError:
    """Return why an average is not kept: no gain, or (where validation rows train too) none that
    can be measured.
    """
    remedy = "keep one network: leave out --average; or keep the average all the same: --anyway"
    if all_open:
        return TrainingError(
            "what averaging gains cannot be measured: the validation rows were trained on", "",
            remedy)
    half = "unknown" if found["half_width"] is None else f"{found['half_width']:.2g}"
    return TrainingError(
        f"the mean of {found['networks']} networks is statistically tied with the best of them: "
        f"its loss is lower by {found['gain']:.2g} \u00b1 {half} (95 %, {found['rows']} validation "
        "rows)", "", remedy)
