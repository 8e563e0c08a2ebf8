"""What a run in training says of a few validation rows, beside the truth."""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np

from axiarch.runner.material import example_rows
from axiarch.workflows.snapshot import Snapshot


@dataclass(frozen=True)
class ExamplePrediction:
    """One validation row, what is true of it, and what a run says.

    Attributes
    ----------
    row : int
        Its number among the validation rows, from 1.
    truth : str or float
        Its class, or its amount in the target's own unit.
    shares : tuple of (str, float)
        Classes with their probabilities, the likeliest first; none for an amount.
    amount : float
        What it predicted; 0 for classes.
    """

    row: int
    truth: str | float
    shares: tuple[tuple[str, float], ...] = ()
    amount: float = 0.0

    @property
    def right(self) -> bool:
        """Whether the likeliest class is the true one."""
        return self.finite and bool(self.shares) and self.shares[0][0] == self.truth

    @property
    def finite(self) -> bool:
        """Whether it is a prediction at all: a training that diverged gives none."""
        return all(map(math.isfinite, (self.amount, *(share for _, share in self.shares))))


def example_predictions(snapshot: Snapshot, run: int) -> tuple[int, tuple[ExamplePrediction, ...]]:
    """Return the epoch, and what a watched run said after it of some validation rows; none if it
    is not watched.
    """
    example = snapshot.examples.get(run)
    record = snapshot.runs.get(run)
    if example is None or record is None:
        return 0, ()
    data = snapshot.dataset
    targets = data.part("validation", record.fold).targets
    rows = example_rows(len(targets), len(example.outputs))
    found = []
    for row, outputs in zip(rows, example.outputs, strict=True):
        if data.classes:
            order = np.argsort(-np.array(outputs), kind="stable")
            shares = tuple((data.classes[int(c)], float(outputs[int(c)])) for c in order)
            found.append(ExamplePrediction(row + 1, data.classes[int(targets[row])], shares))
        else:
            target = data.folds[record.fold].encoding.target
            pair = np.array([targets[row], outputs], np.float64)
            truth, said = (float(v[0]) for v in np.asarray(target.decode(pair)))
            found.append(ExamplePrediction(row + 1, truth, amount=said))
    return example.epoch, tuple(found)
