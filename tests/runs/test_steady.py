"""The steady loss discounts luck."""

from __future__ import annotations

import math
import unittest
from unittest import mock

from hypothesis import given
from hypothesis import strategies as st

from axiarch.runs import steady as module
from axiarch.runs.steady import WINDOW, smoothed, steady

LOSSES = st.lists(st.floats(0.01, 10), min_size=1, max_size=30)


class Steady(unittest.TestCase):
    def test_a_lucky_epoch_is_not_chosen_at_its_face(self) -> None:
        losses = [1.0] * 10
        losses[5] = 0.1
        epoch, level = steady(losses)
        self.assertAlmostEqual(level, 0.7)
        self.assertEqual(epoch, 6)

    def test_a_falling_curve_is_chosen_at_its_end(self) -> None:
        epoch, level = steady([1.0, 0.8, 0.6, 0.5])
        self.assertEqual(epoch, 4)
        self.assertAlmostEqual(level, (0.8 + 0.6 + 0.5) / 3)

    @given(LOSSES)
    def test_it_is_never_below_the_lowest_epoch(self, losses: list[float]) -> None:
        epoch, level = steady(losses)
        self.assertGreaterEqual(level, min(losses) - 1e-12)
        self.assertLessEqual(level, max(losses) + 1e-12)
        self.assertTrue(min(WINDOW, len(losses)) <= epoch <= len(losses))

    @given(LOSSES)
    def test_the_chosen_epoch_is_the_first_with_the_lowest_smoothed_loss(
            self, losses: list[float]) -> None:
        epoch, level = steady(losses)
        for e in range(min(WINDOW, len(losses)), len(losses) + 1):
            self.assertGreaterEqual(smoothed(losses[:e]), level)
        self.assertEqual(smoothed(losses[:epoch]), level)

    @given(
        st.lists(st.one_of(st.floats(0.01, 10), st.sampled_from([0.1, 0.2, 0.3, math.nan,
                                                                 math.inf])),
                 min_size=WINDOW,
                 max_size=40))
    def test_a_long_curve_is_read_as_a_short_one(self, losses: list[float]) -> None:
        with mock.patch.object(module, "_LONG", 0):
            long = steady(losses)
        self.assertEqual(long, steady(losses))

    def test_what_is_not_finite_counts_as_infinite(self) -> None:
        self.assertEqual(smoothed([1.0, math.nan]), math.inf)
        self.assertEqual(steady([])[1], math.inf)
        self.assertEqual(steady([math.inf])[1], math.inf)
