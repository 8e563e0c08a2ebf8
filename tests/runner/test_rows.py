"""Losses of validation rows: kept of every run that ended, journalled, saved, ranked by."""

from __future__ import annotations

import sqlite3
import unittest
from contextlib import closing
from dataclasses import replace

import numpy as np

from axiarch.data.building import build_dataset
from axiarch.data.plan import DataPlan
from axiarch.data.reading import read_table
from axiarch.errors import WorkspaceError
from axiarch.journal.read import JournalReader
from axiarch.journal.rescue import save_journal
from axiarch.recipes.searchfile import SearchFile
from axiarch.runs.rows import RowLosses
from tests.runner.test_runner import RunnerCase
from tests.support import ring_search, write_csv


class Kept(RunnerCase):
    def rows(self, number: int = 1) -> dict[int, RowLosses]:
        """Return the losses of rows of a search, by run."""
        with closing(JournalReader(self.workspace.journal)) as reader:
            return reader.row_losses(number)

    def check(self, search: SearchFile, root: bool = False, number: int = 1) -> None:
        """Run a search; the mean over rows is the loss of the epoch whose weights were kept."""
        self.make(search, number=number).run()
        s, rows = self.look(number), self.rows(number)
        ended = {run.id for run in s.runs.values() if run.state == "ended"}
        self.assertEqual(set(rows), ended)
        for run, own in rows.items():
            mean = float(own.values.mean(dtype=np.float64))
            best = s.curves[run].validation[s.runs[run].best_epoch - 1]
            self.assertAlmostEqual((mean**0.5 if root else mean) / best, 1.0, delta=1e-5)

    def test_classes(self) -> None:
        self.check(ring_search(epochs=6, recipes=4, repeats=1))
        row = self.look().ranking.rows[0]
        self.assertIsNone(row.rows_half)  # one seed: no interval at all

    def test_both_doubts_are_known_of_a_search_with_seeds(self) -> None:
        self.check(ring_search(epochs=6, recipes=3, repeats=2))
        s = self.look()
        first = s.ranking.rows[0]
        assert None not in (first.half_width, first.rows_half, first.seeds_half)
        self.assertGreaterEqual(first.half_width or 0, first.seeds_half or 9)
        self.assertEqual(set(s.skill), {"baseline", "linear model"})

    def test_amounts_and_their_logarithms(self) -> None:
        rng = np.random.default_rng(0)
        kinds = (("plain", "z-score", rng.normal(5, 2, 200)),
                 ("long", "logarithm", rng.lognormal(3, 1, 200)))
        for number, (name, scaling, values) in enumerate(kinds, 1):
            with self.subTest(name):
                table = write_csv(self.folder / f"{name}.csv", ["a", "y"],
                                  [[f"{x / 7:.4f}", f"{x:.4f}"] for x in values])
                plan = DataPlan(("y",), "regression", target_scaling=scaling)
                build_dataset(read_table(table)[0], self.workspace.data(name), name, plan)
                self.check(replace(ring_search(epochs=4, recipes=2), data=name), True, number)

    def test_a_damaged_row_is_one_error_and_is_left_out_when_saved(self) -> None:
        self.make(ring_search(epochs=3, recipes=2, repeats=1)).run()
        with closing(sqlite3.connect(self.workspace.journal)) as db:
            run, = db.execute("SELECT min(run) FROM row_loss").fetchone()
            db.execute("UPDATE row_loss SET losses = x'0102' WHERE run = ?", (run,))
            db.commit()
            db.execute("PRAGMA wal_checkpoint(TRUNCATE)")
        with self.assertRaises(WorkspaceError):
            self.rows()
        saved = save_journal(self.workspace.journal, self.folder / "saved")
        self.assertEqual((saved.rows["row_loss"], saved.lost), (1, 1))


if __name__ == "__main__":
    unittest.main()
