"""The sheet's lines: every value edited by one text."""

from __future__ import annotations

import unittest

from hypothesis import given
from hypothesis import strategies as st

from axiarch.errors import InputError, NotationError
from axiarch.recipes.fields import FIELDS
from axiarch.recipes.searchfile import SearchFile, read_search, write_search
from axiarch.recipes.space import space
from axiarch.tui.views.sheet_rows import Line, edited, lines, meaning, shown_lines, terms, toggled

SEARCH = SearchFile("s", "d", space({"width": 32}, {"optimiser": "sgd | momentum"}))


def line(search: SearchFile, key: str) -> Line:
    """Return a line by its key."""
    return next(each for each in lines(search) if each.key == key)


class Lines(unittest.TestCase):
    def test_every_value_of_a_recipe_has_a_line(self) -> None:
        keys = [each.key for each in lines(SEARCH)]
        self.assertEqual(keys[: len(FIELDS)], list(FIELDS))
        self.assertEqual(len(set(keys)), len(keys))

    def test_values_without_effect_are_not_shown_unless_they_vary(self) -> None:
        keys = [each.key for each in shown_lines(SEARCH)]
        self.assertIn("momentum", keys)
        self.assertNotIn("step_epochs", keys)
        cooled = edited(SEARCH, line(SEARCH, "schedule"), "constant | step")
        self.assertIn("step_epochs", [each.key for each in shown_lines(cooled)])

    def test_a_line_shows_value_and_range(self) -> None:
        self.assertEqual((line(SEARCH, "width").base, line(SEARCH, "width").varies), ("32", ""))
        self.assertEqual(line(SEARCH, "optimiser").varies, "sgd | momentum")

    def test_what_has_no_effect_is_known(self) -> None:
        self.assertTrue(line(SEARCH, "momentum").applies)
        self.assertFalse(line(SEARCH, "rate_decay").applies)

    def test_every_value_has_a_usual_range(self) -> None:
        for name in FIELDS:
            self.assertTrue(
                line(toggled(SEARCH, line(SEARCH, name)), name).varies or name == "optimiser", name)


class Edits(unittest.TestCase):
    def test_a_value_sets_the_base_and_a_range_lets_it_vary(self) -> None:
        fixed = edited(SEARCH, line(SEARCH, "width"), "48")
        self.assertEqual(fixed.space.base["width"], 48)
        varied = edited(fixed, line(fixed, "width"), "8 .. 64 doubling")
        self.assertEqual(varied.space.base["width"], 48)
        self.assertEqual(str(varied.space.varied("width")), "8 .. 64 doubling")
        again = edited(varied, line(varied, "width"), "16")
        self.assertIsNone(again.space.varied("width"))

    def test_a_range_edited_keeps_its_place(self) -> None:
        two = edited(SEARCH, line(SEARCH, "width"), "8 | 16")
        same = edited(two, line(two, "optimiser"), "sgd | adam")
        self.assertEqual([k.name for k in same.space.knobs], ["optimiser", "width"])

    def test_toggling_twice_is_no_change(self) -> None:
        once = toggled(SEARCH, line(SEARCH, "dropout"))
        self.assertEqual(toggled(once, line(once, "dropout")), SEARCH)

    def test_the_search_around_the_recipe(self) -> None:
        self.assertEqual(edited(SEARCH, line(SEARCH, "repeats"), "5").repeats, 5)
        self.assertEqual(
            edited(SEARCH, line(SEARCH, "recipes"), "9").method.options, {"recipes": 9})
        grid = edited(SEARCH, line(SEARCH, "method"), "grid")
        self.assertEqual((grid.method.name, line(grid, "points").base), ("grid", "5"))
        limited = edited(SEARCH, line(SEARCH, "constraints"), "width * depth <= 64, depth > 0")
        self.assertEqual(len(limited.space.constraints), 2)
        self.assertEqual(
            edited(limited, line(limited, "constraints"), "none").space.constraints, ())

    def test_mistakes_change_nothing_and_are_marked(self) -> None:
        for key, text in (("width", "8 .."), ("repeats", "0"), ("repeats", "x"),
                          ("method", "magic"), ("recipes", "0"), ("constraints", "wid < 3"),
                          ("name", ""), ("seed", "-1")):
            with self.subTest(key=key), self.assertRaises(InputError):
                edited(SEARCH, line(SEARCH, key), text)

    def test_a_condition_that_waits_for_itself_is_refused(self) -> None:
        with self.assertRaises(InputError):
            edited(SEARCH, line(SEARCH, "optimiser"), "sgd | adam when optimiser = sgd")

    @given(st.sampled_from([each.key for each in lines(SEARCH)]), st.text(max_size=20))
    def test_whatever_is_typed_gives_a_search_that_can_be_kept_or_a_message(
            self, key: str, text: str) -> None:
        try:
            found = edited(SEARCH, line(SEARCH, key), text)
        except InputError:
            return
        self.assertEqual(read_search(write_search(found)), found)


class Meanings(unittest.TestCase):
    def test_unit_default_and_bounds_of_a_value_are_said(self) -> None:
        said = terms(line(SEARCH, "batch_size"))
        for words in ("Rows. ", "Default 32", "a whole number from 1"):
            self.assertIn(words, said)
        self.assertIn("one of sgd", terms(line(SEARCH, "optimiser")))

    def test_what_is_typed_is_explained(self) -> None:
        self.assertIn("8 16 32", meaning(line(SEARCH, "width"), "8 .. 32 doubling"))
        self.assertIn("continuum", meaning(line(SEARCH, "learning_rate"), "1e-3 .. 1e-1 log"))
        self.assertIn("fixed at 7", meaning(line(SEARCH, "width"), "7"))
        self.assertIn("only when",
                      meaning(line(SEARCH, "momentum"), "0.1 .. 0.9 when optimiser = momentum"))
        with self.assertRaises(NotationError):
            meaning(line(SEARCH, "width"), "x")
