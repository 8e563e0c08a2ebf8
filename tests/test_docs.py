"""What the docs say is what is: the table of values, links, and pictures that the README shows."""

from __future__ import annotations

import re
import unittest
from pathlib import Path

from axiarch.recipes.fields import FIELDS
from tools.value_table import rows

ROOT = Path(__file__).resolve().parent.parent


class Docs(unittest.TestCase):
    def test_the_table_of_values_is_that_of_the_fields(self) -> None:
        text = (ROOT / "docs" / "search-files.md").read_text(encoding="utf-8")
        self.assertIn("\n".join(rows()), text, "python -m tools.value_table prints it")
        self.assertEqual(len(rows()), len(FIELDS) + 2)

    def test_links_lead_somewhere_and_every_picture_is_linked(self) -> None:
        linked = set()
        for page in (ROOT / "README.md", *(ROOT / "docs").glob("*.md")):
            for link in re.findall(r"\]\(([^)#]+)", page.read_text(encoding="utf-8")):
                target = (page.parent / link).resolve()
                linked.add(target)
                with self.subTest(page=page.name, link=link):
                    self.assertTrue(target.exists())
        for picture in (ROOT / "docs" / "screenshots").glob("*.png"):
            self.assertIn(picture.resolve(), linked)


if __name__ == "__main__":
    unittest.main()
