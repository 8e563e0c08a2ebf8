"""Metrics against counts by hand, and laws that hold whatever is predicted."""

from __future__ import annotations

import unittest

import numpy as np
from hypothesis import given
from hypothesis import strategies as st

from axiarch.engine import metrics

#: Ten rows of three classes; the third class is never told.
LABELS = np.array([0, 0, 0, 0, 1, 1, 1, 1, 2, 2])
TOLD = np.array([0, 0, 0, 1, 1, 1, 0, 1, 1, 0])
SHARES = np.full((10, 3), 0.1) + 0.7 * np.eye(3)[TOLD]


def drawn(rows: int, classes: int, seed: int) -> tuple[np.ndarray, np.ndarray]:
    rng = np.random.default_rng(seed)
    return rng.dirichlet(np.ones(classes), rows), rng.integers(0, classes, rows)


class OfClasses(unittest.TestCase):
    counts = metrics.confusion(SHARES, LABELS)

    def test_counts_by_hand(self) -> None:
        self.assertEqual(self.counts.tolist(), [[3, 1, 0], [1, 3, 0], [1, 1, 0]])
        np.testing.assert_allclose(metrics.precision(self.counts), [3 / 5, 3 / 5, 0])
        np.testing.assert_allclose(metrics.recall(self.counts), [3 / 4, 3 / 4, 0])
        np.testing.assert_allclose(metrics.f1(self.counts), [2 / 3, 2 / 3, 0])
        self.assertEqual(metrics.accuracy(self.counts), 0.6)
        self.assertEqual(metrics.macro(metrics.recall(self.counts), self.counts), 0.5)

    def test_classes_without_rows_are_left_out_of_means(self) -> None:
        counts = np.array([[4, 0, 1], [0, 5, 0], [0, 0, 0]])
        self.assertAlmostEqual(metrics.macro(metrics.recall(counts), counts), 0.9)

    def test_the_log_loss_is_that_of_the_true_shares(self) -> None:
        shares = np.array([[0.5, 0.5], [0.25, 0.75]])
        self.assertAlmostEqual(metrics.log_loss(shares, np.array([0, 1])),
                               -(np.log(0.5) + np.log(0.75)) / 2)
        self.assertTrue(np.isfinite(metrics.log_loss(np.array([[1.0, 0.0]]), np.array([1]))))

    @given(st.integers(2, 40), st.integers(2, 6), st.integers(0, 99))
    def test_laws(self, rows: int, classes: int, seed: int) -> None:
        shares, labels = drawn(rows, classes, seed)
        counts = metrics.confusion(shares, labels)
        self.assertEqual(counts.sum(), rows)
        self.assertAlmostEqual(metrics.accuracy(counts), float((shares.argmax(1) == labels).mean()))
        self.assertAlmostEqual(metrics.top_k(shares, labels, 1), metrics.accuracy(counts))
        self.assertEqual(metrics.top_k(shares, labels, classes), 1.0)
        found = [metrics.top_k(shares, labels, k) for k in range(1, classes + 1)]
        self.assertEqual(found, sorted(found))
        harmonic = metrics.f1(counts)
        for c in range(classes):
            p, r = metrics.precision(counts)[c], metrics.recall(counts)[c]
            self.assertAlmostEqual(harmonic[c], 2 * p * r / (p + r) if p + r else 0.0)

    @given(st.integers(2, 60), st.integers(0, 99))
    def test_the_area_is_the_share_of_pairs_in_order(self, rows: int, seed: int) -> None:
        rng = np.random.default_rng(seed)
        scores, positive = rng.integers(0, 6, rows).astype(float), rng.random(rows) < 0.5
        found = metrics.roc_auc(scores, positive)
        if positive.all() or not positive.any():
            self.assertTrue(np.isnan(found))
            return
        pairs = scores[positive][:, None] - scores[~positive][None]
        self.assertAlmostEqual(found, float((pairs > 0).mean() + 0.5 * (pairs == 0).mean()))
        self.assertAlmostEqual(metrics.roc_auc(-scores, positive), 1 - found)

    def test_perfect_and_useless_scores(self) -> None:
        self.assertEqual(metrics.auc_of_classes(np.eye(3)[LABELS], LABELS).tolist(), [1, 1, 1])
        self.assertEqual(metrics.auc_of_classes(np.ones((10, 3)), LABELS).tolist(), [0.5, 0.5, 0.5])


class OfAmounts(unittest.TestCase):
    true = np.array([[1.0, 10.0], [2.0, 20.0], [3.0, 30.0], [4.0, 90.0]])

    def test_errors_by_hand(self) -> None:
        told = self.true + np.array([[1.0, 0.0], [-1.0, 0.0], [1.0, 0.0], [-3.0, 8.0]])
        np.testing.assert_allclose(metrics.rmse(told, self.true), [np.sqrt(3), 4])
        np.testing.assert_allclose(metrics.mae(told, self.true), [1.5, 2])
        np.testing.assert_allclose(metrics.median_error(told, self.true), [1, 0])
        np.testing.assert_allclose(metrics.explained(told, self.true)[0], 1 - 12 / 5)

    def test_the_mean_explains_nothing_and_the_truth_all(self) -> None:
        mean = np.tile(self.true.mean(axis=0), (4, 1))
        np.testing.assert_allclose(metrics.explained(mean, self.true), 0, atol=1e-12)
        np.testing.assert_allclose(metrics.explained(self.true, self.true), 1)
        self.assertEqual(metrics.explained(np.ones((3, 1)), np.ones((3, 1)))[0], 0)
