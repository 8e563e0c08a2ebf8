"""What training a network takes of memory, worked out without training it."""

from __future__ import annotations

from axiarch.engine import codes
from axiarch.engine.network import NetworkShape
from axiarch.engine.program import Program, Room


def training_bytes(shape: NetworkShape, rows: int) -> int:
    """Return the bytes that one run takes while it trains on `rows` N training rows; mapped data
    are not counted.

    Parameters, gradients, the optimiser's state, the best epoch and what was kept with it, the
    arenas of training and evaluation, the order of an epoch, and the coefficients of the steps that
    are worked out ahead, in double precision meanwhile.
    """
    steps = shape.steps(rows)
    ahead = max(1, min(codes.EPOCHS_AHEAD, codes.STEPS_AHEAD // steps)) * steps
    numbers = (4 + 2 * codes.STATES + 1) * shape.parameters + shape.weights
    numbers += Room.numbers(Program.of(shape, shape.batch_size, True), True)
    numbers += Room.numbers(Program.looking(shape), False)
    return int(shape.dtype.itemsize) * (numbers + 12 * ahead) + 8 * (rows + 9 * ahead)


def saving_bytes(shape: NetworkShape) -> int:
    """Return the bytes that writing a checkpoint takes meanwhile: all that a run may have to keep,
    twice over.
    """
    return int(shape.dtype.itemsize) * 2 * (3 + 2 * codes.STATES) * shape.parameters


def run_bytes(shape: NetworkShape, rows: int) -> int:
    """Return the bytes that one run takes at the most: it trains, and writes a checkpoint."""
    return training_bytes(shape, rows) + saving_bytes(shape)


def working_bytes(shape: NetworkShape) -> int:
    """Return the bytes that a step of training reads and writes: what should fit into the cache."""
    numbers = 4 * shape.parameters + Room.numbers(Program.of(shape, shape.batch_size, True), True)
    return int(shape.dtype.itemsize) * numbers
