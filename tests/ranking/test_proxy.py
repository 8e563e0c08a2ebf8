"""Whether few epochs tell the order, against correlations that are known."""

from __future__ import annotations

import math
import unittest

import numpy as np

from axiarch.ranking.proxy import FEWEST, Agreement, agreements, smallest


def curves(rho: float, recipes: int, rng: np.random.Generator) -> list[list[float]]:
    """Return curves whose losses after the first and at the last epoch correlate by `rho`."""
    first = rng.normal(size=recipes)
    last = rho * first + math.sqrt(1 - rho**2) * rng.normal(size=recipes)
    return [[20 + float(a)] * 3 + [10 + float(b)] * 24 for a, b in zip(first, last, strict=True)]


class Agreements(unittest.TestCase):
    def test_what_is_the_same_agrees_and_what_is_chance_does_not(self) -> None:
        rng = np.random.default_rng(0)
        same = agreements([[float(v)] * 27 for v in rng.normal(size=60) + 9])
        self.assertTrue(all(each.correlation > 0.999 for each in same))
        enough = smallest(same)
        assert enough is not None
        self.assertEqual(enough.what, "1 epoch")
        inside, wrong = [], 0
        for _ in range(60):
            found = agreements(curves(0.0, 60, rng))
            inside.append(found[0].low <= 0.0 <= found[0].high)
            wrong += smallest(found) == found[0]
        self.assertGreaterEqual(np.mean(inside), 0.87)
        self.assertEqual(wrong, 0)

    def test_the_bad_half_does_not_count(self) -> None:
        """All bad recipes are bad early; among the good ones the early order is chance."""
        rng = np.random.default_rng(1)
        good = curves(0.0, 40, rng)
        bad = [[200.0 + i] * 27 for i in range(40)]
        self.assertLess(abs(agreements(good + bad)[0].correlation), 0.5)

    def test_too_few_recipes_and_failed_ones(self) -> None:
        self.assertEqual(agreements([[1.0, 2.0]] * (FEWEST - 1)), [])
        self.assertEqual(agreements([[1.0, math.inf]] * 20), [])

    def test_agreement_must_hold_from_there_on(self) -> None:
        found = [Agreement(f"{e} epochs", e / 27, c, c - 0.1, c + 0.1, 20)
                 for e, c in ((1, 0.9), (3, 0.5), (9, 0.8), (18, 0.9))]
        enough = smallest(found)
        assert enough is not None
        self.assertEqual(enough.what, "9 epochs")


if __name__ == "__main__":
    unittest.main()
