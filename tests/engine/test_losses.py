"""Losses: gradients, known values, safe numbers, and units people can feel; one class for every
member.
"""

from __future__ import annotations

import math
import unittest

import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st

from axiarch.engine.losses import LOSSES, known_of, unit_of
from axiarch.engine.network import NetworkShape
from axiarch.engine.rows import TrainingData
from axiarch.engine.run import RunSpec
from axiarch.engine.streams import Streams
from tests.support import Runs, measured, recipe

#: Step of a central difference in float64.
STEP = 1e-6


class LossLaws:
    """What every loss must hold; a subclass names one and is a test case."""

    assertAlmostEqual = unittest.TestCase.assertAlmostEqual
    assertEqual = unittest.TestCase.assertEqual
    assertTrue = unittest.TestCase.assertTrue
    assertFalse = unittest.TestCase.assertFalse
    assertLess = unittest.TestCase.assertLess

    name = trained = ""
    outputs = 2

    def targets(self, rng: np.random.Generator, runs: int, rows: int) -> np.ndarray:
        """Return targets (K, B) or (K, B, T)."""
        if LOSSES[self.name].amounts:
            return rng.normal(size=(runs, rows, self.outputs))
        return rng.integers(0, max(self.outputs, 2), (runs, rows)).astype(np.int32)

    def measure(self,
                z: np.ndarray,
                targets: np.ndarray,
                gradient: bool = False) -> tuple[np.ndarray, np.ndarray]:
        """Return mean losses (K,) and mean sums; `z` becomes the gradient if that is wanted."""
        runs, rows, _ = z.shape
        losses, sums = [], []
        for k in range(runs):
            total, own, slope = measured(self.name,
                                         z[k],
                                         targets[k],
                                         gradient,
                                         by=self.trained or "squared")
            losses.append(total / rows)
            sums.append(own / rows)
            if gradient:
                z[k] = slope
        return np.array(losses), np.array(sums)

    def test_the_gradient_is_that_of_the_mean_loss(self) -> None:
        rng = np.random.default_rng(0)
        z, targets = rng.normal(size=(2, 5, self.outputs)), self.targets(rng, 2, 5)
        slope = z.copy()
        self.measure(slope, targets, gradient=True)
        for k in range(2):
            for b in range(5):
                for c in range(self.outputs):
                    ends = []
                    for side in (STEP, -STEP):
                        moved = z.copy()
                        moved[k, b, c] += side
                        ends.append(self.measure(moved, targets)[0][k])
                    self.assertAlmostEqual((ends[0] - ends[1]) / (2 * STEP),
                                           slope[k, b, c],
                                           places=7)

    def test_huge_outputs_do_not_overflow(self) -> None:
        rng = np.random.default_rng(2)
        z = np.sign(rng.normal(size=(1, 6, self.outputs))).astype(np.float32) * np.float32(1e4)
        loss, _ = self.measure(
            z,
            self.targets(rng, 1, 6).astype(np.float32 if LOSSES[self.name].amounts else np.int32),
            gradient=True)
        self.assertTrue(np.isfinite(loss).all() and np.isfinite(z).all())

    def test_what_is_not_a_number_is_seen(self) -> None:
        z = np.full((1, 3, self.outputs), np.nan)
        loss, _ = self.measure(z, self.targets(np.random.default_rng(0), 1, 3))
        self.assertFalse(np.isfinite(loss[0]))

    def test_a_network_learns_by_it(self) -> None:
        rng = np.random.default_rng(3)
        x = rng.normal(size=(200, 3)).astype(np.float32)
        if LOSSES[self.name].amounts:
            y = np.stack([x[:, 0] * 2, x[:, 1] - x[:, 2]],
                         axis=1)[:, :self.outputs].astype(np.float32)
        else:
            y = (x[:, 0] > x[:, 1]).astype(np.int32)
        spec = recipe(depth=0, epochs=30, learning_rate=0.05, optimiser="adam")
        runs = Runs(NetworkShape.of(spec, 3, self.outputs, self.name), TrainingData(
            x[:150], y[:150], x[150:], y[150:], (1.0,) * self.outputs))
        runs.add(RunSpec(0, spec, Streams(0)))
        losses = [runs.train_epoch()[0].numbers.validation_loss for _ in range(30)]
        self.assertLess(losses[-1], 0.4 * losses[0])


class Softmax(LossLaws, unittest.TestCase):
    name, outputs = "softmax", 3

    def test_a_known_value(self) -> None:
        loss, hits = self.measure(np.log(np.array([[[0.2, 0.3, 0.5]]])), np.array([[1]], np.int32))
        self.assertAlmostEqual(loss[0], -math.log(0.3))
        self.assertEqual(hits[0, 0], 0)


    def test_balanced_accuracy_weighs_classes_alike(self) -> None:
        z = np.log(np.array([[[8.0, 1, 1], [8, 1, 1], [8, 1, 1], [8, 1, 1], [1, 8, 1], [1, 8, 1]]]))
        labels = np.array([[0, 0, 0, 0, 1, 2]], np.int32)
        _, sums = self.measure(z, labels)
        known = known_of(LOSSES["softmax"], labels[0], 3)
        np.testing.assert_allclose(LOSSES["softmax"].metrics(sums[0], (), known), (5 / 6, 2 / 3))


class Binary(LossLaws, unittest.TestCase):
    name, outputs = "binary", 1

    @given(st.lists(st.tuples(st.floats(-30, 30), st.integers(0, 1)), min_size=1, max_size=20))
    def test_it_is_the_softmax_of_two_classes(self, rows: list[tuple[float, int]]) -> None:
        z = np.array([[[v] for v, _ in rows]])
        labels = np.array([[y for _, y in rows]], np.int32)
        both = np.concatenate([np.zeros_like(z), z], axis=2)
        total, _, _ = measured("softmax", both[0], labels[0])
        mine, _ = self.measure(z, labels)
        self.assertAlmostEqual(mine[0], total / len(rows), places=9)


class Squared(LossLaws, unittest.TestCase):
    name, outputs = "squared", 2

    def test_known_values(self) -> None:
        z = np.array([[[1.0, 0.0], [3.0, 4.0]]])
        loss, sums = self.measure(z, np.zeros((1, 2, 2)))
        self.assertAlmostEqual(loss[0], (1 + 0 + 9 + 16) / 4)
        np.testing.assert_allclose(sums[0], [5.0, 8.0, 2.0, 2.0])

    def test_one_amount_is_reported_in_its_own_unit(self) -> None:
        loss = LOSSES["squared"]
        self.assertAlmostEqual(loss.reported(0.25, (40.0,)), 20.0)
        error, explained = loss.metrics(np.array([0.25, 0.4]), (40.0,), np.ones(1))
        self.assertAlmostEqual(error, 16.0)
        self.assertAlmostEqual(explained, 0.75)

    def test_several_amounts_are_reported_in_spreads_and_each_in_its_own_unit(self) -> None:
        loss = LOSSES["squared"]
        self.assertAlmostEqual(loss.reported(0.25, (40.0, 3.0)), 0.5)
        np.testing.assert_allclose(
            loss.metrics(np.array([0.25, 4.0, 0.1, 0.1]), (40.0, 3.0), np.ones(1)), (20.0, 6.0))
        self.assertEqual(unit_of((40.0, 3.0)), 1.0)

    @settings(deadline=None, max_examples=10)
    @given(st.floats(1e-6, 1e6))
    def test_the_unit_of_a_target_changes_no_epoch_and_no_stop(self, scale: float) -> None:
        """The same amounts in other units, scaled back, train alike: only the reported numbers
        differ.
        """
        rng = np.random.default_rng(4)
        x = rng.normal(size=(90, 2)).astype(np.float32)
        y = (x[:, :1] ** 2).astype(np.float32)
        spec = recipe(epochs=12, patience=2, min_improvement=0.01, learning_rate=0.02)
        paths = []
        for unit in (1.0, scale):
            data = TrainingData(x[:60], y[:60], x[60:], y[60:], (unit,))
            runs = Runs(NetworkShape.of(spec, 2, 1, "squared"), data)
            runs.add(RunSpec(0, spec, Streams(0)))
            epochs = []
            while True:
                (progress,) = runs.train_epoch()
                epochs.append(progress.numbers.validation_loss / unit)
                if progress.end is not None:
                    break
            paths.append((epochs, progress.end.reason, progress.end.best_epoch))
        np.testing.assert_allclose(paths[0][0], paths[1][0], rtol=1e-9)
        self.assertEqual(paths[0][1:], paths[1][1:])


class Logarithmic(LossLaws, unittest.TestCase):
    name, outputs, trained = "logarithmic", 2, "squared"

    def test_the_gradient_is_that_of_the_mean_loss(self) -> None:
        """It is that of the squared differences of the logarithms; what is reported compares the
        amounts.
        """
        rng = np.random.default_rng(0)
        z, targets = rng.normal(size=(1, 5, 2)), self.targets(rng, 1, 5)
        slope = z.copy()
        self.measure(slope, targets, gradient=True)
        np.testing.assert_allclose(slope, 2 * (z - targets) / 10, atol=1e-12)

    def test_what_is_reported_compares_the_amounts_in_their_own_unit(self) -> None:
        scale, centre, spread = 0.5, 1.0, 4.0
        z, targets = np.array([[[0.3], [-1.0]]]), np.array([[[0.1], [0.4]]])
        total, _, _ = measured(self.name, z[0], targets[0],
                               loss_values=np.array([scale, centre, spread]))
        away = np.exp(z * scale + centre) - np.exp(targets * scale + centre)
        self.assertAlmostEqual(LOSSES[self.name].reported(total / 2, (spread, )),
                               float(np.sqrt((away**2).mean())))


class Known(unittest.TestCase):
    def test_a_linear_network_finds_the_least_squares_solution(self) -> None:
        rng = np.random.default_rng(5)
        x = rng.normal(size=(300, 4)).astype(np.float32)
        y = (x @ rng.normal(size=(4, 1)) + 0.3 * rng.normal(size=(300, 1)) + 1).astype(np.float32)
        best, *_ = np.linalg.lstsq(np.concatenate([x, np.ones((300, 1))], axis=1), y, rcond=None)
        spec = recipe(depth=0, epochs=400, batch_size=300, optimiser="momentum", learning_rate=0.05)
        runs = Runs(NetworkShape.of(spec, 4, 1, "squared"), TrainingData(x, y, x, y, (1.0, )),
                    np.float64)
        runs.add(RunSpec(0, spec, Streams(0)))
        for _ in range(400):
            runs.train_epoch()
        np.testing.assert_allclose(runs.parameters[0], best.ravel(), atol=1e-5)

    def test_every_loss_has_its_laws_run(self) -> None:
        self.assertEqual({case.name for case in LossLaws.__subclasses__()}, set(LOSSES))


if __name__ == "__main__":
    unittest.main()
