"""Data that say what recipes are ranked by: from the first epoch to the test rows."""

from __future__ import annotations

import json
import unittest
from dataclasses import replace

import numpy as np

from axiarch.data.baseline import Baseline
from axiarch.data.describing import described, read_dataset
from axiarch.data.plan import DataPlan
from axiarch.data.toggles import toggled
from axiarch.errors import DataError, InputError
from axiarch.recipes.searchfile import MethodChoice, SearchFile
from axiarch.recipes.space import space
from axiarch.runs.lowered import Lowered
from axiarch.runs.steady import steady
from axiarch.workflows.adding import add_table, plan_of, redecide
from axiarch.workflows.diagnosing import diagnosis
from axiarch.workflows.joining import joined
from axiarch.workflows.leading import ranking_verdict
from axiarch.workflows.measuring import by_measure
from axiarch.workflows.models import keep_model, verify_model
from axiarch.workflows.unsealing import open_seal
from tests.runner.test_runner import RunnerCase
from tests.support import commanded, ring_search, write_csv


class ByAccuracy(RunnerCase):
    def setUp(self) -> None:
        super().setUp()
        self.by_loss = self.dataset
        plan = replace(self.dataset.plan, ranked_by="accuracy")
        self.dataset = redecide(self.workspace, self.dataset, plan, beside=True)
        self.search = replace(ring_search(epochs=8, recipes=5, repeats=3), data=self.dataset.name)

    def test_what_learns_nothing_is_scored_alike(self) -> None:
        plain, own = self.by_loss, self.dataset
        self.assertEqual(own.target.loss_name, "error rate")
        self.assertEqual(own.baseline.loss, 1 - plain.baseline.metrics[0])
        self.assertEqual(own.baseline.metrics, (plain.baseline.loss, *plain.baseline.metrics))
        assert own.linear is not None and plain.linear is not None
        self.assertEqual(own.linear.loss, 1 - plain.linear.metrics[0])
        rows = own.reference()
        assert rows is not None and rows.linear is not None
        self.assertAlmostEqual(float(rows.baseline.mean()), own.baseline.loss, places=6)
        self.assertAlmostEqual(float(rows.linear.mean()), own.linear.loss, places=6)
        self.assertEqual([f.name for f in own.findings], [f.name for f in plain.findings])

    def test_recipes_are_ranked_by_the_metric_and_the_loss_stands_beside_it(self) -> None:
        self.make(self.search).run()
        s = self.look()
        for row in s.ranking.rows:
            curves = [s.curves[run.id] for run in s.runs_of(row.recipe)]
            self.assertAlmostEqual(
                row.loss, float(np.mean([steady(c.validation)[1] for c in curves])))
            for c in curves:
                self.assertEqual(c.validation, tuple(1 - m[1] for m in c.metrics))
            self.assertAlmostEqual(row.loss, 1 - row.metrics[1], delta=0.08)
            self.assertIsNotNone(row.rows_half)
        self.assertIn("leads by error rate at", ranking_verdict(s))
        self.assertIn("the baseline (", ranking_verdict(s))
        # the doubt about rows is at most that of a share of so many: rows that one seed gets wrong
        # and another right are the seeds' doubt
        first, rows = s.ranking.rows[0], self.dataset.rows["validation"]
        assert first.rows_half is not None
        of_share = 1.97 * (first.loss * (1 - first.loss) / rows) ** 0.5
        self.assertLess(first.rows_half, 1.1 * of_share)
        self.assertGreater(first.rows_half, 0.3 * of_share)

    def test_other_measures_rank_it_too(self) -> None:
        self.make(self.search).run()
        found = by_measure(self.look(), "accuracy")
        for row in found.ranking.rows:
            own = next(r for r in self.look().ranking.rows if r.recipe == row.recipe)
            self.assertAlmostEqual(row.loss, own.loss, delta=0.06)  # at one epoch, not over three

    def test_findings_are_by_the_loss(self) -> None:
        """Thresholds are for it: one search on the same rows by the loss is told the same."""
        spoilt = replace(self.search, space=space(
            {"epochs": 8, "width": 8, "learning_rate": 3.0, "optimiser": "adam"}, {}),
            method=MethodChoice("grid"))
        self.make(spoilt).run()
        self.make(replace(spoilt, data="ring"), number=2).run()
        own, other = (diagnosis(self.look(n), 1) for n in (1, 2))
        self.assertTrue(own)
        self.assertEqual([p.name for p in own], [p.name for p in other])

    def test_kept_and_tested_by_the_metric(self) -> None:
        self.make(self.search).run()
        s = self.look()
        leader = s.ranking.rows[0].recipe
        kept = keep_model(self.workspace, s, leader, name="own")
        self.assertEqual(*verify_model(self.workspace, kept))
        opened = open_seal(self.workspace, self.dataset, "a test", s, leader)
        assert opened.score.loss is not None
        accuracy = opened.score.summary["accuracy"][0]
        self.assertAlmostEqual(opened.score.loss, 1 - accuracy, places=9)
        self.assertAlmostEqual(opened.score.baseline.loss, 1 - opened.score.baseline.metrics[1])

    def test_searches_by_different_measures_are_not_ranked_together(self) -> None:
        self.make(self.search).run()
        self.make(replace(self.search, data="ring"), number=2).run()
        self.assertNotEqual(self.by_loss.fingerprint, self.dataset.fingerprint)
        self.assertEqual(self.by_loss.table, self.dataset.table)  # one seal
        with self.assertRaisesRegex(InputError, "cannot be compared"):
            joined([self.look(1), self.look(2)])

    def test_it_can_be_decided_back(self) -> None:
        back = redecide(self.workspace, self.dataset, self.by_loss.plan, beside=True)
        self.assertEqual(back.fingerprint, self.by_loss.fingerprint)
        self.assertEqual(back.baseline, self.by_loss.baseline)

    def test_key_and_task(self) -> None:
        column = next(c for c in self.by_loss.columns if c.role == "target")
        seen = []
        plan = self.by_loss.plan
        for _ in range(5):
            found = toggled(replace(self.by_loss, plan=plan), column, "ranked by")
            assert found is not None
            plan = found
            seen.append(plan.ranked_by)
        self.assertEqual(seen, ["accuracy", "balanced accuracy", "F1", "AUC", "loss"])
        other = toggled(self.dataset, column, "task")
        assert other is not None
        self.assertEqual(other.ranked_by, "loss")

    def test_files_of_earlier_versions_are_by_the_loss(self) -> None:
        known = json.loads((self.by_loss.folder / "data.json").read_text())
        self.assertNotIn("measure", known["folds"][0]["encoding"]["target"])
        self.assertEqual(read_dataset(self.by_loss.folder).target.measure, "loss")


class Apart(RunnerCase):
    """Measures that no epoch has beside its loss."""

    def test_from_the_baseline_to_the_test_rows(self) -> None:
        plain = self.dataset
        measures: tuple[Lowered, ...] = ("F1", "AUC")
        for number, measure in enumerate(measures, 1):
            data = redecide(self.workspace, plain, replace(plain.plan, ranked_by=measure),
                            beside=True)
            rows = data.reference()
            assert rows is not None and rows.linear is not None and data.linear is not None
            self.assertAlmostEqual(float(rows.baseline.mean()), data.baseline.loss, places=6)
            self.assertAlmostEqual(float(rows.linear.mean()), data.linear.loss, places=6)
            if measure == "AUC":
                self.assertEqual(data.baseline.loss, 0.5)
            self.make(replace(ring_search(epochs=8, recipes=5, repeats=3), data=data.name),
                      number=number).run()
            s = self.look(number)
            self.assertIn(f"leads by 1 − {measure} at", ranking_verdict(s))
            self.assertEqual(s.skill["baseline"].verdict, "better")
            found = by_measure(s, measure)
            for row in found.ranking.rows:
                own = next(r for r in s.ranking.rows if r.recipe == row.recipe)
                self.assertAlmostEqual(row.loss, own.loss, delta=0.06)
            leader = s.ranking.rows[0].recipe
            kept = keep_model(self.workspace, s, leader, name=measure)
            self.assertEqual(*verify_model(self.workspace, kept))
            opened = open_seal(self.workspace, data, "a test", s, leader)
            assert opened.score.loss is not None
            self.assertLess(opened.score.loss, opened.score.baseline.loss)
            self.assertLess(opened.score.loss, 0.3)
            back = redecide(self.workspace, data, plain.plan, beside=True)
            self.assertEqual(back.fingerprint, plain.fingerprint)

    def test_noise_that_is_known_is_known_again_by_the_loss(self) -> None:
        known = Baseline(0.1, (0.95, 0.94))
        path = write_csv(self.folder / "n.csv", ["x", "y"],
                         [[i / 10, "ab"[(i * 7919) % 97 > 40]] for i in range(200)])
        made = add_table(self.workspace, path, name="n", noise_floor=known)
        for measure, floor in (("F1", None), ("accuracy", Baseline(1 - 0.95, (0.1, 0.95, 0.94))),
                               ("AUC", None), ("loss", known)):
            made = redecide(self.workspace, made, replace(made.plan, ranked_by=measure))
            self.assertEqual(read_dataset(made.folder).noise_floor, floor)

    def test_noise_that_an_earlier_version_wrote_by_the_measure_is_read(self) -> None:
        data = redecide(self.workspace, self.dataset,
                        replace(self.dataset.plan, ranked_by="accuracy"), beside=True)
        known = json.loads((data.folder / "data.json").read_text())
        known["best"] = {"loss": 0.05, "metrics": [0.1, 0.95, 0.94]}
        found = described(known)
        self.assertEqual(found.noise_by_loss, Baseline(0.1, (0.95, 0.94)))
        assert found.noise_floor is not None
        self.assertAlmostEqual(found.noise_floor.loss, 0.05)


class Amounts(RunnerCase):
    def test_outliers_decide_by_squares_and_not_by_their_size(self) -> None:
        """One row in fifty is far off: squares are made of it, absolute errors are not."""
        rng = np.random.default_rng(4)
        x = rng.uniform(-1, 1, 300)
        y = 3 * x + 0.1 * rng.normal(size=300) + np.where(rng.random(300) < 0.02, 40, 0)
        path = write_csv(self.folder / "t.csv", ["x", "y"], np.column_stack((x, y)).tolist())
        made = add_table(self.workspace, path, name="t",
                         plan=DataPlan(("y",), ranked_by="mean absolute error"))
        self.assertEqual(made.target.loss_name, "mean absolute error (y)")
        self.make(SearchFile("x", "t", space({"epochs": 12, "width": 8, "batch_size": 16,
                                              "learning_rate": 0.02},
                                             {"loss": "squared | absolute"}),
                             MethodChoice("grid"), 1, 3, earlier="ignore")).run()
        s = self.look()
        first = s.ranking.rows[0]
        self.assertEqual(s.recipes[first.recipe].recipe.word("loss"), "absolute")
        self.assertEqual(made.target.metrics[0], "RMSE (y)")
        self.assertLess(first.loss, first.metrics[0])
        self.assertEqual(s.skill["baseline"].verdict, "better")
        found = {p.name for p in diagnosis(s, first.recipe)}  # the far rows are no fault of it
        self.assertFalse(found & {"underfits", "easier", "target_scale"}, found)
        self.assertNotIn("A few rows", ranking_verdict(s))
        x = rng.uniform(-1, 1, 600)
        y = 3 * x + 0.1 * rng.normal(size=600) + np.where(rng.random(600) < 0.02, 40, 0)
        path = write_csv(self.folder / "t.csv", ["x", "y"], np.column_stack((x, y)).tolist())
        add_table(self.workspace, path, name="by loss", plan=DataPlan(("y",)))
        self.make(SearchFile("x", "by-loss", space({"epochs": 2, "width": 8}),
                             MethodChoice("grid"), 1, 2, earlier="ignore"), number=2).run()
        self.assertRegex(ranking_verdict(self.look(2)),
                         r"A few rows rule it: the worst hundredth has [\d.]+ % of the squared")

    def test_what_does_not_fit_says_what_does(self) -> None:
        path = write_csv(self.folder / "t.csv", ["x", "y", "z"],
                         [[i / 10, (i * 7919) % 97 / 7, i] for i in range(200)])
        for plan, fits in ((DataPlan(("y",), ranked_by="accuracy"), "loss or mean absolute error"),
                           (DataPlan(("y", "z"), ranked_by="mean absolute error"), "loss")):
            with self.assertRaises(DataError) as caught:
                add_table(self.workspace, path, name="t", plan=plan)
            self.assertEqual(caught.exception.remedy, f"give {fits}")
        add_table(self.workspace, path, name="t",
                  plan=DataPlan(("y",), ranked_by="mean absolute error"))
        with self.assertRaisesRegex(InputError, "beauty"):
            plan_of({"ranked_by": "beauty"})
        self.assertEqual(plan_of({"ranked_by": "accuracy"}).ranked_by, "accuracy")

    def test_commands(self) -> None:
        path = write_csv(self.folder / "t.csv", ["x", "y"],
                         [[i / 10, "ab"[(i * 7919) % 97 > 40]] for i in range(200)])
        place = str(self.workspace.folder)
        ran = commanded(self.folder, "data", "add", str(path), "--ranked-by", "accuracy", "-w",
                        place)
        self.assertEqual(ran.returncode, 0, ran.stderr)
        self.assertIn("baseline error rate", ran.stdout)
        ran = commanded(self.folder, "data", "add", str(path), "--ranked-by", "beauty", "-w", place)
        self.assertEqual(ran.returncode, 2)
        self.assertIn("balanced accuracy", ran.stderr)


if __name__ == "__main__":
    unittest.main()
