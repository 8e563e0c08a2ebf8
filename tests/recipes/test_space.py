"""Recipes, spaces and constraints."""

from __future__ import annotations

import unittest

from hypothesis import given
from hypothesis import strategies as st

from axiarch.errors import NotationError, RecipeError
from axiarch.recipes.constraints import parse_constraint
from axiarch.recipes.fields import FIELDS
from axiarch.recipes.recipe import Recipe, describe
from axiarch.recipes.space import Space, inactive_knobs, knob, space


class Recipes(unittest.TestCase):
    def test_values_without_effect_do_not_tell_recipes_apart(self) -> None:
        self.assertEqual(Recipe({"optimiser": "adam", "momentum": 0.5}),
                         Recipe({"optimiser": "adam"}))
        self.assertNotEqual(Recipe({"optimiser": "momentum", "momentum": 0.5}),
                            Recipe({"optimiser": "momentum"}))

    def test_equal_recipes_have_equal_fingerprints_and_others_do_not(self) -> None:
        self.assertEqual(Recipe({"width": 8}).fingerprint, Recipe({"width": 8.0}).fingerprint)
        self.assertNotEqual(Recipe({"width": 8}).fingerprint, Recipe({"width": 9}).fingerprint)

    def test_bounds_and_kinds(self) -> None:
        for values in ({"width": 0}, {"width": 2.5}, {"dropout": 1.0}, {"optimiser": "no"}, {
                "width": True
        }, {"learning_rate": float("nan")}, {"nothing": 1}, {"width": "8"}):
            with self.subTest(values=values), self.assertRaises(RecipeError) as caught:
                Recipe(values)
            self.assertTrue(caught.exception.remedy)

    def test_differences_leave_out_what_has_no_effect(self) -> None:
        other = Recipe({"optimiser": "momentum", "momentum": 0.5})
        self.assertEqual(Recipe({}).difference(other), {"optimiser": "adam"})
        self.assertEqual(describe({"learning_rate": 0.0012345678}), "learning rate 0.001235")

    def test_parameters_are_counted_with_biases(self) -> None:
        self.assertEqual([layer.units for layer in Recipe({"width": 64, "depth": 2}).layers],
                         [64, 64])
        self.assertEqual(Recipe({"depth": 0}).layers, ())

    def test_every_field_is_explained(self) -> None:
        for name, field in FIELDS.items():
            self.assertTrue(field.summary and field.group, name)
            self.assertEqual(field.check(field.default), field.default)


class Conditions(unittest.TestCase):
    def test_a_knob_exists_only_where_its_condition_holds(self) -> None:
        s = space(
            {}, {"optimiser": "sgd | momentum", "momentum": "0.5 | 0.7 when optimiser = momentum"})
        found = list(s.grid(5))
        self.assertEqual(len(found), 3)
        self.assertEqual({r["momentum"] for r in found if r["optimiser"] == "sgd"}, {0.9})

    def test_conditions_that_wait_for_each_other_are_refused(self) -> None:
        with self.assertRaises(RecipeError):
            space({}, {"width": "8 | 9 when depth = 1", "depth": "1 | 2 when width = 8"})

    def test_the_order_of_knobs_does_not_matter_to_conditions(self) -> None:
        texts = {"momentum": "0.5 | 0.7 when optimiser = momentum", "optimiser": "sgd | momentum"}
        self.assertEqual(space({}, texts).combinations, 3)

    def test_knobs_that_nothing_feels_are_found(self) -> None:
        self.assertEqual(inactive_knobs(space({}, {"momentum": "0.5 | 0.7"})), ("momentum",))
        self.assertEqual(
            inactive_knobs(space({}, {"momentum": "0.5 | 0.7", "optimiser": "sgd | momentum"})), ())

    def test_a_knob_given_twice_is_refused(self) -> None:
        with self.assertRaises(RecipeError):
            Space(Recipe(), (knob("width", "8 | 9"), knob("width", "1 | 2")))


class Counting(unittest.TestCase):
    def test_a_continuum_has_no_count(self) -> None:
        self.assertIsNone(space({}, {"learning_rate": "1e-4 .. 1e-1 log"}).combinations)

    @given(st.integers(1, 4), st.integers(1, 5), st.integers(2, 40))
    def test_the_count_is_that_of_the_grid(self, a: int, b: int, limit: int) -> None:
        s = space({}, {"width": f"1 .. {a + 1}", "depth": f"1 .. {b + 1}"},
                  [f"width * depth <= {limit}"])
        wanted = sum(w * d <= limit for w in range(1, a + 2) for d in range(1, b + 2))
        self.assertEqual(s.combinations, wanted)
        self.assertEqual(len(set(s.grid(9))), wanted)

    @given(st.lists(st.floats(0, 1, exclude_max=True), min_size=2, max_size=2))
    def test_points_of_the_cube_are_recipes_of_the_space(self, point: list[float]) -> None:
        s = space({}, {"learning_rate": "1e-4 .. 1e-1 log", "batch_size": "16 | 32"})
        found = s.at(point)
        assert found is not None
        for k in s.knobs:
            self.assertIn(found[k.name], k.range)


class Constraints(unittest.TestCase):
    def test_they_hold_or_not(self) -> None:
        c = parse_constraint("width * depth + 2 <= 130")
        self.assertTrue(c.holds(Recipe({"width": 64, "depth": 2})))
        self.assertFalse(c.holds(Recipe({"width": 64, "depth": 3})))
        self.assertTrue(parse_constraint("8 <= width < 100").holds(Recipe({"width": 64})))

    def test_nothing_but_arithmetic_is_read(self) -> None:
        for text in ("__import__('os') < 1", "width.real < 2", "(lambda: 1)() < 2", "width",
                     "optimiser < 3", "deth < 3", "width <", "width in 3", "'a' < 'b'", "True < 2",
                     "[1] < 2", ""):
            with self.subTest(text=text), self.assertRaises(NotationError):
                parse_constraint(text)

    def test_division_by_zero_is_beyond_any_limit(self) -> None:
        self.assertFalse(parse_constraint("width / depth <= 100").holds(Recipe({"depth": 0})))
