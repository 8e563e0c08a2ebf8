"""Which knobs matter, against functions whose shares of the variance are known in closed form."""

from __future__ import annotations

import unittest
from collections.abc import Callable

import numpy as np

from axiarch.ranking.effects import CELLS, Effects, effects

Surface = Callable[[np.ndarray], np.ndarray]


def ishigami(u: np.ndarray) -> np.ndarray:
    """Ishigami & Homma's function (1990) of three knobs, and two without effect."""
    x = (2 * u - 1) * np.pi
    return np.sin(x[:, 0]) + 7 * np.sin(x[:, 1]) ** 2 + 0.1 * x[:, 2] ** 4 * np.sin(x[:, 0])


#: Its shares: alone, and of the first with the third.
ISHIGAMI, TOGETHER = (0.314, 0.442, 0.0, 0.0, 0.0), 0.244


def line_and_step(u: np.ndarray) -> np.ndarray:
    """A line over the first knob and a step over the second; three are without effect."""
    return 3 * u[:, 0] + (u[:, 1] > 0.5)


STEP = (0.75, 0.25, 0.0, 0.0, 0.0)


def learnt(surface: Surface, recipes: int, seed: int, noise: float = 0.1) -> Effects:
    """Return the effects that recipes drawn from the unit cube show."""
    rng = np.random.default_rng(seed)
    u = rng.random((recipes, 5))
    losses = surface(u)
    losses = losses + noise * losses.std() * rng.normal(size=recipes)
    return effects([CELLS] * 5, [True] * 5, (u * CELLS).astype(np.int64), losses, seed)


class Shares(unittest.TestCase):
    def test_known_shares_lie_in_their_intervals(self) -> None:
        for surface, shares in ((ishigami, ISHIGAMI), (line_and_step, STEP)):
            inside = total = 0
            for seed in range(12):
                found = learnt(surface, 120, seed)
                for each, true in zip(found.shares, shares, strict=True):
                    inside += each.low - 0.015 <= true <= each.high + 0.015
                    total += 1
                self.assertTrue(found.known)
            self.assertGreaterEqual(inside / total, 0.93, surface.__name__)

    def test_of_many_recipes_good_and_bad_ones_are_learnt_from(self) -> None:
        """The best alone would say that what makes the others worse does not matter."""
        for surface, shares in ((ishigami, ISHIGAMI), (line_and_step, STEP)):
            found = learnt(surface, 2000, 3)
            self.assertEqual((found.recipes, found.among), (500, 2000))
            for each, true in zip(found.shares, shares, strict=True):
                self.assertAlmostEqual(each.value, true, delta=0.06)

    def test_what_two_explain_together_is_theirs(self) -> None:
        pairs = learnt(ishigami, 300, 1).pairs
        self.assertTrue(pairs[0, 2].low <= TOGETHER <= pairs[0, 2].high)
        self.assertEqual(max(pairs, key=lambda pair: pairs[pair].value), (0, 2))

    def test_what_two_do_not_explain_together_is_not_given_to_them(self) -> None:
        wrong = total = 0
        for seed in range(6):
            for pair, each in learnt(ishigami, 80, seed, 0.2).pairs.items():
                true = TOGETHER if pair == (0, 2) else 0.0
                wrong += not each.low - 0.01 <= true <= each.high + 0.01
                total += 1
        self.assertLessEqual(wrong / total, 0.07)

    def test_a_curve_is_the_mean_over_all_else(self) -> None:
        curve = learnt(line_and_step, 150, 2, 0.02).curves[0]
        at = (np.arange(CELLS) + 0.5) / CELLS
        np.testing.assert_allclose(curve[0], 3 * at + 0.5, atol=0.12)
        self.assertTrue((curve[1] <= curve[0] + 1e-9).all() and (curve[0] <= curve[2] + 1e-9).all())

    def test_words_and_knobs_without_effect(self) -> None:
        rng = np.random.default_rng(3)
        word = rng.integers(0, 3, 150)
        decay = np.where(word == 2, rng.integers(0, CELLS, 150), -1)
        losses = np.array([1.0, 0.5, 0.2])[word] + np.where(word == 2, decay / CELLS, 0)
        found = effects([3, CELLS], [False, True], np.stack([word, decay], 1), losses)
        self.assertEqual(int(found.curves[0][0].argmax()), 0)
        self.assertGreater(found.shares[0].value, found.shares[1].value)
        self.assertGreater(found.pairs[0, 1].value, 0.02)

    def test_noise_alone_is_known_to_say_nothing(self) -> None:
        wrong = sum(learnt(lambda u: 0 * u[:, 0] + 1, 60, seed).known for seed in range(5))
        rng = np.random.default_rng(0)
        for seed in range(10):
            places = rng.integers(0, CELLS, (60, 4))
            wrong += effects([CELLS] * 4, [True] * 4, places, rng.normal(size=60), seed).known
        self.assertLessEqual(wrong, 1)


if __name__ == "__main__":
    unittest.main()
