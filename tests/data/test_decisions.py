"""What the checks propose: every change, made as proposed, ends what it answers."""

from __future__ import annotations

import json
import unittest

import numpy as np
import polars

from axiarch.data.building import build_dataset
from axiarch.data.dataset import Dataset
from axiarch.data.decisions import Decision, differences
from axiarch.data.describing import as_json, described, read_dataset
from axiarch.data.plan import DataPlan, SplitPlan
from axiarch.data.table import Table
from axiarch.errors import DataError
from axiarch.runs.proposal import Sure
from tests.data.test_checks import healthy
from tests.data.test_remedies import with_dates, with_marks
from tests.support import FolderCase

Columns = dict[str, list[object]]


def troubled() -> dict[str, Columns]:
    """Return tables by the finding that each is made to show."""
    rng = np.random.default_rng(4)
    base = healthy(1200)
    far = healthy(3000)
    far["x"][2999] = 1e5
    amounts = [float(v) for v in np.exp(2.5 * rng.normal(size=1200))]
    rare = healthy(400)
    rare["y"] = ["rare" if i % 25 == 0 else "common" for i in range(400)]
    return {
        "leak": {"code": [f"code {y}" for y in base["y"]], **base},
        "duplicates": {name: values[:600] * 2 for name, values in base.items()},
        "time": with_dates(base), "lone value": with_marks(base), "few rows": rare,
        "letter case": {**base, "y": [str(y).upper() if i % 3 == 0 else y
                                      for i, y in enumerate(base["y"])]},
        "skewed target": {**base, "y": list(amounts)}, "small part": healthy(1400),
    }


class Decisions(FolderCase):
    made = 0

    def build(self, columns: Columns, plan: DataPlan) -> Dataset:
        self.made += 1
        return build_dataset(Table.of(polars.DataFrame(columns, strict=False)),
                             self.folder / str(self.made), "d", plan=plan)

    def test_amounts_whose_logarithm_does_not_help_are_ranked_by_another_measure(self) -> None:
        rng, base = np.random.default_rng(4), healthy(1200)
        far = np.exp(1.5 * rng.normal(size=1200))
        for amounts, wanted in ((far, "target scaling"), (far - 2, "ranked by"),
                                (far.max() - far, "ranked by")):
            columns: Columns = {**base, "y": [float(v) for v in amounts]}
            data = self.build(columns, DataPlan(("y",)))
            (found,) = [f for f in data.findings if f.name == "skewed target"]
            (change,) = found.changes
            self.assertEqual(change.what, wanted)
            made = self.build(columns, change.applied(data.plan))
            self.assertNotIn("skewed target", [f.name for f in made.findings])
        columns["z"] = list(columns["y"])
        two = self.build(columns, DataPlan(("y", "z")))
        found = next(f for f in two.findings if f.name == "skewed target")
        self.assertEqual((found.changes, found.advice[:24]), ((), "set loss to huber on the"))

    def test_every_proposed_change_ends_what_it_answers(self) -> None:
        for name, columns in troubled().items():
            columns = {key: [str(v) for v in values] if name == "lone value" else values
                       for key, values in columns.items()}
            data = self.build(columns, DataPlan(("y",)))
            (found,) = [f for f in data.findings if f.name == name][:1]
            self.assertTrue(found.changes, name)
            for change in found.changes:
                with self.subTest(finding=name, change=change.words):
                    self.assertTrue(change.preview(data.plan))
                    after = self.build(columns, change.applied(data.plan))
                    self.assertNotIn(name, [f.name for f in after.findings])

    def test_a_share_or_folds_that_could_not_help_are_not_proposed(self) -> None:
        tiny = healthy(150)
        tiny["y"] = ["rare" if i < 4 else "common" for i in range(150)]
        data = self.build(tiny, DataPlan(("y",)))
        self.assertEqual([f.changes for f in data.findings if f.name == "few rows"], [()])
        folded = self.build(healthy(200), DataPlan(("y",), split=SplitPlan(folds=5)))
        self.assertEqual([f.changes for f in folded.findings if f.name == "small part"], [()])

    def test_a_preview_names_what_changes_and_nothing_else(self) -> None:
        plan = DataPlan(("y",), ignore=("a",)).treated("b", merge_case=True)
        self.assertEqual(Decision("", "ignore", "leak").preview(plan),
                         ["ignored columns: a → a, leak"])
        self.assertEqual(Decision("", "missing", "b", "-9").preview(plan),
                         ["b: texts that mean missing: none → -9"])
        self.assertEqual(Decision("", "order", "day").preview(plan),
                         ["in the order of: none → day"])
        self.assertEqual(differences(plan, plan), [])

    def test_a_decision_that_a_file_garbled_is_refused(self) -> None:
        for what, value in (("folds", "x"), ("folds", "1e9"), ("validation", "nan"),
                            ("validation", ""), ("target scaling", "klingon")):
            with self.subTest(what=what, value=value), self.assertRaises(DataError):
                Decision("", what, "", value).applied(DataPlan(("y",)))  # type: ignore[arg-type]

    def test_findings_of_earlier_versions_are_read(self) -> None:
        data = self.build({"code": [f"code {y}" for y in healthy(600)["y"]], **healthy(600)},
                          DataPlan(("y",)))
        known = json.loads(json.dumps(as_json(data)))
        self.assertEqual(described(known).findings, data.findings)
        self.assertEqual(read_dataset(data.folder).findings, data.findings)
        known["findings"] = [{"kind": "leak", "column": "code", "evidence": "it alone", "remedy":
                              "ignore it"}]
        (found,) = described(known).findings
        self.assertEqual((found.name, found.column, found.advice, found.changes, found.sure),
                         ("leak", "code", "ignore it", (), Sure.LIKELY))


if __name__ == "__main__":
    unittest.main()
