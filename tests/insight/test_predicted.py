"""Summaries of predictions: known answers, and intervals that cover a known truth."""

from __future__ import annotations

import json
import unittest

import numpy as np

from axiarch.insight.predicted import Run, by_group, summary, tails


def shares(labels: np.ndarray, right: float, classes: int, rng: np.random.Generator) -> np.ndarray:
    """Return probabilities (N, C) whose largest is that of the label in a share `right` of rows."""
    best = np.where(rng.random(len(labels)) < right, labels,
                    (labels + rng.integers(1, classes, len(labels))) % classes)
    found = np.full((len(labels), classes), 0.2 / (classes - 1))
    found[np.arange(len(labels)), best] = 0.8
    return found


class Classes(unittest.TestCase):
    def test_known_answers(self) -> None:
        true = np.array([0, 0, 0, 1, 1, 2])
        made = np.eye(3)[[0, 0, 1, 1, 1, 0]] * 0.7 + 0.1
        found = summary([Run(0, made, true)], 3)
        self.assertEqual(found["confusion"], [[2, 1, 0], [0, 2, 0], [1, 0, 0]])
        self.assertAlmostEqual(found["accuracy"][0], 4 / 6)
        self.assertAlmostEqual(found["balanced_accuracy"][0], (2 / 3 + 1 + 0) / 3)
        for name, values in (("precision", (2 / 3, 2 / 3, 0)), ("recall", (2 / 3, 1, 0)),
                             ("f1", (2 / 3, 4 / 5, 0))):
            np.testing.assert_allclose([v[0] for v in found[name]], values)
        self.assertAlmostEqual(found["log_loss"][0],
                               float(-(4 * np.log(0.8) + 2 * np.log(0.1)) / 6))
        self.assertEqual([(m["row"], m["true"], m["predicted"]) for m in found["mistakes"]],
                         [(2, 0, 1), (5, 2, 0)])
        (bin_,) = found["calibration"]
        np.testing.assert_allclose(bin_, (0.8, 4 / 6, 6))
        json.dumps(found)

    def test_counts_are_sums_and_metrics_means_over_runs(self) -> None:
        rng = np.random.default_rng(0)
        true = rng.integers(0, 3, 50)
        runs = [Run(0, shares(true, p, 3, rng), true) for p in (0.5, 0.9)] + [
            Run(1, shares(true[:20], 0.7, 3, rng), true[:20])]
        found = summary(runs, 3)
        self.assertEqual(int(np.sum(found["confusion"])), 120)
        self.assertEqual((found["runs"], found["folds"], found["rows"]), (3, 2, 70))
        each = [summary([run], 3)["accuracy"][0] for run in runs]
        self.assertAlmostEqual(found["accuracy"][0], float(np.mean(each)))

    def test_the_roc_curve_and_thresholds_of_two_classes(self) -> None:
        true = np.array([0, 0, 1, 1])
        made = np.array([[0.9, 0.1], [0.6, 0.4], [0.65, 0.35], [0.2, 0.8]])
        found = summary([Run(0, made, true)], 2)
        self.assertAlmostEqual(found["roc"]["area"], 0.75)
        self.assertEqual(found["roc"]["points"], [[0, 0], [0, 0.5], [0.5, 0.5], [0.5, 1], [1, 1]])
        by_ratio = {row[0]: row[1:] for row in found["thresholds"]}
        self.assertEqual(by_ratio[10.0], [0.35, 0, 1],
                         "where a miss is dear, a false alarm is accepted")
        self.assertEqual(by_ratio[0.1], [0.8, 1, 0], "where a false alarm is dear, a miss is")

    def test_intervals_cover_the_truth(self) -> None:
        rng, covered = np.random.default_rng(5), 0
        for _ in range(60):
            true = rng.integers(0, 2, 150)
            _, low, high = summary([Run(0, shares(true, 0.8, 2, rng), true)], 2)["accuracy"]
            covered += low <= 0.8 <= high
        self.assertGreaterEqual(covered, 52)

    def test_rows_that_are_all_right_leave_doubt_about_others(self) -> None:
        """Shares near 1 and rare classes: the intervals hold what is true, where a bootstrap of
        the rows that are there holds it in a third to a half of cases.
        """
        rng = np.random.default_rng(7)
        for rows, rare, right, fewest in ((80, 0.5, 0.99, 0.85), (80, 0.08, 0.9, 0.8)):
            held: dict[str, list[bool]] = {}
            for _ in range(50):
                true = np.sort((np.arange(rows) < rare * rows).astype(int))
                found = summary([Run(0, shares(true, right, 2, rng), true)], 2)
                parts = {"accuracy": found["accuracy"], "balanced": found["balanced_accuracy"],
                         "recall": found["recall"][1]}
                for name, (_, low, high) in parts.items():
                    held.setdefault(name, []).append(low <= right <= high)
            for name, each in held.items():
                with self.subTest(rare=rare, metric=name):
                    self.assertGreaterEqual(np.mean(each), fewest)
        made = np.eye(2)[[0] * 30 + [1] * 30]
        found = summary([Run(0, made, made.argmax(1))] * 3, 2)
        for name in ("accuracy", "balanced_accuracy"):
            value, low, high = found[name]
            self.assertEqual((value, high), (1.0, 1.0))
            self.assertTrue(0.9 < low < 0.97, low)
        self.assertLess(found["f1"][0][1], 0.97)

    def test_one_row_and_one_class_are_no_fault(self) -> None:
        found = summary([Run(0, np.array([[0.3, 0.7]]), np.array([1]))], 2)
        self.assertIsNone(found["roc"]["area"])
        self.assertEqual(found["mistakes"], [])


class Amounts(unittest.TestCase):
    def test_known_answers(self) -> None:
        true = np.array([[0.0], [2.0], [4.0]])
        found = summary([Run(0, true + np.array([[1.0], [-1.0], [4.0]]), true)], 0)
        np.testing.assert_allclose([found[n][0][0] for n in ("rmse", "mae", "median_error", "r2")],
                                   (np.sqrt(6), 2, 1, 1 - 18 / 8))
        self.assertEqual(found["furthest"][0]["row"], 2)
        self.assertEqual(found["points"][0], [[0, 1], [2, 1], [4, 8]])

    def test_heavy_tails_are_pointed_out_and_usual_ones_are_not(self) -> None:
        rng = np.random.default_rng(8)
        true = rng.normal(size=(600, 3))
        away = np.stack((rng.normal(size=600), rng.laplace(size=600), rng.lognormal(size=600)), 1)
        said = tails(summary([Run(0, true + away, true)], 0), ("a", "b", "c\x1b"))
        self.assertRegex("; ".join(said), r"^c␛: the worst hundredth of the rows has \d+\.\d % of")
        self.assertEqual(tails(summary([Run(0, (true + away)[:99], true[:99])], 0), "abc"), [])
        self.assertEqual(tails({"rmse": [[1.0, 0.5, 2.0]]}, "a"), [])  # of an earlier version

    def test_intervals_cover_the_truth(self) -> None:
        rng, covered = np.random.default_rng(6), 0
        for _ in range(60):
            true = rng.normal(size=(200, 1)) * 5
            _, low, high = summary([Run(0, true + rng.normal(size=(200, 1)) * 2, true)],
                                   0)["rmse"][0]
            covered += low <= 2 <= high
        self.assertGreaterEqual(covered, 52)

    def test_the_same_rows_give_the_same_intervals(self) -> None:
        rng = np.random.default_rng(7)
        true = rng.normal(size=(40, 2))
        run = Run(0, true + rng.normal(size=(40, 2)), true)
        self.assertEqual(summary([run], 0), summary([run], 0))


class Groups(unittest.TestCase):
    def test_the_worst_group_comes_first(self) -> None:
        true = np.array([0, 1, 0, 1, 0, 1])
        made = np.eye(2)[[0, 1, 0, 0, 1, 0]] * 0.8 + 0.1
        found = by_group([Run(0, made, true)], {0: ["a", "a", "a", "b", "b", "b"]}, 2)
        self.assertEqual([(g["group"], g["rows"], g["value"][0]) for g in found], [("b", 3, 0.0),
                                                                                   ("a", 3, 1.0)])
        amounts = np.array([[1.0], [2.0], [3.0]])
        found = by_group([Run(0, amounts + np.array([[0.0], [0.0], [3.0]]), amounts)],
                         {0: ["x", "x", "y"]}, 0)
        self.assertEqual([(g["group"], g["value"][0]) for g in found], [("y", 3.0), ("x", 0.0)])


if __name__ == "__main__":
    unittest.main()
