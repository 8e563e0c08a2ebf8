"""The short notation: what it means, that it round-trips, and where its errors point."""

from __future__ import annotations

import unittest

from hypothesis import given
from hypothesis import strategies as st

from axiarch.errors import InputError, NotationError, RecipeError
from axiarch.recipes.conditions import Condition, written
from axiarch.recipes.fields import FIELDS
from axiarch.recipes.notation import parse, parse_range
from axiarch.recipes.ranges import Ladder, OneOf, Range, Span, Whole


class Meaning(unittest.TestCase):
    def check(self, name: str, text: str, wanted: Range, when: Condition | None = None) -> None:
        self.assertEqual(parse_range(name, text), (wanted, when))

    def test_the_forms(self) -> None:
        self.check("batch_size", "16 | 32 | 64 | 128", OneOf((16, 32, 64, 128)))
        self.check("learning_rate", "1e-4 .. 1e-1 log", Span(1e-4, 1e-1, True))
        self.check("dropout", "0 .. 0.6", Span(0.0, 0.6))
        self.check("dropout", "0..0.6 step 0.1", Ladder(0.0, 0.6, 0.1))
        self.check("width", "8 .. 512 doubling", Ladder(8, 512))
        self.check("depth", "1 .. 4", Whole(1, 4))
        self.check("width", "8 .. 512 log", Whole(8, 512, True))
        self.check("optimiser", "sgd | adam", OneOf(("sgd", "adam")))

    def test_conditions(self) -> None:
        self.check("momentum", "0.8 .. 0.99 when optimiser = momentum | sgd", Span(0.8, 0.99),
                   Condition("optimiser", "=", ("momentum", "sgd")))
        self.check("dropout", "0.1 when depth >= 2", OneOf((0.1,)), Condition("depth", ">=", (2,)))

    def test_one_value_is_a_value(self) -> None:
        self.assertEqual(parse("learning_rate", " 1e-3 ").value, 0.001)
        self.assertIsNone(parse("learning_rate", "1e-3").range)
        self.assertEqual(parse("optimiser", "adam").value, "adam")

    def test_whole_values_stay_whole_and_real_ones_real(self) -> None:
        self.assertIsInstance(parse("width", "8").value, int)
        self.assertIsInstance(parse("dropout", "0").value, float)

    def test_all_rungs(self) -> None:
        self.assertEqual(Ladder(8, 64).rungs, (8, 16, 32, 64))
        self.assertEqual(Ladder(0.0, 0.6, 0.2).rungs, (0.0, 0.2, 0.4, 0.6))


#: name, text, position of the mistake, a word of the message.
WRONG = (
    ("batch_size", "16 | 32 64", 8, "64"),
    ("learning_rate", "1e-4 .. 1e-1 lug", 13, "lug"),
    ("width", "8 .. 500 doubling", 5, "500"),
    ("depth", "1 .. x", 5, "x"),
    ("optimiser", "adam | sdg", 7, "sdg"),
    ("dropout", "0 .. 0.65 step 0.1", 5, "0.65"),
    ("learning_rate", "", 0, "nothing"),
    ("width", "1.5", 0, "whole"),
    ("momentum", "0.8 .. 0.9 when optimser = adam", 16, "optimser"),
    ("optimiser", "adam .. sgd", 0, "no order"),
    ("width", "8 ..", 4, "ends"),
    ("learning_rate", "1e-1 .. 1e-3", 8, "above"),
    ("dropout", "0 .. 0.5 log", 0, "log"),
    ("dropout", "2", 0, "bounds"),
    ("width", "8 | 8", 4, "twice"),
    ("width", "8 & 9", 2, "&"),
    ("width", "8 .. 64 step 0", 13, "step"),
    ("momentum", "0.9 when momentum = 0.9", 9, "itself"),
    ("dropout", "0.1 when optimiser < adam", 19, "no order"),
    ("dropout", "0.1 when depth", 14, "ends"),
)


class Mistakes(unittest.TestCase):
    def test_each_is_marked_at_its_character(self) -> None:
        for name, text, position, word in WRONG:
            with self.subTest(name=name, text=text):
                with self.assertRaises(NotationError) as caught:
                    parse(name, text)
                self.assertEqual(caught.exception.position, position)
                self.assertIn(word, caught.exception.what)
                self.assertTrue(caught.exception.remedy)

    def test_doubling_that_misses_names_both_ends_that_fit(self) -> None:
        with self.assertRaises(NotationError) as caught:
            parse("width", "8 .. 500 doubling")
        self.assertIn("256 or 512", caught.exception.remedy)

    def test_an_unknown_value_names_the_near_one(self) -> None:
        with self.assertRaises(RecipeError) as caught:
            parse("lerning_rate", "1")
        self.assertIn("learning_rate", caught.exception.remedy)

    @given(st.sampled_from(sorted(FIELDS)), st.text(max_size=30))
    def test_any_text_is_read_or_refused_in_words(self, name: str, text: str) -> None:
        try:
            parse(name, text)
        except NotationError as error:
            self.assertLessEqual(error.position, len(text))
        except InputError:
            pass


@st.composite
def ranges(draw: st.DrawFn) -> tuple[str, Range]:
    """Draw a value's name and a range that suits it."""
    kind = draw(st.sampled_from(["one of", "span", "whole", "doubling", "step"]))
    if kind == "one of":
        return "width", OneOf(
            tuple(draw(st.lists(st.integers(1, 4096), min_size=2, max_size=6, unique=True))))
    if kind == "span":
        low = draw(st.floats(1e-9, 1.0))
        return "learning_rate", Span(low, low * draw(st.floats(1.5, 900.0)), draw(st.booleans()))
    low_whole = draw(st.integers(1, 50))
    if kind == "whole":
        return "width", Whole(low_whole, low_whole + draw(st.integers(1, 900)), draw(st.booleans()))
    if kind == "doubling":
        return "width", Ladder(low_whole, low_whole * 2 ** draw(st.integers(1, 6)))
    step = draw(st.integers(1, 9))
    return "width", Ladder(low_whole, low_whole + step * draw(st.integers(1, 30)), step)


class RoundTrip(unittest.TestCase):
    @given(ranges())
    def test_what_is_written_reads_back_as_equal(self, drawn: tuple[str, Range]) -> None:
        name, values = drawn
        self.assertEqual(parse_range(name, str(values))[0], values)

    @given(st.floats(allow_nan=False, allow_infinity=False))
    def test_numbers_are_written_exactly(self, value: float) -> None:
        self.assertEqual(float(written(value)), value)

    @given(ranges(), st.floats(0, 1, exclude_max=True))
    def test_every_point_of_the_unit_interval_is_in_the_range(self, drawn: tuple[str, Range],
                                                              u: float) -> None:
        _, values = drawn
        self.assertIn(values.at(u), values)

    @given(ranges(), st.integers(2, 9))
    def test_grids_lie_in_the_range_without_repeats(self, drawn: tuple[str, Range],
                                                    points: int) -> None:
        _, values = drawn
        grid = values.grid(points)
        self.assertEqual(len(set(grid)), len(grid))
        for value in grid:
            self.assertIn(value, values)

    def test_a_logarithmic_span_is_even_in_the_logarithm(self) -> None:
        self.assertAlmostEqual(float(Span(1e-4, 1e-2, True).at(0.5)), 1e-3)
        self.assertEqual(Span(1e-4, 1.0, True).grid(5), (1e-4, 1e-3, 1e-2, 1e-1, 1.0))
