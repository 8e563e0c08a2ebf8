"""What earlier versions called values and choices is still read, in files and journals."""

from __future__ import annotations

import unittest

from axiarch.recipes.constraints import parse_constraint
from axiarch.recipes.fields import EARLIER_NAMES, FIELDS
from axiarch.recipes.notation import parse
from axiarch.recipes.recipe import Recipe
from axiarch.recipes.searchfile import read_search, write_search


class EarlierNames(unittest.TestCase):
    def test_every_one_is_a_value_of_now_and_none_is_both(self) -> None:
        self.assertLessEqual(set(EARLIER_NAMES.values()), set(FIELDS))
        self.assertFalse(set(EARLIER_NAMES) & set(FIELDS))

    def test_recipes_ranges_conditions_and_constraints_are_read(self) -> None:
        self.assertEqual(Recipe({"schedule": "stalled", "stall": 3, "averaging": 0.9}),
                         Recipe({"schedule": "plateau", "plateau_patience": 3,
                                 "weight_averaging": 0.9}))
        when = parse("rate_decay", "0.5 .. 0.9 when schedule = stalled").when
        assert when is not None
        self.assertTrue(when.holds({"schedule": "plateau"}))
        self.assertEqual(str(parse("power", "1 | 2 when stair > 4").when), "step_epochs > 4")
        self.assertEqual(str(parse_constraint("epochs * accumulation <= 80")),
                         "epochs * gradient_accumulation <= 80")

    def test_a_search_file_is_written_with_the_names_of_now(self) -> None:
        search = read_search('[recipe]\nmost_gap = 0.5\n[vary]\nmixing = "0 .. 0.4"\n')
        text = write_search(search)
        self.assertIn("max_gap", text)
        self.assertIn("mixup", text)
        self.assertNotIn("most_gap", text)
        self.assertEqual(read_search(text), search)


if __name__ == "__main__":
    unittest.main()
