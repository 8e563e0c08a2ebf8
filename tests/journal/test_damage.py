"""A damaged or hostile journal is said in one sentence, never a traceback; what can be read is
saved.
"""

from __future__ import annotations

import contextlib
import itertools
import random
import shutil
import sqlite3
import unittest
from pathlib import Path
from unittest import mock

from axiarch import workflows
from axiarch.errors import AxiarchError, WorkspaceError
from axiarch.journal.read import JournalReader
from axiarch.journal.rescue import save_journal
from axiarch.journal.workspace import Workspace
from axiarch.journal.write import JournalWriter
from tests.support import FolderCase, finished_workspace

#: Values that no column of ours holds.
HOSTILE = ("\x1b[31m", -1, 10**18, 1e308, b"\xff\x00", None, "[", "[" * 50_000, "nan",
           '{"width": 1e999}')
#: Damaged copies of a journal that are tried.
DAMAGED = 60


class Finished(FolderCase):
    """A workspace with a finished search, made once."""

    made: Path

    @classmethod
    def setUpClass(cls) -> None:
        super().setUpClass()
        cls.made = finished_workspace()

    def setUp(self) -> None:
        super().setUp()
        shutil.copytree(self.made, self.folder / "w")
        self.workspace = Workspace.open(self.folder / "w")
        with contextlib.closing(sqlite3.connect(self.workspace.journal)) as db:
            db.execute("PRAGMA journal_mode = DELETE")

    def look(self) -> None:
        """Read everything that commands and views read; errors must be ours."""
        try:
            snapshot = workflows.snapshot_of(self.workspace)
            workflows.openings(self.workspace)
            _ = (snapshot.ended_runs, snapshot.best_so_far, snapshot.ranking, snapshot.epochs)
            for recipe in snapshot.recipes:
                snapshot.runs_of(recipe)
        except AxiarchError as error:
            self.assertTrue(error.what and error.where)
            self.assertEqual(error.exit_code, 3)


class Ours(Finished):
    def test_a_fault_of_ranking_is_not_called_damage(self) -> None:
        with mock.patch("axiarch.workflows.ranked.rank", side_effect=IndexError("index 0")), \
                self.assertRaisesRegex(WorkspaceError, "cannot be ranked: index 0") as raised:
            workflows.snapshot_of(self.workspace)
        self.assertIn("a fault of axiarch", raised.exception.remedy)
        workflows.rescue(self.workspace.folder, self.folder / "new")  # the remedy, to the letter
        self.assertTrue(workflows.snapshot_of(Workspace.open(self.folder / "new")).ranking.rows)


class Hostile(Finished):
    def test_no_single_value_gives_a_traceback(self) -> None:
        with contextlib.closing(sqlite3.connect(self.workspace.journal)) as db:
            tables = [
                row[0] for row in db.execute("SELECT name FROM sqlite_master WHERE type = 'table' "
                                             "AND name NOT LIKE 'sqlite%'")
            ]
            columns = [(table, row[1])
                       for table in tables
                       for row in db.execute(f"PRAGMA table_info({table})")]
        whole = self.workspace.journal.read_bytes()
        changed = 0
        for (table, column), value in itertools.product(columns, HOSTILE):
            self.workspace.journal.write_bytes(whole)
            with contextlib.closing(sqlite3.connect(self.workspace.journal)) as db, \
                    contextlib.suppress(sqlite3.IntegrityError), db:
                changed += db.execute(f'UPDATE OR IGNORE {table} SET "{column}" = ?',
                                      (value, )).rowcount > 0
            with self.subTest(table=table, column=column, value=str(value)[:20]):
                self.look()
        self.assertGreater(changed, 300)

    def test_control_characters_of_its_texts_are_shown_not_sent(self) -> None:
        with contextlib.closing(sqlite3.connect(self.workspace.journal)) as db, db:
            for table, column in (("search", "why"), ("event", "text"), ("run", "text")):
                db.execute(f"UPDATE {table} SET {column} = ?", ("\x1b]0;owned\x07",))
        self.look()


class Damaged(Finished):
    def test_flipped_and_lost_bytes_give_no_traceback(self) -> None:
        chance = random.Random(5)
        whole = self.workspace.journal.read_bytes()
        said = 0
        for i in range(DAMAGED):
            raw = bytearray(whole)
            if i % 3 == 0:
                del raw[chance.randrange(len(raw)) :]
            else:
                start = chance.randrange(len(raw) - 600)
                length = chance.choice((1, 30, 600))
                raw[start : start + length] = bytes(chance.randrange(256) for _ in range(length))
            self.workspace.journal.write_bytes(raw)
            with self.subTest(i=i):
                self.look()
                try:
                    JournalWriter(self.workspace.journal).close()
                except AxiarchError as error:
                    said += 1
                    self.assertTrue(error.remedy)
        self.assertGreater(said, 0)

    def test_what_can_be_read_is_saved_and_the_search_goes_on(self) -> None:
        before = {r.recipe: r.raw_best for r in workflows.snapshot_of(self.workspace).ranking.rows}
        whole = rescued = 0
        chance = random.Random(3)
        raw = self.workspace.journal.read_bytes()
        for i in range(8):
            page = 4096 * chance.randrange(1, len(raw) // 4096)
            self.workspace.journal.write_bytes(raw[:page] + bytes(4096) + raw[page + 4096 :])
            found = workflows.rescue(self.workspace.folder, self.folder / f"saved{i}")
            new = Workspace.open(self.folder / f"saved{i}")
            self.assertIn("data set ring", found.saved)
            try:
                after = {r.recipe: r.raw_best
                         for r in workflows.snapshot_of(new).ranking.rows}
            except WorkspaceError as error:
                self.assertIn("no search", error.what)
                continue
            rescued += 1
            whole += after == before
            self.assertLessEqual(after.items(), before.items(),
                                 "nothing is told otherwise than it was")
        self.assertGreaterEqual(rescued, 4)

    def test_an_undamaged_journal_is_saved_whole(self) -> None:
        saved = save_journal(self.workspace.journal, self.folder / "j.sqlite")
        self.assertEqual(saved.lost, 0)
        with contextlib.closing(JournalReader(self.workspace.journal)) as old, contextlib.closing(
                JournalReader(self.folder / "j.sqlite")) as new:
            self.assertEqual(old.changes(1).epochs, new.changes(1).epochs)
            self.assertEqual(old.steps(1), new.steps(1))

    def test_nothing_is_overwritten_and_no_link_is_followed(self) -> None:
        (self.folder / "secret").mkdir()
        (self.folder / "secret" / "x").write_text("x")
        (self.workspace.folder / "data" / "bad").symlink_to(self.folder / "secret")
        found = workflows.rescue(self.workspace.folder, self.folder / "new")
        self.assertFalse((found.folder / "data" / "bad").exists())
        with self.assertRaises(WorkspaceError):
            workflows.rescue(self.workspace.folder, self.folder / "new")


if __name__ == "__main__":
    unittest.main()
