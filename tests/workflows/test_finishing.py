"""The last training on all open rows, and a seal whose record follows the table, not its
encoding.
"""

from __future__ import annotations

import shutil
import unittest
from dataclasses import replace

import numpy as np

from axiarch import workflows
from axiarch.data.sealed import sealed_part
from axiarch.errors import DataError, TrainingError
from axiarch.workflows.leading import ranking_verdict
from tests.support import FolderCase, finished_workspace


class AllOpenRows(FolderCase):
    def setUp(self) -> None:
        super().setUp()
        shutil.copytree(finished_workspace(), self.folder / "w")
        self.workspace = workflows.open_workspace(self.folder / "w")
        self.snapshot = workflows.snapshot_of(self.workspace)
        self.leader = self.snapshot.ranking.rows[0].recipe

    def test_validation_rows_train_too_and_the_sealed_rows_stay(self) -> None:
        search = workflows.finishing_search(self.workspace, self.snapshot, self.leader, 2)
        data, before = workflows.data_set(self.workspace, search.data), self.snapshot.dataset
        self.assertEqual(data.rows["train"], before.rows["train"] + before.rows["validation"])
        self.assertEqual((data.rows["validation"], data.rows["test"], data.height),
                         (before.rows["validation"], before.rows["test"], before.height))
        np.testing.assert_array_equal(sealed_part(data).targets, sealed_part(before).targets)
        train = np.sort(
            np.concatenate([before.part("train").targets,
                            before.part("validation").targets]))
        np.testing.assert_array_equal(np.sort(data.part("train").targets), train)
        self.assertEqual([f.name for f in data.findings], ["trained on"])
        again = workflows.finishing_search(self.workspace, self.snapshot, self.leader, 2)
        self.assertEqual(again.data, search.data, "the data set is made once")

    def test_it_trains_as_long_as_the_recipe_was_best_after_and_no_loss_is_praised(self) -> None:
        search = workflows.finishing_search(self.workspace, self.snapshot, self.leader, 2)
        found = workflows.wait(self.workspace, workflows.start_search(self.workspace, search, 1))
        epochs = max(round(self.snapshot.ranking.rows[0].epoch), 1)
        self.assertEqual({len(curve) for curve in found.curves.values()}, {epochs})
        self.assertIn("no loss here says how good it is", ranking_verdict(found))
        with self.assertRaisesRegex(TrainingError, "all open rows already"):
            workflows.finishing_search(self.workspace, found, 1)
        with self.assertRaisesRegex(TrainingError, "cannot be measured"):
            workflows.keep_model(self.workspace, found, 1, average="seeds")
        opened = workflows.open_seal(self.workspace, found.dataset, "the last look", found, 1)
        self.assertEqual((opened.times, len(opened.score.runs)), (2, 2),
                         "one opening of the same rows came before")
        self.assertEqual(len(workflows.snapshot_of(self.workspace, 1).openings), 2)

    def test_a_recipe_without_a_result_is_refused(self) -> None:
        with self.assertRaisesRegex(TrainingError, "no result"):
            workflows.finishing_search(self.workspace, self.snapshot, 999)

    def test_folds_and_all_open_rows_exclude_each_other(self) -> None:
        split = self.snapshot.dataset.plan.split
        with self.assertRaises(DataError):
            replace(split, folds=3, all_open=True)

    def test_other_decisions_about_the_same_table_do_not_reset_the_record(self) -> None:
        data = self.snapshot.dataset
        for plan in (data.plan.treated("x", scaling="robust"), replace(data.plan, ignore=("y",)),
                     replace(data.plan, split=replace(data.plan.split, seed=99))):
            with self.subTest(plan=str(plan)[-60:]):
                other = workflows.redecide(self.workspace, data, plan)
                self.assertNotEqual(other.fingerprint, data.fingerprint)
                self.assertEqual(len(workflows.openings(self.workspace, other)), 1)
        other = workflows.redecide(self.workspace, data, replace(data.plan, targets=("side",)))
        self.assertEqual(len(workflows.openings(self.workspace, other)), 0, "another target")


if __name__ == "__main__":
    unittest.main()
