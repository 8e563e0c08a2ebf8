"""What every method must do, and what each one does."""

from __future__ import annotations

import unittest
from collections import Counter
from collections.abc import Callable

import numpy as np

from axiarch.errors import RecipeError
from axiarch.recipes.recipe import Recipe
from axiarch.recipes.searchfile import MethodChoice
from axiarch.recipes.space import Space, space
from axiarch.search.method import Method, Observation
from axiarch.search.methods import METHODS, make_method

MIXED = {"learning_rate": "1e-4 .. 1e-1 log", "batch_size": "16 | 32", "optimiser": "sgd | momentum",
         "momentum": "0.5 .. 0.9 when optimiser = momentum", "depth": "1 .. 3"}


def all_of(method: Method, tell: Callable[[Recipe], float] = lambda r: 1.0, most: int = 3000) -> list[Recipe]:
    """Propose until the method has no more, observing each at once."""
    found: list[Recipe] = []
    while len(found) < most and (recipe := method.propose()) is not None:
        found.append(recipe)
        method.observe(Observation(recipe, (tell(recipe),)))
    return found


class MethodsConform(unittest.TestCase):
    """Laws that hold for every method."""

    def make(self, name: str, s: Space, seed: int = 1) -> Method:
        return make_method(MethodChoice(name), s, seed)

    def each(self) -> list[str]:
        return list(METHODS)

    def test_the_same_seed_proposes_the_same(self) -> None:
        for name in self.each():
            s = space({}, MIXED)
            self.assertEqual(all_of(self.make(name, s)), all_of(self.make(name, s)), name)

    def test_nothing_is_proposed_twice(self) -> None:
        for name in self.each():
            found = all_of(self.make(name, space({}, MIXED)))
            self.assertEqual(len(set(found)), len(found), name)

    def test_conditions_constraints_and_ranges_are_respected(self) -> None:
        s = space({}, MIXED, ["batch_size * depth <= 64"])
        for name in self.each():
            for recipe in all_of(self.make(name, s))[1:]:
                with self.subTest(name=name, recipe=recipe):
                    self.assertTrue(s.allows(recipe))
                    for k in s.knobs:
                        if k.when is None or k.when.holds(recipe):
                            self.assertIn(recipe[k.name], k.range)

    def test_the_base_recipe_comes_first_unless_forbidden(self) -> None:
        for name in self.each():
            self.assertEqual(self.make(name, space({}, MIXED)).propose(), Recipe())
            forbidden = space({"depth": 9}, {"depth": "1 .. 3"}, ["depth <= 3"])
            self.assertNotEqual(self.make(name, forbidden).propose(), forbidden.base)

    def test_a_small_space_is_used_up_and_no_more(self) -> None:
        s = space({}, {"width": "8 | 16", "depth": "1 | 2"})
        for name in self.each():
            found = all_of(self.make(name, s))
            self.assertEqual(set(found), {*s.grid(5), s.base}, name)
            self.assertEqual(self.make(name, s).expected, len(found), name)

    def test_it_goes_on_after_a_restart_as_if_nothing_had_happened(self) -> None:
        s = space({}, MIXED)
        for name in self.each():
            whole = all_of(self.make(name, s))
            method = self.make(name, s)
            for recipe in whole[:7]:
                self.assertEqual(method.propose(), recipe)
                method.observe(Observation(recipe, (1.0,)))
            self.assertEqual(all_of(method), whole[7:], name)

    def test_a_space_without_knobs_is_the_base_alone(self) -> None:
        for name in self.each():
            self.assertEqual(all_of(self.make(name, Space())), [Recipe()], name)

    def test_each_says_when_to_use_it(self) -> None:
        for method in METHODS.values():
            self.assertTrue(method.summary)
            for option in method.options:
                self.assertTrue(option.summary and option.low <= option.default <= option.high)

    def test_bad_options_are_refused_in_words(self) -> None:
        for name in self.each():
            with self.assertRaises(RecipeError):
                make_method(MethodChoice(name, {"nothing": 1}), Space(), 1)
            for option in METHODS[name].options:
                for value in (option.low - 1, option.high + 1, 1.5, "x", True):
                    with self.assertRaises(RecipeError):
                        make_method(MethodChoice(name, {option.name: value}), Space(), 1)

    def test_an_unknown_method_names_the_known_ones(self) -> None:
        with self.assertRaises(RecipeError) as caught:
            make_method(MethodChoice("magic"), Space(), 1)
        self.assertIn("random", caught.exception.remedy)


class RandomMethod(unittest.TestCase):
    def test_it_spreads_over_the_whole_range(self) -> None:
        s = space({}, {"learning_rate": "1e-4 .. 1e0 log"})
        found = all_of(make_method(MethodChoice("random", {"recipes": 400}), s, 3))
        low = sum(float(r["learning_rate"]) < 1e-2 for r in found)
        self.assertAlmostEqual(low / 400, 0.5, delta=0.08)

    def test_a_budget_is_kept(self) -> None:
        s = space({}, {"learning_rate": "1e-4 .. 1e0 log"})
        self.assertEqual(len(all_of(make_method(MethodChoice("random", {"recipes": 17}), s, 3))), 17)


class SpreadMethod(unittest.TestCase):
    def test_points_lie_more_evenly_than_chance(self) -> None:
        s = space({}, {"learning_rate": "1e-4 .. 1e-1 log", "dropout": "0 .. 0.8"})
        worst = {}
        for name in ("random", "spread"):
            found = all_of(make_method(MethodChoice(name, {"recipes": 65}), s, 3))[1:]
            cells = Counter((int((np.log10(r.real("learning_rate")) + 4) / 3 * 3.9999),
                             int(r.real("dropout") / 0.8 * 3.9999)) for r in found)
            worst[name] = max(abs(cells[i, j] - 4) for i in range(4) for j in range(4))
        self.assertLessEqual(worst["spread"], 1)
        self.assertGreater(worst["random"], 2)


class GridMethod(unittest.TestCase):
    def test_a_continuum_takes_as_many_points_as_asked(self) -> None:
        s = space({}, {"learning_rate": "1e-4 .. 1e-1 log"})
        found = all_of(make_method(MethodChoice("grid", {"points": 4}), s, 1))
        self.assertEqual([float(r["learning_rate"]) for r in found], [1e-3, 1e-4, 1e-2, 1e-1])
