"""Finished trainings of other origin: read from a table, ranked with ours, marked, and never
taken for ours.
"""

from __future__ import annotations

import csv
import io
import shutil
import unittest
from pathlib import Path
from typing import Any

from axiarch import workflows
from axiarch.data.trainings import read_trainings
from axiarch.errors import DataError, InputError, TrainingError
from axiarch.journal.records import ELSEWHERE
from axiarch.runs.steady import steady
from axiarch.workflows.leading import ranking_verdict
from tests.support import FolderCase, finished_workspace, write_csv

HEADER = ["epoch", "training loss", "validation loss", "width", "learning rate", "warm steps"]


def epochs(losses: list[float], *more: Any) -> list[list[Any]]:
    return [[i, loss + 0.1, loss, *more] for i, loss in enumerate(losses, 1)]


class Reading(FolderCase):
    def read(self, header: list[str], rows: list[list[Any]]) -> Any:
        return read_trainings(write_csv(self.folder / "t.csv", header, rows), ("accuracy",))

    def test_settings_and_epochs_in_any_order(self) -> None:
        rows = epochs([0.9, 0.8, 0.7], 8, 0.01, 100) + epochs([0.5], 8, 0.02, 100)
        (first, second), left = self.read(HEADER, rows[::-1])
        self.assertEqual((first.validation, second.validation), ((0.5,), (0.9, 0.8, 0.7)))
        self.assertEqual(dict(second.settings),
                         {"width": "8", "learning rate": "0.01", "warm steps": "100"})
        self.assertEqual(left, [])

    def test_a_run_column_tells_runs_apart_and_what_changes_is_no_setting(self) -> None:
        header = [
            "Run", "Epoch", "Training Loss (nats)", "Validation-Loss", "learning_rate", "opt",
            "gpu", "accuracy"
        ]
        rows = [[r, e, 1.0, 0.9 - e / 10, 0.1 / e, "x", f"{r}{e}", 0.5]
                for r in "ab"
                for e in (1, 2, 3)]
        found, left = self.read(header, rows)
        self.assertEqual([dict(t.settings) for t in found], [{"opt": "x"}, {"opt": "x"}])
        self.assertEqual((found[0].rates, found[0].metrics["accuracy"]),
                         ((0.1, 0.05, 0.1 / 3), (0.5, 0.5, 0.5)))
        self.assertEqual(left, ["gpu"])

    def test_mistakes_name_place_and_remedy(self) -> None:
        twice = epochs([0.9, 0.8], 8, 0.1, 1) * 2
        gap = epochs([0.9, 0.8, 0.7], 8, 0.1, 1)[::2]
        lost = [[1, 0.5, "", 8, 0.1, 1], [2, 0.5, 0.4, 8, 0.1, 1]]
        odd = [[1, 0.5, "0.5 nats", 8, 0.1, 1], [2, 0.5, "0.4", 8, 0.1, 1]]
        cases: tuple[tuple[list[str], list[list[Any]], str],
                     ...] = ((HEADER[1:], [row[1:] for row in twice], "no column 'epoch'"),
                             (HEADER, twice, "run or seed"), (HEADER, gap, "numbered from 1"),
                             (HEADER, lost, "row 1: the validation loss|row 1.*missing"),
                             (HEADER, odd, "not a number"))
        for header, rows, words in cases:
            with self.subTest(words=words), self.assertRaisesRegex(DataError, words):
                self.read(header, rows)

    def test_the_remedy_for_epochs_that_appear_twice_works(self) -> None:
        found, _ = self.read([*HEADER, "seed"],
                             epochs([0.9, 0.8], 8, 0.1, 1, 1) + epochs([0.7, 0.6], 8, 0.1, 1, 2))
        self.assertEqual([t.validation for t in found], [(0.9, 0.8), (0.7, 0.6)])
        self.assertEqual(found[0].settings, found[1].settings)


class Ranked(FolderCase):
    def setUp(self) -> None:
        super().setUp()
        shutil.copytree(finished_workspace(), self.folder / "w")
        self.workspace = workflows.open_workspace(self.folder / "w")
        self.before = workflows.snapshot_of(self.workspace)

    def bring(self,
              rows: list[list[Any]],
              header: list[str] | None = None,
              name: str = "old [red]runs.csv") -> Path:
        self.brought = workflows.bring_in(
            self.workspace, write_csv(self.folder / name, header or [*HEADER, "seed"], rows))
        return self.folder / name

    def test_they_are_ranked_by_the_same_rule_and_marked_wherever_they_are_listed(self) -> None:
        best = self.before.ranking.rows[0].loss
        losses = [[best * 2, best / 2, best / 3], [best * 2, best / 2, best / 2.8]]
        self.bring(epochs(losses[0], 8, 0.01, 100, 1) + epochs(losses[1], 8, 0.01, 100, 2))
        s = workflows.snapshot_of(self.workspace)
        (number,) = self.brought.recipes
        first = s.ranking.rows[0]
        self.assertEqual((first.recipe, first.repeats), (number, 2))
        self.assertAlmostEqual(first.loss, sum(steady(each)[1] for each in losses) / 2)
        self.assertEqual(
            (s.recipes[number].recipe["width"], s.recipes[number].recipe["learning_rate"]),
            (8, 0.01))
        self.assertEqual(s.recipes[number].origin, "old [red]runs.csv: warm steps 100")
        self.assertEqual((s.epochs, s.search.state), (self.before.epochs, "done"),
                         "its epochs cost nothing here")
        self.assertIn("trained elsewhere: its losses are as given", ranking_verdict(s))
        self.assertIn(ELSEWHERE, s.recipes[number].apart(s.file.space.base))
        table = workflows.export_ranking(s, self.folder / "r.csv")
        known = list(csv.DictReader(io.StringIO(table.read_text())))
        self.assertEqual([bool(row["trained elsewhere"]) for row in known[:2]], [True, False])

    def test_others_keep_their_places_and_intervals_do_not_pair_with_them(self) -> None:
        self.bring(epochs([9.0, 9.0], 8, 0.01, 1, 1))
        s = workflows.snapshot_of(self.workspace)
        self.assertEqual([r.recipe for r in s.ranking.rows][:-1],
                         [r.recipe for r in self.before.ranking.rows])

    def test_nothing_that_needs_weights_is_done_with_them(self) -> None:
        self.bring(epochs([0.1, 0.1], 8, 0.01, 1, 1))
        s = workflows.snapshot_of(self.workspace)
        (number,) = self.brought.recipes
        for act in (lambda: workflows.judge_recipe(self.workspace, s, number),
                    lambda: workflows.keep_model(self.workspace, s, number),
                    lambda: workflows.confirming_search(self.workspace, s, number)):
            with self.assertRaisesRegex(TrainingError, ELSEWHERE):
                act()

    def test_one_that_diverged_has_no_result_and_the_same_table_twice_is_two_entries(self) -> None:
        rows = epochs([0.5, float("inf")], 8, 0.01, 1, 1)
        self.bring(rows)
        self.bring(rows)
        s = workflows.snapshot_of(self.workspace)
        self.assertEqual(len(s.ranking.broken), 2)

    def test_values_that_are_none_of_ours_stay_words(self) -> None:
        self.bring([[1, 0.5, 0.4, "huge", -3, "=1+1", 1]])
        s = workflows.snapshot_of(self.workspace)
        (number,) = self.brought.recipes
        self.assertEqual(self.brought.known, ())
        self.assertIn("width huge, learning rate -3", s.recipes[number].origin)

    def test_a_search_that_is_not_done_takes_none(self) -> None:
        from axiarch.journal.write import JournalWriter

        with self.workspace.locked("a test"):
            journal = JournalWriter(self.workspace.journal)
            journal.set_search(1, "stopped")
            journal.close()
        with self.assertRaisesRegex(InputError, "is stopped"):
            self.bring(epochs([0.5], 8, 0.1, 1, 1))


if __name__ == "__main__":
    unittest.main()
