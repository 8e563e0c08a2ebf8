"""Variances of seeds and rows, critical values, optimism and claims, against known truths."""

from __future__ import annotations

import math
import unittest
from collections.abc import Sequence

import numpy as np
from scipy.stats import t

from axiarch.ranking.best import critical, quantile
from axiarch.ranking.claims import Claim, claim
from axiarch.ranking.doubt import Doubt, reach
from axiarch.ranking.evidence import Design
from axiarch.ranking.optimism import optimism
from axiarch.ranking.rank import Ranking, RunResult, rank
from axiarch.ranking.rows import RowTable, influence
from axiarch.ranking.seeds import components
from axiarch.runs.rows import MOST_ROWS, RowLosses, kept_rows


def search(rows: np.ndarray, design: Design | None = None) -> tuple[Ranking, list[RunResult]]:
    """Return the ranking of losses of rows (K, S, N)."""
    results = [RunResult(i, (float(own.mean()),) * 3, (0.0,) * 3, ((),) * 3, 1.0, True, (j, 0),
                         RowLosses.of(len(own), own))
               for i, recipe in enumerate(rows) for j, own in enumerate(recipe)]
    return rank(results, dict.fromkeys(range(len(rows)), 1), design=design), results


class CriticalValues(unittest.TestCase):
    def test_they_are_those_of_dunnetts_table(self) -> None:
        """One-sided, 5 % (Dunnett 1955)."""
        for others, freedom, value in ((1, 10, 1.81), (2, 5, 2.44), (9, 5, 3.30), (2, 20, 2.03),
                                       (9, 20, 2.60), (4, 1000, 2.16)):
            self.assertAlmostEqual(critical(others, freedom), value, delta=0.011)

    def test_more_rivals_and_less_freedom_ask_for_more(self) -> None:
        self.assertLess(critical(3, 20), critical(30, 20))
        self.assertLess(critical(30, 200), critical(30, 4))


class Doubts(unittest.TestCase):
    def test_one_variance_gives_students_interval(self) -> None:
        self.assertAlmostEqual(reach(((4.0, 5.0),)), 2 * t.ppf(0.975, 5), delta=1e-6)

    def test_several_cover_as_stated(self) -> None:
        rng = np.random.default_rng(0)
        for freedom, ratio in ((2, 1.0), (2, 5.0), (4, 0.3)):
            seen = ratio * rng.chisquare(freedom, 4000) / freedom
            errors = rng.normal(size=4000) * math.sqrt(1 + ratio)
            covered = np.mean([abs(error) <= reach(((float(one), freedom), (1.0, 600.0)))
                               for one, error in zip(seen, errors, strict=True)])
            self.assertTrue(0.93 <= covered <= 0.975, (freedom, ratio, covered))

    def test_both_doubts_are_shown_apart(self) -> None:
        doubt = Doubt(((1.0, 8.0),), ((4.0, 500.0),))
        self.assertAlmostEqual(doubt.seeds_half(), quantile(8))
        self.assertAlmostEqual(doubt.rows_half() or 0, 2 * quantile(500))
        self.assertGreater(doubt.half(), doubt.rows_half() or 9)
        self.assertIsNone(Doubt(((1.0, 8.0),)).rows_half())


class Seeds(unittest.TestCase):
    def test_a_full_table_is_an_analysis_of_variance(self) -> None:
        losses = np.random.default_rng(0).normal(size=(4, 5)) + np.arange(4)[:, None]
        found = components(losses)
        assert found is not None
        left = losses - losses.mean(1, keepdims=True) - losses.mean(0) + losses.mean()
        self.assertAlmostEqual(found.pooled, float((left**2).sum()) / 12)
        self.assertAlmostEqual(found.between, float(losses.mean(0).var(ddof=1)))
        np.testing.assert_allclose(found.levels, losses.mean(1))
        self.assertEqual((found.freedom, found.between_freedom), (12, 4))
        self.assertAlmostEqual(found.estimated, found.pooled / 4)

    def test_noise_of_one_size_is_pooled_and_of_several_is_not(self) -> None:
        rng = np.random.default_rng(1)
        even = components(rng.normal(size=(40, 6)))
        sizes = np.where(np.arange(40) % 2, 10.0, 1.0)
        uneven = components(rng.normal(size=(40, 6)) * sizes[:, None])
        assert even is not None and uneven is not None
        self.assertLess(even.own.max() / even.own.min(), 2.5)
        loud, calm = uneven.own[:8][sizes[:8] > 1], uneven.own[:8][sizes[:8] == 1]
        self.assertGreater(loud.min(), 3 * calm.max())

    def test_a_replicate_that_chose_lends_no_luck_to_levels(self) -> None:
        """Three recipes of sixty are trained on all seeds because they did well on the first."""
        rng = np.random.default_rng(2)
        naive, fair = [], []
        for _ in range(200):
            losses = rng.normal(size=(60, 4))
            losses[np.argsort(losses[:, 0])[3:], 1:] = np.nan
            losses = losses[np.argsort(np.nanmean(losses, axis=1))]
            for out, chose in ((naive, -1), (fair, 0)):
                found = components(losses, chose)
                assert found is not None
                out.append(float(found.levels[found.counts == 4].mean()))
        self.assertLess(np.mean(naive), -0.2)
        self.assertAlmostEqual(float(np.mean(fair)), 0.0, delta=0.1)

    def test_losses_without_any_spread_are_no_fault(self) -> None:
        for losses in (np.ones((4, 3)), np.zeros((3, 2)), np.full((2, 2), 1e18)):
            found = components(losses)
            assert found is not None
            self.assertTrue(np.isfinite(found.levels).all() and (found.own > 0).all())

    def test_one_seed_each_says_nothing(self) -> None:
        self.assertIsNone(components(np.ones((4, 1))))


class Rows(unittest.TestCase):
    def table(self, runs: Sequence[np.ndarray]) -> RowTable:
        """Return a table of recipes' runs (S, n)."""
        return RowTable([dict(enumerate(own)) for own in runs], [0] * len(runs[0]),
                        {0: runs[0].shape[1]})

    def test_only_what_stays_over_seeds_counts(self) -> None:
        rng = np.random.default_rng(0)
        stays, changes = rng.normal(size=4000), rng.normal(size=(3, 4000))
        level = self.table([stays + 2 * changes]).level(0)
        assert level is not None
        self.assertAlmostEqual(level[0] * 4000, 1.0, delta=0.15)

    def test_a_difference_is_paired(self) -> None:
        rng = np.random.default_rng(1)
        hard, own = 5 * rng.normal(size=3000), rng.normal(size=(2, 3000))
        noise = 0.1 * rng.normal(size=(2, 2, 3000))
        found = self.table([hard + own[i] + noise[i] for i in range(2)]).difference(0, 1)
        assert found is not None
        self.assertAlmostEqual(found[0] * 3000, 2.0, delta=0.3)

    def test_the_root_of_a_mean_is_read_by_its_influence(self) -> None:
        rng = np.random.default_rng(2)
        squares = rng.exponential(size=5000)
        drawn = [math.sqrt(rng.choice(squares, 5000).mean()) for _ in range(1000)]
        error = influence(squares, True).std() / math.sqrt(5000)
        self.assertAlmostEqual(error / float(np.std(drawn)), 1.0, delta=0.08)

    def test_kept_rows_are_spread_evenly_and_bounded(self) -> None:
        for total in (0, 1, 100, MOST_ROWS, 10 * MOST_ROWS + 7):
            rows = kept_rows(total)
            self.assertEqual(len(rows), min(total, MOST_ROWS))
            self.assertEqual(len(set(rows.tolist())), len(rows))
            if total > MOST_ROWS:
                self.assertGreater(rows[-1], total * 0.999)

    def test_levels_cover_the_truth_of_the_population(self) -> None:
        """Intervals that know the seeds alone cover a third of the time here."""
        rng = np.random.default_rng(3)
        covered = blind = 0
        for _ in range(200):
            hard = 0.5 * rng.normal(size=300)
            rows = 1 + hard + 0.02 * rng.normal(size=(6, 3, 1)) + 0.1 * rng.normal(size=(6, 3, 300))
            row = search(rows)[0].rows[3]
            covered += abs(row.loss - 1) <= (row.half_width or 0)
            blind += abs(row.loss - 1) <= (row.seeds_half or 0)
        self.assertTrue(0.9 <= covered / 200 <= 0.99, covered)
        self.assertLess(blind / 200, 0.75)


class Optimism(unittest.TestCase):
    """By how much the leader's level is too low because it was chosen for being low."""

    def said_and_true(self, truth: np.ndarray, sizes: np.ndarray, seed: int) -> tuple[float, float]:
        """Return what is said of one made-up search, and what is true."""
        rng = np.random.default_rng(seed)
        losses = truth[:, None] + sizes[:, None] * rng.normal(size=(len(truth), 3))
        order = np.argsort(losses.mean(1))
        found = components(losses[order])
        assert found is not None
        said = optimism(found.levels, np.sqrt(found.own / 3), found.own_freedom)
        return said or 0.0, float(truth[order[0]] - losses[order[0]].mean())

    def test_it_is_about_right_on_average(self) -> None:
        rng = np.random.default_rng(5)
        even = np.full(30, 0.05)
        uneven = np.where(np.arange(30) % 2, 0.1, 0.02)
        for truth, sizes in ((np.full(30, 1.0), even), (rng.normal(1.0, 0.03, 30), even),
                             (np.linspace(0.9, 1.3, 30), even), (rng.normal(1, 0.03, 30), uneven)):
            pairs = np.array([self.said_and_true(truth, sizes, seed) for seed in range(80)])
            said, true = pairs.mean(axis=0)
            self.assertAlmostEqual(said / true, 1.0, delta=0.35)

    def test_recipes_far_apart_have_none(self) -> None:
        sizes = np.full(20, 0.05)
        near = self.said_and_true(np.full(20, 1.0), sizes, 1)[0]
        self.assertLess(self.said_and_true(np.linspace(1.0, 5.0, 20), sizes, 1)[0], 0.2 * near)

    def test_one_recipe_alone_has_none(self) -> None:
        self.assertIsNone(optimism(np.array([1.0]), np.array([0.1]), np.array([3.0])))


class Skill(unittest.TestCase):
    def claimed(self, rng: np.random.Generator, skill: float, repeated: float = 0.0,
                rows: int = 200, seeds: int = 3) -> Claim | None:
        """Return the claim of a leader of ten whose true loss is `skill` below the baseline's."""
        hard = 0.5 * rng.normal(size=rows)
        known = rng.random(rows) < repeated
        luck = 0.02 if seeds > 1 else 0.0  # a claim of one run is of that run, lucky or not
        own = 1 + hard + luck * rng.normal(size=(10, seeds, 1))
        own = own + 0.2 * rng.normal(size=(10, 1, rows))
        own = own + 0.1 * rng.normal(size=(10, seeds, rows))
        found, results = search(np.where(known, own - 1.0, own))
        leader = [r for r in results if r.recipe == found.rows[0].recipe]
        other = 1 + skill + hard + 0.2 * rng.normal(size=rows)
        return claim(found, 0, leader, {0: other}, {0: known})

    def test_no_skill_is_hardly_ever_claimed(self) -> None:
        rng = np.random.default_rng(0)
        for repeated, seeds in ((0.0, 3), (0.3, 3), (0.0, 1), (0.3, 1)):
            found = [self.claimed(rng, 0.0, repeated, seeds=seeds) for _ in range(150)]
            wrong = [each for each in found if each is None or each.verdict != "unknown"]
            self.assertLess(len(wrong) / 150, 0.06, (repeated, seeds))
            self.assertEqual({each.one_run for each in found if each}, {seeds == 1})

    def test_skill_is_claimed_where_there_is_some(self) -> None:
        rng = np.random.default_rng(1)
        for seeds in (3, 1):
            better = self.claimed(rng, 0.3, seeds=seeds)
            worse = self.claimed(rng, -0.3, seeds=seeds)
            assert better is not None and worse is not None
            self.assertEqual((better.verdict, worse.verdict), ("better", "worse"))
            self.assertAlmostEqual(better.difference, -0.3, delta=0.1)

    def test_rows_known_from_training_are_left_out_and_counted(self) -> None:
        found = self.claimed(np.random.default_rng(2), 0.3, 0.5)
        assert found is not None
        self.assertEqual(found.rows + found.left_out, 200)
        self.assertGreater(found.left_out, 70)

    def test_too_few_rows_make_no_claim(self) -> None:
        self.assertIsNone(self.claimed(np.random.default_rng(3), 0.3, rows=12))


if __name__ == "__main__":
    unittest.main()
