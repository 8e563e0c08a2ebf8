"""The demo data have a known truth, and a task that is worth searching."""

from __future__ import annotations

import unittest
from collections import Counter

import numpy as np

from axiarch.data.building import build_dataset
from axiarch.data.demo import STATES, hive_states, messy_hive_states
from axiarch.data.plan import DataPlan, SplitPlan
from axiarch.data.reading import read_table
from tests.support import FolderCase


class HiveStatesLaws(FolderCase):
    def test_the_same_seed_makes_the_same_table(self) -> None:
        self.assertEqual(hive_states(50, 3).columns, hive_states(50, 3).columns)
        self.assertNotEqual(hive_states(50, 3).columns, hive_states(50, 4).columns)

    def test_probabilities_are_probabilities(self) -> None:
        p = hive_states(500).probabilities
        np.testing.assert_allclose(p.sum(1), 1)
        self.assertTrue((p >= 0).all())

    def test_states_follow_their_probabilities(self) -> None:
        made = hive_states(20000, 1)
        counts = Counter(made.columns["state"])
        for i, state in enumerate(STATES):
            self.assertAlmostEqual(counts[state] / 20000,
                                   made.probabilities[:, i].mean(),
                                   delta=0.01)

    def test_the_classes_are_imbalanced_and_the_rule_is_worth_learning(self) -> None:
        made = hive_states()
        counts = Counter(made.columns["state"]).most_common()
        self.assertEqual(len(counts), 5)
        self.assertGreater(counts[0][1], 4 * counts[-1][1])
        shares = np.array([n for _, n in counts]) / 3000
        baseline = -(shares * np.log(shares)).sum()
        self.assertLess(made.best_loss, 0.5 * baseline)
        self.assertGreater(made.best_accuracy, 0.75)

    def test_the_file_has_gaps_an_id_and_text(self) -> None:
        frame, _ = read_table(hive_states().to_csv(self.folder / "h.csv"))
        self.assertEqual(frame.height, 3000)
        self.assertEqual(frame.column("reading_id").n_unique(), 3000)
        self.assertGreater(frame.column("humidity_percent").null_count(), 100)
        self.assertEqual(frame.column("hive_type").n_unique(), 3)


class Messy(FolderCase):
    def test_every_trap_is_found_and_mended_by_its_remedy(self) -> None:
        frame, how = read_table(messy_hive_states(self.folder / "m.csv"))
        self.assertIn("semicolon", how)
        self.assertIn("decimal comma", how)
        first = build_dataset(frame, self.folder / "first", "m", plan=DataPlan(("state",)))
        roles = {c.name: (c.role, c.kind, c.reason) for c in first.columns}
        self.assertEqual([roles[n][0] for n in ("reading_id", "hive", "keeper_note")],
                         ["ignored"] * 3)
        self.assertEqual((roles["humidity_percent"][1], roles["read_on"][1]), ("number", "date"))
        self.assertIn("stored as text", roles["humidity_percent"][2])
        self.assertEqual(
            {f.name: f.column for f in first.findings},
            {"leak": "alarm_code", "duplicates": "", "time": "read_on", "constant": "keeper_note"})
        plan = DataPlan(("state",), ignore=("alarm_code",), split=SplitPlan(group="hive"))
        mended = build_dataset(frame, self.folder / "mended", "m", plan=plan)
        self.assertEqual([f.name for f in mended.findings], ["strong column", "constant"])
        self.assertNotIn("hive", [code.name for code in mended.encoding.codes])


if __name__ == "__main__":
    unittest.main()
