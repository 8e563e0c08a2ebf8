"""Numbers people can read, and text that cannot act."""

from __future__ import annotations

import unicodedata
import unittest

from hypothesis import given
from hypothesis import strategies as st

from axiarch import text as plain
from axiarch.errors import DataError, NotationError


class Shown(unittest.TestCase):
    @given(st.text())
    def test_no_control_character_survives(self, text: str) -> None:
        for character in plain.shown(text):
            self.assertNotIn(unicodedata.category(character), {"Cc", "Cf", "Cs"})

    @given(st.text(), st.integers(0, 40))
    def test_a_limit_is_kept(self, text: str, limit: int) -> None:
        self.assertLessEqual(len(plain.shown(text, limit)), max(limit, 1))

    def test_escape_sequences_are_drawn(self) -> None:
        self.assertEqual(plain.shown("a\x1b[31mb\x7f"), "a␛[31mb␡")

    def test_direction_marks_are_replaced(self) -> None:
        self.assertNotIn("\u202e", plain.shown("abc\u202edef"))


class Cells(unittest.TestCase):
    def test_formulas_are_made_text(self) -> None:
        for text in ("=1+1", "+cmd", "-x", "@sum", "=HYPERLINK(\"x\")"):
            self.assertTrue(plain.cell(text).startswith("'"), text)

    def test_negative_numbers_stay_numbers(self) -> None:
        self.assertEqual(plain.cell("-1.5e-3"), "-1.5e-3")

    def test_plain_words_stay(self) -> None:
        self.assertEqual(plain.cell("settled"), "settled")


class Numbers(unittest.TestCase):
    def test_four_significant_digits_at_most(self) -> None:
        known = {
            0.0: "0", 1e-12: "1e-12", 0.00123456: "0.001235", 3.14159: "3.142", 123456: "123 456",
            1234567.8: "1.235e6", -0.5: "-0.5", 1e-4: "1e-4",
            float("inf"): "not finite"
        }
        for value, text in known.items():
            self.assertEqual(plain.number(value), text)
        self.assertEqual(plain.number(None), "–")

    def test_a_large_number_is_rounded_and_written_out(self) -> None:
        self.assertEqual([plain.number(value, 2) for value in (137.4, -1380.0, 99.9, 23456.7)],
                         ["140", "-1400", "100", "23 000"])

    def test_nothing_is_below_zero_by_less_than_is_shown(self) -> None:
        self.assertEqual((plain.measured("R²", -1e-5), plain.share(-1e-6)), ("0.000", "0.0 %"))

    def test_losses_have_four_decimals_where_those_say_something(self) -> None:
        self.assertEqual(plain.loss(0.41234), "0.4123")
        self.assertEqual(plain.loss(1.2e-7), "1.2e-7")
        self.assertEqual(plain.loss(float("nan")), "not finite")

    def test_durations_come_in_the_unit_people_use(self) -> None:
        known = {0.2: "200 ms", 12.4: "12 s", 600: "10 min", 7200: "2.0 h", 86400 * 3: "3.0 days"}
        for seconds, text in known.items():
            self.assertEqual(plain.duration(seconds), text)
        self.assertEqual(plain.duration(None), "unknown")

    def test_counts(self) -> None:
        self.assertEqual(plain.count(1, "class", "classes"), "1 class")
        self.assertEqual(plain.count(2, "class", "classes"), "2 classes")
        self.assertEqual(plain.count(12000, "run"), "12 000 runs")

    def test_memory(self) -> None:
        self.assertEqual(plain.memory(3 << 20), "3 MiB")
        self.assertEqual(plain.memory(5 << 30), "5.0 GiB")


class Errors(unittest.TestCase):
    def test_an_error_reads_as_place_cause_and_remedy(self) -> None:
        error = DataError("the file is empty", "a.csv", "give rows")
        self.assertEqual(str(error), "a.csv: the file is empty – give rows")
        self.assertEqual(str(error.at("here")), "here, a.csv: the file is empty – give rows")

    def test_a_notation_error_points(self) -> None:
        self.assertEqual(NotationError("abc", 1, "what").marked(), "abc\n ^")
