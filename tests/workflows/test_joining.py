"""Several searches in one ranking, and a recipe on fewer rows."""

from __future__ import annotations

import unittest
from dataclasses import replace

from axiarch.errors import InputError, TrainingError
from axiarch.recipes.searchfile import USE, MethodChoice, SearchFile
from axiarch.recipes.space import space
from axiarch.workflows.branching import lineage
from axiarch.workflows.enlarging import SHARES, more_rows, row_lines, row_searches
from axiarch.workflows.joining import together, together_json, together_lines
from axiarch.workflows.opening import data_set
from tests.runner.test_runner import RunnerCase
from tests.support import ring_dataset, ring_search


class Joining(RunnerCase):
    def test_recipes_of_both_are_ranked_and_shared_runs_count_once(self) -> None:
        one = replace(ring_search(epochs=5, recipes=4, repeats=2), earlier=USE)
        self.make(one, number=1).run()
        self.make(replace(one, method=MethodChoice("random", {"recipes": 6})), number=2).run()
        found = together(self.workspace, [1, 2, 2])
        self.assertEqual(len(found.recipes), 6)
        self.assertEqual(sum(len(p) > 1 for p in found.places.values()), 4)
        self.assertEqual({row.repeats for row in found.ranking.rows}, {2})
        alone = self.look(2).ranking
        self.assertEqual([row.loss for row in found.ranking.rows],
                         [row.loss for row in alone.rows])
        self.assertIn("Of 6 recipes in 2 searches, recipe ", found.verdict())
        self.assertEqual(len(together_lines(found, 2)), 4)
        shown = together_json(found)
        self.assertEqual(shown["searches"], [1, 2])

    def test_other_seeds_are_other_replicates(self) -> None:
        base = ring_search(epochs=4, recipes=3, repeats=2)
        self.make(base, number=1).run()
        self.make(replace(base, seed=77), number=2).run()
        found = together(self.workspace, [1, 2])
        first = next(n for n, p in found.places.items() if len(p) == 2)  # the base recipe
        row = next(r for r in found.ranking.rows if r.recipe == first)
        self.assertEqual(row.repeats, 4)

    def test_other_data_are_refused_together(self) -> None:
        self.make(ring_search(epochs=3, recipes=2, repeats=1), number=1).run()
        ring_dataset(self.workspace.data("other"), rows=120)
        self.make(replace(ring_search(epochs=3, recipes=2, repeats=1), data="other"),
                  number=2).run()
        with self.assertRaisesRegex(InputError, "search 1 and search 2 are of other data"):
            together(self.workspace, [1, 2])
        with self.assertRaisesRegex(InputError, "two or more"):
            together(self.workspace, [1, 1])


class Rows(RunnerCase):
    def test_a_recipe_on_fewer_rows_and_twice_as_many(self) -> None:
        ring_dataset(self.workspace.data("large"), rows=900)
        search = SearchFile("x", "large", space({"epochs": 12, "width": 8, "batch_size": 16,
                                                 "learning_rate": 0.01}),
                            MethodChoice("grid"), 2, 2)
        self.make(search).run()
        s = self.look()
        with self.assertRaisesRegex(TrainingError, "axiarch rows 1 --search 1"):
            more_rows(self.workspace, s, 1)
        files = row_searches(self.workspace, s, 1)
        self.assertEqual(len({file.data for file in files}), len(SHARES))
        for number, file in enumerate(files, 2):
            self.make(file, number=number).run()
        found = more_rows(self.workspace, s, 1)
        rows = [p.rows for p in found.trend.points]
        self.assertEqual(rows[-1], s.dataset.rows["train"])
        self.assertAlmostEqual(rows[0] / rows[-1], SHARES[0], delta=0.02)
        self.assertLess(found.trend.points[-1].loss, found.trend.points[0].loss)
        self.assertIn(f"instead of {rows[-1]}", found.verdict())
        self.assertEqual(len(row_lines(found)), len(rows) + 2)
        children = [each for each in lineage(self.workspace) if each.depth]
        self.assertEqual(len(children), len(SHARES))
        for each in children:  # one recipe was tried, and brought nothing over itself
            self.assertEqual((each.reason, each.gain), ("would more rows help?", ""))
        again = row_searches(self.workspace, s, 1)
        self.assertEqual([f.data for f in again], [f.data for f in files])
        self.assertIn(f"ring, {rows[0]} rows", [data_set(self.workspace, f.data).name
                                                 for f in files])
        for number, file in enumerate(again, 20):  # runs are taken over: they count once
            self.make(file, number=number).run()
        self.assertEqual(more_rows(self.workspace, s, 1).trend.points, found.trend.points)

    def test_too_few_rows_are_refused(self) -> None:
        self.make(ring_search(epochs=3, recipes=2, repeats=1)).run()
        with self.assertRaisesRegex(TrainingError, "too few to train on"):
            row_searches(self.workspace, self.look(), 1)


if __name__ == "__main__":
    unittest.main()
