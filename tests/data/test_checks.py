"""Traps are found on tables made to hold them, and not on healthy ones."""

from __future__ import annotations

import unittest

import numpy as np
import polars

from axiarch.data.building import build_dataset
from axiarch.data.findings import Finding
from axiarch.data.plan import DataPlan, SplitPlan
from axiarch.data.table import Table
from tests.support import FolderCase


def healthy(rows: int = 3000, seed: int = 0) -> dict[str, list[object]]:
    """Return columns of a table with nothing wrong: two inputs that say something, three
    classes.
    """
    rng = np.random.default_rng(seed)
    x, z = rng.normal(size=rows), rng.normal(size=rows)
    y = (x * z + 0.5 * rng.normal(size=rows) > 0.2).astype(int) + (x > 1).astype(int)
    return {"x": x.tolist(), "z": z.tolist(), "kind": rng.choice(["p", "q"], rows).tolist(),
            "y": [f"class {i}" for i in y]}


class Findings(FolderCase):
    made = 0

    def find(self,
             columns: dict[str, list[object]],
             plan: DataPlan | None = None) -> dict[str, Finding]:
        """Return the findings of a table by kind."""
        self.made += 1
        plan = plan or DataPlan(("y",))
        data = build_dataset(Table.of(polars.DataFrame(columns)),
                             self.folder / str(self.made),
                             "d",
                             plan=plan)
        for finding in data.findings:
            self.assertTrue(finding.evidence and finding.advice)
        return {finding.name: finding for finding in data.findings}

    def test_a_healthy_table_has_none(self) -> None:
        for seed in range(5):
            self.assertEqual(self.find(healthy(seed=seed)), {})

    def test_leaks_of_every_kind(self) -> None:
        base = healthy()
        number = {text: float(text[-1]) for text in map(str, base["y"])}
        codes: list[object] = [f"code {y}" for y in base["y"]]
        sums: list[object] = [number[str(y)] * 10 + 0.001 * i for i, y in enumerate(base["y"])]
        for leak in (codes, sums):
            found = self.find({"leak": list(leak), **base})
            self.assertEqual(found["leak"].column, "leak")
            self.assertIn("%", found["leak"].evidence)

    def test_an_honest_strong_input_is_no_leak(self) -> None:
        base = healthy()
        rng = np.random.default_rng(1)
        strong = [
            float(str(y)[-1]) + float(n)
            for y, n in zip(base["y"], rng.normal(0, 0.35, 3000), strict=True)
        ]
        self.assertNotIn("leak", self.find({"strong": list(strong), **base}))

    def test_duplicates_across_parts(self) -> None:
        base = healthy(400)
        twice = {name: values * 2 for name, values in base.items()}
        self.assertIn("duplicates", self.find(twice))
        grouped = {**twice, "g": [i % 400 for i in range(800)]}
        self.assertNotIn("duplicates",
                         self.find(grouped, DataPlan(("y", ), split=SplitPlan(group="g"))))

    def test_rows_that_hardly_differ_are_not_to_be_kept_together(self) -> None:
        """It would leave parts without a row."""
        columns: dict[str, list[object]] = {
            f"x{j}": [1.0 if i % 2 else 0.0 for i in range(400)] for j in range(40)}
        found = self.find({**columns, "y": ["a" if i % 3 else "b" for i in range(400)]})
        self.assertEqual(found["duplicates"].changes, ())
        self.assertIn("the rows hold only 2 different inputs", found["duplicates"].advice)

    def test_few_rows_imbalance_and_a_small_part(self) -> None:
        base = healthy(150)
        base["y"] = ["rare" if i < 4 else "common" for i in range(150)]
        found = self.find(base)
        self.assertTrue({"few rows", "imbalance", "small part"} <= set(found))
        self.assertIn("rare (1)", found["few rows"].evidence)

    def test_more_inputs_than_rows(self) -> None:
        rng = np.random.default_rng(0)
        wide: dict[str, list[object]] = {f"x{i}": rng.normal(size=60).tolist() for i in range(80)}
        self.assertIn("more inputs than rows", self.find({**wide, "y": ["a", "b"] * 30}))

    def test_values_far_outside(self) -> None:
        base = healthy()
        order = list(range(3000))
        x = [float(v) for v in base["x"]]  # type: ignore[arg-type]
        x[2000] = 1e4  # in the validation part, where rows are split by order
        plan = DataPlan(("y",), split=SplitPlan(order="when"))
        found = self.find({**base, "x": list(x), "when": list(order)}, plan)
        self.assertEqual(found["far outside"].column, "x")


if __name__ == "__main__":
    unittest.main()
