"""Recipes side by side: differences first, what came of each, versions and other searches."""

from __future__ import annotations

import unittest
from dataclasses import replace
from types import SimpleNamespace

import numpy as np

from axiarch.errors import InputError, TrainingError
from axiarch.recipes.searchfile import MethodChoice, SearchFile
from axiarch.recipes.space import space
from axiarch.workflows.comparing import keep_version
from axiarch.workflows.leading import against
from axiarch.workflows.sidebyside import compare_recipes, comparison_json, comparison_lines
from tests.ranking.test_rank import Pairs, ranking
from tests.runner.test_runner import RunnerCase
from tests.support import recipe, ring_dataset

RATES = "1e-6 | 0.01 | 0.03"


def rates(repeats: int = 3, epochs: int = 12) -> SearchFile:
    """Return a search over three rates, the first far too low."""
    made = space({"epochs": epochs, "width": 16, "batch_size": 16, "learning_rate": 0.01,
                  "patience": 0}, {"learning_rate": RATES})
    return SearchFile("rates", "ring", made, MethodChoice("grid"), 5, repeats)


class OneSided(unittest.TestCase):
    def test_of_two_recipes_neither_of_which_leads_none_is_better_by_one_side_alone(self) -> None:
        seen = 0
        for seed in range(60):
            rng = np.random.default_rng(seed)
            results = Pairs("results").results(rng, [1.0, 1.2, 1.222], 4, 0.0, 0.02)
            s = SimpleNamespace(ranking=ranking(*results))
            pair = s.ranking.difference(1, 2)
            assert pair is not None
            if pair.least > 0 and not pair.sure:
                seen += 1
                self.assertIn("not clearly better", against(s, 1, 2))  # type: ignore[arg-type]
        self.assertGreater(seen, 0)
        empty = SimpleNamespace(ranking=ranking())
        self.assertIn("not known", against(empty, 1, 2))  # type: ignore[arg-type]


class SideBySide(RunnerCase):
    def test_differences_come_first_and_the_better_is_named_with_its_interval(self) -> None:
        self.make(rates()).run()
        s = self.look()
        low = next(n for n, r in s.recipes.items() if r.recipe.real("learning_rate") == 1e-6)
        found = compare_recipes(self.workspace, s, ["base", str(low)])
        self.assertEqual([label for label, _ in found.differing()], ["learning rate"])
        self.assertEqual(found.differing()[0][1], ("0.01", "1e-6"))
        apart = s.ranking.difference(low, 1)
        assert apart is not None and found.sides[1].against is not None
        self.assertEqual(found.sides[1].against.better, apart.better)
        self.assertIsNone(found.sides[0].against)
        self.assertRegex(found.verdict(),
                         rf"^The base \(recipe 1\) is [\d.]+ better than recipe {low} "
                         r"\(95 %: [\d.]+ to [\d.]+\)\.")
        lines = comparison_lines(found)
        self.assertLess(next(i for i, x in enumerate(lines) if "learning rate" in x),
                        next(i for i, x in enumerate(lines) if "validation loss" in x))
        shown = comparison_json(found)
        self.assertEqual(shown["verdict"], found.verdict())

    def test_one_seed_each_is_called_unknown_and_equal_recipes_are(self) -> None:
        self.make(rates(repeats=1)).run()
        found = compare_recipes(self.workspace, self.look(), ["1", "2"])
        self.assertIn("how sure that is, is unknown", found.verdict())
        for count in (["1"], [], ["1", "1"], ["1", "2", "3", "4", "5", "6", "7"]):
            with self.assertRaisesRegex(InputError, "cannot be compared"):
                compare_recipes(self.workspace, self.look(), count)
        for name in ("x", "1:2:3", "v", "-1", "1:"):
            with self.assertRaisesRegex(InputError, "names no recipe"):
                compare_recipes(self.workspace, self.look(), ["1", name])
        with self.assertRaisesRegex(TrainingError, "there is no recipe 9"):
            compare_recipes(self.workspace, self.look(), ["1", "9"])

    def test_a_version_is_found_where_it_was_trained_on_these_data(self) -> None:
        self.make(rates()).run()
        kept = keep_version(self.workspace, rates().space.base, "first: as it was")
        other = keep_version(self.workspace, recipe(width=3), "second: never trained")
        later = replace(rates(), space=space(
            {"epochs": 12, "width": 4, "batch_size": 16, "patience": 0}))
        self.make(later, number=2).run()
        found = compare_recipes(self.workspace, self.look(2), ["1", f"v{kept.number}"])
        self.assertEqual((found.sides[1].search, found.sides[1].number), (1, 1))
        self.assertEqual(found.sides[1].name, "version 1 (recipe 1 of search 1)")
        self.assertIsNotNone(found.sides[1].against)
        self.assertIn("width", [label for label, _ in found.differing()])
        with self.assertRaisesRegex(TrainingError, "no result on these data.*|train it once"):
            compare_recipes(self.workspace, self.look(2), ["1", f"v{other.number}"])
        with self.assertRaisesRegex(InputError, "there is no version 77"):
            compare_recipes(self.workspace, self.look(2), ["1", "v77"])

    def test_what_has_no_result_or_other_data_is_said(self) -> None:
        diverging = replace(rates(), space=space(
            {"epochs": 6, "width": 16, "optimiser": "sgd", "learning_rate": 0.01, "patience": 0},
            {"learning_rate": "0.01 | 1000"}))
        self.make(diverging).run()
        s = self.look()
        broken = s.ranking.broken[0]
        found = compare_recipes(self.workspace, s, [str(broken), "1"])
        self.assertIn(f"Recipe {broken} has no result to compare", found.verdict())
        self.assertTrue(comparison_lines(found))
        waiting = replace(found.sides[0], finding="")
        self.assertEqual(dict(replace(found, sides=(waiting,)).results())["finding"], ("–",))
        ring_dataset(self.workspace.data("other"), rows=120)
        self.make(replace(rates(1, 2), data="other"), number=2).run()
        with self.assertRaisesRegex(InputError, "other data"):
            compare_recipes(self.workspace, s, ["1", "2:1"])


if __name__ == "__main__":
    unittest.main()
