"""Confirming a recipe: seeds that chose nothing, and a verdict that is right as often as it
says.
"""

from __future__ import annotations

import shutil
import statistics
import unittest
from dataclasses import replace

import numpy as np

from axiarch import workflows
from axiarch.errors import TrainingError
from axiarch.runs.curve import Curve
from axiarch.workflows.confirming import Confirmation, _compared
from tests.support import FolderCase, curve_of, finished_workspace


class Confirming(FolderCase):
    def test_fresh_seeds_are_trained_and_compared(self) -> None:
        shutil.copytree(finished_workspace(), self.folder / "w")
        workspace = workflows.open_workspace(self.folder / "w")
        snapshot = workflows.snapshot_of(workspace)
        leader = snapshot.ranking.rows[0].recipe
        self.assertEqual(workflows.confirmations(workspace, snapshot, leader), ())
        search = workflows.confirming_search(workspace, snapshot, leader, 3)
        self.assertNotEqual(search.seed, snapshot.file.seed)
        self.assertEqual((search.repeats, search.space.knobs), (3, ()))
        again = workflows.wait(workspace, workflows.start_search(workspace, search, 1))
        (found,) = workflows.confirmations(workspace, snapshot, leader)
        self.assertEqual(workflows.snapshot_of(workspace).search.number, 1)  # which it asks about
        self.assertEqual([(d.number, d.depth) for d in workflows.lineage(workspace)],
                         [(1, 0), (2, 1)])
        self.assertEqual((found.search, found.recipe, found.again, found.runs), (1, leader, 2, 3))
        self.assertAlmostEqual(found.loss,
                               statistics.fmean(c.steady for c in again.curves.values()))
        self.assertNotEqual(
            workflows.confirming_search(workspace, snapshot, leader).seed, search.seed)
        other = next(n for n in snapshot.recipes if n != leader)
        self.assertEqual(workflows.confirmations(workspace, snapshot, other), ())
        with self.assertRaises(TrainingError):
            workflows.confirming_search(workspace, snapshot, 999)

    def test_a_recipe_without_change_holds_in_about_all_cases_and_a_worse_one_does_not(
            self) -> None:
        workspace = workflows.open_workspace(finished_workspace())
        snapshot = workflows.snapshot_of(workspace)
        recipe = snapshot.ranking.rows[-1].recipe
        old = snapshot.runs_of(recipe)
        rng = np.random.default_rng(3)

        def found(shift: float) -> Confirmation:
            def curves(ids: list[int], mean: float) -> dict[int, Curve]:
                return {i: curve_of((float(rng.normal(mean, 0.02)),) * 3) for i in ids}

            runs = {100 + i: replace(old[0], id=100 + i, repeat=i) for i in range(5)}
            before = replace(snapshot, curves=curves([r.id for r in old], 0.5))
            return _compared(before, recipe,
                             replace(snapshot, runs=runs, curves=curves(list(runs), 0.5 + shift)))

        self.assertGreaterEqual(sum(bool(found(0.0).holds) for _ in range(60)), 55)
        self.assertLessEqual(sum(bool(found(1.0).holds) for _ in range(60)), 10)

    def test_one_run_says_nothing(self) -> None:
        made = Confirmation(1, 2, 3, 0.48, 0.5, 0.6, 1, None, None)
        self.assertIsNone(made.holds)
        self.assertIn("confirm it on more seeds", str(made))
        worse = Confirmation(1, 2, 3, 0.48, 0.5, 0.6, 5, 0.02, 0.05)
        self.assertIn("does not hold", str(worse))
        self.assertIn("holds", str(replace(worse, loss=0.51)))
        self.assertIn("better than expected", str(replace(worse, loss=0.4)))
        self.assertNotIn("better", str(replace(worse, loss=0.44)), "optimism is of new rows too")

    def test_the_optimism_of_a_leader_is_expected(self) -> None:
        workspace = workflows.open_workspace(finished_workspace())
        snapshot = workflows.snapshot_of(workspace)
        leader = snapshot.ranking.rows[0].recipe
        ranking = replace(snapshot.ranking, optimism=0.25)
        made = _compared(replace(snapshot, ranking=ranking), leader, snapshot)
        old = [snapshot.curves[r.id].steady for r in snapshot.runs_of(leader)]
        self.assertAlmostEqual(made.expected, statistics.fmean(old) + 0.25)


if __name__ == "__main__":
    unittest.main()
