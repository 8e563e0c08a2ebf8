"""A predictor has the bits of the run's validation losses, and its weights survive a file."""

from __future__ import annotations

import tempfile
import unittest
from pathlib import Path
from unittest import mock

import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st

from axiarch.engine import codes
from axiarch.engine.modelfile import read_about, read_model, write_model
from axiarch.engine.network import NetworkShape
from axiarch.engine.parts import flat_weights, named_arrays
from axiarch.engine.predictor import Predictor
from axiarch.engine.program import evaluated_rows
from axiarch.engine.rows import TrainingData
from axiarch.engine.run import RunSpec
from axiarch.engine.streams import Streams
from axiarch.errors import TrainingError
from axiarch.recipes.recipe import Recipe
from tests.engine.test_same_bits import private, shapes
from tests.support import Runs, recipe, small_data


def amounts(targets: int, seed: int = 0) -> TrainingData:
    """Return data with 600 validation rows, more than are evaluated at once, and amounts to
    predict.
    """
    rng = np.random.default_rng(seed)
    x, v = (rng.normal(size=(n, 5)).astype(np.float32) for n in (70, 600))
    y, w = (np.stack([a[:, i] * a[:, 1] for i in range(targets)], 1) for a in (x, v))
    return TrainingData(x, y, v, w, tuple(2.5 + i for i in range(targets)))


class SameBits(unittest.TestCase):
    def check(self, made: Recipe, data: TrainingData, outputs: int, loss: str) -> None:
        """Train two epochs; the predictor's loss and metrics must be those that were reported."""
        shape = NetworkShape.of(made, 5, outputs, loss)
        training = Runs(shape, data, made.word("precision")).add(RunSpec(0, made, Streams(4)))
        for _ in range(2):
            numbers = training.train_epoch().numbers
        if not np.isfinite(training.evaluated).all():
            return  # diverged: such weights are refused
        predictor = Predictor(shape, flat_weights(shape, named_arrays(shape, training.evaluated)))
        loss, metrics = predictor.mean_loss(data.validation_inputs, data.validation_targets,
                                            data.units)
        np.testing.assert_array_equal(loss, numbers.validation_loss)
        if not np.isfinite(loss):
            return  # its outputs overflow
        np.testing.assert_array_equal(metrics, numbers.metrics)
        np.testing.assert_array_equal(predictor.predict(data.validation_inputs),
                                      training.predict(data.validation_inputs))

    @given(shapes(), private())
    @settings(max_examples=20, deadline=None)
    def test_classes(self, shape: dict[str, object], own: dict[str, object]) -> None:
        self.check(recipe(**shape, **own), small_data(), 3, "softmax")

    @given(shapes(), private())
    @settings(max_examples=10, deadline=None)
    def test_two_classes(self, shape: dict[str, object], own: dict[str, object]) -> None:
        self.check(recipe(**shape, **own), small_data(classes=2), 1, "binary")

    @given(shapes(), private(), st.integers(1, 3), st.sampled_from(["squared", "absolute",
                                                                    "huber"]))
    @settings(max_examples=10, deadline=None)
    def test_amounts(self, shape: dict[str, object], own: dict[str, object], targets: int,
                     loss: str) -> None:
        own = {name: value for name, value in own.items() if name != "mixup"}
        self.check(recipe(**shape, **own, loss=loss), amounts(targets), targets, "squared")

    def test_a_network_of_which_few_rows_are_evaluated_at_once(self) -> None:
        with mock.patch.object(codes, "EVALUATED_ARENA", 4000):
            made = recipe(depth=2, dropout=0.2)
            self.assertEqual(evaluated_rows(NetworkShape.of(made, 5, 3)), 128)
            self.check(made, small_data(rows=700), 3, "softmax")

    def test_sizes_of_activations(self) -> None:
        for residual in ("no", "yes"):
            made = recipe(depth=2, width=7, residual=residual)
            shape = NetworkShape.of(made, 5, 3)
            rng = np.random.default_rng(2)
            weights = rng.normal(size=shape.parameters).astype(np.float32)
            arrays, x = named_arrays(shape, weights), rng.normal(size=(40, 5)).astype(np.float32)
            sent, expected = x, []
            for i in (1, 2, 3):
                sums = sent @ arrays[f"layer {i}.weights"] + arrays[f"layer {i}.biases"]
                out = np.maximum(sums, 0) if i < 3 else sums
                sent = out + sent if residual == "yes" and i == 2 else out
                expected.append(float(np.sqrt((sent**2).mean())))
            np.testing.assert_allclose(Predictor(shape, weights).activation_sizes(x), expected,
                                       rtol=1e-5)

    def test_no_rows(self) -> None:
        for outputs, loss, width in ((3, "softmax", 3), (1, "binary", 2), (2, "squared", 2)):
            shape = NetworkShape.of(recipe(), 5, outputs, loss)
            made = Predictor(shape, np.zeros(shape.parameters, np.float32))
            self.assertEqual(made.predict(np.zeros((0, 5), np.float32)).shape, (0, width))


class Files(unittest.TestCase):
    def setUp(self) -> None:
        place = tempfile.TemporaryDirectory()
        self.addCleanup(place.cleanup)
        self.path = Path(place.name) / "m.safetensors"
        self.shape = NetworkShape.of(recipe(normalisation="batch", depth=2), 5, 3)
        weights = np.random.default_rng(1).normal(size=self.shape.parameters).astype(np.float32)
        self.weights = weights
        write_model(self.path, named_arrays(self.shape, weights), {"note": "é\x1b"})

    def test_there_and_back(self) -> None:
        about, arrays = read_model(self.path)
        self.assertEqual(about["note"], "é\x1b")
        np.testing.assert_array_equal(flat_weights(self.shape, arrays), self.weights)
        self.assertEqual(arrays["layer 1.weights"].shape, (5, 6))
        self.assertEqual(read_about(self.path)["parameters"], self.shape.parameters)

    def test_every_flipped_byte_is_noticed(self) -> None:
        raw = self.path.read_bytes()
        for place in range(0, len(raw), 37):
            bad = bytearray(raw)
            bad[place] ^= 16
            self.path.write_bytes(bad)
            with self.subTest(place=place), self.assertRaises(TrainingError):
                read_model(self.path)

    def test_weights_that_do_not_fit_are_refused_by_name(self) -> None:
        _, arrays = read_model(self.path)
        lacking = {name: array for name, array in arrays.items() if name != "layer 2.biases"}
        other = {**arrays, "layer 1.weights": arrays["layer 1.weights"].T}
        broken = {**arrays, "layer 1.biases": np.full(6, np.nan, np.float32)}
        for bad, words in ((lacking, "layer 2.biases"), (other, "layer 1.weights"), (broken,
                                                                                     "finite")):
            with self.assertRaisesRegex(TrainingError, words):
                flat_weights(self.shape, bad)


if __name__ == "__main__":
    unittest.main()
