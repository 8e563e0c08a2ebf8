"""Reports: everything a reader needs, nothing that runs, and no text of others that is more than
text.
"""

from __future__ import annotations

import contextlib
import html.parser
import shutil
import sqlite3
import unittest

from axiarch import workflows
from axiarch.errors import InputError
from axiarch.export.report import Grid, Heading, Listing, Paragraph, Points, Report, write_report
from axiarch.workflows.reporting import report_of
from tests.support import FolderCase, finished_workspace

EVIL = "<script>alert(1)</script>\x1b[31m{{ 7*7 }} $x$ & \"'\u202e"


class Page(html.parser.HTMLParser):
    """Collects the tags and the text of a page."""

    def __init__(self) -> None:
        super().__init__()
        self.tags: list[tuple[str, dict[str, str | None]]] = []
        self.text = ""

    def handle_starttag(self, tag: str, attrs: list[tuple[str, str | None]]) -> None:
        self.tags.append((tag, dict(attrs)))

    def handle_data(self, data: str) -> None:
        self.text += data


def page(text: str) -> Page:
    """Return a page, read."""
    found = Page()
    found.feed(text)
    return found


class Reports(FolderCase):
    def setUp(self) -> None:
        super().setUp()
        shutil.copytree(finished_workspace(), self.folder / "w")
        self.workspace = workflows.open_workspace(self.folder / "w")

    def test_a_colleague_finds_everything(self) -> None:
        snapshot = workflows.snapshot_of(self.workspace)
        leader = snapshot.ranking.rows[0].recipe
        workflows.open_seal(self.workspace, snapshot.dataset, "the final look", snapshot, leader)
        snapshot = workflows.snapshot_of(self.workspace)
        path = workflows.export_report(self.workspace, snapshot, self.folder / "r.html")
        found = page(path.read_text(encoding="utf-8"))
        for words in ("The answer", f"recipe {leader}", "What any recipe must beat", "baseline",
                      "linear model", "What was searched", "learning rate", "Ranking",
                      "± is half the 95 % interval", f"How recipe {leader} trained",
                      "on the validation rows", "precision", "The test rows", "opened 2 times",
                      "the final look", "What to distrust", "fresh seeds", "Settings of recipe",
                      "How to do it again", snapshot.dataset.fingerprint, 'name = "ring"',
                      "numpy 2"):
            self.assertIn(words, found.text)
        pictures = [dict(a)["src"] for t, a in found.tags if t == "img"]
        self.assertEqual(len(pictures), 3)
        for tag, attributes in found.tags:
            self.assertNotIn(tag, {"script", "link", "iframe", "object"})
            for name, value in attributes.items():
                self.assertFalse(name.startswith("on"))
                self.assertNotIn("http", value or "" if name in ("src", "href") else "")
        pdf = workflows.export_report(self.workspace, snapshot, self.folder / "r.pdf")
        self.assertEqual(pdf.read_bytes()[:5], b"%PDF-")

    def test_text_of_others_stays_text(self) -> None:
        with contextlib.closing(sqlite3.connect(self.workspace.journal)) as db, db:
            db.execute("UPDATE opening SET reason = ?", (EVIL,))
            db.execute("UPDATE search SET name = ?, why = ?", (EVIL, EVIL))
            db.execute("UPDATE run SET text = ?", (EVIL,))
        snapshot = workflows.snapshot_of(self.workspace)
        text = workflows.export_report(self.workspace, snapshot,
                                       self.folder / "r.html").read_text(encoding="utf-8")
        found = page(text)
        self.assertNotIn("script", {tag for tag, _ in found.tags})
        self.assertIn("<script>alert(1)</script>", found.text)
        self.assertIn("{{ 7*7 }}", found.text)
        self.assertTrue(all(c.isprintable() or c in "\n\t" for c in text))
        workflows.export_report(self.workspace, snapshot, self.folder / "r.pdf")

    def test_without_checkpoints_the_rest_is_written(self) -> None:
        shutil.rmtree(self.workspace.search(1) / "checkpoints")
        report = report_of(self.workspace, workflows.snapshot_of(self.workspace))
        heads = [block.text for block in report.blocks if isinstance(block, Heading)]
        self.assertNotIn("predicts", " ".join(heads))
        self.assertIn("Ranking", heads)

    def test_long_and_odd_blocks_fit_the_pages(self) -> None:
        wide = "x" * 400
        blocks = [
            Heading(EVIL),
            Paragraph("word " * 3000),
            Points([wide, EVIL, ""]),
            Listing("a\n" * 400 + wide),
            Grid(("a", "b", wide), [(wide, "1", "word " * 90)] * 60, (1, )),
            Grid(("only", ), [(wide, )])
        ]
        report = Report(wide, EVIL, blocks)
        for name in ("r.html", "r.pdf"):
            write_report(report, self.folder / name)
            self.assertGreater((self.folder / name).stat().st_size, 2000)
            with self.assertRaisesRegex(InputError, "there already"):
                write_report(report, self.folder / name)
        with self.assertRaises(InputError):
            write_report(report, self.folder / "r.docx")


if __name__ == "__main__":
    unittest.main()
