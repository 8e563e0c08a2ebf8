"""Measures row by row: their means are the measures, and their variances those of the measures."""

from __future__ import annotations

import unittest

import numpy as np

from axiarch.engine import metrics
from axiarch.runs.measures import MEASURES, Rows, cautious_rows, lowered_rows


def classes(count: int, rows: int, seed: int) -> Rows:
    rng = np.random.default_rng(seed)
    labels = rng.choice(count, rows, p=np.arange(1, count + 1) / np.arange(1, count + 1).sum())
    scores = rng.normal(size=(rows, count)) + 1.2 * np.eye(count)[labels]
    shares = np.exp(scores) / np.exp(scores).sum(1, keepdims=True)
    return Rows(-np.log(shares[np.arange(rows), labels]), labels, shares.argmax(1), count)


def picked(r: Rows, rows: np.ndarray) -> Rows:
    return Rows(r.losses[rows], r.labels[rows], r.predicted[rows], r.classes, r.unit,
                r.huber_width)


class Measures(unittest.TestCase):
    def test_means_are_the_measures_that_are_printed_elsewhere(self) -> None:
        r = classes(4, 400, 0)
        counts = np.zeros((4, 4), np.int64)
        np.add.at(counts, (r.labels, r.predicted), 1)
        for name, value in (
                ("accuracy", metrics.accuracy(counts)),
                ("balanced accuracy", metrics.macro(metrics.recall(counts), counts)),
                ("F1", metrics.macro(metrics.f1(counts), counts))):
            self.assertAlmostEqual(float(MEASURES[name].rows(r).mean()), value, places=10)
        two = classes(2, 300, 1)
        own = np.exp(-two.losses)
        score = np.where(two.labels == 1, own, 1 - own)
        self.assertAlmostEqual(float(MEASURES["AUC"].rows(two).mean()),
                               metrics.roc_auc(score, two.labels == 1), places=10)
        away = np.array([0.5, -3.0, 2.0])
        amounts = Rows(away**2, np.zeros(0, np.int64), np.zeros(0, np.int64), 0, 2.0, 1.0)
        self.assertAlmostEqual(float(MEASURES["mean absolute error"].rows(amounts).mean()), 5.5 / 3)
        np.testing.assert_allclose(MEASURES["Huber loss"].rows(amounts),
                                   [0.5 * 0.25**2, 1.5 - 0.5, 0.5])

    def test_variances_are_those_of_rows_drawn_again(self) -> None:
        """The bootstrap over rows (Efron 1979) has the same standard error."""
        rng = np.random.default_rng(2)
        for name, count in (("accuracy", 4), ("balanced accuracy", 4), ("F1", 4), ("AUC", 2)):
            r = classes(count, 500, 3)
            each = MEASURES[name].rows(r)
            error = float(each.std(ddof=1)) / 500**0.5
            again = [float(MEASURES[name].rows(picked(r, rng.integers(0, 500, 500))).mean())
                     for _ in range(400)]
            self.assertAlmostEqual(error / float(np.std(again)), 1.0, delta=0.12, msg=name)

    def test_rows_that_are_all_right_leave_some_doubt(self) -> None:
        """An interval of two standard errors reaches about as far as the exact one of no error in
        60 rows (Clopper & Pearson 1934: 6 %), and of many rows and errors nothing changes.
        """
        labels = np.arange(60) % 3
        perfect = Rows(np.zeros(60), labels, labels, 3)
        for name in ("accuracy", "balanced accuracy", "F1"):
            self.assertEqual(float(lowered_rows(name, perfect).std()), 0.0)
            each = cautious_rows(name, perfect)
            reach = 1.96 * float(each.std(ddof=1)) / 60**0.5
            self.assertTrue(0.03 < reach < 0.12, (name, reach))
            many = classes(4, 4000, 5)
            plain, more = (float(f(name, many).std()) for f in (lowered_rows, cautious_rows))
            self.assertAlmostEqual(more / plain, 1.0, delta=0.02, msg=name)
        amounts = Rows(np.ones(5), np.zeros(0, np.int64), np.zeros(0, np.int64))
        self.assertEqual(len(cautious_rows("mean absolute error", amounts)), 5)

    def test_one_class_alone_has_no_area(self) -> None:
        r = classes(2, 50, 4)
        only = picked(r, np.flatnonzero(r.labels == 1))
        self.assertTrue(np.isnan(MEASURES["AUC"].rows(only)).all())


if __name__ == "__main__":
    unittest.main()
