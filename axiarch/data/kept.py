"""The validation rows whose losses runs keep: their classes, and what each adds to what is lowered.
"""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from axiarch.data.dataset import Dataset
from axiarch.runs.rows import RowLosses, kept_rows


def labels_of(dataset: Dataset, fold: int) -> NDArray[np.int64]:
    """Return the classes (n,) of the validation rows of a fold whose losses are kept."""
    targets = dataset.part("validation", fold).targets
    return np.asarray(targets[kept_rows(len(targets))]).astype(np.int64)


def lowered_rows(dataset: Dataset, fold: int, rows: RowLosses | None) -> RowLosses | None:
    """Return what the rows that are kept of a run add to what is lowered, and some that are added
    out of caution (:func:`axiarch.runs.measures.cautious_rows`); None where that is not known.
    """
    target = dataset.folds[fold].encoding.target
    if rows is None or target.measure == "loss":
        return rows
    if target.classes and rows.classes is None:
        return None
    labels = labels_of(dataset, fold) if target.classes else np.zeros(0, np.int64)
    return RowLosses.of(rows.total, target.lowered_rows(rows.values, labels, rows.classes, True))
