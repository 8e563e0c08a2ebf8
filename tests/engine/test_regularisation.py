"""Pulls, limits, smoothing, weights of classes, noise, and the rules that end a run."""

from __future__ import annotations

import unittest

import numpy as np

from axiarch.engine import codes
from axiarch.engine.kernels import limits, norms, rows, steps
from axiarch.engine.network import NetworkShape
from axiarch.engine.optimisers import OPTIMISERS
from axiarch.engine.program import OPTIMISER_NUMBERS
from axiarch.engine.rows import TrainingData, class_weights
from axiarch.engine.run import RunEnd, RunSpec
from axiarch.engine.stopping import StoppingState
from axiarch.engine.streams import Streams
from axiarch.engine.training import Training
from axiarch.recipes.recipe import Recipe
from axiarch.runs.epoch import Epoch
from tests.support import Runs, measured, recipe, small_data


def trained(data: TrainingData, epochs: int, **values: object) -> Runs:
    """Train one recipe and return what trained it."""
    spec = recipe(epochs=epochs, **values)
    runs = Runs(NetworkShape.of(spec, data.train_inputs.shape[1], 3), data)
    runs.add(RunSpec(0, spec, Streams(0)))
    for _ in range(epochs):
        runs.train_epoch()
    return runs


class Bending(unittest.TestCase):
    data = small_data()

    def weights(self, **values: object) -> np.ndarray:
        runs = trained(self.data, 12, learning_rate=0.02, **values)
        return runs.parameters[0, : runs.shape.weights]

    def test_l1_makes_weights_vanish(self) -> None:
        free, pulled = self.weights(), self.weights(l1=0.05)
        self.assertGreater((np.abs(pulled) < 0.02).mean(), 3 * (np.abs(free) < 0.02).mean() + 0.1)

    def test_weights_into_a_unit_stay_within_max_norm(self) -> None:
        runs = trained(self.data, 8, learning_rate=0.1, max_norm=0.7)
        for p in runs.shape.placed:
            own = runs.parameters[0, p.weights:p.weights + p.fan_in * p.units].reshape(
                p.fan_in, p.units)
            self.assertLessEqual(float(np.linalg.norm(own, axis=0).max()), 0.7 * (1 + 1e-5))

    def test_clipping_bounds_the_gradient_and_keeps_its_direction(self) -> None:
        for given, norm, value, wanted in (
                ([3.0, -4.0], 1.0, 0.0, [0.6, -0.8]), ([0.3, 0.4], 1.0, 0.0, [0.3, 0.4]),
                ([3.0, -4.0], 0.0, 0.5, [0.5, -0.5]), ([0.3, 0.4], 0.0, 0.35, [0.3, 0.35])):
            g = np.array(given)
            limits.clip(g, norm, value, 2)
            np.testing.assert_allclose(g, wanted)
        g = np.array([np.nan, 1.0])
        limits.clip(g, 1.0, 0.0, 2)
        self.assertTrue(np.isnan(g[0]))

    def test_squares_are_summed_in_double_precision(self) -> None:
        huge, one, none = np.full(4, 3e19, np.float32), np.float32(1), np.float32(0)
        w = huge.copy()
        limits.max_norm(w, 0, 4, 1, one)
        np.testing.assert_allclose(w, 0.5, rtol=1e-6)
        g = huge.copy()
        limits.clip(g, one, none, 4)
        np.testing.assert_allclose(g, 0.5, rtol=1e-6)
        self.assertAlmostEqual(limits.sum_of_squares(huge, 0, 4) / (4 * 9e38), 1.0, places=6)
        g = np.array([np.inf, 1.0])
        limits.clip(g, 1.0, 0.0, 2)
        self.assertEqual(g.tolist(), [np.inf, 1.0], "what is not finite is left, to be seen")

    def test_the_gradient_is_reported_before_and_after_clipping(self) -> None:
        for values, clipped in (({"clip_norm": 1e-3}, True), ({}, False)):
            runs = Runs(NetworkShape.of(recipe(**values), (5,), 3, "softmax"), small_data())
            runs.add(RunSpec(0, recipe(**values), Streams(1)))
            (progress,) = runs.train_epoch()
            n = progress.numbers
            if clipped:
                self.assertAlmostEqual(n.gradient_norm, 1e-3, places=6)
                self.assertGreater(n.loss_gradient, 10 * n.gradient_norm)
            else:
                self.assertAlmostEqual(n.loss_gradient, n.gradient_norm, places=9)

    def test_a_gradient_too_small_to_square_moves_nothing_whatever_epsilon_is(self) -> None:
        for name in ("adam", "nadam", "amsgrad", "lamb", "rmsprop"):
            one = Recipe({"optimiser": name, "epsilon": 1e-20, "learning_rate": 1e-2})
            numbers = OPTIMISERS[name].coefficients(one, np.full(1, 1e-2),
                                                    np.ones(1)).astype(np.float32)
            w, state = np.ones(6, np.float32), np.zeros(codes.STATES * 6, np.float32)
            g = np.full(6, 1e-19, np.float32)
            steps.optimise(OPTIMISER_NUMBERS[name], 0, w, g, state, numbers[0], 6, 6, 6,
                           np.array([0, 6]))
            with self.subTest(optimiser=name):
                self.assertEqual(w.tolist(), [1.0] * 6)
                self.assertFalse(state.any())

    def test_smoothed_labels_have_the_gradient_of_the_smoothed_loss(self) -> None:
        rng = np.random.default_rng(0)
        z, labels, smooth = rng.normal(size=(4, 3)), rng.integers(0, 3, 4).astype(np.int32), 0.3
        wanted = (1 - smooth) * np.eye(3)[labels] + smooth / 3
        p = np.exp(z) / np.exp(z).sum(1, keepdims=True)
        np.testing.assert_allclose(
            measured("softmax", z, labels, True, smooth)[2], (p - wanted) / 4)
        z = rng.normal(size=(4, 1))
        share = 1 / (1 + np.exp(-z))
        labels = np.array([0, 1, 1, 0], np.int32)
        np.testing.assert_allclose(measured("binary", z, labels, True, smooth)[2],
                                   (share - (labels[:, None] * 0.7 + 0.15)) / 4)

    def test_smoothing_and_weights_change_no_reported_loss(self) -> None:
        rng = np.random.default_rng(1)
        z, labels = rng.normal(size=(5, 3)), rng.integers(0, 3, 5).astype(np.int32)
        bent = measured("softmax", z, labels, True, 0.4, 0.7, np.array([9.0, 1.0, 1.0]))
        self.assertEqual(measured("softmax", z, labels)[0], bent[0])

    def test_balanced_classes_weigh_alike(self) -> None:
        labels = np.array([0] * 90 + [1] * 9 + [2], np.int32)
        weights = class_weights(labels, 4)
        np.testing.assert_allclose(weights[:3] * np.bincount(labels), [100 / 3] * 3)
        self.assertAlmostEqual(float(weights[labels].mean()), 1.0)

    def test_balanced_classes_help_the_rare_one(self) -> None:
        rng = np.random.default_rng(2)
        y = (rng.random(600) < 0.06).astype(np.int32)
        x = (rng.normal(size=(600, 2)) + 1.2 * y[:, None]).astype(np.float32)
        data = TrainingData(x, y, x, y)
        called = []
        for weights in ("equal", "balanced"):
            runs = trained(data, 20, depth=0, learning_rate=0.05, class_weights=weights)
            out = x @ runs.parameters[0, :6].reshape(2, 3) + runs.parameters[0, 6:9]
            called.append((out.argmax(1)[y == 1] == 1).mean())
        self.assertGreater(called[1], called[0] + 0.3)

    def test_noise_is_normal_and_a_function_of_run_and_step(self) -> None:
        def noise(step: int, key: int = 7) -> np.ndarray:
            a = np.zeros(31 * 500)
            rows.add_noise(a, 0, 31, 0.5, np.uint64(key), step, 500, 500)
            return a

        x = noise(3)
        self.assertAlmostEqual(float(x.std()), 0.5, delta=0.01)
        self.assertAlmostEqual(float(x.mean()), 0.0, delta=0.01)
        self.assertAlmostEqual(float((np.abs(x) < 0.5).mean()), 0.6827, delta=0.01)
        np.testing.assert_array_equal(noise(3), x)
        for other in (noise(4), noise(3, 8)):
            self.assertGreater(float((other - x).std()), 0.4)


class Pictures(unittest.TestCase):
    """Pictures varied by chance: 9 x 8 pixels of two channels."""

    shape = (9, 8, 2)

    def augmented(self, count: int = 200, key: int = 5, step: int = 0, **values: float
                  ) -> tuple[np.ndarray, np.ndarray]:
        """Return pictures as they were and as they are seen."""
        x = np.random.default_rng(0).normal(1.0, 1.0, (count, *self.shape))
        how = np.array(
            [values.get(name, 0.0) for name in ("shift", "flip", "contrast", "cutout", "crop")])
        found = []
        for planes in (True, False):
            axes = (3, 1, 2, 0) if planes else (1, 2, 3, 0)
            a = np.ascontiguousarray(x.transpose(axes))
            laid, height, width, channels = a.shape, *self.shape
            flat = a.reshape(-1)
            rows.augment(flat, 0, channels, height, width, planes, how, np.uint64(key), step, count,
                         count, np.zeros(144))
            found.append(flat.reshape(laid).transpose(np.argsort(axes)))
        np.testing.assert_array_equal(found[0], found[1],
                                      "however pictures are laid out, they are varied alike")
        return x, found[0]

    def test_a_shift_moves_whole_pictures_and_fills_with_the_mean(self) -> None:
        x, seen = self.augmented(shift=2)
        found = set()
        for one, other in zip(x, seen, strict=True):
            moves = []
            for down in range(-2, 3):
                for right in range(-2, 3):
                    wanted = np.zeros_like(one)
                    wanted[max(down, 0):9 + min(down, 0),
                           max(right, 0):8 + min(right, 0)] = one[max(-down, 0):9 - max(down, 0),
                                                                  max(-right, 0):8 - max(right, 0)]
                    if np.array_equal(wanted, other):
                        moves.append((down, right))
            self.assertEqual(len(moves), 1)
            found.add(moves[0])
        self.assertEqual(len(found), 25)

    def test_a_mirror_shows_half_of_them(self) -> None:
        x, seen = self.augmented(flip=1)
        mirrored = [np.array_equal(other, one[:, ::-1]) for one, other in zip(x, seen, strict=True)]
        plainly = [np.array_equal(other, one) for one, other in zip(x, seen, strict=True)]
        self.assertTrue(all(m != p for m, p in zip(mirrored, plainly, strict=True)))
        self.assertAlmostEqual(float(np.mean(mirrored)), 0.5, delta=0.12)

    def test_contrast_stretches_each_picture_by_one_factor(self) -> None:
        x, seen = self.augmented(contrast=0.3)
        factors = seen / x
        np.testing.assert_allclose(factors, factors[:, :1, :1, :1] * np.ones(self.shape), rtol=1e-9)
        self.assertGreater(float(factors.min()), 0.7)
        self.assertLess(float(factors.max()), 1.3)
        self.assertGreater(float(np.ptp(factors)), 0.5)

    def test_a_square_is_blotted_out(self) -> None:
        x, seen = self.augmented(cutout=0.5)
        for one, other in zip(x, seen, strict=True):
            gone = np.argwhere((other == 0).all(axis=2))
            self.assertEqual(len(gone), 16)
            self.assertEqual(np.ptp(gone, axis=0).tolist(), [3, 3])
            kept = (other != 0).all(axis=2)
            np.testing.assert_array_equal(one[kept], other[kept])

    def test_it_is_a_function_of_run_and_step(self) -> None:
        _, a = self.augmented(shift=2, flip=1, contrast=0.2, cutout=0.3)
        _, b = self.augmented(shift=2, flip=1, contrast=0.2, cutout=0.3)
        _, other = self.augmented(shift=2, flip=1, contrast=0.2, cutout=0.3, step=1)
        np.testing.assert_array_equal(a, b)
        self.assertFalse(np.array_equal(a, other))


class Averaging(unittest.TestCase):
    def test_the_mean_follows_its_definition(self) -> None:
        mean, path = np.zeros(2), np.random.default_rng(0).normal(size=(30, 2))
        wanted = 0.0
        for step, w in enumerate(path):
            limits.average(mean, 0, w, 2, 0.8, step)
            memory = min(0.8, (1 + step) / (10 + step))
            wanted = memory * wanted + (1 - memory) * w[0]
        self.assertAlmostEqual(mean[0], wanted)

    def test_what_is_evaluated_and_kept_is_the_mean_and_it_is_smoother(self) -> None:
        data = small_data(rows=200)
        jumps = {}
        for memory in (0.0, 0.98):
            spec = recipe(epochs=25, learning_rate=0.05, batch_size=4, averaging=memory)
            runs = Runs(NetworkShape.of(spec, 5, 3), data)
            runs.add(RunSpec(0, spec, Streams(0)))
            losses = [runs.train_epoch()[0].numbers.validation_loss for _ in range(25)]
            jumps[memory] = float(np.abs(np.diff(losses[5:])).mean())
            state = runs.state(0)
            if memory:
                self.assertFalse(np.array_equal(state.parameters, state.optimiser[-1]))
        self.assertLess(jumps[0.98], 0.5 * jumps[0.0])


class Batches(unittest.TestCase):
    def of(self, data: TrainingData, **values: object) -> Training:
        spec = recipe(**values)
        runs = Runs(NetworkShape.of(spec, data.train_inputs.shape[1], 3), data)
        return runs.add(RunSpec(0, spec, Streams(0)))

    def test_a_last_batch_can_be_dropped(self) -> None:
        data = small_data(rows=70)
        for last, count in (("keep", 5), ("drop", 4)):
            self.assertEqual(self.of(data, batch_size=16, last_batch=last).steps, count)
        self.assertEqual(self.of(data, batch_size=100, last_batch="drop").steps, 1)

    def test_rows_as_they_lie_and_classes_as_often(self) -> None:
        x, y = np.zeros((300, 2), np.float32), np.array([0] * 270 + [1] * 30, np.int32)
        order = {}
        for name in ("shuffled", "in_order", "balanced"):
            training = self.of(TrainingData(x, y, x, y), sampling=name)
            training._take_order(1)
            order[name] = training._order.copy()
        np.testing.assert_array_equal(order["in_order"], np.arange(300))
        self.assertEqual(sorted(order["shuffled"]), list(range(300)))
        self.assertAlmostEqual(float(y[order["balanced"]].mean()), 0.5, delta=0.12)


class Depth(unittest.TestCase):
    """What normalisation and skips are for."""

    def first_gradients(self, **values: object) -> float:
        """Return the size of the first layer's gradient against the last hidden one's, at the
        start.
        """
        rng = np.random.default_rng(0)
        x, y = rng.normal(size=(64, 10)).astype(np.float32), rng.integers(0, 3, 64).astype(np.int32)
        spec = recipe(depth=24,
                      width=16,
                      batch_size=64,
                      learning_rate=1e-12,
                      optimiser="sgd",
                      activation="sigmoid",
                      **values)
        runs = Runs(NetworkShape.of(spec, 10, 3), TrainingData(x, y, x, y))
        runs.add(RunSpec(0, spec, Streams(0)))
        runs.train_epoch()
        parts = [
            runs.trainings[0].gradients[p.weights:p.weights + p.fan_in * p.units]
            for p in runs.shape.placed
        ]
        return float(np.linalg.norm(parts[1]) / np.linalg.norm(parts[-2]))

    def test_a_deep_plain_network_hands_no_gradient_down_and_one_with_skips_or_norms_does(
            self) -> None:
        plainly = self.first_gradients()
        self.assertLess(plainly, 1e-6)
        for cure in ({"residual": "yes"}, {"normalisation": "batch"}):
            self.assertGreater(self.first_gradients(**cure), 1e4 * plainly)

    def test_a_deep_network_learns_with_skips_and_norms_and_not_without(self) -> None:
        rng = np.random.default_rng(1)
        x = rng.normal(size=(400, 4)).astype(np.float32)
        y = (x[:, 0] * x[:, 1] > 0).astype(np.int32)
        data = TrainingData(x[:300], y[:300], x[300:], y[300:])
        losses = {}
        for name, cure in {"plain": {}, "cured": {"residual": "yes",
                                                  "normalisation": "batch"}}.items():
            spec = recipe(depth=20,
                          width=16,
                          activation="sigmoid",
                          learning_rate=3e-3,
                          epochs=25,
                          **cure)
            runs = Runs(NetworkShape.of(spec, 4, 2), data)
            for seed in range(4):
                runs.add(RunSpec(seed, spec, Streams(seed)))
            for _ in range(25):
                progress = runs.train_epoch()
            losses[name] = [each.numbers.train_loss for each in progress]
        self.assertGreater(min(losses["plain"]), 0.68)
        self.assertLess(max(losses["cured"]), 0.55)


class Normalised(unittest.TestCase):
    def test_inference_uses_the_running_statistics(self) -> None:
        rng = np.random.default_rng(0)
        z = rng.normal(3.0, 2.0, (4, 50))
        p = np.concatenate([np.ones(4), np.zeros(4), np.ones(4)])
        for _ in range(200):
            self.batch(z, p, True)
        np.testing.assert_allclose(p[4:8], z.mean(1), rtol=1e-6)
        np.testing.assert_allclose(p[8:], z.var(1), rtol=1e-6)
        wanted = (3.0 - z.mean(1)) / np.sqrt(z.var(1) + codes.EPSILON)
        np.testing.assert_allclose(self.batch(np.full((4, 1), 3.0), p, False)[:, 0],
                                   wanted,
                                   rtol=1e-6)

    def batch(self, z: np.ndarray, p: np.ndarray, training: bool) -> np.ndarray:
        """Return sums (H, N) after batch normalisation by the parameters scales, means, variances
        (3 H,).
        """
        units, columns = z.shape
        a = np.concatenate([z.reshape(-1), np.zeros(z.size + units)])
        norms.batch_norm(a, 0, z.size, 2 * z.size, p, 0, units, training, units, columns)
        return a[: z.size].reshape(z.shape)

    def test_each_has_no_mean_and_spread_one(self) -> None:
        z = np.random.default_rng(0).normal(5.0, 3.0, (30, 40))
        p = np.ones(90)
        a = np.concatenate([z.reshape(-1), np.zeros(z.size + 40)])
        norms.layer_norm(a, 0, z.size, 2 * z.size, p, 0, 30, 40, np.zeros(40))
        for found, axis in ((self.batch(z, p, True), 1), (a[: z.size].reshape(z.shape), 0)):
            np.testing.assert_allclose(found.mean(axis), 0, atol=1e-10)
            np.testing.assert_allclose(found.std(axis), 1, atol=1e-4)


class Ending(unittest.TestCase):
    def end(self,
            losses: list[float],
            baseline: float = 1.0,
            training: float = 0.5,
            **values: object) -> RunEnd | None:
        """Return how a run of these validation losses ends."""
        watch, made, end = StoppingState(start_loss=2.0), Recipe({"patience": 0, "epochs": 100,
                                                          **values}), None
        for epoch, level in enumerate(losses, 1):
            numbers = Epoch(0, epoch, training, training, level, (0.5,), 0.1, 1.0, 0.1)
            watch.see(numbers, made)
            end = watch.end(numbers, made, 10, baseline)
            if end is not None:
                break
        return end

    def test_stuck_at_the_floor(self) -> None:
        end = self.end([1.2] * 9, stuck_after=5)
        assert end is not None
        self.assertEqual((end.reason, end.epochs), ("stuck", 5))
        self.assertIn("1.0000", end.text)
        self.assertIsNone(self.end([1.2, 1.1, 0.8, 0.8, 0.8, 0.8], stuck_after=5))
        self.assertIsNone(self.end([1.2] * 9))

    def test_too_wide_a_gap(self) -> None:
        end = self.end([0.6, 0.7, 0.9, 1.2, 1.4], max_gap=0.4)
        assert end is not None
        self.assertEqual((end.reason, end.epochs), ("gap", 4))
        self.assertIsNone(self.end([0.6] * 9, max_gap=0.4))

    def test_no_more_steps_than_allowed(self) -> None:
        end = self.end([0.6] * 9, max_steps=45)
        assert end is not None
        self.assertEqual((end.reason, end.epochs), ("steps", 4))

    def test_the_rate_is_cut_when_the_loss_stalls(self) -> None:
        watch, made = StoppingState(), Recipe({"schedule": "plateau", "plateau_patience": 2})
        cuts = []
        for epoch, level in enumerate([1.0, 0.9, 0.8, 0.8, 0.8, 0.9, 0.9, 0.9, 0.1, 0.1, 0.1], 1):
            watch.see(Epoch(0, epoch, 0.5, 0.5, level, (0.5,), 0.1, 1.0, 0.1), made)
            cuts.append(watch.cuts)
        self.assertEqual(cuts, [0, 0, 0, 0, 0, 0, 1, 1, 1, 1, 1])


if __name__ == "__main__":
    unittest.main()
