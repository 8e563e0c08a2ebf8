"""A trained network: its weights and its shape, and nothing of a training.

Everything that predicts uses it, so that a prediction has the bits of the run's validation losses.
Axes: N rows, D inputs, C classes, T amounts, P parameters.
"""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import numpy as np
from numpy.typing import NDArray

from axiarch.engine import codes
from axiarch.engine.kernels import driver
from axiarch.engine.losses import LOSSES, apart_of, known_of
from axiarch.engine.network import Array, NetworkShape
from axiarch.engine.program import LOSS_NUMBERS, Program, Room, evaluated_rows
from axiarch.engine.rows import flat
from axiarch.runs.lowered import Lowered, scored

NO_ORDER: NDArray[np.int64] = np.zeros(0, np.int64)


class Scored:
    """What can be scored: outputs of a network, or of several that act as one.

    Parameters
    ----------
    shape : NetworkShape
        Names the loss and the number of outputs.
    dtype : {float32, float64}
    """

    def __init__(self, shape: NetworkShape, dtype: np.dtype[np.floating[Any]]) -> None:
        self.shape = shape
        self.loss = LOSSES[shape.loss]
        self._dtype = dtype

    def outputs(self, x: Array) -> Array:
        """Return the outputs (N, outputs) for inputs `x` (N, D), before any softmax."""
        raise NotImplementedError

    def predict(self, x: Array) -> NDArray[np.float64]:
        """Return class probabilities (N, C), or amounts as they are scaled in training (N, T)."""
        if not len(x):
            width = max(self.shape.outputs, 1 if self.loss.amounts else 2)
            return np.zeros((0, width))
        made: NDArray[np.float64] = self.loss.predicted(self.outputs(x).astype(np.float64))
        return made

    def mean_loss(self, x: Array, targets: NDArray[np.generic], units: tuple[float, ...] = (),
                  curve: tuple[float, ...] = (), measure: Lowered = "loss"
                  ) -> tuple[float, tuple[float, ...]]:
        """Return the mean loss over rows (N, D), as a run reports it, and the metrics beside it; or
        what is lowered instead, the loss being the first metric.

        Parameters
        ----------
        targets : (N,) or (N, T) array
            Class numbers, or scaled amounts.
        units, curve, measure
            As in :class:`axiarch.engine.rows.TrainingData`.
        """
        width, rows = self.shape.outputs, len(x)
        loss_values = np.array(curve if self.loss.curve else np.ones(self.loss.known(width)),
                               self._dtype)
        labels = np.zeros(0, np.int32) if self.loss.amounts else np.ascontiguousarray(
            targets, np.int32)
        amounts = np.ascontiguousarray(targets.T if self.loss.amounts else np.zeros(0), self._dtype)
        outputs = self.outputs(x)
        sums = measured(outputs, LOSS_NUMBERS[self.shape.loss], loss_values, labels,
                        amounts, 1 + self.loss.sums(width), evaluated_rows(self.shape))
        known = known_of(self.loss, targets, width, curve)
        apart = apart_of(measure, sums[1:] / rows, known, labels, lambda: outputs)
        return scored(measure, self.loss.reported(float(sums[0]) / rows, units),
                      self.loss.metrics(sums[1:] / rows, units, known), apart)


class Predictor(Scored):
    """Predicts with one network.

    Parameters
    ----------
    shape : NetworkShape
    weights : (P,) array
    """

    def __init__(self, shape: NetworkShape, weights: Array) -> None:
        super().__init__(shape, weights.dtype)
        self.weights = np.ascontiguousarray(weights)
        self._program = Program.looking(shape)
        self._room = Room.of(self._program, self.weights.dtype, False)

    def outputs(self, x: Array) -> Array:
        """Return the outputs (N, outputs) of the network for inputs `x` (N, D), before any
        softmax.
        """
        found = np.empty((len(x), self.shape.outputs), self.weights.dtype)
        room = self._room
        driver.outputs(flat(x), NO_ORDER, 0, len(x), self._program.ops, self._program.ints,
                       self.weights, room.a, room.which, room.words, room.bits, room.one, found)
        return found

    def activation_sizes(self, x: Array) -> tuple[float, ...]:
        """Return the root mean square of the activations of each layer with weights (L,), skips
        added, over the first rows of `x` (N, D), as many as are evaluated at once.
        """
        rows = x[: evaluated_rows(self.shape)]
        self.outputs(rows)
        found = []
        for op in self._program.ops:
            if op[codes.KIND] in (codes.DENSE, codes.CONV):
                start = op[codes.SKIP] if op[codes.SKIP] >= 0 else op[codes.OUT]
                sent = self._room.a[start : start + op[codes.UNITS] * op[codes.POSITIONS]
                                    * len(rows)].astype(np.float64)
                found.append(float(np.sqrt(np.mean(sent**2))))
        return tuple(found)


class Average(Scored):
    """Predicts with the mean of the probabilities, or of the amounts, of several networks.

    Its outputs are those of one network that predicts this mean: logarithms of probabilities, or
    log-odds of the second of two classes. So its loss is measured as that of any other.

    Parameters
    ----------
    members : sequence of Predictor
        Networks of any shape, for the same encoding of the same target.
    """

    def __init__(self, members: Sequence[Predictor]) -> None:
        super().__init__(members[0].shape, np.dtype(np.float64))
        self.members = tuple(members)

    def predict(self, x: Array) -> NDArray[np.float64]:
        """Return the mean of what the members predict, (N, C) or (N, T)."""
        total = self.members[0].predict(x)
        for member in self.members[1:]:
            total += member.predict(x)
        mean: NDArray[np.float64] = total / len(self.members)
        return mean

    def outputs(self, x: Array) -> Array:
        """Return outputs (N, outputs) that stand for the mean prediction."""
        mean = self.predict(x)
        if self.loss.amounts:
            return mean
        logs = np.log(np.maximum(mean, np.finfo(np.float64).tiny))
        found: Array = logs if self.shape.outputs > 1 else logs[:, 1:] - logs[:, :1]
        return found


def measured(outputs: Array, loss: int, loss_values: Array, labels: NDArray[np.int32],
             amounts: Array, sums: int, at_once: int) -> NDArray[np.float64]:
    """Return the summed loss of outputs (N, C), and the sums of metrics, by the kernel that runs
    are measured by.

    Parameters
    ----------
    loss : int
        Its number.
    amounts : (T, N) array
        Empty for classes, whose numbers are `labels` (N,).
    sums : int
        How many numbers that makes.
    at_once : int
        Rows that are evaluated at once: sums are made of theirs.
    """
    found = np.zeros(sums)
    rows, width = outputs.shape
    ints = np.zeros(codes.WHOLE_NUMBERS, np.int64)
    ints[codes.OUTPUTS], ints[codes.LOSS] = width, loss
    one, room = outputs.dtype.type(1), np.zeros((3, at_once * width), outputs.dtype)
    for start in range(0, rows, at_once):
        part = np.ascontiguousarray(outputs[start : start + at_once].T).reshape(-1)
        batch = len(part) // width
        wanted = np.ascontiguousarray(amounts[:, start:start +
                                              batch]).reshape(-1) if amounts.size else amounts
        found[0] += driver.measure(part, room[0], 0, ints,
                                   one * 0, one, loss_values, labels[start:start + batch],
                                   wanted.reshape(-1), batch, False, found[1:], room[1], room[2])
    return found
