"""Several batches to a step, mixed rows, crops, and what is counted while training."""

from __future__ import annotations

import unittest

import numpy as np

from axiarch.engine import kernels
from axiarch.engine.losses import LOSSES
from axiarch.engine.network import StackShape
from axiarch.engine.regularisation import still_bends
from axiarch.engine.rows import TrainingData
from axiarch.engine.run import RunSpec
from axiarch.engine.stack import Progress, Stack
from axiarch.engine.streams import Streams
from axiarch.recipes.fields import FIELDS
from tests.support import recipe, small_data

DATA = small_data()


def trained(count: int = 2, dtype: type = np.float64, data: TrainingData = DATA, loss: str = "softmax",
            outputs: int = 3, **values: object) -> tuple[Stack, list[Progress]]:
    """Train one recipe and return its stack and its epochs."""
    spec = recipe(**values)
    stack = Stack(StackShape.of(spec, data.train_inputs.shape[1], outputs, loss), 1, data, dtype)
    stack.add(RunSpec(0, spec, Streams(0)))
    return stack, [stack.train_epoch()[0] for _ in range(count)]


class Accumulation(unittest.TestCase):
    def test_it_steps_as_one_large_batch_would(self) -> None:
        for optimiser in ("sgd", "momentum", "adam"):
            for small, times in ((8, 2), (10, 3), (7, 10), (5, 4)):
                with self.subTest(optimiser=optimiser, batch=small, times=times):
                    values = {"optimiser": optimiser, "learning_rate": 0.01, "l2": 0.01, "clip_norm": 0.5,
                              "schedule": "cosine", "averaging": 0.9}
                    pieces, _ = trained(batch_size=small, accumulation=times, **values)
                    whole, _ = trained(batch_size=small * times, **values)
                    np.testing.assert_allclose(pieces.parameters, whole.parameters, rtol=1e-9, atol=1e-12)
                    np.testing.assert_allclose(pieces.state(0).optimiser, whole.state(0).optimiser, rtol=1e-9,
                                               atol=1e-12)

    def test_steps_are_counted_by_the_optimiser(self) -> None:
        _, epochs = trained(5, batch_size=10, accumulation=7, most_steps=2)
        self.assertEqual([p.end is not None for p in epochs].index(True), 1)


class Mixing(unittest.TestCase):
    def test_rows_are_mixed_with_their_partners(self) -> None:
        rng = np.random.default_rng(0)
        x = rng.normal(size=(2, 5, 3))
        before = x.copy()
        bends = still_bends(2, np.float64)
        bends[1, kernels.KEPT] = 0.7
        kernels.mix(x, bends, 2, 5)
        np.testing.assert_array_equal(x[0], before[0])
        np.testing.assert_allclose(x[1], 0.7 * before[1] + 0.3 * before[1, ::-1])

    def test_the_gradient_is_that_of_the_mixed_targets(self) -> None:
        rng = np.random.default_rng(0)
        bends = np.array([[0.2, 0.6, 1.0]])
        labels = rng.integers(0, 3, (1, 5)).astype(np.int32)
        z = rng.normal(size=(1, 5, 3))
        p = np.exp(z[0]) / np.exp(z[0]).sum(1, keepdims=True)
        soft = 0.8 * np.eye(3)[labels[0]] + 0.2 / 3
        kernels.softmax_loss(z, labels, np.zeros(1), np.zeros((1, 4)), True, bends, np.ones((1, 3)), 1, 5)
        np.testing.assert_allclose(z[0], (p - 0.6 * soft - 0.4 * soft[::-1]) / 5, atol=1e-15)
        z, labels = rng.normal(size=(1, 5, 1)), labels % 2
        share = 1 / (1 + np.exp(-z[0, :, 0]))
        soft = 0.8 * labels[0] + 0.1
        kernels.binary_loss(z, labels, np.zeros(1), np.zeros((1, 3)), True, bends, np.ones((1, 2)), 1, 5)
        np.testing.assert_allclose(z[0, :, 0], (share - 0.6 * soft - 0.4 * soft[::-1]) / 5, atol=1e-15)

    def test_it_narrows_the_gap_of_a_network_that_learns_by_heart(self) -> None:
        _, plain = trained(60, epochs=60, width=64, learning_rate=0.02)
        _, mixed = trained(60, epochs=60, width=64, learning_rate=0.02, mixing=1.0)
        gaps = [p[-1].numbers.validation_loss - p[-1].numbers.train_loss_still for p in (plain, mixed)]
        self.assertLess(gaps[1], 0.7 * gaps[0])


class AmountLosses(unittest.TestCase):
    def slope(self, name: str, z: np.ndarray, y: np.ndarray, width: float = 1.0) -> np.ndarray:
        bends = np.array([[0.0, 1.0, width]])
        z = z.copy()
        LOSSES["squared"].kernel(z, y, np.zeros(1), np.zeros((1, 4)), True, bends, np.ones((1, 1)), 1, z.shape[1])
        LOSSES["squared"].slopes[name](z, bends, np.array([0]), z.shape[1])
        return z

    def test_slopes_against_finite_differences(self) -> None:
        rng = np.random.default_rng(0)
        z, y, width = 2 * rng.normal(size=(1, 6, 2)), rng.normal(size=(1, 6, 2)), 0.8

        def huber(e: np.ndarray) -> np.ndarray:
            return np.where(abs(e) <= width, e**2 / 2, width * (abs(e) - width / 2))

        laws = {"squared": np.square, "absolute": np.abs, "huber": huber}
        self.assertEqual(set(laws), set(FIELDS["loss"].choices))
        for name, law in laws.items():
            numeric = (law(z - y + 1e-6) - law(z - y - 1e-6)) / 2e-6 / y.size
            np.testing.assert_allclose(self.slope(name, z, y, width), numeric, atol=1e-8)

    def test_what_is_reported_is_the_root_of_the_mean_square_whatever_trains(self) -> None:
        x = np.random.default_rng(0).normal(size=(60, 2)).astype(np.float32)
        y = (x[:, :1] * 2).astype(np.float32)
        data = TrainingData(x[:40], y[:40], x[40:], y[40:], (3.0,))
        for loss in ("squared", "absolute", "huber"):
            spec = recipe(depth=0, batch_size=8, learning_rate=1e-12, loss=loss)
            stack = Stack(StackShape.of(spec, 2, 1, "squared"), 1, data, np.float64)
            stack.add(RunSpec(0, spec, Streams(0)))
            told = x[40:] @ stack.parameters[0, :2] + stack.parameters[0, 2]
            wanted = 3.0 * np.sqrt(np.mean((told - y[40:, 0]) ** 2))
            self.assertAlmostEqual(stack.train_epoch()[0].numbers.validation_loss, wanted, places=6)

    def test_absolute_differences_bear_a_wild_row(self) -> None:
        rng = np.random.default_rng(1)
        x = rng.normal(size=(200, 1)).astype(np.float32)
        y = (3 * x).astype(np.float32)
        y[:12] += 400
        data = TrainingData(x, y, x[20:], y[20:], (1.0,))
        slopes = {}
        for loss in ("squared", "absolute", "huber"):
            spec = recipe(depth=0, batch_size=20, learning_rate=0.05, epochs=200, loss=loss)
            stack = Stack(StackShape.of(spec, 1, 1, "squared"), 1, data)
            stack.add(RunSpec(0, spec, Streams(0)))
            for _ in range(120):
                stack.train_epoch()
            slopes[loss] = abs(float(stack.parameters[0, 0]) - 3) + abs(float(stack.parameters[0, 1]))
        self.assertLess(slopes["absolute"], 0.5)
        self.assertLess(slopes["huber"], 0.5)
        self.assertGreater(slopes["squared"], 5)


class Crops(unittest.TestCase):
    def test_a_crop_is_a_part_of_the_picture_enlarged(self) -> None:
        picture = np.add.outer(np.arange(8.0) * 10, np.arange(8.0)).reshape(1, 1, 64)
        seen = set()
        for step in range(40):
            x = picture.copy()
            zero = np.zeros(1, np.int64)
            kernels.augment(x, 8, 8, 1, zero, zero, np.zeros(1), np.zeros(1), np.full(1, 0.5),
                            np.array([7], np.uint64), step, 1, 1)
            cut = x.reshape(8, 8)
            self.assertTrue((np.diff(cut, axis=0) >= 0).all() and (np.diff(cut, axis=1) >= 0).all())
            self.assertTrue(np.isin(cut, picture).all())
            side = len(np.unique(cut // 10))
            self.assertGreaterEqual(side, 4)
            seen.add(side)
        self.assertGreater(len(seen), 2)


class Counted(unittest.TestCase):
    def test_saturated_units_are_told_from_live_ones(self) -> None:
        for activation in ("tanh", "sigmoid"):
            stack, _ = trained(1, activation=activation, depth=1)
            stack.parameters[:, : 5 * 3] = 0
            stack.parameters[:, : stack.shape.weights].reshape(-1)[:30:2] = 300.0
            stack._settle(1)
            stack._inside.start_looking()
            stack._evaluate([stack._source(0).still], look=True)
            saturated = stack._inside.numbers(stack.parameters, stack.gradients, 1)[0][0][3]
            self.assertGreater(saturated, 0)
            self.assertLess(saturated, 1)
        _, epochs = trained(1, activation="relu")
        self.assertEqual([layer[3] for layer in epochs[0].numbers.layers], [0, 0, 0])

    def test_the_wait_for_rows_is_part_of_the_time(self) -> None:
        _, epochs = trained()
        for p in epochs:
            self.assertGreater(p.numbers.waited, 0)
            self.assertLess(p.numbers.waited, p.numbers.seconds)

    def test_a_run_ends_with_its_seconds(self) -> None:
        _, epochs = trained(3, most_seconds=1e-9)
        end = epochs[0].end
        assert end is not None
        self.assertEqual(end.reason, "seconds")
        self.assertIn("seconds of at most", end.text)
