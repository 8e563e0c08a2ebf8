"""Tables that are not held in memory: read in pieces, a column at a time, with the same result."""

from __future__ import annotations

import unittest
from unittest import mock

import numpy as np
import polars

from axiarch.data import lines, table
from axiarch.data.building import build_dataset
from axiarch.data.plan import DataPlan, FormatOverrides, SplitPlan
from axiarch.data.reading import Reading, read_table
from axiarch.data.sealed import kept_table
from axiarch.data.table import Table
from axiarch.errors import DataError
from tests.support import FolderCase


def frame(rows: int = 900) -> polars.DataFrame:
    """Return a table whose columns change their looks half-way through."""
    rng = np.random.default_rng(0)
    return polars.DataFrame({
        "whole": [*range(rows // 2), *(i + 0.5 for i in range(rows - rows // 2))],
        "late": [None] * (rows - 200) + rng.integers(0, 9, 200).tolist(),
        "mixed": [str(i) for i in range(rows - 10)] + ["odd"] * 10,
        "quoted": [f"a, {i % 7}\nb" if i % 50 == 3 else f"c {i % 7}" for i in range(rows)],
        "when": [f"2024-0{i % 9 + 1}-11" for i in range(rows)],
        "share": [f"{v:.2f} %" for v in rng.normal(50, 9, rows)],
        "y": rng.choice(["up", "down"], rows),
    }, strict=False)


class InPieces(FolderCase):
    def setUp(self) -> None:
        super().setUp()
        for patch in (mock.patch.object(lines, "BLOCK", 4000), mock.patch.object(
                table, "HELD", 500), mock.patch.object(table, "PIECE", 2000)):
            patch.start()
            self.addCleanup(patch.stop)

    def test_a_text_read_in_pieces_is_the_text_read_at_once(self) -> None:
        frame().write_csv(self.folder / "t.csv")
        found, how = read_table(self.folder / "t.csv", how=Reading(scratch=self.folder / "s"))
        self.assertIsInstance(found.source, polars.LazyFrame)
        self.assertGreater(len(list((self.folder / "s" / "train").iterdir())), 3)
        with mock.patch.object(lines, "BLOCK", 1 << 20), mock.patch.object(table, "HELD", 10**9):
            wanted, same = read_table(self.folder / "t.csv")
        self.assertEqual(how, same)
        self.assertEqual(found.schema, wanted.schema)
        for name in found.columns:
            self.assertTrue(found.column(name).equals(wanted.column(name), null_equal=True), name)
        self.assertTrue(found.rows(100, 300).equals(wanted.rows(100, 300)))

    def test_the_data_set_is_the_same(self) -> None:
        frame().write_csv(self.folder / "t.csv")
        plan = DataPlan(("y",), split=SplitPlan(folds=2))
        found, _ = read_table(self.folder / "t.csv", how=Reading(scratch=self.folder / "s"))
        one = build_dataset(found, self.folder / "one", "d", plan=plan)
        with mock.patch.object(lines, "BLOCK", 1 << 20), mock.patch.object(table, "HELD", 10**9):
            other = build_dataset(read_table(self.folder / "t.csv")[0],
                                  self.folder / "other",
                                  "d",
                                  plan=plan)
        self.assertEqual((one.fingerprint, one.columns, one.folds, one.findings),
                         (other.fingerprint, other.columns, other.folds, other.findings))
        self.assertTrue(kept_table(one).column("share").equals(kept_table(other).column("share")))

    def test_every_other_format(self) -> None:
        made = frame().select("late", "mixed", "y", n=polars.int_range(900))
        made.write_parquet(self.folder / "t.parquet", row_group_size=100)
        made.write_ipc(self.folder / "t.arrow")
        made.write_ndjson(self.folder / "t.jsonl")
        for end in ("parquet", "arrow", "jsonl"):
            found, _ = read_table(self.folder / f"t.{end}",
                                  how=Reading(scratch=self.folder / f"s {end}"))
            with self.subTest(end=end):
                self.assertIsInstance(found.source, polars.LazyFrame)
                self.assertTrue(found.rows(0, 900).equals(made))

    def test_mistakes_far_into_a_file_are_found_with_their_line(self) -> None:
        text = "a,b\n" + "1,x\n" * 3000
        for line, words in (("1,2,3\n", "3 cells"), ('1,"x\n', "never closed"), ("1\n", "1 cell")):
            (self.folder / "t.csv").write_text(text + line + "1,x\n" * 3000)
            with mock.patch.object(lines, "LONGEST", 8000), self.subTest(words=words), \
                    self.assertRaises(DataError) as caught:
                read_table(self.folder / "t.csv", how=Reading(scratch=self.folder / "s"))
            self.assertIn(words, caught.exception.what)
            self.assertIn("line 3002", caught.exception.where)
        (self.folder / "t.csv").write_bytes(text.encode() + b"1,\xe9\n" + b"1,x\n" * 3000)
        with self.assertRaises(DataError) as caught:
            read_table(self.folder / "t.csv",
                       how=Reading(FormatOverrides(encoding="utf-8"), scratch=self.folder / "s"))
        self.assertIn("line 3002", caught.exception.where)

    def test_every_encoding_and_line_end(self) -> None:
        made = "n,t\r\n" + "".join(f"{i},é{i}\r\n" for i in range(3000))
        for encoding in ("utf-8", "utf-8-sig", "utf-16", "utf-16-le", "utf-32"):
            (self.folder / "t.csv").write_bytes(made.encode(encoding))
            found, _ = read_table(self.folder / "t.csv",
                                  how=Reading(scratch=self.folder / encoding))
            with self.subTest(encoding=encoding):
                self.assertEqual(found.column("n").to_list(), list(range(3000)))
                self.assertEqual(found.column("t")[2999], "é2999")

    def test_work_tells_how_far_it_is_and_can_be_ended(self) -> None:
        frame().write_csv(self.folder / "t.csv")
        told: list[tuple[str, float]] = []
        found, _ = read_table(self.folder / "t.csv", how=Reading(scratch=self.folder / "s"),
                              on_progress=lambda s, d: told.append((s, d)))
        build_dataset(found, self.folder / "d", "d", on_progress=lambda s, d: told.append((s, d)))
        self.assertTrue({"reading", "encoding", "keeping the table"} <= {step for step, _ in told})
        reading = [done for step, done in told if step == "reading"]
        self.assertEqual(reading, sorted(reading))

        def stop(step: str, done: float) -> None:
            if step == "encoding" and done > 0.5:
                raise KeyboardInterrupt

        with self.assertRaises(KeyboardInterrupt):
            build_dataset(found, self.folder / "e", "e", on_progress=stop)
        self.assertEqual([p.name for p in self.folder.iterdir() if "e" in p.name and p.is_dir()],
                         [])

    def test_pictures_stay_on_disk_too(self) -> None:
        pixels = np.random.default_rng(0).integers(0, 255, (60, 8, 8, 1), np.uint8)
        Table.of(
            polars.DataFrame(
                [polars.Series("picture", pixels),
                 polars.Series("label", ["a", "b"] * 30)])).save(self.folder / "t")
        found = Table.open(self.folder / "t")
        self.assertIsInstance(found.source, polars.LazyFrame)
        np.testing.assert_array_equal(
            np.concatenate([p["picture"].to_numpy() for _, p in found.pieces()]), pixels)


if __name__ == "__main__":
    unittest.main()
