"""Several batches to a step, mixed rows, crops, and what is counted while training."""

from __future__ import annotations

import unittest

import numpy as np

from axiarch.engine import codes
from axiarch.engine.kernels import rows
from axiarch.engine.network import NetworkShape
from axiarch.engine.rows import TrainingData
from axiarch.engine.run import RunSpec
from axiarch.engine.streams import Streams
from axiarch.engine.training import Progress
from axiarch.recipes.fields import FIELDS
from tests.support import Runs, measured, recipe, small_data

DATA = small_data()


def trained(count: int = 2,
            dtype: type = np.float64,
            data: TrainingData = DATA,
            loss: str = "softmax",
            outputs: int = 3,
            **values: object) -> tuple[Runs, list[Progress]]:
    """Train one recipe and return it and its epochs."""
    spec = recipe(**values)
    runs = Runs(NetworkShape.of(spec, data.train_inputs.shape[1], outputs, loss), data, dtype)
    runs.add(RunSpec(0, spec, Streams(0)))
    return runs, [runs.train_epoch()[0] for _ in range(count)]


class Accumulation(unittest.TestCase):
    def test_it_steps_as_one_large_batch_would(self) -> None:
        for optimiser in ("sgd", "momentum", "adam"):
            for small, times in ((8, 2), (10, 3), (7, 10), (5, 4)):
                with self.subTest(optimiser=optimiser, batch=small, times=times):
                    values = {
                        "optimiser": optimiser, "learning_rate": 0.01, "l2": 0.01, "clip_norm": 0.5,
                        "schedule": "cosine", "weight_averaging": 0.9
                    }
                    pieces, _ = trained(batch_size=small, gradient_accumulation=times, **values)
                    whole, _ = trained(batch_size=small * times, **values)
                    np.testing.assert_allclose(pieces.parameters,
                                               whole.parameters,
                                               rtol=1e-9,
                                               atol=1e-12)
                    np.testing.assert_allclose(pieces.state(0).optimiser,
                                               whole.state(0).optimiser,
                                               rtol=1e-9,
                                               atol=1e-12)

    def test_steps_are_counted_by_the_optimiser(self) -> None:
        _, epochs = trained(5, batch_size=10, gradient_accumulation=7, max_steps=2)
        self.assertEqual([p.end is not None for p in epochs].index(True), 1)


class Mixing(unittest.TestCase):
    def test_rows_are_mixed_with_their_partners(self) -> None:
        x = np.random.default_rng(0).normal(size=(5, 3))
        block = np.ascontiguousarray(x.T).reshape(-1)
        rows.mix(block, 0, 3, 0.7, 5)
        np.testing.assert_allclose(block.reshape(3, 5).T, 0.7 * x + 0.3 * x[::-1])

    def test_the_gradient_is_that_of_the_mixed_targets(self) -> None:
        rng = np.random.default_rng(0)
        labels = rng.integers(0, 3, 5).astype(np.int32)
        z = rng.normal(size=(5, 3))
        p = np.exp(z) / np.exp(z).sum(1, keepdims=True)
        soft = 0.8 * np.eye(3)[labels] + 0.2 / 3
        _, _, slope = measured("softmax", z, labels, True, 0.2, 0.6)
        np.testing.assert_allclose(slope, (p - 0.6 * soft - 0.4 * soft[::-1]) / 5, atol=1e-15)
        z, labels = rng.normal(size=(5, 1)), labels % 2
        share = 1 / (1 + np.exp(-z[:, 0]))
        soft = 0.8 * labels + 0.1
        _, _, slope = measured("binary", z, labels, True, 0.2, 0.6)
        np.testing.assert_allclose(slope[:, 0], (share - 0.6 * soft - 0.4 * soft[::-1]) / 5,
                                   atol=1e-15)

    def test_it_narrows_the_gap_of_a_network_that_learns_by_heart(self) -> None:
        _, plain = trained(60, epochs=60, width=64, learning_rate=0.02)
        _, mixed = trained(60, epochs=60, width=64, learning_rate=0.02, mixup=1.0)
        gaps = [
            p[-1].numbers.validation_loss - p[-1].numbers.train_loss_eval for p in (plain, mixed)
        ]
        self.assertLess(gaps[1], 0.7 * gaps[0])


class AmountLosses(unittest.TestCase):
    def test_slopes_against_finite_differences(self) -> None:
        rng = np.random.default_rng(0)
        z, y, width = 2 * rng.normal(size=(6, 2)), rng.normal(size=(6, 2)), 0.8

        def huber(e: np.ndarray) -> np.ndarray:
            return np.where(abs(e) <= width, e**2 / 2, width * (abs(e) - width / 2))

        laws = {"squared": np.square, "absolute": np.abs, "huber": huber}
        self.assertEqual(set(laws), set(FIELDS["loss"].choices))
        for name, law in laws.items():
            numeric = (law(z - y + 1e-6) - law(z - y - 1e-6)) / 2e-6 / y.size
            slope = measured("squared", z, y, True, by=name, width=width)[2]
            np.testing.assert_allclose(slope, numeric, atol=1e-8)

    def test_what_is_reported_is_the_root_of_the_mean_square_whatever_trains(self) -> None:
        x = np.random.default_rng(0).normal(size=(60, 2)).astype(np.float32)
        y = (x[:, :1] * 2).astype(np.float32)
        data = TrainingData(x[:40], y[:40], x[40:], y[40:], (3.0,))
        for loss in ("squared", "absolute", "huber"):
            spec = recipe(depth=0, batch_size=8, learning_rate=1e-12, loss=loss)
            runs = Runs(NetworkShape.of(spec, 2, 1, "squared"), data, np.float64)
            runs.add(RunSpec(0, spec, Streams(0)))
            predicted = x[40:] @ runs.parameters[0, :2] + runs.parameters[0, 2]
            wanted = 3.0 * np.sqrt(np.mean((predicted - y[40:, 0]) ** 2))
            self.assertAlmostEqual(runs.train_epoch()[0].numbers.validation_loss, wanted, places=6)

    def test_absolute_differences_bear_a_wild_row(self) -> None:
        rng = np.random.default_rng(1)
        x = rng.normal(size=(200, 1)).astype(np.float32)
        y = (3 * x).astype(np.float32)
        y[:12] += 400
        data = TrainingData(x, y, x[20:], y[20:], (1.0,))
        slopes = {}
        for loss in ("squared", "absolute", "huber"):
            spec = recipe(depth=0, batch_size=20, learning_rate=0.05, epochs=200, loss=loss)
            runs = Runs(NetworkShape.of(spec, 1, 1, "squared"), data)
            runs.add(RunSpec(0, spec, Streams(0)))
            for _ in range(120):
                runs.train_epoch()
            slopes[loss] = abs(float(runs.parameters[0, 0]) - 3) + abs(float(runs.parameters[0, 1]))
        self.assertLess(slopes["absolute"], 0.5)
        self.assertLess(slopes["huber"], 0.5)
        self.assertGreater(slopes["squared"], 5)


class Crops(unittest.TestCase):
    def test_a_crop_is_a_part_of_the_picture_enlarged(self) -> None:
        picture = np.add.outer(np.arange(8.0) * 10, np.arange(8.0)).reshape(1, 1, 64)
        seen = set()
        for step in range(40):
            x = picture.reshape(-1).copy()
            how = np.zeros(5)
            how[codes.CROP] = 0.5
            rows.augment(x, 0, 1, 8, 8, True, how, np.uint64(7), step, 1, 1, np.zeros(64))
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
            runs, _ = trained(1, activation=activation, depth=1)
            (training,) = runs.trainings
            training.parameters[: runs.shape.weights : 2][:15] = 300.0
            training._conclude(lambda: None)
            saturated = training._inside.numbers()[0][3]
            self.assertGreater(saturated, 0)
            self.assertLess(saturated, 1)
        _, epochs = trained(1, activation="relu")
        self.assertEqual([layer[3] for layer in epochs[0].numbers.layers], [0, 0, 0])

    def test_a_run_ends_with_its_seconds(self) -> None:
        _, epochs = trained(3, max_seconds=1e-9)
        end = epochs[0].end
        assert end is not None
        self.assertEqual(end.reason, "seconds")
        self.assertIn("seconds of at most", end.text)
