"""The ranking by commands: sorted, filtered, extended, explained."""

from __future__ import annotations

import json
import shutil
import unittest

from tests.cli.test_cli import CliCase
from tests.support import finished_workspace


class Ranking(CliCase):
    def setUp(self) -> None:
        super().setUp()
        shutil.copytree(finished_workspace(), self.folder / "w")
        self.work = ("--workspace", str(self.folder / "w"))

    def listed(self, *words: str) -> list[dict[str, object]]:
        """Return the recipes that the ranking lists."""
        found = json.loads(self.cli("ranking", *self.work, *words, "--json").stdout)
        return list(found["ranking"])

    def test_it_is_sorted_and_filtered(self) -> None:
        rows = self.listed("--sort", "parameters")
        sizes = [row["parameters"] for row in rows]
        self.assertEqual(sizes, sorted(sizes))  # type: ignore[type-var]
        self.assertEqual(self.listed("--where", "width < 0"), [])
        self.assertLess(len(self.listed("--unbeaten", "parameters")), len(rows) + 1)
        self.assertIn("tied", self.cli("ranking", *self.work, "--unbeaten", "time").stdout)
        for wrong in (("--where", "wide = 3"), ("--sort", "beauty")):
            self.assertIn("remedy", self.cli("ranking", *self.work, *wrong, code=2).stderr)

    def test_every_row_says_how_sure_it_is(self) -> None:
        row = self.listed()[0]
        self.assertEqual(row["standing"], "leader")
        for name in ("half_width", "half_width_seeds", "half_width_rows"):
            self.assertIsInstance(row[name], float, name)
        found = json.loads(self.cli("ranking", *self.work, "--json").stdout)
        self.assertEqual(set(found["leader_compared_with"]), {"baseline", "linear model"})

    def test_more_seeds_by_a_command(self) -> None:
        before = self.listed()
        said = self.cli("seeds", "2", str(before[0]["recipe"]), *self.work).stdout
        self.assertIn("2 more seeds", said)
        after = {row["recipe"]: row for row in self.listed()}
        self.assertEqual(after[before[0]["recipe"]]["repeats"], before[0]["repeats"] + 2)  # type: ignore
        self.assertEqual(after[before[0]["recipe"]]["confirmed"]["runs"], 2)  # type: ignore[index]

    def test_a_finished_search_says_how_to_extend_it_and_that_works(self) -> None:
        refused = self.cli("resume", "1", *self.work, code=3).stderr
        remedy = refused.split("extend it: axiarch ")[1].split("\n")[0]
        self.assertIn("more seed", self.cli(*remedy.split(), *self.work).stdout)

    def test_effects_of_too_few_recipes_are_refused_with_a_remedy(self) -> None:
        self.assertIn("train at least 8", self.cli("effects", *self.work, code=4).stderr)


if __name__ == "__main__":
    unittest.main()
