"""Trainings that start from a kept model: the same weights, in any worker, interrupted or not."""

from __future__ import annotations

import shutil
import unittest
from pathlib import Path

import numpy as np

from axiarch import workflows
from axiarch.engine.run import RunSpec
from axiarch.engine.streams import Streams
from axiarch.engine.warmstart import first_state
from axiarch.errors import InputError, TrainingError
from axiarch.export.models import network_of
from axiarch.journal import inbox
from axiarch.journal.workspace import Workspace
from axiarch.runner.material import shape_of, training_data
from axiarch.text import loss
from axiarch.workflows.leading import ranking_verdict
from axiarch.workflows.models import KeptModel
from tests.support import FolderCase, Runs, finished_workspace


class FromAModel(FolderCase):
    def setUp(self) -> None:
        super().setUp()
        shutil.copytree(finished_workspace(), self.folder / "w")
        self.workspace = workflows.open_workspace(self.folder / "w")
        self.snapshot = workflows.snapshot_of(self.workspace)
        self.leader = self.snapshot.ranking.rows[0].recipe
        self.model = workflows.keep_model(self.workspace, self.snapshot, self.leader, "best")

    def continued(self, epochs: int = 3, **changes: object) -> tuple[float, ...]:
        number = workflows.continue_model(self.workspace, self.model, epochs, changes)
        found = workflows.wait(self.workspace, number)
        (run,) = found.runs
        return found.curves[run].validation

    def test_it_is_the_training_that_these_weights_give(self) -> None:
        losses = self.continued(3, learning_rate=0.001)
        data = self.snapshot.dataset
        recipe = self.snapshot.recipes[self.leader].recipe.changed(
            {"epochs": 3, "learning_rate": 0.001})
        shape = shape_of(recipe, data)
        training = Runs(shape, training_data(data)).add(
            RunSpec(1, recipe, Streams(self.model.seed)),
            first_state(self.model.path, shape, data.fingerprint))
        watch = training.watch
        self.assertAlmostEqual(watch.start_loss,
                               self.model.loss,
                               places=6,
                               msg="it starts from the model's own loss")
        self.assertEqual(losses,
                         tuple(training.train_epoch().numbers.validation_loss for _ in range(3)))

    def test_a_stopped_one_resumes_without_the_model_file(self) -> None:
        whole = self.continued(40)
        number = workflows.continue_model(self.workspace, self.model, 40)
        workflows.steer_search(self.workspace, number, inbox.Stop())
        stopped = workflows.wait(self.workspace, number)
        workflows.remove_model(self.workspace, self.model)
        if stopped.search.state != "done":
            workflows.resume_search(self.workspace, number, 1)
        found = workflows.wait(self.workspace, number)
        self.assertEqual(next(iter(found.curves.values())).validation, whole)

    def test_what_more_epochs_brought_is_said_and_why_they_ended(self) -> None:
        run = workflows.first_run(self.snapshot, self.leader)
        number = workflows.continue_run(self.workspace, self.snapshot, run.id, 3)
        found = workflows.wait(self.workspace, number)
        (curve,) = found.curves.values()
        before = self.snapshot.curves[run.id]
        self.assertEqual(curve.validation[:len(before)], before.validation)
        said = ranking_verdict(found)
        self.assertIn(f"stood at {loss(before.steady)} after {len(before)} epochs: 3 more epochs",
                      said)
        lower = curve.steady < before.steady
        self.assertIn("lowered it by" if lower else "did not lower it", said)
        self.assertIn(f"on this one seed. It ended: all {len(curve)} epochs", said)
        self.assertIn("Its one run is better than the baseline (0.6", said)
        self.assertIn("Other seeds may differ.", said)
        self.assertNotIn("It continues", ranking_verdict(self.snapshot))

    def test_weights_that_cannot_be_read_end_the_run_and_do_not_start_it_at_random(self) -> None:
        from axiarch.runner.store import FolderStore, named
        from axiarch.runner.tasks import Task
        from axiarch.runner.trainer import Trainer

        data, recipe = self.snapshot.dataset, self.snapshot.recipes[self.leader].recipe
        store = FolderStore(self.folder, self.folder, {data.fingerprint: data.folder})
        store.put(named("1.start"), b"not weights")
        task = Task(RunSpec(1, recipe, Streams(1)), 0, 0, data.fingerprint, (), "1.start")
        with self.assertRaisesRegex(TrainingError, "starts from cannot be read"):
            Trainer(0, store, lambda report: None).begin(task)

    def test_what_does_not_fit_is_refused_with_the_reason_and_leaves_nothing(self) -> None:
        both = workflows.keep_model(self.workspace,
                                    self.snapshot,
                                    self.leader,
                                    "both",
                                    average="seeds",
                                    anyway=True)
        damaged = self.folder / "damaged.safetensors"
        damaged.write_bytes(self.model.path.read_bytes()[:-9])
        cases: tuple[tuple[Path, dict[str, object], str], ...] = (
            (self.model.path, {"width": 16}, "do not fit"), (both.path, {}, "mean of 2 networks"))
        for path, changes, words in cases:
            with self.subTest(words=words), self.assertRaisesRegex(InputError, words):
                workflows.continue_model(self.workspace,
                                         workflows.find_model(self.workspace, str(path)), 3,
                                         changes)
        with self.assertRaises(TrainingError):
            workflows.find_model(self.workspace, str(damaged))
        self.assertEqual(self.workspace.search_numbers(), [1])
        self.other_data(both)

    def other_data(self, model: KeptModel) -> None:
        from tests.support import ring_dataset

        place = Workspace.create(self.folder / "other")
        ring_dataset(place.data("ring"), 90)
        shape = network_of(self.snapshot.recipes[self.leader].recipe, self.snapshot.dataset)
        with self.assertRaisesRegex(TrainingError, "other data"):
            first_state(self.model.path, shape, workflows.data_set(place, "ring").fingerprint)
        with self.assertRaisesRegex(InputError, "other data"):
            workflows.continue_model(place, self.model, 3)

    def test_the_mean_of_its_seeds_is_kept_listed_and_verified(self) -> None:
        with self.assertRaisesRegex(TrainingError, "statistically tied"):
            workflows.keep_model(self.workspace,
                                 self.snapshot,
                                 self.leader,
                                 "both",
                                 average="seeds")
        self.assertEqual([m.name for m in workflows.kept_models(self.workspace)], ["best"])
        for name, networks in (("seeds", 2), ("tied", 2)):
            kept = workflows.keep_model(self.workspace,
                                        self.snapshot,
                                        self.leader,
                                        name,
                                        average=name,
                                        anyway=True)
            self.assertGreaterEqual(kept.networks, networks)
            self.assertEqual(workflows.verify_model(self.workspace, kept), (kept.loss, kept.loss))
        self.assertTrue(np.isfinite(kept.loss))


if __name__ == "__main__":
    unittest.main()
