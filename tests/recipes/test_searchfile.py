"""Search files: written, read back, and refused with the line and the key."""

from __future__ import annotations

import unittest

from hypothesis import given
from hypothesis import strategies as st

from axiarch.errors import SearchFileError
from axiarch.recipes.searchfile import MethodChoice, SearchFile, Start, read_search, write_search
from axiarch.recipes.space import space
from tests.recipes.test_notation import ranges

FULL = SearchFile(
    "a look", "hive-states",
    space({"epochs": 30}, {
        "learning_rate": "1e-4 .. 1e-1 log", "optimiser": "sgd | momentum",
        "momentum": "0.8 .. 0.99 when optimiser = momentum"
    }, ["width * depth <= 1024"]), MethodChoice("random", {"recipes": 12}), 7, 3)

#: text, the line named, words of the message.
WRONG = (
    ("name = 3", "line 1, name", "text in quotes"),
    ("seed = 1\nnam = 'x'", "line 2, nam", "name"),
    ("[recipe]\nwidht = 3", "line 2, [recipe] widht", "width"),
    ("[recipe]\nwidth = '3 | 4'", "line 2, [recipe] width", "[vary]"),
    ("[vary]\n\nwidth = '3 |'", "line 3, [vary] width", "ends too early"),
    ("[vary]\nwidth = '8 .. 500 doubling'", "line 2, [vary] width", "256 or 512"),
    ("[vary]\nmomentum = '0.1 .. 2'", "line 2, [vary] momentum", "out of bounds"),
    ("seed = -1", "line 1, seed", "give 0 or more"),
    ("repeats = 0", "line 1, repeats", "give 1 or more"),
    ("[recipe]\nwidth = 3.5", "line 2, [recipe] width", "whole"),
    ("constraints = ['width*deth < 3']", "line 1, constraints", "deth"),
    ("x", "search file", "not TOML"),
    ("[start]\nsearch = 1", "line 1, [start]", "search and run"),
    ("[start]\nsearch = 1\nrun = 2\nmodel = 'x'", "line 1, [start]", "or model"),
    ("format = 99", "line 1, format", "99"),
    ("[method]\nname = 4", "line 2, [method] name", "text in quotes"),
    ("method = 'grid'", "line 1, method", 'write the table [method], and name = "grid"'),
    ("vary = 3", "line 1, vary", "write the table [vary]"),
    ("seeds = 3", "line 1, seeds", "repeats = 3"),
    ("[branch]\nsearch = 1", "line 1, [branch]", "recipe is missing"),
    ("earlier = 'no'", "line 1, earlier", "'use' or 'ignore'"),
    ("[vary]\nwidth = ['8']", "line 2, [vary] width", "does not fit"),
)


class Reading(unittest.TestCase):
    def test_what_is_written_reads_back_as_equal(self) -> None:
        self.assertEqual(read_search(write_search(FULL)), FULL)
        for search in (SearchFile(), SearchFile(start=Start(3, 17, "best")),
                       SearchFile(start=Start(model="my hives"))):
            self.assertEqual(read_search(write_search(search)), search)

    @given(ranges(), st.integers(0, 2**63 - 1),
           st.text(min_size=1, max_size=20).filter(lambda t: t.isprintable()))
    def test_any_search_reads_back_as_equal(self, drawn: tuple[str, object], seed: int,
                                            name: str) -> None:
        search = SearchFile(name, "d", space({}, {drawn[0]: str(drawn[1])}), seed=seed)
        self.assertEqual(read_search(write_search(search)), search)

    def test_an_empty_file_is_all_defaults(self) -> None:
        self.assertEqual(read_search(""), SearchFile())

    def test_mistakes_name_place_and_remedy(self) -> None:
        for text, place, word in WRONG:
            with self.subTest(text=text):
                with self.assertRaises(SearchFileError) as caught:
                    read_search(text)
                error = caught.exception
                self.assertIn(place, error.where)
                self.assertIn(word, f"{error.what} {error.remedy}")
                self.assertEqual(error.exit_code, 2)
