"""Checkpoints ahead of the journal: the one before is used, and what it leads to is the same to
the bit.
"""

from __future__ import annotations

import sqlite3
from contextlib import closing
from unittest import mock

from axiarch.engine import checkpoint
from axiarch.engine.run import RunSpec
from axiarch.engine.streams import Streams
from axiarch.errors import TrainingError
from axiarch.runner import trainer
from axiarch.runner.runner import Runner
from axiarch.runner.store import FolderStore, latest
from axiarch.runner.tasks import Report, Task, Trained
from axiarch.runs.epoch import Epoch
from axiarch.workflows.continuing import continued
from axiarch.workflows.judging import first_run
from tests.runner.test_race import once
from tests.runner.test_runner import RunnerCase
from tests.support import recipe


class Saved(RunnerCase):
    def setUp(self) -> None:
        super().setUp()
        patch = mock.patch.object(trainer, "CHECKPOINT_SECONDS", 0.0)  # every epoch is saved
        patch.start()
        self.addCleanup(patch.stop)

    def trained(self, start: int, until: int, lost: int = 0) -> list[Epoch]:
        """Return the epochs that a worker trains which takes a run up at the epoch `start`.

        Of its checkpoints, those after the epoch `lost` are damaged.
        """
        data = self.dataset
        store = FolderStore(self.folder / "kept", self.folder, {data.fingerprint: data.folder})
        keys = store.keys().get(1, [])
        for key in keys:
            if lost and int(key.partition("@")[2]) > lost:
                store.checkpoint(key).write_bytes(b"damaged")
        spec = RunSpec(1, recipe(epochs=20, patience=0), Streams(3))
        found: list[Report] = []
        worker = trainer.Trainer(0, store, found.append)
        worker.begin(Task(spec, start, until, data.fingerprint, tuple(keys)))
        while not worker.step():
            pass
        return [epoch for report in found if isinstance(report, Trained)
                for epoch in report.epochs]

    def test_a_run_whose_last_report_was_lost_goes_on_from_the_checkpoint_before(self) -> None:
        first = self.trained(0, 6)
        again = self.trained(5, 8)
        self.assertEqual([n.epoch for n in again], [6, 7, 8])
        self.assertEqual(again[0].validation_loss, first[5].validation_loss)

    def test_where_no_checkpoint_is_so_early_it_starts_afresh(self) -> None:
        first = self.trained(0, 6)
        for key in range(1, 5):
            (self.folder / "kept" / f"1@{key}.safetensors").unlink()
        again = self.trained(4, 6)
        self.assertEqual([n.validation_loss for n in again], [n.validation_loss for n in first])

    def test_a_checkpoint_of_an_earlier_engine_ends_the_run_with_the_reason(self) -> None:
        with mock.patch.object(checkpoint, "FORMAT", 1):
            self.trained(0, 6)
        with self.assertRaisesRegex(TrainingError, "an earlier version of Axiarch"):
            self.trained(6, 8)

    def test_another_run_goes_on_from_the_checkpoint_before(self) -> None:
        with mock.patch.object(Runner, "_tidy"):
            self.make(once(8)).run()
        self.lose_the_last_epoch()
        s = self.look()
        run = first_run(s, 1).id
        search = continued(s, run, 4)
        self.make(search, number=2).run()
        again = self.look(2)
        self.assertEqual((len(again.curves[first_run(again, 1).id]), again.epochs), (11, 4))

    def test_one_whose_checkpoints_are_all_ahead_of_the_journal_is_trained_from_its_beginning(
            self) -> None:
        self.make(once(8)).run()
        self.lose_the_last_epoch()
        s = self.look()
        self.make(continued(s, first_run(s, 1).id, 4), number=2).run()
        self.assertEqual(self.look(2).epochs, 11)
        self.assertIn("from its beginning",
                      next(e.text for e in self.look(2).events if e.kind == "afresh"))

    def test_what_is_done_keeps_one_checkpoint_a_run(self) -> None:
        self.make(once(8)).run()
        folder = self.workspace.search(1) / "checkpoints"
        self.assertEqual([path.name for path in folder.iterdir()], ["1@8.safetensors"])
        self.assertEqual(latest(folder, 1).name, "1@8.safetensors")

    def test_a_damaged_checkpoint_is_passed_over_for_the_one_before(self) -> None:
        first = self.trained(0, 6)
        again = self.trained(6, 8, lost=4)
        self.assertEqual([epoch.epoch for epoch in again], [5, 6, 7, 8])
        self.assertEqual(again[0].validation_loss, first[4].validation_loss)

    def test_checkpoints_of_earlier_versions_are_found(self) -> None:
        folder = self.folder / "old"
        folder.mkdir()
        for name in ("3.start", "3", "3.before", "31", "3@9", "3@10", "x"):
            (folder / f"{name}.safetensors").write_bytes(b"")
        keys = FolderStore(folder, folder).keys()
        self.assertEqual(keys, {3: ["3@10", "3@9", "3", "3.before", "3.start"], 31: ["31"]})
        self.assertEqual(latest(folder, 3).name, "3@10.safetensors")
        self.assertEqual(latest(folder, 31).name, "31.safetensors")

    def test_what_cannot_be_written_is_said(self) -> None:
        (self.folder / "file").write_bytes(b"")
        store = FolderStore(self.folder / "file", self.folder)
        with self.assertRaisesRegex(TrainingError, "a checkpoint could not be written"):
            store.put("checkpoints/1@2", b"")
        for name in ("checkpoints/../x", "data/../../x", "checkpoints/1@2/x", "data/0/data.json"):
            with self.assertRaises(ValueError):
                store.put(name, b"")

    def lose_the_last_epoch(self) -> None:
        """Let the journal know one epoch less."""
        with closing(sqlite3.connect(self.workspace.journal)) as journal, journal:
            journal.execute("DELETE FROM epoch WHERE epoch = 8")
