"""Recipes ranked by a measure of one's choice."""

from __future__ import annotations

import unittest
from dataclasses import replace

from axiarch.errors import InputError
from axiarch.recipes.searchfile import MethodChoice, SearchFile
from axiarch.recipes.space import space
from axiarch.workflows.adding import add_table
from axiarch.workflows.measuring import by_measure, measure_json, measure_lines
from tests.runner.test_runner import RunnerCase
from tests.support import ring_search, write_csv


class Measuring(RunnerCase):
    def test_classes(self) -> None:
        self.make(ring_search(epochs=8, recipes=5, repeats=3)).run()
        s = self.look()
        for name in ("accuracy", "balanced accuracy", "F1", "AUC"):
            found = by_measure(s, name)
            values = [found.value(row.loss) for row in found.ranking.rows]
            self.assertEqual(len(values), 5)
            self.assertTrue(all(0 <= v <= 1 for v in values))
            self.assertEqual(found.ranking.rows[0].standing, "leader")
            self.assertTrue(all(row.half_width is not None and row.rows_half is not None
                                for row in found.ranking.rows))
            self.assertIn(f"By {name} recipe", found.verdict())
            self.assertEqual(len(measure_lines(found, 2)), 4)
            self.assertEqual(measure_json(found)["by"], name)
        best = by_measure(s, "accuracy")
        row = best.ranking.rows[0]
        plain = next(r for r in s.ranking.rows if r.recipe == row.recipe)
        self.assertAlmostEqual(best.value(row.loss), plain.metrics[0], delta=0.08)

    def test_amounts_by_the_loss_they_are_trained_on(self) -> None:
        rows: list[list[object]] = [[i / 100, (i / 50 - 1) ** 2 + 0.1 * ((i * 7919) % 13 - 6)]
                                    for i in range(200)]
        path = write_csv(self.folder / "t.csv", ["x", "y"], rows)
        add_table(self.workspace, path, name="t", target="y")
        for number, kind, name in ((1, "absolute", "mean absolute error"),
                                   (2, "huber", "Huber loss"),
                                   (3, "squared", "mean squared error")):
            made = space({"epochs": 10, "loss": kind, "width": 8}, {"learning_rate": "3e-3 | 1e-2"})
            self.make(SearchFile("x", "t", made, MethodChoice("grid"), 1, 2), number=number).run()
            found = by_measure(self.look(number), "own loss")
            self.assertEqual(found.name, name)
            self.assertEqual(len(found.ranking.rows), 3)
        for row in found.ranking.rows:
            own = next(r for r in self.look(3).ranking.rows if r.recipe == row.recipe)
            self.assertAlmostEqual(row.loss**0.5, own.loss, delta=0.2 * own.loss)

    def test_what_does_not_fit_is_refused(self) -> None:
        self.make(ring_search(epochs=3, recipes=2, repeats=1)).run()
        for name in ("mean absolute error", "beauty", "mean squared error"):
            with self.assertRaisesRegex(InputError, "not ranked by"):
                by_measure(self.look(), name)
        for name in ("own loss", "Loss", " balanced  ACCURACY ", "auc"):
            self.assertIn(by_measure(self.look(), name).name, ("loss", "balanced accuracy", "AUC"))

    def test_runs_of_an_earlier_version_say_so(self) -> None:
        self.make(ring_search(epochs=3, recipes=2, repeats=1)).run()
        s = self.look()
        old = replace(s, rows={n: replace(r, predicted=b"") for n, r in s.rows.items()})
        with self.assertRaisesRegex(InputError, "earlier version"):
            by_measure(old, "accuracy")


if __name__ == "__main__":
    unittest.main()
