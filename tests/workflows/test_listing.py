"""Recipes in another order, only some of them, the cheapest; and which knobs matter."""

from __future__ import annotations

import shutil
import unittest

from axiarch import workflows
from axiarch.errors import InputError, TrainingError
from axiarch.journal import inbox
from axiarch.workflows.explaining import KnobEffects
from tests.runner.test_runner import RunnerCase
from tests.runner.test_survival import raced
from tests.support import FolderCase, finished_workspace, recipe


class Filters(unittest.TestCase):
    def test_conditions_and_constraints_are_read(self) -> None:
        adam = recipe(optimiser="adam", width=32, depth=2)
        for text, holds in (("", True), ("optimiser = adam", True), ("optimiser = sgd", False),
                            ("optimiser = adam | sgd and width <= 64", True),
                            ("optimiser != adam", False), ("width * depth <= 50", False),
                            ("width > 16 and width * depth <= 64", True)):
            self.assertEqual(workflows.parse_filter(text)(adam), holds, text)

    def test_what_cannot_be_read_is_named(self) -> None:
        for text, words in (("wide < 3", "'wide'"), ("width <", "cannot be read"),
                            ("width = 3 and and", "called 'and'"), ("[31m < 3", "cannot be read")):
            with self.assertRaisesRegex(InputError, words):
                workflows.parse_filter(text)


class Lists(FolderCase):
    def setUp(self) -> None:
        super().setUp()
        shutil.copytree(finished_workspace(), self.folder / "w")
        self.s = workflows.snapshot_of(workflows.open_workspace(self.folder / "w"))

    def test_every_order_lists_all(self) -> None:
        for order in ("place", "parameters", "time", "training loss", "gap", "runs", "width"):
            found = workflows.listed(self.s, order)
            self.assertEqual(sorted(found), sorted(self.s.order), order)
        widths = [self.s.recipes[n].recipe["width"] for n in workflows.listed(self.s, "width")]
        self.assertEqual(widths, sorted(widths))
        with self.assertRaises(InputError):
            workflows.listed(self.s, "beauty")

    def test_the_cheapest_is_the_smallest_that_is_not_clearly_worse(self) -> None:
        number, words = workflows.cheapest(self.s)
        ranking = self.s.ranking
        leader = ranking.rows[0].recipe
        apart = {row.recipe: ranking.difference(leader, row.recipe) for row in ranking.tied[1:]}
        sizes = {row.recipe: row.parameters for row in ranking.tied
                 if row.recipe == leader or not (found := apart[row.recipe]) or not found.sure}
        self.assertEqual(sizes[number], min(sizes.values()))
        self.assertRegex(words, "is the smallest that is not|No other recipe is tied")

    def test_nobody_beats_the_unbeaten_on_both(self) -> None:
        for cost in ("parameters", "time"):
            kept = workflows.unbeaten(self.s, cost)
            self.assertIn(self.s.ranking.rows[0].recipe, [row.recipe for row in kept])
            for row in self.s.ranking.rows:
                value = row.parameters if cost == "parameters" else row.seconds
                beaten = any(other.loss < row.loss and
                             (other.parameters if cost == "parameters" else other.seconds) <= value
                             for other in kept)
                self.assertTrue(beaten or row.recipe in [each.recipe for each in kept])


class Knobs(RunnerCase):
    def test_cut_recipes_count_and_the_json_is_whole(self) -> None:
        self.make(raced(30, 27)).run()
        s = self.look()
        found = workflows.explain(s)
        self.assertIsInstance(found, KnobEffects)
        whole = [point.whole for point in found.axes[0].points]
        self.assertIn(False, whole)
        self.assertIn(True, whole)
        self.assertLessEqual(max(p.loss for p in found.axes[0].points), s.dataset.baseline.loss)
        made = workflows.effects_json(found)
        self.assertEqual(len(made["knobs"]), len(s.file.space.knobs))  # type: ignore[arg-type]
        self.assertTrue(workflows.effect_lines(found))
        self.assertIn("recipes", found.verdict())

    def test_too_little_is_said(self) -> None:
        search = raced(4, 9)
        self.make(search).run()
        with self.assertRaisesRegex(TrainingError, "train at least 8"):
            workflows.explain(self.look())
        # the remedy, followed
        inbox.send(self.workspace.search(1), inbox.Budget(30))
        self.make(search).run()
        self.assertGreaterEqual(workflows.explain(self.look()).found.recipes, 8)


if __name__ == "__main__":
    unittest.main()
