"""Divide rows into training, validation and test parts."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from axiarch.errors import DataError

Rows = NDArray[np.int64]

#: Shares of the rows: validation and test. The rest is for training.
VALIDATION, TEST = 0.2, 0.2


@dataclass(frozen=True)
class Parts:
    """Row numbers of each part, in the order of the file: disjoint, and together all rows."""

    train: Rows
    validation: Rows
    test: Rows


def split(labels: NDArray[np.int64], seed: int, validation: float = VALIDATION, test: float = TEST) -> Parts:
    """Split N rows with class numbers `labels` (N,), each class by the same shares (stratified).

    Raises
    ------
    DataError
        If a class has too few rows to stand in all three parts.
    """
    rng = np.random.default_rng(np.random.SeedSequence(seed, spawn_key=(1,)))
    parts: list[list[Rows]] = [[], [], []]
    for label in np.unique(labels):
        rows = rng.permutation(np.flatnonzero(labels == label))
        if len(rows) < 3:
            raise DataError(f"a class has only {len(rows)} rows", "target", "drop it, or give it three rows or more")
        n_validation = max(round(len(rows) * validation), 1)
        n_test = max(round(len(rows) * test), 1)
        for part, piece in zip(parts, np.split(rows, [len(rows) - n_validation - n_test, len(rows) - n_test]),
                               strict=True):
            part.append(piece)
    return Parts(*(np.sort(np.concatenate(part)) for part in parts))
