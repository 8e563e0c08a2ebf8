"""What goes on inside the layers is measured as it is said."""

from __future__ import annotations

import unittest

import numpy as np

from axiarch.engine.network import NetworkShape
from axiarch.engine.rows import TrainingData
from axiarch.engine.run import RunSpec
from axiarch.engine.streams import Streams
from tests.support import Runs, recipe, small_data


class Layers(unittest.TestCase):
    def made(self, data: TrainingData, count: int = 1, **values: object) -> Runs:
        spec = recipe(**values)
        runs = Runs(NetworkShape.of(spec, data.train_inputs.shape[1], 3), data)
        for k in range(count):
            runs.add(RunSpec(k, spec, Streams(1, k)))
        return runs

    def test_gradients_of_the_layers_make_up_the_whole(self) -> None:
        runs = self.made(small_data(), 2, depth=2)
        for progress in runs.train_epoch():
            n = progress.numbers
            self.assertEqual(len(n.layers), 3)
            weights = np.sqrt(sum(gradient**2 for gradient, *_ in n.layers))
            self.assertLessEqual(weights, n.gradient_norm * 1.001)
            self.assertGreater(weights, 0.5 * n.gradient_norm)

    def test_units_that_tell_nothing_are_counted(self) -> None:
        runs = self.made(small_data(), depth=2, width=8, learning_rate=1e-12, optimiser="sgd")
        first = runs.shape.placed[0]
        runs.parameters[0, first.biases : first.biases + 6] = -1e3  # six of eight never wake
        (progress,) = runs.train_epoch()
        self.assertEqual(next(dead for _, dead, _, _ in progress.numbers.layers), 0.75)
        self.assertEqual(progress.numbers.layers[-1][1], 0.0)

    def test_a_saturated_unit_is_dead_too(self) -> None:
        runs = self.made(small_data(),
                         depth=1,
                         width=4,
                         activation="tanh",
                         learning_rate=1e-12,
                         optimiser="sgd")
        first = runs.shape.placed[0]
        runs.parameters[0, first.biases] = 1e3
        (progress,) = runs.train_epoch()
        self.assertEqual(progress.numbers.layers[0][1], 0.25)

    def test_how_far_weights_move_is_the_rate_times_the_gradient(self) -> None:
        runs = self.made(small_data(), depth=1, optimiser="sgd", learning_rate=0.01)
        (progress,) = runs.train_epoch()
        for (gradient, _, moved, _), p in zip(progress.numbers.layers,
                                              runs.shape.placed,
                                              strict=True):
            own = runs.parameters[0, p.weights : p.weights + p.fan_in * p.units]
            self.assertAlmostEqual(moved / (0.01 * gradient / float(np.linalg.norm(own))),
                                   1.0,
                                   delta=0.01)

    def test_channels_of_pictures_are_units(self) -> None:
        rng = np.random.default_rng(0)
        x, y = rng.normal(size=(40, 36)).astype(np.float32), rng.integers(0, 3, 40).astype(np.int32)
        spec = recipe(network="conv 4, pool 2, 5", learning_rate=1e-12, optimiser="sgd")
        runs = Runs(NetworkShape.of(spec, (6, 6, 1), 3), TrainingData(x, y, x, y))
        runs.add(RunSpec(0, spec, Streams(1)))
        p = runs.shape.placed[0]
        runs.parameters[0, p.biases : p.biases + 2] = -1e3
        (progress,) = runs.train_epoch()
        self.assertEqual(len(progress.numbers.layers), 3)
        self.assertEqual(progress.numbers.layers[0][1], 0.5)


if __name__ == "__main__":
    unittest.main()
