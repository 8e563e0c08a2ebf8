"""The demo's pictures, learnt by a small convolutional recipe nearly as well as they can be."""

from __future__ import annotations

import unittest

import numpy as np

from axiarch.data.demo_hum import KINDS, hum
from axiarch.engine.network import NetworkShape
from axiarch.engine.rows import TrainingData
from axiarch.engine.run import RunSpec
from axiarch.engine.streams import Streams
from axiarch.recipes.recipe import Recipe
from tests.support import Runs

#: How far below the accuracy of the rule that made the pictures counts as within reach.
REACH = 0.03


class PicturesLearnt(unittest.TestCase):
    def test_hum_is_told_nearly_as_well_as_the_rule_that_made_it_allows(self) -> None:
        made = hum()
        x = made.pictures.reshape(len(made.pictures), -1).astype(np.float32)
        x = (x - x.mean()) / x.std()
        y = np.array([list(KINDS).index(label) for label in made.labels], np.int32)
        part = len(x) * 4 // 5
        data = TrainingData(x[:part], y[:part], x[part:], y[part:])
        recipe = Recipe({
            "network": "conv 8, pool 2, conv 16, pool 2", "epochs": 6, "patience": 0, "shift": 1,
            "learning_rate": 5e-3, "schedule": "cosine"
        })
        runs = Runs(NetworkShape.of(recipe, (16, 16, 1), len(KINDS)), data)
        for seed in range(2):
            runs.add(RunSpec(seed, recipe, Streams(seed)))
        for _ in range(6):
            progress = runs.train_epoch()
        for each in progress:
            self.assertGreater(each.numbers.metrics[0], made.best_accuracy - REACH)


if __name__ == "__main__":
    unittest.main()
