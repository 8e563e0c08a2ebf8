"""From the demo data to a ranked list and its exports, by keyboard in a real terminal."""

from __future__ import annotations

import csv
import re
import time
import unittest

from axiarch import workflows
from axiarch.journal.workspace import Workspace
from tests.journeys.terminal import TerminalCase
from tests.support import until


class FirstLook(TerminalCase):
    def test_start_choose_run_rank_open_a_recipe_export(self) -> None:
        place = self.folder / "demo"
        terminal = self.open("demo", "-w", str(place))
        self.wait(terminal, "3000 rows", "The baseline to beat", "humidity_percent")
        terminal.press("n")
        self.wait(terminal, "138 runs")
        # choose: twelve recipes, and no more than twenty epochs
        terminal.press(*["Down"] * 10, "Enter")
        self.wait(terminal, "epochs, now 40: passes over the training rows")
        terminal.press("BSpace", "BSpace")
        terminal.type("2x")
        self.wait(terminal, "not a number")
        terminal.press("BSpace", "BSpace")
        terminal.type("20")
        terminal.press("Enter")
        terminal.press("End", *["Up"] * 11, "Enter")
        self.wait(terminal, "recipes, now 120: recipes at the most")
        terminal.press("BSpace", "BSpace", "BSpace")
        terminal.type("12")
        terminal.press("Enter")
        self.wait(terminal, "22 runs")
        # run
        terminal.press("s")
        self.wait(terminal, "training now")
        self.wait(terminal, "epochs in")
        # rank
        terminal.press("n")
        self.wait(terminal, "differs from the leader in")
        terminal.press("e")
        self.wait(terminal, "Written:")
        # open a recipe
        terminal.press("Escape", "Down", "Enter")
        screen = self.wait(terminal, "gap: validation minus training loss", "Place 2 of ")
        found = re.search(r"Place 2 of (\d+)", screen)
        assert found is not None
        full = int(found[1])
        self.assertLessEqual(full, 12)
        terminal.press("e")
        self.wait(terminal, "Written:")
        terminal.press("q")
        until(lambda: not terminal.alive(), what="the program's end")
        self.check_exports(place / "exports", full)
        # come back: everything is still there
        again = self.open("-w", str(place))
        self.wait(again, "12 recipes")

    def check_exports(self, exports: object, full: int) -> None:
        """The exported files hold what the screen showed."""
        from pathlib import Path

        assert isinstance(exports, Path)
        with (exports / "search-1-ranking.csv").open() as file:
            rows = list(csv.DictReader(file))
        self.assertEqual(len(rows), full)
        losses = [float(row["steady validation loss (nats)"]) for row in rows]
        self.assertEqual(losses, sorted(losses))
        self.assertIn("<svg", (exports / "search-1-ranking.svg").read_text())
        self.assertTrue((exports / "search-1-ranking.pdf").read_bytes().startswith(b"%PDF"))
        self.assertEqual(len(list(exports.glob("search-1-recipe-*.svg"))), 1)


class LostTerminal(TerminalCase):
    def test_closing_the_terminal_does_not_end_a_search(self) -> None:
        place = self.folder / "demo"
        workspace = workflows.make_demo(place)
        terminal = self.open("-w", str(place))
        self.wait(terminal, "3000 rows")
        terminal.press("2")
        self.wait(terminal, "138 runs")
        terminal.press("s")
        self.wait(terminal, "training now")
        terminal.hang_up()
        time.sleep(0.5)
        self.assertIsNotNone(Workspace.open(place).owner())
        again = self.open("-w", str(place))
        self.wait(again, "search 1")
        self.assertEqual(workflows.wait(workspace, 1).search.state, "done")
        self.wait(again, "epochs in")

    def test_a_small_terminal_is_enough(self) -> None:
        place = self.folder / "demo"
        workflows.make_demo(place)
        terminal = self.open("-w", str(place), size=(80, 24))
        self.wait(terminal, "3000 rows")
        terminal.press("2")
        self.wait(terminal, "138 runs", "q quit", "learning rate")


if __name__ == "__main__":
    unittest.main()
