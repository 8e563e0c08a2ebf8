"""What more rows would bring, against laws that are known."""

from __future__ import annotations

import unittest

import numpy as np

from axiarch.ranking.rows_needed import RowPoint, row_trend

ROWS = (180, 360, 720, 1440, 1800)


class Laws(unittest.TestCase):
    def test_intervals_hold_what_twice_the_rows_come_to(self) -> None:
        """Laws of several shapes, each loss a mean over three seeds: the interval of 95 % holds
        the truth in nine cases of ten or more, and is not so wide that it says nothing.
        """
        rng = np.random.default_rng(0)
        for level, slope, power in ((0.4, 6.0, 0.6), (0.1, 3.0, 0.35), (0.6, 40.0, 1.0)):
            inside, widths = [], []
            truth = level + slope * 3600.0**-power
            for seed in range(40):
                points = []
                for rows in ROWS:
                    losses = level + slope * rows**-power + 0.01 * rng.normal(size=3)
                    points.append(RowPoint(rows, float(losses.mean()),
                                           float(losses.std(ddof=1)) / 3**0.5))
                trend = row_trend(points, seed)
                inside.append(trend.twice[1] <= truth <= trend.twice[2])
                widths.append(trend.twice[2] - trend.twice[1])
            self.assertGreaterEqual(np.mean(inside), 0.85, (level, slope, power))
            self.assertLess(np.median(widths), 0.25 * truth)

    def test_networks_that_begin_to_learn_with_some_number_of_rows_are_not_given_up(self) -> None:
        """Losses that fall ever faster, as a power trend never does: the interval reaches on."""
        rng = np.random.default_rng(1)
        inside = []
        for seed in range(40):
            at = np.log2(np.array([*ROWS, 3600]) / 180)
            truth = np.exp(-0.03 * at - 0.012 * at**2)
            points = [RowPoint(n, float(loss * (1 + 0.006 * rng.normal())), 0.006 * float(loss))
                      for n, loss in zip(ROWS, truth, strict=False)]
            trend = row_trend(points, seed)
            inside.append(trend.twice[1] <= truth[-1] <= trend.twice[2])
        self.assertGreaterEqual(np.mean(inside), 0.9)

    def test_an_error_of_nothing_stays_nothing(self) -> None:
        trend = row_trend([RowPoint(n, 0.0, 0.0) for n in ROWS])
        self.assertEqual((trend.twice, trend.gain), ((0.0, 0.0, 0.0), (0.0, 0.0, 0.0)))
        trend = row_trend([RowPoint(n, 0.0 if n > 1000 else 0.1, 0.01) for n in ROWS])
        self.assertLess(trend.twice[0], 0.01)

    def test_flat_losses_promise_nothing(self) -> None:
        trend = row_trend([RowPoint(n, 0.5 + 0.001 * (i % 2), 0.002) for i, n in enumerate(ROWS)])
        self.assertAlmostEqual(trend.twice[0], 0.5, delta=0.003)
        self.assertLessEqual(trend.gain[1], 0.001)

    def test_no_loss_is_expected_below_nothing(self) -> None:
        trend = row_trend([RowPoint(n, 100.0 / n, 0.001) for n in ROWS])
        self.assertGreaterEqual(trend.twice[1], 0.0)


if __name__ == "__main__":
    unittest.main()
