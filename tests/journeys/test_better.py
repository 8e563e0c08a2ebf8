"""From a bad recipe to a better one, by keyboard in a real terminal: probe, search, diagnose,
branch, compare.
"""

from __future__ import annotations

import unittest

from axiarch import workflows
from axiarch.recipes.searchfile import MethodChoice, SearchFile
from axiarch.recipes.space import space
from axiarch.workflows.branching import gain_over_base
from tests.journeys.terminal import TerminalCase


class Better(TerminalCase):
    def test_probe_search_diagnosis_branch_and_better_beyond_noise(self) -> None:
        place = self.folder / "demo"
        workspace = workflows.make_demo(place)
        bad = space({"epochs": 12, "learning_rate": 1e-6, "patience": 0, "width": 32})
        workflows.save_draft(workspace, SearchFile("bad", "hive states", bad, MethodChoice("grid"),
                                                   3, 2))
        terminal = self.open("-w", str(place))
        self.wait(terminal, "3000 rows")
        # the bad recipe as it is, and what is wrong with it
        terminal.press("2", "s")
        self.wait(terminal, "2 runs ended")
        terminal.press("5")
        self.wait(terminal, "learning rate is too low: ! shows remedies")
        # what a probe says beforehand
        terminal.press("2", "p")
        self.wait(terminal, "Learning rate")
        terminal.press("Enter")
        self.wait(terminal, "Enter puts it on the sheet: learning rate",
                  seconds=120)
        terminal.press("Escape")
        self.wait(terminal, gone=["Esc closes"])
        # the first remedy, in a search of its own
        terminal.press("5", "!")
        self.wait(terminal, "Raise the learning rate, because")
        terminal.press("Enter")
        self.wait(terminal, "search 2")
        found = workflows.wait(workspace, 2)
        self.assertEqual(found.search.state, "done")
        self.assertRegex(gain_over_base(found),
                         r"^an improvement of [\d.]+ ± [\d.]+ over its base$")
        # beyond noise, and where it came from
        terminal.press("4")
        self.wait(terminal, "better than the base recipe")
        terminal.press("m", "End", "m", "Enter")
        self.wait(terminal, "It is the base. ")
        terminal.press("v")
        screen = self.wait(terminal, "against A", "learning rate", "validation loss")
        self.assertLess(screen.index("learning rate"), screen.index("validation loss"))
        self.wait(terminal, "95 %: ")
        terminal.press("T")
        self.wait(terminal, "from recipe 1: the learning rate is too low")


if __name__ == "__main__":
    unittest.main()
