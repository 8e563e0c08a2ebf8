"""What is lowered, from the loss and the metrics beside it."""

from __future__ import annotations

import math
import unittest

from axiarch.runs.lowered import Lowered, name_of, scored, unscored

MEASURED: tuple[tuple[Lowered, float, str], ...] = (
    ("accuracy", 0.25, "error rate"), ("balanced accuracy", 0.4, "balanced error rate"))


class Scoring(unittest.TestCase):
    def test_an_accuracy_is_lowered_as_its_error_and_the_loss_stands_beside_it(self) -> None:
        for lowered, level, name in MEASURED:
            found = scored(lowered, 0.9, (0.75, 0.6))
            self.assertAlmostEqual(found[0], level)
            self.assertEqual((found[1], name_of(lowered)), ((0.9, 0.75, 0.6), name))
            self.assertEqual(unscored(lowered, *found), (0.9, (0.75, 0.6)))

    def test_an_error_is_lowered_as_it_is(self) -> None:
        self.assertEqual(scored("mean absolute error", 3.0, (2.0, 0.5)), (2.0, (3.0, 2.0, 0.5)))

    def test_the_loss_stays_as_it_is(self) -> None:
        self.assertEqual(scored("loss", 3.0, (2.0, 0.5)), (3.0, (2.0, 0.5)))
        self.assertEqual(unscored("loss", 3.0, (2.0, 0.5)), (3.0, (2.0, 0.5)))

    def test_where_the_loss_is_not_finite_no_accuracy_counts(self) -> None:
        """Outputs that are not numbers still name a class, and it may be the right one."""
        for loss in (math.nan, math.inf):
            self.assertEqual(scored("accuracy", loss, (0.75, 0.6))[0], math.inf)


if __name__ == "__main__":
    unittest.main()
