"""Pulls, limits, smoothing, weights of classes, noise, and the rules that end a run."""

from __future__ import annotations

import unittest

import numpy as np

from axiarch.engine import kernels
from axiarch.engine.network import StackShape
from axiarch.engine.regularisation import class_gains
from axiarch.engine.run import EpochNumbers, RunEnd, RunSpec
from axiarch.engine.stack import Stack, TrainingData
from axiarch.engine.stopping import Watch
from axiarch.engine.streams import Streams
from axiarch.recipes.recipe import Recipe
from tests.support import plain, recipe, small_data


def trained(data: TrainingData, epochs: int, **values: object) -> Stack:
    """Train one recipe and return its stack."""
    spec = recipe(epochs=epochs, **values)
    stack = Stack(StackShape.of(spec, data.train_inputs.shape[1], 3), 1, data)
    stack.add(RunSpec(0, spec, Streams(0)))
    for _ in range(epochs):
        stack.train_epoch()
    return stack


class Bending(unittest.TestCase):
    data = small_data()

    def weights(self, **values: object) -> np.ndarray:
        stack = trained(self.data, 12, learning_rate=0.02, **values)
        return stack.parameters[0, : stack.shape.weights]

    def test_l1_makes_weights_vanish(self) -> None:
        free, pulled = self.weights(), self.weights(l1=0.05)
        self.assertGreater((np.abs(pulled) < 0.02).mean(), 3 * (np.abs(free) < 0.02).mean() + 0.1)

    def test_weights_into_a_unit_stay_within_max_norm(self) -> None:
        stack = trained(self.data, 8, learning_rate=0.1, max_norm=0.7)
        for p in stack.shape.placed:
            own = stack.parameters[0, p.weights : p.weights + p.fan_in * p.units].reshape(p.fan_in, p.units)
            self.assertLessEqual(float(np.linalg.norm(own, axis=0).max()), 0.7 * (1 + 1e-5))

    def test_clipping_bounds_the_gradient_and_keeps_its_direction(self) -> None:
        g = np.array([[3.0, -4.0], [0.3, 0.4]])
        before = g.copy()
        kernels.clip(g, np.array([1.0, 1.0]), np.zeros(2), 2)
        np.testing.assert_allclose(g[0], before[0] / 5)
        np.testing.assert_array_equal(g[1], before[1])
        kernels.clip(g, np.zeros(2), np.array([0.5, 0.35]), 2)
        np.testing.assert_allclose(g, [[0.5, -0.5], [0.3, 0.35]])
        g = np.array([[np.nan, 1.0]])
        kernels.clip(g, np.ones(1), np.zeros(1), 1)
        self.assertTrue(np.isnan(g[0, 0]))

    def test_smoothed_labels_have_the_gradient_of_the_smoothed_loss(self) -> None:
        rng = np.random.default_rng(0)
        z, labels, smooth = rng.normal(size=(1, 4, 3)), rng.integers(0, 3, (1, 4)).astype(np.int32), 0.3
        wanted = (1 - smooth) * np.eye(3)[labels[0]] + smooth / 3
        p = np.exp(z[0]) / np.exp(z[0]).sum(1, keepdims=True)
        kernels.softmax_loss(z, labels, np.zeros(1), np.zeros((1, 1)), True, np.full(1, smooth), np.ones((1, 3)), 1, 4)
        np.testing.assert_allclose(z[0], (p - wanted) / 4)
        z = rng.normal(size=(1, 4, 1))
        share = 1 / (1 + np.exp(-z[0, :, 0]))
        labels = np.array([[0, 1, 1, 0]], np.int32)
        kernels.binary_loss(z, labels, np.zeros(1), np.zeros((1, 1)), True, np.full(1, smooth), np.ones((1, 2)), 1, 4)
        np.testing.assert_allclose(z[0, :, 0], (share - (labels[0] * 0.7 + 0.15)) / 4)

    def test_smoothing_and_weights_change_no_reported_loss(self) -> None:
        rng = np.random.default_rng(1)
        z, labels = rng.normal(size=(1, 5, 3)), rng.integers(0, 3, (1, 5)).astype(np.int32)
        found = []
        for bent in (plain(1, 3), (np.full(1, 0.4), np.array([[9.0, 1.0, 1.0]]))):
            losses = np.zeros(1)
            kernels.softmax_loss(z.copy(), labels, losses, np.zeros((1, 1)), True, *bent, 1, 5)
            found.append(losses[0])
        self.assertEqual(*found)

    def test_balanced_classes_weigh_alike(self) -> None:
        labels = np.array([0] * 90 + [1] * 9 + [2], np.int32)
        gains = class_gains(labels, 4)
        np.testing.assert_allclose(gains[:3] * np.bincount(labels), [100 / 3] * 3)
        self.assertAlmostEqual(float(gains[labels].mean()), 1.0)

    def test_balanced_classes_help_the_rare_one(self) -> None:
        rng = np.random.default_rng(2)
        y = (rng.random(600) < 0.06).astype(np.int32)
        x = (rng.normal(size=(600, 2)) + 1.2 * y[:, None]).astype(np.float32)
        data = TrainingData(x, y, x, y)
        called = []
        for weights in ("equal", "balanced"):
            stack = trained(data, 20, depth=0, learning_rate=0.05, class_weights=weights)
            out = x @ stack.parameters[0, :6].reshape(2, 3) + stack.parameters[0, 6:9]
            called.append((out.argmax(1)[y == 1] == 1).mean())
        self.assertGreater(called[1], called[0] + 0.3)

    def test_noise_is_normal_and_a_function_of_run_and_step(self) -> None:
        x = np.zeros((2, 500, 31))
        kernels.add_noise(x, np.array([0.5, 0.0]), np.array([7, 8], np.uint64), 3, 2, 500)
        self.assertAlmostEqual(float(x[0].std()), 0.5, delta=0.01)
        self.assertAlmostEqual(float(x[0].mean()), 0.0, delta=0.01)
        self.assertAlmostEqual(float((np.abs(x[0]) < 0.5).mean()), 0.6827, delta=0.01)
        self.assertTrue((x[1] == 0).all())
        again = np.zeros((1, 500, 31))
        kernels.add_noise(again, np.array([0.5]), np.array([7], np.uint64), 3, 1, 500)
        np.testing.assert_array_equal(again[0], x[0])
        kernels.add_noise(again, np.array([0.5]), np.array([7], np.uint64), 4, 1, 500)
        self.assertGreater(float((again[0] - x[0]).std()), 0.4)

    def test_runs_bent_otherwise_do_not_touch_each_other(self) -> None:
        own = [{}, {"l1": 0.01, "input_noise": 0.2}, {"clip_norm": 0.1, "label_smoothing": 0.2}, {"max_norm": 0.5},
               {"class_weights": "balanced", "clip_value": 0.01}, {"schedule": "stalled", "stall": 1},
               {"optimiser": "lamb"}, {"optimiser": "amsgrad", "schedule": "one_cycle"}]
        recipes = [recipe(**each) for each in own]

        def states(chosen: list[int]) -> list[np.ndarray]:
            stack = Stack(StackShape.of(recipes[0], 5, 3), len(chosen), self.data)
            for k in chosen:
                stack.add(RunSpec(k, recipes[k], Streams(3, k)))
            for _ in range(4):
                stack.train_epoch()
            return [stack.state(i).parameters for i in range(len(chosen))]

        together = states(list(range(len(own))))
        for k in range(len(own)):
            np.testing.assert_array_equal(states([k])[0], together[k], str(own[k]))


class Depth(unittest.TestCase):
    """What normalisation and skips are for."""

    def first_gradients(self, **values: object) -> float:
        """Return the size of the first layer's gradient against the last hidden one's, at the start."""
        rng = np.random.default_rng(0)
        x, y = rng.normal(size=(64, 10)).astype(np.float32), rng.integers(0, 3, 64).astype(np.int32)
        spec = recipe(depth=24, width=16, batch_size=64, learning_rate=1e-12, optimiser="sgd", activation="sigmoid",
                      **values)
        stack = Stack(StackShape.of(spec, 10, 3), 1, TrainingData(x, y, x, y))
        stack.add(RunSpec(0, spec, Streams(0)))
        stack.train_epoch()
        parts = [stack.gradients[0, p.weights : p.weights + p.fan_in * p.units] for p in stack.shape.placed]
        return float(np.linalg.norm(parts[1]) / np.linalg.norm(parts[-2]))

    def test_a_deep_plain_network_hands_no_gradient_down_and_one_with_skips_or_norms_does(self) -> None:
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
        for name, cure in {"plain": {}, "cured": {"residual": "yes", "normalisation": "batch"}}.items():
            spec = recipe(depth=20, width=16, activation="sigmoid", learning_rate=3e-3, epochs=25, **cure)
            stack = Stack(StackShape.of(spec, 4, 2), 1, data)
            stack.add(RunSpec(0, spec, Streams(0)))
            for _ in range(25):
                (progress,) = stack.train_epoch()
            losses[name] = progress.numbers.train_loss_still
        self.assertGreater(losses["plain"], 0.68)
        self.assertLess(losses["cured"], 0.4)


class Normalised(unittest.TestCase):
    def test_inference_uses_the_running_statistics(self) -> None:
        rng = np.random.default_rng(0)
        z = rng.normal(3.0, 2.0, (1, 50, 4))
        params = np.zeros((1, 12))
        params[0, :4] = 1.0
        params[0, 8:] = 1.0
        for _ in range(200):
            kernels.batch_norm(z.copy(), np.zeros_like(z), np.zeros((1, 50)), params, 0, 4, True, 1, 50)
        np.testing.assert_allclose(params[0, 4:8], z[0].mean(0), rtol=1e-6)
        np.testing.assert_allclose(params[0, 8:], z[0].var(0), rtol=1e-6)
        one = np.full((1, 1, 4), 3.0)
        kernels.batch_norm(one, np.zeros_like(one), np.zeros((1, 4)), params, 0, 4, False, 1, 1)
        wanted = (3.0 - z[0].mean(0)) / np.sqrt(z[0].var(0) + kernels.EPSILON)
        np.testing.assert_allclose(one[0, 0], wanted, rtol=1e-6)

    def test_each_has_no_mean_and_spread_one(self) -> None:
        z = np.random.default_rng(0).normal(5.0, 3.0, (1, 40, 30))
        params = np.ones((1, 90))
        a, b = z.copy(), z.copy()
        kernels.batch_norm(a, np.zeros_like(z), np.zeros((1, 40)), params, 0, 30, True, 1, 40)
        kernels.layer_norm(b, np.zeros_like(z), np.zeros((1, 40)), params, 0, 1, 40)
        for found, axis in ((a[0], 0), (b[0], 1)):
            np.testing.assert_allclose(found.mean(axis), 0, atol=1e-10)
            np.testing.assert_allclose(found.std(axis), 1, atol=1e-4)


class Ending(unittest.TestCase):
    def end(self, losses: list[float], floor: float = 1.0, training: float = 0.5, **values: object) -> RunEnd | None:
        """Return how a run of these validation losses ends."""
        watch, made, end = Watch(start_loss=2.0), Recipe({"patience": 0, "epochs": 100, **values}), None
        for epoch, level in enumerate(losses, 1):
            numbers = EpochNumbers(epoch, training, training, level, (0.5,), 0.1, 1.0, 0.1)
            watch.see(numbers, made)
            end = watch.end(numbers, made, 10, floor)
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
        end = self.end([0.6, 0.7, 0.9, 1.2, 1.4], most_gap=0.4)
        assert end is not None
        self.assertEqual((end.reason, end.epochs), ("gap", 4))
        self.assertIsNone(self.end([0.6] * 9, most_gap=0.4))

    def test_no_more_steps_than_allowed(self) -> None:
        end = self.end([0.6] * 9, most_steps=45)
        assert end is not None
        self.assertEqual((end.reason, end.epochs), ("steps", 4))

    def test_the_rate_is_cut_when_the_loss_stalls(self) -> None:
        watch, made = Watch(), Recipe({"schedule": "stalled", "stall": 2})
        cuts = []
        for epoch, level in enumerate([1.0, 0.9, 0.8, 0.8, 0.8, 0.9, 0.9, 0.9, 0.1, 0.1, 0.1], 1):
            watch.see(EpochNumbers(epoch, 0.5, 0.5, level, (0.5,), 0.1, 1.0, 0.1), made)
            cuts.append(watch.cuts)
        self.assertEqual(cuts, [0, 0, 0, 0, 0, 0, 1, 1, 1, 1, 1])


if __name__ == "__main__":
    unittest.main()
