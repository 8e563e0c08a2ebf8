"""What a run will take of memory, against what it takes."""

from __future__ import annotations

import math
import tempfile
import tracemalloc
import unittest
from pathlib import Path

import numpy as np

from axiarch.engine.memory import saving_bytes, training_bytes
from axiarch.engine.network import NetworkShape
from axiarch.engine.rows import TrainingData
from axiarch.engine.run import RunSpec
from axiarch.engine.streams import Streams
from axiarch.engine.training import Training
from tests.support import Runs, recipe, save_checkpoint


class Memory(unittest.TestCase):
    def taken(self, shape: NetworkShape, rows: int, **values: object) -> int:
        """Return the bytes that a run and some epochs of it allocate at the most."""
        rng = np.random.default_rng(0)
        x = rng.normal(size=(rows, math.prod(shape.inputs))).astype(np.float32)
        y = rng.integers(0, shape.outputs, rows).astype(np.int32)
        data = TrainingData(x, y, x[:64], y[:64])
        source = Runs(shape, data).source()
        for warm in (True, False):  # what is loaded once is not of the run
            if not warm:
                tracemalloc.start()
            training = Training(shape, RunSpec(0, recipe(**values), Streams(0)), source)
            for _ in range(1 if warm else 2):
                training.train_epoch()
        found = tracemalloc.get_traced_memory()[1]
        tracemalloc.stop()
        return found

    def test_it_is_predicted_within_a_fifth(self) -> None:
        cases: tuple[tuple[tuple[int, ...], int, dict[str, object]], ...] = (
            ((20, ), 600, {"width": 64, "depth": 2, "batch_size": 32}),
            ((20, ), 600, {"width": 200, "depth": 3, "batch_size": 256, "activation": "gelu"}),
            ((30, ), 500, {
                "width": 96, "depth": 3, "batch_size": 64, "normalisation": "batch",
                "residual": "yes"
            }),
            ((60, ), 900, {"width": 512, "depth": 2, "batch_size": 512}),
            ((12, 12, 1), 300,
             {"network": "conv 8, pool 2, conv 12, pool 2, hidden", "depth": 1, "width": 32}),
        )
        for inputs, rows, values in cases:
            with self.subTest(**values):
                shape = NetworkShape.of(recipe(**values), inputs, 5)
                taken = self.taken(shape, rows, **values)
                self.assertAlmostEqual(training_bytes(shape, rows) / taken, 1.0, delta=0.2)

    def test_a_checkpoint_takes_no_more_than_said(self) -> None:
        values = {"width": 300, "depth": 2, "batch_size": 32}
        shape, spec = NetworkShape.of(recipe(**values), 20,
                                      5), RunSpec(0, recipe(**values), Streams(0))
        x, y = np.zeros((40, 20), np.float32), np.zeros(40, np.int32)
        training = Runs(shape, TrainingData(x, y, x, y)).add(spec)
        training.train_epoch()
        state, rng = training.state(), np.random.default_rng(0)
        state.best_parameters[:] = rng.normal(size=shape.parameters)
        state.optimiser[:] = rng.normal(size=state.optimiser.shape)
        state.kept = rng.normal(size=(5, shape.parameters)).astype(np.float32)  # no two alike
        with tempfile.TemporaryDirectory(prefix="axiarch-test-") as folder:
            tracemalloc.start()
            self.addCleanup(tracemalloc.stop)
            save_checkpoint(Path(folder) / "1.safetensors", spec, state, "data", "")
            taken = tracemalloc.get_traced_memory()[1]
        self.assertLessEqual(taken, saving_bytes(shape))
        self.assertLess(saving_bytes(shape), 2.1 * taken,
                        "one of the two copies is made where this does not see it")
