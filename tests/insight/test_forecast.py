"""The forecast before, and the time left during, a search."""

from __future__ import annotations

import unittest

from axiarch.insight.forecast import Pending, forecast, seconds_left, to_measure
from tests.support import recipe


class Forecasts(unittest.TestCase):
    recipes = [recipe(width=w, epochs=10, patience=0) for w in (4, 8, 16, 64, 256)]

    def test_the_smallest_a_middle_and_the_largest_are_measured(self) -> None:
        picked = to_measure(self.recipes, 5, 3)
        self.assertEqual([r["width"] for r in picked], [4, 16, 256])

    def test_a_single_recipe_is_measured_once(self) -> None:
        self.assertEqual(len(to_measure(self.recipes[:1], 5, 3)), 1)

    def test_measured_steps_are_added_up(self) -> None:
        made = forecast([recipe(epochs=10, patience=0)] * 3, 2, 160, 5, 3, 1, [(1000, 0.001, 10)])
        # 3 recipes × 2 seeds × 10 epochs × 10 steps × 1 ms
        self.assertAlmostEqual(made.low - 2.0, 0.6)
        self.assertGreater(made.high, made.low)
        self.assertEqual((made.runs, made.epochs), (6, 60))

    def test_patience_lowers_the_lower_end_only(self) -> None:
        with_patience, without = (forecast([recipe(epochs=10, patience=p)], 1, 160, 5, 3, 1,
                                           [(1000, 0.1, 10)]) for p in (3, 0))
        self.assertLess(with_patience.low, without.low)
        self.assertEqual(with_patience.high, without.high)

    def test_more_workers_are_faster(self) -> None:
        one, two = (forecast(self.recipes, 2, 1000, 5, 3, workers,
                             [(100, 0.01, 1), (10**7, 0.1, 1)]) for workers in (1, 2))
        self.assertLess(two.high, one.high)
        self.assertLess(one.smallest, one.largest)


class TimeLeft(unittest.TestCase):
    def test_nothing_is_said_before_anything_is_known(self) -> None:
        self.assertIsNone(seconds_left([Pending(1.0, 0, 10, False, 0.0)], 5, 2))

    def test_half_done_takes_as_long_again(self) -> None:
        runs = [Pending(1.0, 10, 10, True, 5.0), Pending(1.0, 0, 10, False, 0.0)]
        self.assertAlmostEqual(seconds_left(runs, 2, 1) or 0, 5.0)

    def test_runs_not_yet_proposed_count(self) -> None:
        runs = [Pending(1.0, 10, 10, True, 5.0)]
        self.assertAlmostEqual(seconds_left(runs, 3, 1) or 0, 10.0)

    def test_early_stops_shorten_what_is_expected(self) -> None:
        runs = [Pending(1.0, 5, 10, True, 5.0), Pending(1.0, 0, 10, False, 0.0)]
        self.assertAlmostEqual(seconds_left(runs, 2, 1) or 0, 5.0)
