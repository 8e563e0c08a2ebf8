"""Commands on what was learnt and what to try next."""

from __future__ import annotations

import json
import shutil
import unittest

from tests.cli.test_cli import CliCase
from tests.support import finished_workspace

BAD = """
name = "slow"
data = "ring"
seed = 3
[method]
name = "grid"
[recipe]
epochs = 12
learning_rate = 1e-6
patience = 0
width = 16
batch_size = 16
"""


class Learning(CliCase):
    def setUp(self) -> None:
        super().setUp()
        shutil.copytree(finished_workspace(), self.folder / "w")
        self.work = ("--workspace", str(self.folder / "w"))
        (self.folder / "bad.toml").write_text(BAD, encoding="utf-8")

    def test_from_a_bad_recipe_to_a_better_one_as_the_output_says(self) -> None:
        self.cli("search", str(self.folder / "bad.toml"), *self.work)
        said = self.cli("diagnose", *self.work).stdout
        self.assertIn("learning rate is too low", said)
        remedy = said.split("to try the first change: axiarch ")[1].split("\n")[0]
        self.assertIn("[vary]", self.cli(*remedy.split(), "--dry-run", *self.work).stdout)
        self.assertIn("better than the base recipe",
                      self.cli(*remedy.split(), *self.work).stdout)
        self.assertIn("└─ 3", self.cli("lineage", *self.work).stdout)
        found = json.loads(self.cli("lineage", *self.work, "--json").stdout)
        self.assertEqual([(d["number"], d["depth"]) for d in found], [(1, 0), (2, 0), (3, 1)])
        found = json.loads(self.cli("diagnose", "--search", "2", *self.work, "--json").stdout)
        self.assertEqual(found[0]["name"], "rate_low")

    def test_the_same_search_again_is_taken_over_unless_that_is_refused(self) -> None:
        file = str(self.folder / "bad.toml")
        self.cli("search", file, *self.work)
        self.cli("search", file, *self.work)
        self.cli("search", file, "--earlier", "ignore", *self.work)
        epochs = [json.loads(self.cli("status", str(n), *self.work, "--json").stdout)["epochs"]
                  for n in (2, 3, 4)]
        self.assertEqual(epochs, [24, 0, 24])

    def test_effects_are_exported(self) -> None:
        (self.folder / "more.toml").write_text(
            'name = "more"\ndata = "ring"\nrepeats = 1\n[method]\nname = "random"\nrecipes = 12\n'
            '[recipe]\nepochs = 4\nwidth = 8\nbatch_size = 16\n[vary]\n'
            'learning_rate = "1e-3 .. 1e-1 log"\noptimiser = "sgd | adam"\nwidth = "4 | 8"\n',
            encoding="utf-8")
        self.cli("search", str(self.folder / "more.toml"), *self.work)
        for ending in ("svg", "pdf", "csv"):
            self.cli("export", "effects", str(self.folder / f"e.{ending}"), *self.work)
            self.assertGreater((self.folder / f"e.{ending}").stat().st_size, 300)
        self.assertIn("By accuracy recipe",
                      self.cli("ranking", "2", "--by", "accuracy", *self.work).stdout)

    def test_notes(self) -> None:
        self.cli("note", "Wide\x1b[31m works", "--recipe", "2", *self.work)
        said = self.cli("notes", "wide", *self.work).stdout
        self.assertIn("search 1, recipe 2", said)
        self.assertNotIn("\x1b", said)
        self.assertIn("No note holds these words", self.cli("notes", "deep", *self.work).stdout)
        self.cli("note", "x", "--recipe", "99", *self.work, code=3)

    def test_a_search_without_a_result_says_what_can_be_done(self) -> None:
        wild = BAD.replace("1e-6", "1000.0\noptimiser = 'sgd'\ndepth = 4")
        (self.folder / "wild.toml").write_text(wild, encoding="utf-8")
        self.cli("search", str(self.folder / "wild.toml"), *self.work)
        page = str(self.folder / "page.html")
        for words in (("report", page), ("capacity", "--start"), ("seeds", "1"),
                      ("export", "chart", page[:-4] + "svg")):
            said = self.cli(*words, *self.work, code=4).stderr
            self.assertIn("all runs diverged or failed", said)
            self.assertIn("axiarch diagnose 1 --search 2", said)
        self.assertIn("diverged", self.cli("diagnose", "1", "--search", "2", *self.work).stdout)
        self.assertIn("No recipe has a result", self.cli("capacity", *self.work).stdout)

    def test_a_ladder_of_capacity(self) -> None:
        shown = self.cli("capacity", *self.work).stdout
        self.assertIn("beaten by no other", shown)
        found = json.loads(self.cli("capacity", *self.work, "--json").stdout)
        self.assertFalse(found["ladder"])
        for ending in ("svg", "pdf", "csv"):
            self.cli("export", "tradeoffs", str(self.folder / f"t.{ending}"), *self.work)
            self.assertGreater((self.folder / f"t.{ending}").stat().st_size, 300)
        self.assertIn("knee", (self.folder / "t.csv").read_text(encoding="utf-8").split("\n")[0])
        self.cli("export", "tradeoffs", str(self.folder / "t.txt"), *self.work, code=2)
        refused = self.cli("capacity", "1", *self.work, code=2).stderr
        self.assertIn("climb it with --start, or name a search with --search", refused)
        said = self.cli("capacity", "1", "--start", *self.work).stdout
        self.assertIn("linear", said)
        self.assertIn("The knee is recipe", said)


if __name__ == "__main__":
    unittest.main()
