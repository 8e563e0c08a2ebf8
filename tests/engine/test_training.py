"""Training learns, stops for its reasons, keeps its best weights, and leaves checkpoints that
fit.
"""

from __future__ import annotations

import itertools
import json
import math
import unittest
from dataclasses import replace
from typing import Any

import numpy as np
from hypothesis import given
from hypothesis import strategies as st

from axiarch.engine.checkpoint import load_checkpoint
from axiarch.engine.checksums import checksum
from axiarch.engine.losses import LOSSES
from axiarch.engine.network import NetworkShape
from axiarch.engine.rows import Source, TrainingData
from axiarch.engine.run import RunEnd, RunSpec
from axiarch.engine.stopping import StoppingState
from axiarch.engine.streams import Streams
from axiarch.engine.training import Progress, Training
from axiarch.errors import TrainingError
from axiarch.recipes.recipe import Recipe
from axiarch.runs.epoch import Epoch
from axiarch.runs.steady import steady
from tests.support import FolderCase, Runs, recipe, save_checkpoint, small_data


def train(spec: Recipe, data: TrainingData, classes: int = 3) -> tuple[list[Progress], Runs]:
    """Train one run to its own end."""
    runs = Runs(NetworkShape.of(spec, data.train_inputs.shape[1], classes), data)
    runs.add(RunSpec(0, spec, Streams(4)))
    path: list[Progress] = []
    while not path or path[-1].end is None:
        path += runs.train_epoch()
    return path, runs


def numbers(epoch: int, validation: float, training: float = 1.0) -> Epoch:
    """Return an epoch's numbers."""
    return Epoch(0, epoch, training, training, validation, (0.5,), 0.1, 1.0, 0.1)


class Learning(unittest.TestCase):
    def test_every_optimiser_learns_a_rule_that_a_linear_model_cannot(self) -> None:
        rng = np.random.default_rng(0)
        x = rng.normal(size=(600, 2)).astype(np.float32)
        y = (x[:, 0] * x[:, 1] > 0).astype(np.int32)
        data = TrainingData(x[:400], y[:400], x[400:], y[400:])
        for optimiser, rate in (("sgd", 0.3), ("momentum", 0.05), ("adam", 0.01)):
            for activation in ("relu", "tanh"):
                path, _ = train(recipe(optimiser=optimiser, learning_rate=rate, width=24, epochs=30,
                                       activation=activation), data, 2)
                with self.subTest(optimiser=optimiser, activation=activation):
                    self.assertGreater(path[-1].numbers.metrics[0], 0.9)
        path, _ = train(recipe(depth=0, epochs=30), data, 2)
        self.assertLess(path[-1].numbers.metrics[0], 0.7)

    def test_a_linear_model_reaches_the_optimum_that_newton_finds(self) -> None:
        """Logistic regression is convex: full-batch training must end where an independent
        solver does.
        """
        from scipy.optimize import minimize

        data = small_data(rows=80, inputs=3, classes=2)
        x, y = data.train_inputs.astype(float), data.train_targets

        def loss(w: np.ndarray) -> float:
            z = x @ w[:6].reshape(3, 2) + w[6:]
            return float((np.logaddexp.reduce(z, 1) - z[np.arange(len(y)), y]).mean())

        best = minimize(loss, np.zeros(8), method="BFGS").fun
        path, _ = train(
            recipe(depth=0, batch_size=80, epochs=400, optimiser="sgd", learning_rate=1.0), data, 2)
        self.assertAlmostEqual(path[-1].numbers.train_loss, best, places=3)

    def test_decay_keeps_weights_small(self) -> None:
        norms = []
        for values in ({}, {"l2": 0.1}, {"weight_decay": 2.0}):
            _, runs = train(recipe(epochs=20, learning_rate=0.02, **values), small_data())
            norms.append(float(np.abs(runs.parameters[0, : runs.shape.weights]).mean()))
        self.assertLess(norms[1], norms[0])
        self.assertLess(norms[2], norms[0])

    def test_the_loss_before_training_is_near_that_of_guessing(self) -> None:
        runs = Runs(NetworkShape.of(recipe(), 5, 3), small_data())
        runs.add(RunSpec(0, recipe(), Streams(4)))
        self.assertLess(abs(runs.trainings[0].watch.start_loss - math.log(3)), 1.0)


class Ending(unittest.TestCase):
    def follow(self, spec: Recipe, losses: list[float]) -> tuple[StoppingState, RunEnd | None]:
        watch = StoppingState(start_loss=1.0)
        for epoch, level in enumerate(losses, 1):
            watch.see(numbers(epoch, level), spec)
            end = watch.end(numbers(epoch, level), spec)
            if end is not None:
                return watch, end
        return watch, None

    def test_patience_counts_from_the_last_real_improvement(self) -> None:
        _, end = self.follow(recipe(patience=4, epochs=100), [1.0, 0.8, 0.6] + [0.7] * 20)
        assert end is not None
        # The mean of three epochs is lowest at the fifth: 0.6, 0.7 and 0.7.
        self.assertEqual((end.reason, end.epochs), ("patience", 9))
        self.assertIn("for 4 epochs, since epoch 5", end.text)

    def test_an_improvement_too_small_does_not_count(self) -> None:
        falling = [1.0 - 1e-6 * i for i in range(40)]
        _, end = self.follow(recipe(patience=5, epochs=100, min_improvement=1e-3), falling)
        assert end is not None
        self.assertEqual(end.reason, "patience")

    def test_no_patience_trains_all_epochs(self) -> None:
        _, end = self.follow(recipe(patience=0, epochs=9), [1.0] * 20)
        assert end is not None
        self.assertEqual((end.reason, end.epochs), ("completed", 9))

    def test_divergence_names_its_numbers(self) -> None:
        _, end = self.follow(recipe(epochs=9), [1.0, math.nan])
        assert end is not None
        self.assertEqual((end.reason, end.epochs), ("diverged", 2))
        watch = StoppingState(start_loss=1.0)
        far = watch.end(numbers(1, 5.0, 11.0), recipe(epochs=9))
        assert far is not None
        self.assertEqual(far.reason, "diverged")
        self.assertIn("10 times", far.text)

    @given(st.lists(st.floats(0.1, 3.0), min_size=1, max_size=25))
    def test_the_epoch_kept_is_the_steady_one(self, losses: list[float]) -> None:
        watch, _ = self.follow(recipe(epochs=len(losses)), losses)
        self.assertEqual((watch.best_epoch, watch.best_loss), steady(losses))

    def test_a_rate_far_too_high_diverges(self) -> None:
        path, _ = train(recipe(learning_rate=500.0, optimiser="sgd", epochs=20), small_data())
        end = path[-1].end
        assert end is not None
        self.assertEqual(end.reason, "diverged")

    def test_targets_of_another_kind_are_refused_before_compiled_code_reads_them(self) -> None:
        data, amounts = small_data(), np.zeros((20, 1), np.float32)
        x = np.zeros((20, data.train_inputs.shape[1]), np.float32)
        with self.assertRaisesRegex(TrainingError, "another kind of target"):
            shape = NetworkShape.of(recipe(), x.shape[1], 1, "softmax")
            Training(shape, RunSpec(0, recipe(), Streams(0)),
                     Source(TrainingData(x, amounts, x, amounts, (1.0,)), LOSSES["squared"], 1))
        for wrong, loss in ((TrainingData(x, amounts, x, amounts), "squared"),
                            (TrainingData(x, amounts[:19], x, amounts, (1.0,)), "squared"),
                            (TrainingData(x, amounts, x, amounts), "softmax"),
                            (replace(data, validation_inputs=x[:, 1:]), "softmax")):
            with self.subTest(loss=loss), self.assertRaises(ValueError):
                Source(wrong, LOSSES[loss], 1 if loss == "squared" else 3)

    def test_the_best_weights_are_those_of_the_kept_epoch(self) -> None:
        spec = recipe(epochs=25, learning_rate=0.05, patience=6)
        path, runs = train(spec, small_data())
        end = path[-1].end
        assert end is not None
        again = Runs(runs.shape, small_data())
        again.add(RunSpec(0, spec, Streams(4)))
        for _ in range(end.best_epoch):
            again.train_epoch()
        np.testing.assert_array_equal(runs.state(0).best_parameters, again.state(0).parameters)


class Checkpoints(FolderCase):
    def setUp(self) -> None:
        super().setUp()
        self.run_spec = RunSpec(3, recipe(), Streams(4))
        self.shape = NetworkShape.of(recipe(), 5, 3)
        runs = Runs(self.shape, small_data())
        runs.add(self.run_spec)
        runs.train_epoch()
        self.state = runs.state(0)
        self.path = self.folder / "3.safetensors"
        save_checkpoint(self.path, self.run_spec, self.state, "print", "search 2, \x1b[31mhive")

    def test_what_is_saved_is_loaded(self) -> None:
        loaded = load_checkpoint(self.path, self.run_spec, self.shape, "print")
        np.testing.assert_array_equal(loaded.parameters, self.state.parameters)
        np.testing.assert_array_equal(loaded.optimiser, self.state.optimiser)
        np.testing.assert_array_equal(loaded.kept, self.state.kept)
        self.assertEqual((loaded.epoch, loaded.watch), (1, self.state.watch))
        self.assertEqual([p.name for p in self.folder.iterdir()], ["3.safetensors"])

    def test_every_stretch_is_there_again_to_the_bit_though_each_is_written_once(self) -> None:
        size = self.shape.parameters
        for name, arrays in self.stretches(size).items():
            state = replace(self.state, parameters=arrays[0], best_parameters=arrays[1],
                            optimiser=arrays[2:6], kept=arrays[6:] if len(arrays) > 6 else None)
            save_checkpoint(self.path, self.run_spec, state, "print")
            loaded = load_checkpoint(self.path, self.run_spec, self.shape, "print")
            for was, now in ((state.parameters, loaded.parameters),
                             (state.best_parameters, loaded.best_parameters),
                             (state.optimiser, loaded.optimiser), (state.kept, loaded.kept)):
                with self.subTest(name):
                    self.assertEqual(None if was is None else was.tobytes(),
                                     None if now is None else now.tobytes())

    def stretches(self, size: int) -> dict[str, np.ndarray]:
        """Return the arrays (6 or 11, P) of states that a run may have, by what is odd of them."""
        drawn = np.random.default_rng(0).normal(size=(11, size)).astype(np.float32)
        some = drawn.copy()
        some[[3, 4, 8, 9]] = 0
        some[6], some[10] = some[1], some[5]
        signed = np.zeros((11, size), np.float32)
        signed[2], signed[7] = -0.0, np.nan
        return {"all differ": drawn, "some are the same, or zero": some,
                "zeros alone": np.zeros((6, size), np.float32), "zeros with a sign": signed}

    def test_a_checkpoint_of_before_is_read(self) -> None:
        """As they were when every stretch was written."""
        from safetensors.numpy import save_file

        text = self.known() | {"format": 2}
        del text["stretches"]
        tensors = {"parameters": self.state.parameters, "optimiser": self.state.optimiser,
                   "best_parameters": self.state.best_parameters, "kept": self.state.kept}
        words = json.dumps(text)
        save_file(tensors, self.path, {"axiarch": words, "checksum": checksum(words, tensors)})
        loaded = load_checkpoint(self.path, self.run_spec, self.shape, "print")
        np.testing.assert_array_equal(loaded.optimiser, self.state.optimiser)
        np.testing.assert_array_equal(loaded.kept, self.state.kept)

    def known(self) -> dict[str, Any]:
        """Return what the checkpoint says beside its arrays."""
        from safetensors import safe_open

        with safe_open(self.path, framework="numpy") as file:
            return dict(json.loads(file.metadata()["axiarch"]))

    def test_stretches_that_do_not_fit_are_refused(self) -> None:
        from safetensors.numpy import load_file, save_file

        tensors, known = load_file(self.path), self.known()
        for stretches in ([], ["0"] * 5, ["9"] * 11, [["0"]] * 11, "0" * 11, None, [0] * 11):
            text = json.dumps(known | {"stretches": stretches})
            save_file(tensors, self.path, {"axiarch": text, "checksum": checksum(text, tensors)})
            with self.subTest(stretches=stretches), \
                    self.assertRaisesRegex(TrainingError, "cannot be read"):
                load_checkpoint(self.path, self.run_spec, self.shape, "print")

    def test_arrays_of_other_lengths_never_reach_compiled_code(self) -> None:
        """Of a file that somebody made, with a checksum that is right."""
        from safetensors.numpy import load_file, save_file

        tensors, known = load_file(self.path), self.known()
        tensors["short"] = tensors["0"][:-1]
        for place in range(1, 11):
            stretches = [*known["stretches"]]
            stretches[place] = "short"
            text = json.dumps(known | {"stretches": stretches})
            save_file(tensors, self.path, {"axiarch": text, "checksum": checksum(text, tensors)})
            with self.subTest(place), self.assertRaisesRegex(TrainingError, "do not fit"):
                load_checkpoint(self.path, self.run_spec, self.shape, "print")

    def test_what_does_not_fit_is_refused_in_words(self) -> None:
        other = RunSpec(3, recipe(learning_rate=0.5), Streams(4))
        cases = (
            ("another data", self.run_spec, self.shape, "other"),
            ("another recipe", other, self.shape, "print"),
            ("another seed", RunSpec(3, recipe(), Streams(5)), self.shape, "print"),
            ("parameters", self.run_spec, NetworkShape.of(recipe(width=9), 5, 3), "print"),
        )
        for words, run, shape, data in cases:
            with self.subTest(words=words), self.assertRaises(TrainingError) as caught:
                load_checkpoint(self.path, run, shape, data)
            self.assertIn(words, caught.exception.what)
            self.assertNotIn("\x1b", caught.exception.what)
            self.assertEqual("(search 2, " in caught.exception.what, words != "parameters")

    def test_a_file_cut_short_is_refused(self) -> None:
        self.path.write_bytes(self.path.read_bytes()[:50])
        with self.assertRaises(TrainingError):
            load_checkpoint(self.path, self.run_spec, self.shape, "print")


class Shapes(unittest.TestCase):
    @given(st.integers(1, 40), st.integers(0, 4), st.integers(1, 60), st.integers(2, 9),
           st.sampled_from(["none", "batch", "layer"]))
    def test_places_tile_the_flat_buffer(self, inputs: int, depth: int, width: int, classes: int,
                                         norm: str) -> None:
        shape = NetworkShape.of(recipe(depth=depth, width=width, normalisation=norm), inputs,
                                classes)
        flat = np.zeros(shape.parameters)
        for p in shape.placed:
            flat[p.weights : p.weights + p.fan_in * p.units] += 1
            flat[p.biases : p.biases + p.units] += 1
            if p.layer.norm != "none":
                flat[p.norm_scales : p.norm_scales + p.units] += 1
            if p.layer.norm == "batch":
                flat[p.kept : p.kept + 2 * p.units] += 1
        self.assertTrue((flat == 1).all())
        sizes = [inputs, *[width] * depth, classes]
        plain = sum((a + 1) * b for a, b in itertools.pairwise(sizes))
        self.assertEqual(shape.trained, plain + (0 if norm == "none" else depth * width))
