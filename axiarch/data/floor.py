"""The floor: what a predictor that ignores the inputs scores."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray


@dataclass(frozen=True)
class Floor:
    """Cross-entropy and accuracy on the validation rows of always answering with the training shares."""

    loss: float
    accuracy: float


def class_floor(train: NDArray[np.int32], validation: NDArray[np.int32], classes: int) -> Floor:
    """Return the floor from the class numbers (N,) of training and validation rows."""
    shares = np.bincount(train, minlength=classes) / len(train)
    with np.errstate(divide="ignore"):
        loss = -np.log(shares[validation]).mean()
    return Floor(float(loss), float((validation == shares.argmax()).mean()))
