"""Every gradient against finite differences, in float64, through the compiled path that trains."""

from __future__ import annotations

import itertools
import math
import unittest

import numpy as np

from axiarch.engine.network import NetworkShape
from axiarch.engine.run import RunSpec
from axiarch.engine.streams import Streams
from axiarch.recipes.members import ACTIVATIONS
from tests.support import Runs, first_step, measured, recipe, small_data

#: Size of the step; the error of a central difference is about its square.
STEP = 1e-5


class Gradients(unittest.TestCase):
    def check(self, rows: int = 70, inputs: tuple[int, ...] = (4,), **values: object) -> None:
        data = small_data(rows, math.prod(inputs), 3)
        spec = recipe(optimiser="sgd", learning_rate=1e-9, precision="float64", **values)
        runs = Runs(NetworkShape.of(spec, inputs, 3), data, np.float64)
        training = runs.add(RunSpec(0, spec, Streams(1)))
        trained = runs.shape.trained
        start = training.parameters.copy()
        start[:trained] += np.random.default_rng(0).normal(0, 0.1, trained)
        _, analytic = first_step(training, start)
        self.assertTrue((analytic[trained:] == 0).all())
        for p in np.random.default_rng(1).choice(trained, min(40, trained), False):
            ends = []
            for side in (STEP, -STEP):
                moved = start.copy()
                moved[p] += side
                ends.append(first_step(training, moved)[0])
            np.testing.assert_allclose(analytic[p], (ends[0] - ends[1]) / (2 * STEP),
                                       rtol=2e-5,
                                       atol=2e-7)

    def test_every_activation_and_depth(self) -> None:
        for activation in ACTIVATIONS:
            for depth in (0, 1, 3):
                with self.subTest(activation=activation, depth=depth):
                    self.check(depth=depth, activation=activation)

    def test_with_dropout(self) -> None:
        for activation in ACTIVATIONS:
            with self.subTest(activation=activation):
                self.check(depth=2, activation=activation, dropout=0.4)

    def test_on_a_short_batch(self) -> None:
        self.check(7, depth=2, dropout=0.3)

    def test_normalised_and_with_skips(self) -> None:
        for norm, residual, activation in itertools.product(
            ("none", "batch", "layer"), ("no", "yes"), ("relu", "gelu", "tanh")):
            with self.subTest(norm=norm, residual=residual, activation=activation):
                self.check(depth=3,
                           normalisation=norm,
                           residual=residual,
                           activation=activation,
                           dropout=0.3)

    def test_pictures(self) -> None:
        lines = ("conv 3, pool 2, hidden", "conv 2 stride 2, conv 3 valid, 5",
                 "conv 3 size 2, mean pool 2, hidden",
                 "conv 3 batch norm tanh, conv 3 layer norm residual, pool 3",
                 "conv 4 size 5 drop 0.3, 2 of 6 residual",
                 "pool 2, conv 2, conv 2 residual, mean pool 2")
        for line in lines:
            with self.subTest(line=line):
                self.check(inputs=(7, 6, 2), network=line, activation="gelu", depth=1, width=4)
                self.check(5, inputs=(7, 6, 2), network=line, depth=1, width=4)

    def test_every_layer_of_a_line_by_itself(self) -> None:
        for line in ("6 tanh, 5 sigmoid layer norm, 5 residual elu", "3 narrowing from 9 silu",
                     "2 of 7 drop 0.5 residual"):
            with self.subTest(line=line):
                self.check(network=line, dropout=0.2)


class SoftmaxLoss(unittest.TestCase):
    def test_known_values(self) -> None:
        total, _, _ = measured("softmax", np.zeros((2, 4)), np.zeros(2))
        self.assertAlmostEqual(total / 2, np.log(4))

    def test_huge_logits_do_not_overflow(self) -> None:
        for dtype in (np.float32, np.float64):
            total, _, slope = measured("softmax", np.array([[1e4, -1e4, 0.0]], dtype),
                                       np.array([1]), True)
            self.assertAlmostEqual(total, 2e4)
            np.testing.assert_allclose(slope[0], [1, -1, 0], atol=1e-6)

    def test_the_gradient_of_each_row_sums_to_zero(self) -> None:
        z = np.random.default_rng(0).normal(size=(5, 4))
        np.testing.assert_allclose(measured("softmax", z, np.ones(5), True)[2].sum(1),
                                   0,
                                   atol=1e-12)

    def test_hits_count_the_largest_logit_the_first_of_equals(self) -> None:
        z = np.array([[3.0, 1.0], [0.0, 2.0], [5.0, 4.0], [1.0, 1.0], [1.0, 1.0]])
        _, sums, _ = measured("softmax", z, np.array([0, 1, 1, 0, 1]))
        np.testing.assert_array_equal(sums, [3, 2, 1, 4, 1])

    def test_what_is_not_a_number_is_no_hit(self) -> None:
        total, sums, _ = measured("softmax", np.full((1, 2), np.nan), np.zeros(1))
        self.assertEqual(sums[0], 0)
        self.assertTrue(np.isnan(total))

    def test_float32_is_float64_within_rounding(self) -> None:
        z = np.random.default_rng(1).normal(0, 5, (300, 7))
        labels = np.arange(300) % 7
        low, high = (measured("softmax", z.astype(kind), labels, True)
                     for kind in (np.float32, np.float64))
        self.assertAlmostEqual(low[0] / high[0], 1.0, places=6)
        np.testing.assert_allclose(low[2], high[2], atol=1e-8)


if __name__ == "__main__":
    unittest.main()
