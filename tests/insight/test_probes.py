"""What probes read from what was measured, against cases whose answer is known."""

from __future__ import annotations

import math
import unittest
from dataclasses import replace

import numpy as np

from axiarch.insight.probes import (
    BUILDS,
    BatchPoint,
    BatchProbe,
    DepthPoint,
    DepthProbe,
    NoiseProbe,
    Probe,
    RatePoint,
    RateProbe,
)
from axiarch.recipes.searchfile import SearchFile
from axiarch.tui.plots.probes import draw_probe


def rates(loss_of_exponent: dict[int, float], rate: float = 1e-3) -> RateProbe:
    points = tuple(RatePoint(10.0**e, (v, v * 1.01)) for e, v in loss_of_exponent.items())
    return RateProbe(points, 1.0, 60, "adam", rate)


def sizes(losses: dict[int, float], speed: float = 0.0, room: float = 1e9) -> BatchProbe:
    """Return sizes whose epoch takes a fixed time a step and a time a row."""
    points = tuple(
        BatchPoint(size, 1024 // size, 1e-5 + size * 1e-7, 1024 / size * (1e-5 + size * 1e-7),
                   size * 1000, (v, v), (v - 0.001, v + 0.001))
        for size, v in losses.items())
    return BatchProbe(points, 1024, room, "this machine", 5, 0.5, 32)


class Rates(unittest.TestCase):
    probe = rates({-6: 1.0, -5: 0.99, -4: 0.9, -3: 0.5, -2: 0.3, -1: 0.9, 0: math.inf, 1: 9.0})

    def test_band_lowest_and_break(self) -> None:
        self.assertEqual(self.probe.points[self.probe.best].rate, 1e-3)  # its neighbours count
        self.assertEqual(self.probe.breaks, 1.0)
        low, high = self.probe.band
        self.assertLessEqual(low, 1e-3)
        self.assertLess(high, 1.0)
        self.assertIn("is inside that band", self.probe.verdict())
        self.assertIn("From 1 on training breaks", self.probe.verdict())

    def test_what_is_proposed_holds_the_lowest_and_stays_below_the_break(self) -> None:
        proposal = self.probe.proposal()
        assert proposal is not None
        after = proposal.changes[0].applied(SearchFile()).space.varied("learning_rate")
        assert after is not None
        self.assertIn(1e-3, after.range)
        self.assertNotIn(0.6, after.range)

    def test_nothing_is_proposed_where_nothing_learns(self) -> None:
        probe = rates({e: 1.0 for e in range(-6, 2)})
        self.assertIsNone(probe.proposal())
        self.assertIn("At no learning rate", probe.verdict())


class Batches(unittest.TestCase):
    def test_larger_is_not_called_better(self) -> None:
        probe = sizes({8: 0.6, 16: 0.5, 32: 0.5, 64: 0.501, 128: 0.7, 256: 0.8, 512: 0.9})
        assert probe.fast_enough is not None and probe.best is not None
        # 10 µs a step and 0.1 µs a row: at 1000 rows it is twice as fast as at 100
        self.assertEqual(probe.fast_enough.size, 512)
        self.assertEqual([p.size for p in probe.alike], [16, 32, 64])
        self.assertIn("From 128 on it is worse", probe.verdict())
        proposal = probe.proposal()
        assert proposal is not None
        self.assertEqual(dict(proposal.changes[0].ranges), {"batch_size": "16 | 32 | 64"})

    def test_what_does_not_fit_is_left_out(self) -> None:
        probe = sizes({8: 0.6, 16: 0.5, 32: 0.5, 64: 0.4}, room=33_000)
        self.assertEqual([p.size for p in probe.fits], [8, 16, 32])
        self.assertIn("Up to 32 rows fit", probe.verdict())
        measured = replace(probe, points=tuple(replace(p, measured=p.bytes * 2)
                                               for p in probe.points))
        self.assertEqual([p.size for p in measured.fits], [8, 16])  # what was measured counts
        self.assertIn("takes 2.00 times the memory that was forecast", measured.verdict())
        self.assertIsNone(sizes({8: 0.6}, room=1).proposal())
        self.assertIn("No batch size fits", sizes({8: 0.6}, room=1).verdict())


def shrinking(depth: int, times: float) -> tuple[tuple[float, float], ...]:
    """Return layers of which each has `times` the gradient of that before, and sends on half."""
    return tuple((1e-9 * times**i, 0.5**i) for i in range(depth + 1))


class Depths(unittest.TestCase):
    def test_a_gradient_that_does_not_reach_the_first_layer_is_no_learning(self) -> None:
        def probe(times: float, then: float) -> DepthProbe:
            return DepthProbe(tuple(DepthPoint(4, b, 0.5, shrinking(4, times), shrinking(4, then))
                                    for b in BUILDS), 1.0, 4, 2)

        self.assertEqual(probe(10.0, 10.0).deepest("plain"), 0)  # a ten-thousandth of the last's
        self.assertEqual(probe(10.0, 2.0).deepest("plain"), 4)  # it came after some steps
        self.assertIn("0.12 and 1e-4 (plain)", probe(10.0, 2.0).verdict())
        self.assertRegex(probe(10.0, 2.0).lines()[2], "plain +1e-4 +0.062 +0.12 +0.12")

    def test_the_depth_at_which_it_stops_learning(self) -> None:
        points = []
        for build, stops in zip(BUILDS, (4, 8, 99), strict=True):
            points += [DepthPoint(d, build, 0.4 if d <= stops else 1.0) for d in (1, 2, 4, 8, 16)]
        probe = DepthProbe(tuple(points), 1.0, 4, 2)
        self.assertEqual([probe.deepest(build) for build in BUILDS], [4, 8, 16])
        self.assertIn("plain: up to 4 layers", probe.verdict())
        proposal = probe.proposal()
        assert proposal is not None
        self.assertEqual(dict(proposal.changes[0].ranges), {"depth": "1 .. 4"})
        self.assertEqual(proposal.changes[1].values["residual"], "yes")


class Noise(unittest.TestCase):
    def test_the_difference_that_is_seen_in_four_of_five_cases(self) -> None:
        """By simulation: two recipes apart by that much, tested at 95 %."""
        rng = np.random.default_rng(0)
        probe = NoiseProbe(tuple((0.5 + 0.03 * rng.normal(size=4000)).tolist()), 600, 0.02, 0.01,
                           "half the learning rate")
        for seeds in (2, 5, 10):
            apart = probe.visible(seeds)
            error = math.hypot(0.03 * math.sqrt(2 / seeds), 0.01)
            found = apart + error * rng.normal(size=20_000)
            self.assertAlmostEqual(float((found > 1.959964 * error).mean()), 0.8, delta=0.02)
            self.assertLessEqual(probe.seeds_for(apart) or 0, seeds + 1)
        self.assertIsNone(probe.seeds_for(0.01))
        folds = NoiseProbe((0.5, 0.52), 900, 0.02, 0.01, "", 3, 0.03, 0.5)
        self.assertAlmostEqual(folds.visible(4), 2.8016 * math.sqrt(2 * 9e-4 * (1 / 12 + 0.5)), 4)
        self.assertLessEqual(folds.seeds_for(folds.visible(4)) or 0, 5)
        self.assertIsNone(folds.seeds_for(0.08))
        lost = NoiseProbe((0.5, math.inf), 900, 0.02, 0.01, "")
        self.assertIn("1 seed of 2 diverged", lost.verdict())
        self.assertTrue(draw_probe(lost, 80, 20))
        self.assertIn("only more rows", probe.verdict())


class Drawn(unittest.TestCase):
    def test_every_probe_in_every_size(self) -> None:
        every: list[Probe] = [
            Rates.probe, rates({e: 1.0 for e in range(-6, 2)}),
            sizes({8: 0.6, 16: 0.5, 32: 0.5}), sizes({8: 0.6}, room=1),
            DepthProbe(tuple(DepthPoint(d, b, math.inf if d > 4 else 0.5) for b in BUILDS
                             for d in (1, 4, 16)), 1.0, 4, 0),
            DepthProbe(tuple(DepthPoint(d, b, math.inf if d > 4 else 0.5, shrinking(d, 10.0),
                                        shrinking(d, 0.0 if d > 4 else 0.5)) for b in BUILDS
                             for d in (1, 4, 16)), 1.0, 4, 0),
            NoiseProbe((0.5, 0.52, 0.49), 60, 0.02, 0.01, "")]
        for probe in every:
            for width, height in ((120, 30), (78, 14), (30, 8)):
                self.assertLessEqual(len(draw_probe(probe, width, height)), height + 2)
            self.assertTrue(probe.lines())
            self.assertTrue(probe.verdict().endswith("."))


if __name__ == "__main__":
    unittest.main()
