"""Averages of networks: their loss is that of the mean prediction, and a gain is claimed only
where there is one.
"""

from __future__ import annotations

import unittest
from types import SimpleNamespace
from typing import Any, cast

import numpy as np

from axiarch.data.building import build_dataset
from axiarch.data.plan import DataPlan
from axiarch.data.reading import read_table
from axiarch.data.target import Target
from axiarch.engine.predictor import Average
from axiarch.export.averaging import gain
from axiarch.export.models import verify_model
from tests.export.test_models import HEADER, averaged, messy_rows
from tests.support import FolderCase, write_csv


class Loss(FolderCase):
    def test_it_is_the_loss_of_the_mean_prediction_and_kept_to_the_bit(self) -> None:
        for target in ("kind", "size"):
            with self.subTest(target=target):
                rows = [
                    row for row in messy_rows() if target == "kind" or row[1] not in ("", "n/a")
                ]
                table = write_csv(self.folder / f"{target}.csv", HEADER, rows)
                data = build_dataset(read_table(table)[0],
                                     self.folder / target,
                                     "d",
                                     plan=DataPlan((target, )))
                model = averaged(data, self.folder, (3, 5))
                part, known = data.part("validation"), data.encoding.target
                value, _ = model.predictor.mean_loss(part.inputs, part.targets, known.units,
                                                     known.curve)
                each = known.row_losses(model.predictor.predict(part.inputs),
                                        np.asarray(part.targets))
                wanted = each.mean() if known.classes else np.sqrt(each.mean())
                self.assertAlmostEqual(value, wanted, delta=1e-9 * wanted)
                self.assertEqual(verify_model(model, data)[1], value)


class Fixed:
    """A network that predicts what it is told to."""

    def __init__(self, predicted: np.ndarray) -> None:
        self._predicted = predicted
        self.shape = SimpleNamespace(loss="binary", outputs=1)

    def predict(self, x: np.ndarray) -> np.ndarray:
        return self._predicted.copy()


class Gain(unittest.TestCase):
    """Against a known truth: two classes whose probability is known, and networks that err from
    it.
    """

    def found(self, noise: float, shared: float, rows: int = 800, seed: int = 0) -> dict[str, Any]:
        rng = np.random.default_rng(seed)
        logits = rng.normal(0, 2, rows)
        true = (rng.random(rows) < 1 / (1 + np.exp(-logits))).astype(np.int64)
        common = rng.normal(0, shared, rows)
        networks = []
        for _ in range(5):
            second = 1 / (1 + np.exp(-(logits + common + rng.normal(0, noise, rows))))
            networks.append(Fixed(np.stack((1 - second, second), 1)))
        target = Target("binary", ("y",), ("no", "yes"))
        return gain(target, cast(Any, networks), np.zeros((rows, 1)), true)

    def test_networks_that_err_apart_gain_and_those_that_err_alike_do_not(self) -> None:
        self.assertTrue(self.found(2.0, 0.0)["apart"])
        self.assertFalse(self.found(0.0, 2.0)["apart"])

    def test_a_gain_is_seldom_claimed_where_there_is_next_to_none(self) -> None:
        claims = sum(self.found(0.02, 1.0, 300, seed)["apart"] for seed in range(200))
        self.assertLess(claims, 12)

    def test_probabilities_of_zero_do_not_end_it(self) -> None:
        certain = np.array([[1.0, 0.0]])
        average = Average(cast(Any, [Fixed(certain), Fixed(certain)]))
        self.assertTrue(np.isfinite(average.outputs(np.zeros((1, 1)))).all())
