"""Trainings that lower a metric on the validation rows: the same steps, other epochs kept."""

from __future__ import annotations

import unittest
from dataclasses import replace

import numpy as np

from axiarch.engine.metrics import confusion, f1, macro, roc_auc
from axiarch.engine.network import NetworkShape
from axiarch.engine.predictor import Predictor
from axiarch.engine.rows import TrainingData
from axiarch.engine.run import RunSpec
from axiarch.engine.streams import Streams
from axiarch.engine.training import Progress, Training
from axiarch.recipes.recipe import Recipe
from axiarch.runs.lowered import Lowered
from axiarch.runs.steady import steady
from tests.support import Runs, recipe, small_data


def trained(data: TrainingData, lowered: Lowered, spec: Recipe, outputs: int = 3,
            loss: str = "softmax") -> tuple[list[Progress], Training]:
    """Train one run to its end."""
    shape = NetworkShape.of(spec, data.train_inputs.shape[1], outputs, loss)
    runs = Runs(shape, replace(data, measure=lowered))
    training = runs.add(RunSpec(0, spec, Streams(2)))
    path: list[Progress] = []
    while not path or path[-1].end is None:
        path += runs.train_epoch()
    return path, training


class Lowering(unittest.TestCase):
    def test_weights_move_as_by_the_loss_and_levels_are_those_of_the_metric(self) -> None:
        data, spec = small_data(200), recipe(epochs=8, learning_rate=0.02)
        plain, _ = trained(data, "loss", spec)
        for place, lowered in ((0, "accuracy"), (1, "balanced accuracy")):
            path, training = trained(data, lowered, spec)  # type: ignore[arg-type]
            for own, other in zip(path, plain, strict=True):
                a, b = own.numbers, other.numbers
                self.assertEqual((a.train_loss, a.gradient_norm, a.layers),
                                 (b.train_loss, b.gradient_norm, b.layers))
                self.assertEqual(a.validation_loss, 1 - b.metrics[place])
                self.assertEqual(a.metrics, (b.validation_loss, *b.metrics))
                self.assertEqual((a.by_loss.train_loss_eval, a.by_loss.validation_loss),
                                 (b.train_loss_eval, b.validation_loss))
            levels = [each.numbers.validation_loss for each in path]
            self.assertEqual((training.watch.best_epoch, training.watch.best_loss), steady(levels))

    def test_measures_that_no_epoch_has_beside_its_loss(self) -> None:
        """F1 of each class, and the area under the curve, of what is predicted after the epoch."""
        spec = recipe(epochs=4, learning_rate=0.02)
        cases: tuple[tuple[Lowered, int, int, str], ...] = (
            ("F1", 3, 3, "softmax"), ("F1", 2, 1, "binary"), ("AUC", 2, 1, "binary"))
        for lowered, classes, outputs, loss in cases:
            data = small_data(200, classes=classes)
            plain, _ = trained(data, "loss", spec, outputs, loss)
            path, training = trained(data, lowered, spec, outputs, loss)
            a, b = path[-1].numbers, plain[-1].numbers
            self.assertEqual((a.train_loss, a.metrics), (b.train_loss,
                                                         (b.validation_loss, *b.metrics)))
            shares = Predictor(training.shape, training.evaluated).predict(data.validation_inputs)
            labels = data.validation_targets.astype(np.int64)
            counts = confusion(shares, labels)
            value = roc_auc(shares[:, 1], labels == 1) if lowered == "AUC" else macro(
                f1(counts), counts)
            self.assertAlmostEqual(a.validation_loss, 1 - value, places=12)
            self.assertAlmostEqual(Predictor(training.shape, training.evaluated).mean_loss(
                data.validation_inputs, labels, measure=lowered)[0], 1 - value, places=12)
            self.assertNotEqual(a.train_loss_eval, a.validation_loss)

    def test_the_training_level_is_that_of_the_weights_on_training_rows(self) -> None:
        data = small_data(90)
        path, training = trained(data, "accuracy", recipe(epochs=3, learning_rate=0.02))
        sample = np.linspace(0, 89, 45).astype(np.int64)
        told = training.predict(data.train_inputs[sample]).argmax(1)
        wrong = float((told != data.train_targets[sample]).mean())
        self.assertAlmostEqual(path[-1].numbers.train_loss_eval, wrong)

    def test_amounts_by_their_absolute_error(self) -> None:
        rng = np.random.default_rng(1)
        x = rng.normal(size=(120, 3)).astype(np.float32)
        y = x[:, :1] + rng.standard_t(2, size=(120, 1)).astype(np.float32)
        data = TrainingData(x[:80], y[:80], x[80:], y[80:], (2.5,))
        path, training = trained(data, "mean absolute error", recipe(epochs=4), 1, "squared")
        told = training.predict(x[80:])
        self.assertAlmostEqual(path[-1].numbers.validation_loss,
                               2.5 * float(np.abs(told - y[80:]).mean()), places=5)
        found = Predictor(training.shape, training.evaluated).mean_loss(
            x[80:], y[80:], (2.5,), measure="mean absolute error")
        self.assertAlmostEqual(found[0], path[-1].numbers.validation_loss, places=12)
        self.assertAlmostEqual(found[1][0], path[-1].numbers.metrics[0], places=12)

    def test_divergence_is_seen_by_the_loss(self) -> None:
        """An error rate cannot grow tenfold, nor be infinite."""
        spec = recipe(optimiser="sgd", learning_rate=30.0, epochs=30, depth=0)
        for lowered in ("loss", "accuracy"):
            path, _ = trained(small_data(200), lowered, spec)  # type: ignore[arg-type]
            end = path[-1].end
            assert end is not None
            self.assertEqual(end.reason, "diverged")

    def test_patience_counts_by_what_is_lowered(self) -> None:
        data, spec = small_data(200), recipe(epochs=40, patience=4, learning_rate=0.03)
        path, training = trained(data, "accuracy", spec)
        end = path[-1].end
        assert end is not None
        self.assertEqual(end.reason, "patience")
        self.assertEqual(len(path), training.watch.mark_epoch + 4)


if __name__ == "__main__":
    unittest.main()
