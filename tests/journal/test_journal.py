"""The journal: what was written is read, whole, once, by anybody."""

from __future__ import annotations

import math
import sqlite3
import unittest
from unittest import mock

from axiarch.errors import WorkspaceError, WorkspaceNewer
from axiarch.journal import migrations
from axiarch.journal.read import JournalReader
from axiarch.journal.records import WorkerRecord
from axiarch.journal.write import JournalWriter
from axiarch.recipes.recipe import Recipe
from axiarch.runs.epoch import Epoch
from axiarch.runs.states import WorkerState
from tests.support import FolderCase, without_privileges


def epoch(run: int, number: int, loss: float = 0.5) -> Epoch:
    """Return an epoch."""
    return Epoch(run, number, loss, loss, loss, (0.5, 2.0), 0.1, 1.0, 0.01,
                       ((0.5, 0.0, 1e-3, 0.0), (0.1, 0.25, 2e-3, 0.5)), 0.002)


class JournalCase(FolderCase):
    def setUp(self) -> None:
        super().setUp()
        self.path = self.folder / "journal.sqlite"
        self.writer = JournalWriter(self.path)
        self.addCleanup(self.writer.close)
        with self.writer.transaction():
            self.writer.add_search(1, "s", "file", "d", "print")
            self.writer.add_recipe(1, 1, Recipe({"width": 8}), 99)
            self.ids = [self.writer.add_run(1, 1, repeat, 0) for repeat in range(2)]
        self.reader = JournalReader(self.path)
        self.addCleanup(self.reader.close)


class Older(FolderCase):
    def test_a_journal_of_the_first_version_keeps_its_epochs(self) -> None:
        path = self.folder / "journal.sqlite"
        db = sqlite3.connect(path)
        db.executescript(migrations.MIGRATIONS[0] + "PRAGMA user_version = 1;")
        db.execute(
            "INSERT INTO search (number, name, file, data, data_fingerprint, state, started, "
            "changed) VALUES (1, 's', 'file', 'd', 'print', 'done', 0, 1)")
        db.execute("INSERT INTO run (id, search, recipe, repeat, fold, state, changed) "
                   "VALUES (7, 1, 1, 0, 0, 'ended', 2)")
        db.execute(
            "INSERT INTO epoch (run, epoch, train_loss, train_loss_still, validation_loss, "
            "accuracy, learning_rate, gradient_norm, seconds) VALUES (7, 1, 0.9, 0.8, 1.0, 0.75, "
            "0.1, 2.0, 0.5)"
        )
        db.commit()
        db.close()
        JournalWriter(path).close()
        reader = JournalReader(path)
        self.addCleanup(reader.close)
        (found,) = reader.changes(1).epochs
        self.assertEqual(found, Epoch(7, 1, 0.9, 0.8, 1.0, (0.75,), 0.1, 2.0, 0.5))
        self.assertEqual(reader.openings(), ())


class Writing(JournalCase):
    def test_what_is_written_is_read(self) -> None:
        with self.writer.transaction():
            self.writer.add_epochs([epoch(self.ids[0], 1), epoch(self.ids[0], 2)])
            self.writer.end_run(self.ids[0], "ended", "patience", "text", 2)
            self.writer.set_worker(1, WorkerRecord(0, "node7", WorkerState.TRAINING, 123, 0.5))
            self.writer.add_event(1, "died", "words")
        changes = self.reader.changes(1)
        self.assertEqual(changes.recipes[0].recipe, Recipe({"width": 8}))
        self.assertEqual([r.state for r in changes.runs], ["ended", "waiting"])
        self.assertEqual(changes.epochs, (epoch(self.ids[0], 1), epoch(self.ids[0], 2)))
        self.assertEqual(self.reader.workers(1)[0], WorkerRecord(0, "node7", WorkerState.TRAINING,
                                                                 123, 0.5))
        self.assertEqual(self.reader.events(1)[0].text, "words")

    def test_only_what_is_new_is_read_again(self) -> None:
        with self.writer.transaction():
            self.writer.add_epochs([epoch(self.ids[0], 1)])
        mark = self.reader.changes(1).mark
        again = self.reader.changes(1, mark)
        self.assertEqual((again.recipes, again.runs, again.epochs), ((), (), ()))
        with self.writer.transaction():
            self.writer.add_epochs([epoch(self.ids[0], 2)])
            self.writer.set_runs([self.ids[1]], "training", 0)
        new = self.reader.changes(1, mark)
        self.assertEqual([e.epoch for e in new.epochs], [2])
        self.assertEqual([r.id for r in new.runs], [self.ids[1]])

    def test_changes_are_numbered_on_after_reopening(self) -> None:
        mark = self.reader.changes(1).mark
        self.writer.close()
        self.writer = JournalWriter(self.path)
        with self.writer.transaction():
            self.writer.set_runs([self.ids[0]], "training")
        self.assertEqual(len(self.reader.changes(1, mark).runs), 1)

    def test_an_epoch_written_twice_stays_as_it_was(self) -> None:
        with self.writer.transaction():
            self.writer.add_epochs([epoch(self.ids[0], 1, 0.5), epoch(self.ids[0], 1, 0.9)])
        self.assertEqual([e.validation_loss for e in self.reader.changes(1).epochs], [0.5])

    def test_what_is_not_finite_is_read_as_infinite(self) -> None:
        with self.writer.transaction():
            self.writer.add_epochs([epoch(self.ids[0], 1, math.nan)])
        self.assertEqual(self.reader.changes(1).epochs[0].validation_loss, math.inf)

    def test_a_transaction_is_all_or_nothing(self) -> None:
        with self.assertRaises(RuntimeError), self.writer.transaction():
            self.writer.add_event(1, "a", "b")
            raise RuntimeError
        self.assertEqual(self.reader.events(1), ())

    def test_a_reader_notices_writing(self) -> None:
        before = self.reader.version()
        with self.writer.transaction():
            self.writer.add_event(1, "a", "b")
        self.assertNotEqual(self.reader.version(), before)


class Reading(JournalCase):
    def test_no_journal_reads_as_empty(self) -> None:
        reader = JournalReader(self.folder / "none.sqlite")
        self.assertEqual(reader.searches(), ())
        self.assertEqual(reader.changes(1).runs, ())
        self.assertFalse((self.folder / "none.sqlite").exists())

    def test_a_read_only_folder_can_be_watched(self) -> None:
        with self.writer.transaction():
            self.writer.add_epochs([epoch(self.ids[0], 1)])
        self.writer.close()
        self.folder.chmod(0o555)
        self.addCleanup(self.folder.chmod, 0o755)
        with without_privileges():
            reader = JournalReader(self.path)
            self.assertEqual(len(reader.changes(1).epochs), 1)
            reader.close()

    def test_rubbish_is_said(self) -> None:
        (self.folder / "bad.sqlite").write_bytes(b"not a database" * 100)
        with self.assertRaises(WorkspaceError):
            JournalReader(self.folder / "bad.sqlite")
        with self.assertRaises(WorkspaceError):
            JournalWriter(self.folder / "bad.sqlite")


class Migrating(FolderCase):
    def test_a_newer_journal_is_refused_and_left_alone(self) -> None:
        path = self.folder / "j.sqlite"
        with sqlite3.connect(path) as db:
            db.execute("PRAGMA user_version = 99")
        db.close()
        before = path.read_bytes()
        for opened in (JournalReader, JournalWriter):
            with self.assertRaises(WorkspaceNewer):
                opened(path)
        self.assertEqual(path.read_bytes()[:16], before[:16])

    def test_migrations_run_in_order_and_once(self) -> None:
        path = self.folder / "j.sqlite"
        JournalWriter(path).close()
        more = (*migrations.MIGRATIONS, "CREATE TABLE extra (a);")
        with mock.patch.object(migrations, "MIGRATIONS",
                               more), mock.patch.object(migrations, "VERSION", len(more)):
            JournalWriter(path).close()
            JournalWriter(path).close()
        with sqlite3.connect(path) as db:
            self.assertEqual(migrations.version(db), len(more))
            db.execute("SELECT a FROM extra")
        db.close()

    def test_a_migration_that_fails_leaves_the_old_version(self) -> None:
        path = self.folder / "j.sqlite"
        JournalWriter(path).close()
        more = (*migrations.MIGRATIONS, "CREATE TABLE extra (a); CREATE TABLE extra (a);")
        with mock.patch.object(migrations, "MIGRATIONS", more), \
                mock.patch.object(migrations, "VERSION", len(more)), \
                self.assertRaises(WorkspaceError):
            JournalWriter(path)
        JournalWriter(path).close()
        with sqlite3.connect(path) as db:
            self.assertEqual(migrations.version(db), len(migrations.MIGRATIONS))
        db.close()


if __name__ == "__main__":
    unittest.main()
