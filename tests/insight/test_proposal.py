"""Proposals: what they change, how it is shown before, and ranges that are widened."""

from __future__ import annotations

import unittest

from axiarch.insight.proposal import Change
from axiarch.insight.widening import can_widen, widened
from axiarch.recipes.searchfile import SearchFile
from axiarch.recipes.space import knob, space


class Changes(unittest.TestCase):
    search = SearchFile("x", "d", space({"epochs": 9, "dropout": 0.2}, {
        "learning_rate": "1e-4 .. 1e-2 log", "width": "8 | 16"}))

    def test_values_are_fixed_ranges_vary_and_the_rest_stays(self) -> None:
        change = Change("Try", {"learning_rate": 3e-4}, {"dropout": "0 .. 0.5"})
        after = change.applied(self.search).space
        self.assertEqual(after.base["learning_rate"], 3e-4)
        self.assertIsNone(after.varied("learning_rate"))
        self.assertEqual({k.name: str(k) for k in after.knobs},
                         {"width": "8 | 16", "dropout": "0 .. 0.5"})
        self.assertEqual(change.preview(self.search),
                         ["learning rate: 0.0001 .. 0.01 log → 0.0003", "dropout: 0.2 → 0 .. 0.5"])

    def test_what_is_so_already_is_not_shown(self) -> None:
        self.assertEqual(Change("Try", {"dropout": 0.2}).preview(self.search), [])


class Widening(unittest.TestCase):
    def test_every_kind_of_range(self) -> None:
        for name, text, edge, wanted in (
                ("learning_rate", "1e-4 .. 1e-2 log", "high", "0.0001 .. 0.1 log"),
                ("learning_rate", "1e-4 .. 1e-2 log", "low", "1e-5 .. 0.01 log"),
                ("dropout", "0.1 .. 0.5", "low", "0 .. 0.5"),
                ("dropout", "0.1 .. 0.9", "high", "0.1 .. 0.95"),
                ("depth", "1 .. 4", "high", "1 .. 6"),
                ("width", "8 .. 64 doubling", "high", "8 | 16 | 32 | 64 | 128 | 256"),
                ("width", "16 | 32", "low", "4 | 8 | 16 | 32"),
                ("batch_size", "1 | 2 | 4", "low", "1 | 2 | 4"),
                ("momentum", "0.8 .. 0.9 when optimiser = momentum", "low",
                 "0.75 .. 0.9 when optimiser = momentum")):
            found = widened(knob(name, text), edge)  # type: ignore[arg-type]
            self.assertEqual(found, wanted)
            self.assertEqual(str(knob(name, found)), wanted)  # it reads back

    def test_a_bound_of_the_value_cannot_be_passed(self) -> None:
        self.assertFalse(can_widen(knob("dropout", "0 .. 0.5"), "low"))
        self.assertTrue(can_widen(knob("dropout", "0 .. 0.5"), "high"))


if __name__ == "__main__":
    unittest.main()
