"""The network line: read into layers, refused at the word, its shapes derived."""

from __future__ import annotations

import itertools
import unittest
from pathlib import Path

from hypothesis import given
from hypothesis import strategies as st

from axiarch.errors import NotationError, RecipeError
from axiarch.recipes.fields import FIELDS
from axiarch.recipes.layers import Layer
from axiarch.recipes.members import ACTIVATIONS
from axiarch.recipes.network import HIDDEN, funnel, parse_network, place_of, shapes_of
from axiarch.recipes.notation import parse
from axiarch.recipes.recipe import Recipe


class Reading(unittest.TestCase):
    def test_what_each_part_means(self) -> None:
        cases = {
            "64": (Layer("dense", 64), ),
            "2 of 8": (Layer("dense", 8), ) * 2,
            "hidden": (HIDDEN, ),
            "3 narrowing from 10": (Layer("dense", 10), Layer("dense", 5), Layer("dense", 2)),
            "conv 8": (Layer("conv", 8, 3), ),
            "2 of conv 4 valid": (Layer("conv", 4, 3, valid=True), ) * 2,
            "conv 8 size 5 stride 2 tanh": (Layer("conv", 8, 5, 2, activation="tanh"), ),
            "pool 2, mean pool 3": (Layer("pool", 0, 2), Layer("mean pool", 0, 3)),
            "16 batch norm drop 0.25 residual": (Layer("dense",
                                                       16,
                                                       norm="batch",
                                                       drop=0.25,
                                                       residual=True), ),
            "16 no norm": (Layer("dense", 16, norm="none"), ),
            "2 narrowing from 8 tanh, 3": (Layer("dense", 8, activation="tanh"),
                                           Layer("dense", 4, activation="tanh"), Layer("dense", 3)),
        }
        for text, wanted in cases.items():
            with self.subTest(text=text):
                self.assertEqual(parse_network(text), wanted)

    def test_mistakes_are_marked_at_the_word(self) -> None:
        for text, word, remedy in (("64, cnov 8", "cnov", "conv 16"), ("conv", "", "channels"),
                                   ("64 rleu", "rleu",
                                    "activation"), ("pool 2 tanh", "tanh",
                                                    "nothing"), ("64 size 3", "size", "activation"),
                                   ("conv 8 drop 2", "2", "0.95"), ("0", "0", "such as"),
                                   ("hidden tanh", "tanh", "recipe"), ("64,, 8", "", "layer"),
                                   ("3 narrowing from", "", "width"), ("400 of 64", "400", "256"),
                                   ("conv 8 stride x", "x", "16"), ("64 batch nrm", "nrm",
                                                                    "batch norm"), ("64 no", "",
                                                                                    "norm")):
            with self.subTest(text=text), self.assertRaises(NotationError) as caught:
                parse_network(text)
            error = caught.exception
            if word:
                self.assertTrue(text[error.position :].startswith(word), error.marked())
            self.assertIn(remedy, error.remedy)

    @given(st.text(alphabet="conv pl ofm,64drsiate ngu0.2|", max_size=40))
    def test_any_text_is_read_or_refused_in_words(self, text: str) -> None:
        try:
            parse_network(text)
        except NotationError as error:
            self.assertLessEqual(error.position, len(text))
            self.assertTrue(error.what and error.remedy)

    def test_several_lines_are_a_range(self) -> None:
        found = parse("network", "hidden | conv 8,  pool 2 | 3 of 16")
        self.assertEqual(getattr(found.range, "values", None),
                         ("hidden", "conv 8, pool 2", "3 of 16"))
        self.assertEqual(parse("network", "64,32").value, "64, 32")
        with self.assertRaises(NotationError) as caught:
            parse("network", "hidden | 64 rleu")
        self.assertEqual(caught.exception.position, len("hidden | 64 "))


class Documented(unittest.TestCase):
    def test_every_value_of_a_recipe_is_in_the_guide_with_its_default_and_choices(self) -> None:
        text = (Path(__file__).resolve().parents[2] / "docs" /
                "search-files.md").read_text(encoding="utf-8")
        rows = {
            line.split("|")[2].strip(" `"): line
            for line in text.splitlines()
            if line.startswith("|")
        }
        for field in FIELDS.values():
            self.assertIn(field.summary.replace("|", "\\|"), rows[field.name])
            for choice in field.choices:
                self.assertIn(choice, rows[field.name])


class Building(unittest.TestCase):
    def test_knobs_fill_what_a_line_leaves_open(self) -> None:
        made = Recipe({
            "network": "conv 4, 16 tanh, hidden", "depth": 2, "width": 8, "shape": "funnel",
            "normalisation": "layer", "activation": "gelu"
        }).layers
        self.assertEqual([layer.units for layer in made], [4, 16, 8, 4])
        self.assertEqual([layer.activation for layer in made], ["gelu", "tanh", "gelu", "gelu"])
        self.assertEqual({layer.norm for layer in made}, {"layer"})

    def test_shapes_follow_from_layer_to_layer(self) -> None:
        layers = Recipe(
            {"network": "conv 8, pool 2, conv 16 valid stride 2, mean pool 3, 10"}).layers
        self.assertEqual(shapes_of(layers, (16, 15, 1)),
                         ((16, 15, 8), (8, 7, 8), (3, 3, 16), (1, 1, 16), (10, )))

    def test_an_impossible_network_names_layer_and_sizes(self) -> None:
        for line, inputs, words, place in (("pool 2, pool 8", (8, 8, 1), "4 x 4", "layer 2"),
                                           ("64, conv 8", (8, 8, 1), "64 numbers", "layer 2"),
                                           ("conv 8", (21,), "21 numbers", "layer 1"),
                                           ("conv 8 size 9 valid", (8, 8, 1), "8 x 8", "layer 1")):
            with self.subTest(line=line), self.assertRaises(RecipeError) as caught:
                shapes_of(Recipe({"network": line}).layers, inputs)
            self.assertIn(words, caught.exception.what)
            self.assertIn(place, caught.exception.where)
            self.assertEqual(f"layer {caught.exception.layer}", place)

    def test_the_part_that_makes_a_layer_is_found(self) -> None:
        text = "2 of conv 8,  hidden, 4 narrowing from 32, pool 2"
        starts = [text[place_of(text, number, 3) :].split(",")[0] for number in range(1, 11)]
        self.assertEqual(
            starts, ["2 of conv 8"] * 2 + ["hidden"] * 3 + ["4 narrowing from 32"] * 4 + ["pool 2"])

    @given(st.integers(1, 999), st.integers(0, 12))
    def test_a_funnel_halves_and_never_ends_in_nothing(self, width: int, depth: int) -> None:
        found = funnel(width, depth)
        self.assertEqual(len(found), depth)
        self.assertTrue(all(a >= b >= 1 for a, b in itertools.pairwise(found)))

    def test_every_activation_can_be_written_behind_a_layer(self) -> None:
        for name in ACTIVATIONS:
            self.assertEqual(Recipe({"network": f"4 {name}"}).layers[0].activation, name)


if __name__ == "__main__":
    unittest.main()
