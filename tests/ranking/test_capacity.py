"""The knee, what curves show at each size, trade-offs, and ladders that find what is known."""

from __future__ import annotations

import unittest
from dataclasses import replace

import numpy as np

from axiarch.errors import RecipeError
from axiarch.ranking.capacity import knee, roughness, rung
from axiarch.ranking.rank import RunResult, rank
from axiarch.recipes.searchfile import MethodChoice, SearchFile
from axiarch.recipes.space import space
from axiarch.search.capacity import Capacity
from axiarch.search.methods import make_method
from axiarch.tui.plots.tradeoffs import draw_tradeoffs
from axiarch.workflows.adding import add_table
from axiarch.workflows.opening import data_set
from axiarch.workflows.trading import (
    COSTS,
    TradeOffs,
    capacity_search,
    tradeoff_lines,
    tradeoffs_json,
)
from tests.runner.test_runner import RunnerCase
from tests.support import write_csv


def result(recipe: int, seed: int, loss: float, training: float = 0.3) -> RunResult:
    return RunResult(recipe, (loss,) * 4, (training,) * 4, ((0.5,),) * 4, 1.0, True, (seed, 0))


class Knee(unittest.TestCase):
    def test_it_is_the_smallest_of_those_that_are_tied(self) -> None:
        rng = np.random.default_rng(0)
        levels = {1: 0.500, 2: 0.501, 3: 0.502, 4: 0.9}
        ranking = rank([result(n, seed, level + 0.004 * float(rng.normal()))
                        for n, level in levels.items() for seed in range(5)],
                       {1: 4000, 2: 900, 3: 200, 4: 10})
        found = knee(ranking)
        assert found is not None
        row, apart = found
        self.assertEqual(row.recipe, 3)
        assert apart is not None or ranking.rows[0].recipe == 3
        leader = ranking.rows[0].recipe
        if apart is not None:
            self.assertAlmostEqual(apart.better, row.loss - ranking.rows[0].loss, places=6)
            self.assertNotEqual(leader, 3)

    def test_none_that_is_clearly_worse_by_itself_is_it(self) -> None:
        """Among many recipes the comparison of all calls some tied that a comparison of two does
        not.
        """
        rng, seen = np.random.default_rng(1), 0
        for _ in range(40):
            levels = {1: 0.5, 2: 0.52, **{n: 0.53 + 0.001 * n for n in range(3, 30)}}
            ranking = rank([result(n, seed, level + 0.012 * float(rng.normal()))
                            for n, level in levels.items() for seed in range(3)],
                           {n: 1000 - 10 * n for n in levels})
            found = knee(ranking)
            assert found is not None
            self.assertTrue(found[1] is None or not found[1].sure)
            smallest = min(ranking.tied, key=lambda row: row.parameters)
            seen += smallest.recipe != found[0].recipe
        self.assertGreater(seen, 5)

    def test_how_much_worse_it_is_at_most_holds_though_it_was_picked(self) -> None:
        """Of thirty that are clearly worse the luckiest is picked: the interval of one difference
        would miss the truth in one of eight searches.
        """
        missed = said = 0
        for seed in range(200):
            rng = np.random.default_rng(seed)
            levels = {n: 0.54 if n < 30 else 0.5 for n in range(1, 31)}
            ranking = rank([result(n, s, level + 0.02 * float(rng.normal()))
                            for n, level in levels.items() for s in range(5)],
                           {n: 10 * n for n in levels})
            row, apart = knee(ranking) or self.fail("none")
            if apart is not None:
                said += 1
                truth = levels[row.recipe] - levels[ranking.rows[0].recipe]
                missed += truth > apart.most
        self.assertGreater(said, 50)
        self.assertLessEqual(missed, 10)

    def test_with_one_seed_there_is_none(self) -> None:
        self.assertIsNone(knee(rank([result(1, 0, 0.5), result(2, 0, 0.6)], {1: 10, 2: 20})))

    def test_what_curves_show(self) -> None:
        ranking = rank([result(1, s, 0.9, 0.01) for s in (0, 1)], {1: 10})
        row = ranking.rows[0]
        self.assertTrue(rung(row, [[0.9] * 8], [[0.5, 0.01]], 1.0).memorises)
        self.assertFalse(rung(row, [[0.9] * 8], [[0.5, 0.4]], 1.0).memorises)
        self.assertTrue(rung(row, [[0.9] * 8], [[0.99, 0.985]], 1.0).fails)
        self.assertFalse(rung(row, [[0.9] * 8], [[0.99, 0.9]], 1.0).fails)

    def test_roughness_of_known_noise(self) -> None:
        """It is the standard deviation of independent jumps as a share of the loss, whatever the
        slope.
        """
        rng = np.random.default_rng(1)
        jumps = 0.02 * rng.normal(size=4000)
        flat, sloping = 1 + jumps, np.linspace(2, 1, 4000) + jumps
        self.assertAlmostEqual(roughness(flat.tolist()), 0.02, delta=0.001)
        self.assertAlmostEqual(roughness(sloping.tolist()), 0.02 / 1.25, delta=0.001)
        self.assertEqual(roughness([1.0, 2.0]), 0.0)

    def test_a_curve_that_only_falls_hardly_jumps(self) -> None:
        for epochs in (9, 15, 60):
            curve = 0.25 + np.exp(-3 * np.arange(epochs) / epochs)
            self.assertLess(roughness(curve.tolist()), 0.003)
            jumps = 0.02 * np.where(np.arange(epochs) % 2, 1, -1)
            self.assertGreater(roughness((curve + jumps).tolist()), 0.02)


class Rungs(unittest.TestCase):
    def test_they_rise_from_a_linear_model(self) -> None:
        made = space({"epochs": 5, "width": 32, "depth": 2})
        method = make_method(MethodChoice("capacity", {"widest": 16, "deepest": 2}), made, 1)
        assert isinstance(method, Capacity)
        sizes = [(r.whole("depth"), r.whole("width"), r.word("shape")) for r in method.rungs]
        self.assertEqual([s[:2] for s in sizes[1:9]],
                         [(1, w) for w in (1, 2, 3, 4, 6, 8, 12, 16)])
        self.assertEqual(sizes[0][0], 0)
        self.assertIn((2, 16, "funnel"), sizes)
        self.assertEqual(method.expected, len(sizes) + 1)
        steps = []
        while (step := method.next()) is not None:
            method.take(step, len(steps) + 1)
            steps.append(step.recipe)
        self.assertEqual(steps, [made.base, *method.rungs])

    def test_constraints_hold_and_a_network_without_hidden_is_refused(self) -> None:
        made = space({"epochs": 5, "width": 4, "depth": 1}, constraints=["width * depth <= 12"])
        method = make_method(MethodChoice("capacity"), made, 1)
        assert isinstance(method, Capacity)
        self.assertTrue(all(made.allows(recipe) for recipe in method.rungs))
        with self.assertRaises(RecipeError) as caught:
            make_method(MethodChoice("capacity"), space({"network": "32, 16"}), 1)
        self.assertIn("put hidden into it", caught.exception.remedy)


class Ladders(RunnerCase):
    def climb(self, header: list[str], rows: list[list[object]], **base: object) -> TradeOffs:
        path = write_csv(self.folder / "t.csv", header, rows)
        add_table(self.workspace, path, name="t", target="y")
        made = SearchFile("x", "t", space({"width": 16, "depth": 1, **base}), repeats=3, seed=2)
        search = capacity_search(made, made.space.base)
        search = replace(search, method=MethodChoice("capacity", {"widest": 16, "deepest": 2}))
        self.dataset = data_set(self.workspace, "t")
        self.make(search).run()
        return TradeOffs(self.look())

    def test_a_hundred_classes_apart_need_no_hidden_layer(self) -> None:
        """Classes that lie around a hundred centres in five dimensions: their borders are planes.
        """
        rng = np.random.default_rng(4)
        centres = 3 * rng.normal(size=(100, 5))
        rows = [[*(centres[c] + 0.8 * rng.normal(size=5)).round(4), f"c{c:02d}"]
                for c in np.tile(np.arange(100), 14)]
        found = self.climb([*"abcde", "y"], rows, epochs=45, learning_rate=0.1, batch_size=16,
                           patience=0)
        self.assertTrue(found.is_ladder)
        assert found.knee is not None
        knee_ = found.snapshot.recipes[found.knee[0].recipe].recipe
        self.assertEqual(knee_.whole("depth"), 0)

    def test_a_zigzag_needs_a_few_units(self) -> None:
        """A line with a kink at each side: a linear model fails, two units could do it."""
        rng = np.random.default_rng(5)
        x = rng.uniform(-2, 2, 900)
        y = np.abs(x) + 0.05 * rng.normal(size=900)
        rows: list[list[object]] = [[f"{a:.4f}", f"{b:.4f}"] for a, b in zip(x, y, strict=True)]
        found = self.climb(["x", "y"], rows, epochs=40, learning_rate=0.02, patience=0)
        assert found.knee is not None
        recipe = found.snapshot.recipes[found.knee[0].recipe].recipe
        self.assertGreaterEqual(recipe.whole("depth"), 1)
        self.assertGreaterEqual(recipe.whole("width"), 2)
        self.assertLess(found.knee[0].parameters, 100)
        linear = next(r for r in found.rungs
                      if found.snapshot.recipes[r.row.recipe].recipe.whole("depth") == 0)
        self.assertTrue(linear.fails)
        self.assertIn("fails to train", "\n".join(tradeoff_lines(found)))
        self.assertIn("knee is recipe", found.verdict())
        shown = tradeoffs_json(found)
        self.assertEqual(shown["knee"], found.knee[0].recipe)
        for cost in COSTS:
            for size in ((140, 40), (80, 20)):
                lines = draw_tradeoffs(TradeOffs(found.snapshot, cost), *size)
                self.assertLessEqual(len(lines), size[1])
                self.assertIn("◆", "".join(text for line in lines for text, _ in line))
        costs = [each for each, _ in found.unbeaten]
        losses = [row.loss for _, row in found.unbeaten]
        self.assertEqual(costs, sorted(costs))
        self.assertEqual(losses, sorted(losses, reverse=True))


if __name__ == "__main__":
    unittest.main()
