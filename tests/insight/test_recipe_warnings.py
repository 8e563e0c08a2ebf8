"""What practitioners regret is pointed out with its numbers, and sound recipes are left in
peace.
"""

from __future__ import annotations

import unittest

from axiarch.insight.proposal import Proposal
from axiarch.insight.recipe_warnings import check_recipe
from axiarch.recipes.members import OPTIMISERS
from axiarch.recipes.recipe import Recipe
from axiarch.recipes.searchfile import SearchFile
from axiarch.recipes.space import Space

ROWS = {"train": 1800, "validation": 600}


class Regrets(unittest.TestCase):
    def found(self, rows: dict[str, int] | None = None, **values: object) -> list[Proposal]:
        return list(check_recipe(Recipe(values), rows or ROWS))

    def one(self, words: str, rows: dict[str, int] | None = None, **values: object) -> None:
        (regret,) = self.found(rows, **values)
        self.assertIn(words, regret.evidence)
        self.assertTrue(regret.evidence[0].isupper() or regret.evidence[0].isdigit())
        for change in regret.changes:  # the remedy, followed to the letter, ends the warning
            after = change.applied(SearchFile(space=Space(Recipe(values)))).space.base
            left = [p.title for p in check_recipe(after, rows or ROWS)]
            self.assertNotIn(regret.title, left, change.words)
            self.assertEqual(left, [], change.words)

    def test_sound_recipes_have_none(self) -> None:
        for values in ({}, {"optimiser": "sgd", "learning_rate": 0.1}, {
                "optimiser": "momentum", "learning_rate": 0.05
        }, {"normalisation": "batch"}, {"weight_decay": 0.01, "dropout": 0.5}, {"patience": 0}, {
                "schedule": "one_cycle", "learning_rate": 0.01
        }, {"optimiser": "lion",
                "learning_rate": 1e-4}, {"l2": 1e-4, "optimiser": "sgd", "learning_rate": 0.05}):
            with self.subTest(values=values):
                self.assertEqual(self.found(**values), [])

    def test_each_symptom_is_found_alone(self) -> None:
        self.one("0.5 is far above what adam", learning_rate=0.5)
        self.one("hardly moves sgd", optimiser="sgd", learning_rate=1e-6)
        self.one("work like 20", optimiser="momentum", learning_rate=0.2, momentum=0.99)
        self.one("can never stop a training of 20", epochs=20, patience=20)
        self.one("smaller than one batch of 512", {"train": 900, "validation": 100}, batch_size=512)
        self.one("one step an epoch", {"train": 100, "validation": 100}, batch_size=512)
        self.one("never begins", warm_up=30, hold=10)
        self.one("shrinks them again", optimiser="adagrad", learning_rate=0.05, schedule="cosine")
        self.one("over 4 rows", batch_size=4, normalisation="batch")
        self.one("over 2 rows", batch_size=2, network="8 batch norm")
        self.one("holds one row", {"train": 97, "validation": 97},
                 batch_size=32,
                 normalisation="batch")
        self.one("over a single unit", network="8, 1 layer norm")
        self.one("no effect on the network", network="32, 16", width=128)
        self.one("leaves little", dropout=0.9)
        self.one("divided away", l2=1e-3)

    def test_every_optimiser_has_a_band(self) -> None:
        for name, known in OPTIMISERS.items():
            self.one("far above",
                     optimiser=name,
                     learning_rate=2 * known.highest_rate,
                     momentum=0.0)


if __name__ == "__main__":
    unittest.main()
