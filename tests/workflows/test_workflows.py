"""The public Python interface: what the guide shows, and that it gives the same results as
everything else.
"""

from __future__ import annotations

import contextlib
import io
import re
import shutil
import sqlite3
import time
import unittest
from dataclasses import replace
from pathlib import Path
from typing import Any
from unittest import mock

import numpy as np

from axiarch import workflows
from axiarch.data.baseline import Baseline
from axiarch.data.demo import hive_states
from axiarch.data.demo_hum import hum
from axiarch.data.demo_nectar import nectar_flow
from axiarch.data.plan import FormatOverrides
from axiarch.data.reading import CompanionFiles
from axiarch.data.sealed import sealed_part
from axiarch.errors import (
    AxiarchError,
    DataError,
    InputError,
    RecipeError,
    TrainingError,
    WorkspaceLocked,
    WorkspaceMissing,
)
from axiarch.export.models import open_model
from axiarch.journal.workspace import Workspace
from axiarch.ranking.claims import Claim
from axiarch.workflows.answer import raise_answer
from axiarch.workflows.leading import ranking_verdict
from axiarch.workflows.verdicts import draft_verdict, recipe_verdict, search_verdict
from tests.support import (
    FolderCase,
    finished_workspace,
    ring_rows,
    ring_search,
    ring_workspace,
    write_csv,
)

ROOT = Path(__file__).resolve().parents[2]


class Interface(unittest.TestCase):
    def test_every_name_can_be_imported_and_is_documented(self) -> None:
        for name in workflows.__all__:
            self.assertTrue(getattr(workflows, name).__doc__, name)

    def test_an_unknown_name_is_refused(self) -> None:
        with self.assertRaises(AttributeError):
            _ = workflows.nothing


class Guide(FolderCase):
    def test_the_example_in_the_guide_runs_as_printed(self) -> None:
        text = (ROOT / "docs" / "python.md").read_text(encoding="utf-8")
        code = re.findall(r"```python\n(.*?)```", text, re.DOTALL)
        table = write_csv(self.folder / "hives.csv", ["x", "y", "side", "state"], ring_rows())
        source = "\n".join(code).replace("hives.csv",
                                         str(table)).replace("my-work", str(self.folder / "w"))
        out = io.StringIO()
        with contextlib.redirect_stdout(out):
            exec(compile(source, "docs/python.md", "exec"), {})
        self.assertIn("1 ", out.getvalue())
        self.assertTrue((self.folder / "w" / "exports" / "ranking.csv").exists())


class Adding(FolderCase):
    def test_a_table_is_added_under_its_name(self) -> None:
        workspace = workflows.open_workspace(self.folder / "w", create=True)
        path = write_csv(self.folder / "my_hives.csv", ["x", "y", "side", "place"], ring_rows())
        data = workflows.add_table(workspace, path)
        self.assertEqual((data.name, data.folder.name, data.classes),
                         ("my hives", "my-hives", ("in", "out")))
        with self.assertRaises(DataError):
            workflows.add_table(workspace, path)

    def test_a_bad_table_leaves_nothing_and_names_the_file(self) -> None:
        workspace = workflows.open_workspace(self.folder / "w", create=True)
        path = write_csv(self.folder / "t.csv", ["x", "y"], [[1, "a"]] * 9)
        with self.assertRaises(DataError) as caught:
            workflows.add_table(workspace, path, target="z")
        self.assertIn("t.csv", caught.exception.where)
        self.assertEqual(workspace.data_names(), [])

    def test_data_are_found_by_name_or_alone(self) -> None:
        workspace = workflows.open_workspace(self.folder / "w", create=True)
        with self.assertRaises(WorkspaceMissing):
            workflows.data_set(workspace)
        for name in ("a", "b"):
            path = write_csv(self.folder / f"{name}.csv", ["x", "y", "side", "place"], ring_rows())
            workflows.add_table(workspace, path)
        self.assertEqual(workflows.data_set(workspace, "b").name, "b")
        for name in ("", "c"):
            with self.assertRaises(WorkspaceMissing):
                workflows.data_set(workspace, name)


class Deciding(FolderCase):
    def setUp(self) -> None:
        super().setUp()
        self.workspace = workflows.open_workspace(self.folder / "w", create=True)
        path = write_csv(self.folder / "r.csv", ["x", "y", "side", "place"], ring_rows())
        self.data = workflows.add_table(self.workspace, path)

    def test_other_decisions_replace_a_data_set_that_nothing_has_used(self) -> None:
        made = workflows.redecide(self.workspace, self.data,
                                  replace(self.data.plan, ignore=("side", )))
        self.assertEqual((made.folder, made.inputs), (self.data.folder, self.data.inputs - 2))
        self.assertEqual(made.plan.ignore, ("side",))
        self.assertIsNotNone(made.linear)
        self.assertEqual([p.name for p in self.workspace.data().iterdir()], ["r"])
        again = workflows.redecide(self.workspace, made, replace(made.plan, ignore=()))
        self.assertEqual((again.fingerprint, again.encoding),
                         (self.data.fingerprint, self.data.encoding))

    def test_a_data_set_in_use_stays_and_another_is_made(self) -> None:
        search = workflows.new_search(self.data,
                                      base={"epochs": 2},
                                      vary={"width": "4 | 8"},
                                      repeats=1)
        workflows.wait(self.workspace, workflows.start_search(self.workspace, search, 1))
        for wanted in ("r 2", "r 3"):
            made = workflows.redecide(self.workspace, self.data,
                                      replace(self.data.plan, targets=("side", )))
            self.assertEqual((made.name, made.encoding.target.name), (wanted, "side"))
        self.assertEqual(workflows.data_set(self.workspace, "r"), self.data)

    def test_data_of_several_files_are_not_read_otherwise_from_one(self) -> None:
        test = write_csv(self.folder / "t.csv", ["x", "y", "side", "place"], ring_rows(60, 9))
        made = workflows.add_table(self.workspace,
                                   self.folder / "r.csv",
                                   name="both",
                                   given=CompanionFiles(None, test))
        with self.assertRaises(DataError) as caught:
            workflows.redecide(self.workspace, made,
                               replace(made.plan, said=FormatOverrides(header=False)))
        self.assertIn("several files", caught.exception.what)
        again = workflows.redecide(self.workspace, made, replace(made.plan, ignore=("side",)))
        self.assertEqual(again.rows["test"], 60)

    def test_decisions_that_cannot_be_change_nothing(self) -> None:
        for plan in (replace(self.data.plan,
                             targets=("none", )), replace(self.data.plan,
                                                          ignore=("x", "y", "side"))):
            with self.assertRaises(DataError):
                workflows.redecide(self.workspace, self.data, plan)
        self.assertEqual(workflows.data_set(self.workspace), self.data)
        self.assertEqual(len(list(self.workspace.data().iterdir())), 1)


class Amounts(FolderCase):
    def test_nectar_flow_is_searched_and_reported_in_grams(self) -> None:
        workspace = Workspace.create(self.folder / "w")
        made = nectar_flow(1200)
        path = made.to_csv(self.folder / "flow.csv")
        best = Baseline(made.best_rmse, (made.best_mae, made.best_r2))
        data = workflows.add_table(workspace, path, target="gain_g", noise_floor=best)
        assert data.linear is not None
        self.assertLess(data.linear.loss, 0.75 * data.baseline.loss)
        search = workflows.new_search(data,
                                      base={"epochs": 25, "learning_rate": 0.005},
                                      vary={"width": "16 | 32"},
                                      repeats=2)
        s = workflows.wait(workspace, workflows.start_search(workspace, search, 2))
        first = s.ranking.rows[0]
        self.assertLess(first.loss, 0.7 * data.linear.loss)
        self.assertGreater(first.loss, made.best_rmse)
        error, explained = first.metrics
        self.assertLess(error, first.loss)
        self.assertGreater(explained, 0.8)
        text = "\n".join(p.read_text()
                         for p in workflows.export_curves(s, self.folder / "c.svg")[1:])
        self.assertIn("RMSE (gain_g)", text)
        self.assertIn("mean absolute error",
                      workflows.export_ranking(s, self.folder / "r.csv").read_text())

    def test_the_linear_floor_of_amounts_is_that_of_least_squares(self) -> None:
        workspace = Workspace.create(self.folder / "w")
        data = workflows.add_table(workspace,
                                   nectar_flow(1500).to_csv(self.folder / "flow.csv"),
                                   target="gain_g")
        train, validation = data.part("train"), data.part("validation")
        x, v = (np.hstack([p.inputs, np.ones((len(p.targets), 1))]).astype(float)
                for p in (train, validation))
        w, *_ = np.linalg.lstsq(x, train.targets.astype(float), rcond=None)
        truth = float(np.sqrt(((v @ w - validation.targets) ** 2).mean()) * data.target.scale[0])
        assert data.linear is not None
        self.assertAlmostEqual(data.linear.loss / truth, 1.0, delta=0.03)


class Sealing(FolderCase):
    def test_an_opening_is_recorded_before_anything_is_read(self) -> None:
        workspace = ring_workspace(self.folder / "w")
        data = workflows.data_set(workspace)
        self.assertEqual(workflows.openings(workspace), ())
        for reason in ("", "  \n"):
            with self.assertRaises(InputError):
                workflows.open_seal(workspace, data, reason)
        opened = workflows.open_seal(workspace, data, "is the  winner\nreally better")
        self.assertEqual(opened.rows, data.rows["test"])
        self.assertEqual(opened.times, 1)
        self.assertAlmostEqual(opened.score.baseline.loss, data.baseline.loss, delta=0.1)
        (record,) = workflows.openings(workspace, data)
        self.assertEqual((record.data, record.rows, record.reason),
                         ("ring", data.rows["test"], "is the winner really better"))
        self.assertAlmostEqual(record.at, time.time(), delta=60)
        self.assertEqual(workflows.open_seal(workspace, data, "again").times, 2)

    def test_a_recipe_and_the_baselines_are_scored_on_the_sealed_rows(self) -> None:
        shutil.copytree(finished_workspace(), self.folder / "w")
        workspace = workflows.open_workspace(self.folder / "w")
        snapshot = workflows.snapshot_of(workspace)
        data, recipe = snapshot.dataset, snapshot.ranking.rows[0].recipe
        self.assertEqual(len(snapshot.openings), 1)
        opened = workflows.open_seal(workspace, data, "the leader", snapshot, recipe)
        test, losses = sealed_part(data), []
        for run in snapshot.runs_of(recipe):
            kept = workflows.keep_model(workspace, snapshot, recipe, f"run {run.id}", run=run.id)
            shares = open_model(kept.path).predictor.predict(test.inputs)
            losses.append(float(-np.log(shares[np.arange(len(shares)), test.targets]).mean()))
        self.assertEqual((opened.times, opened.rows, len(opened.score.runs)),
                         (2, len(test.targets), len(losses)))
        np.testing.assert_allclose(opened.score.runs, losses, rtol=1e-5)
        value, low, high = opened.score.summary["log_loss"]
        self.assertAlmostEqual(value, float(np.mean(losses)), places=5)
        self.assertTrue(low < value < high)
        train = np.bincount(data.part("train").targets, minlength=2) / data.rows["train"]
        self.assertAlmostEqual(opened.score.baseline.loss,
                               float(-np.log(train[test.targets]).mean()),
                               places=6)
        assert opened.score.linear is not None
        later = workflows.snapshot_of(workspace)
        record = later.openings[-1]
        self.assertEqual((record.recipe, record.search), (recipe, 1))
        self.assertEqual(workflows.score_of(record), opened.score)
        self.assertIn("opened 2 times", workflows.trust(later.openings))
        self.assertIsNone(workflows.score_of(later.openings[0]))

    def test_a_recipe_without_a_checkpoint_leaves_the_seal_closed(self) -> None:
        shutil.copytree(finished_workspace(), self.folder / "w")
        workspace = workflows.open_workspace(self.folder / "w")
        snapshot = workflows.snapshot_of(workspace)
        recipe = snapshot.ranking.rows[0].recipe
        shutil.rmtree(workspace.search(1) / "checkpoints")
        with self.assertRaises(TrainingError):
            workflows.open_seal(workspace, snapshot.dataset, "the leader", snapshot, recipe)
        self.assertEqual(len(workflows.openings(workspace)), 1)

    def test_a_workspace_of_an_earlier_version_is_brought_up_to_date(self) -> None:
        shutil.copytree(finished_workspace(), self.folder / "w")
        journal = self.folder / "w" / "journal.sqlite"
        with contextlib.closing(sqlite3.connect(journal)) as db:
            for column in ("search", "recipe", "scores"):
                db.execute(f"ALTER TABLE opening DROP COLUMN {column}")
            db.execute("ALTER TABLE recipe DROP COLUMN origin")
            db.executescript("""
                ALTER TABLE epoch RENAME COLUMN train_loss_eval TO train_loss_still;
                ALTER TABLE step RENAME COLUMN observed TO told;
                ALTER TABLE step RENAME COLUMN replicates TO blocks;
                ALTER TABLE override RENAME TO ruling;
                ALTER TABLE run RENAME COLUMN worker TO lane;
                DROP TABLE worker;
                DROP TABLE row_loss;
                DROP TABLE known;
                DROP TABLE note;
                DROP TABLE probe;
                ALTER TABLE search DROP COLUMN engine;
                ALTER TABLE epoch DROP COLUMN sample_loss;
                ALTER TABLE run DROP COLUMN taken;
                ALTER TABLE run DROP COLUMN source;
                CREATE TABLE lane (search INTEGER, number INTEGER, pid INTEGER, state TEXT);
                PRAGMA user_version = 5;
            """)
            db.commit()
        workspace = workflows.open_workspace(self.folder / "w")
        self.assertEqual(len(workflows.snapshot_of(workspace).openings), 1)
        self.assertEqual(workflows.openings(workspace)[0].scores, "")

    def test_a_workspace_in_use_opens_nothing(self) -> None:
        workspace = ring_workspace(self.folder / "w")
        with workspace.locked("search 1"), mock.patch("axiarch.workflows.unsealing.ask") as read:
            with self.assertRaises(WorkspaceLocked):
                workflows.open_seal(workspace, workflows.data_set(workspace), "curious")
            read.assert_not_called()
        self.assertEqual(workflows.openings(workspace), ())

    def test_data_whose_seal_was_opened_are_not_replaced_by_other_decisions(self) -> None:
        workspace = ring_workspace(self.folder / "w")
        data = workflows.data_set(workspace)
        workflows.open_seal(workspace, data, "a look")
        made = workflows.redecide(workspace, data, replace(data.plan, ignore=("side",)))
        self.assertEqual((made.name, workflows.data_set(workspace, "ring")), ("ring 2", data))

    def test_only_the_seal_opens_sealed_rows(self) -> None:
        """No module but the one that records an opening may read sealed rows."""
        root = Path(workflows.__file__).parent.parent
        users = [
            p.name
            for p in sorted(root.rglob("*.py"))
            if "sealed_part" in p.read_text(encoding="utf-8")
        ]
        self.assertEqual(users, ["sealed.py", "judging.py"])
        asking = sorted(p.name for p in (ROOT / "axiarch").rglob("*.py")
                        if 'ask("test"' in p.read_text(encoding="utf-8"))
        self.assertEqual(asking, ["unsealing.py"])
        hashing = [
            p.name
            for p in sorted(root.rglob("*.py"))
            if "sealed_hashes" in p.read_text(encoding="utf-8")
        ]
        self.assertEqual(hashing, ["sealed.py", "models.py"])


class DataOfASearchFile(FolderCase):
    def test_a_file_named_in_a_search_is_added_once(self) -> None:
        workspace = Workspace.create(self.folder / "w")
        write_csv(self.folder / "r.csv", ["x", "y", "side", "place"], ring_rows())
        wanted = replace(ring_search(), data="r.csv")
        for _ in range(2):
            found = workflows.search_data(workspace, wanted, self.folder)
            self.assertEqual((found.data, workspace.data_names()), ("r", ["r"]))
        self.assertEqual(
            workflows.search_data(workspace, replace(wanted, data="r"), self.folder).data, "r")
        self.assertEqual(
            workflows.search_data(workspace, replace(wanted, data=""), self.folder).data, "r")
        with self.assertRaises(WorkspaceMissing):
            workflows.search_data(workspace, replace(wanted, data="none.csv"), self.folder)


class Floors(FolderCase):
    def test_the_linear_floor_is_kept_and_lies_between_floor_and_truth(self) -> None:
        workspace = workflows.make_demo(self.folder / "d")
        data = workflows.data_set(workspace, "hive states")
        assert data.linear is not None
        self.assertLess(data.linear.loss, data.baseline.loss - 0.2)
        self.assertGreater(data.linear.loss, hive_states().best_loss + 0.2)
        self.assertGreater(data.linear.metrics[0], data.baseline.metrics[0])

    def test_the_linear_floor_is_that_of_an_independent_solver(self) -> None:
        """Softmax regression is convex; the engine, stopped by its patience, must come close to
        the optimum.
        """
        from scipy.optimize import minimize

        data = workflows.data_set(workflows.make_demo(self.folder / "d"), "hive states")
        train, validation = data.part("train"), data.part("validation")
        x, v = (np.hstack([p.inputs, np.ones((len(p.targets), 1))]).astype(float)
                for p in (train, validation))
        hot = np.eye(5)[train.targets]

        def loss(w: np.ndarray) -> tuple[float, np.ndarray]:
            z = x @ w.reshape(-1, 5)
            z -= z.max(1, keepdims=True)
            p = np.exp(z) / np.exp(z).sum(1, keepdims=True)
            return float(-np.log(p[hot == 1]).mean()), (x.T @ (p - hot) / len(x)).ravel()

        best = minimize(loss, np.zeros(x.shape[1] * 5), jac=True,
                        method="L-BFGS-B").x.reshape(-1, 5)
        z = v @ best
        truth = float((np.logaddexp.reduce(z, 1) - z[np.arange(len(v)), validation.targets]).mean())
        assert data.linear is not None
        self.assertAlmostEqual(data.linear.loss, truth, delta=0.03)

    def test_demo_files(self) -> None:
        paths = workflows.write_demo_files(self.folder / "files")
        self.assertEqual([p.name for p in paths],
                         ["hive-states.csv", "hive-states-messy.csv", "nectar-flow.csv", "hum.npz"])


class Drafts(FolderCase):
    def test_a_draft_fits_the_data_it_is_turned_to(self) -> None:
        workspace = ring_workspace(self.folder / "w")
        table = workflows.data_set(workspace)
        pictures = workflows.add_table(workspace, hum(120).to_npz(self.folder / "h.npz"))
        workflows.save_draft(workspace, ring_search())
        there = workflows.load_draft(workspace, pictures)
        self.assertTrue(there.space.base.word("network").startswith("conv"))
        workflows.save_draft(workspace, there)
        back = workflows.load_draft(workspace, table)
        self.assertEqual(back, ring_search())  # nothing else has changed on the way there and back
        with self.assertRaises(RecipeError):
            workflows.start_search(workspace, replace(there, data="ring"))

    def test_a_draft_is_kept_and_a_broken_one_replaced(self) -> None:
        workspace = ring_workspace(self.folder / "w")
        data = workflows.data_set(workspace)
        workflows.save_draft(workspace, ring_search())
        self.assertEqual(workflows.load_draft(workspace, data), ring_search())
        workspace.draft.write_text("[vary\n")
        self.assertEqual(workflows.load_draft(workspace, data).data, "ring")

    def test_a_search_from_plain_values(self) -> None:
        data = workflows.data_set(ring_workspace(self.folder / "w"))
        made = workflows.new_search(data,
                                    base={"width": 8},
                                    vary={"depth": "1 .. 3"},
                                    method="grid",
                                    repeats=3)
        self.assertEqual((made.space.combinations, made.repeats, made.data), (3, 3, "ring"))
        with self.assertRaises(InputError):
            workflows.new_search(data, vary={"depth": "3 .. 1"})


class Whole(FolderCase):
    def test_forecast_run_rank_and_export(self) -> None:
        workspace = ring_workspace(self.folder / "w")
        search = ring_search(epochs=20)
        made = workflows.forecast_search(search, workflows.data_set(workspace), 2)
        self.assertEqual((made.recipes, made.runs, made.workers), (6, 12, 2))
        self.assertLess(made.low, made.high)
        seen: list[int] = []
        number = workflows.start_search(workspace, search, 2)
        s = workflows.wait(workspace, number, lambda snapshot: seen.append(snapshot.ended_runs))
        self.assertEqual((s.search.state, s.ended_runs, seen[-1]), ("done", 12, 12))
        self.assertEqual(seen, sorted(seen))
        self.assertEqual(workflows.snapshot_of(workspace).ranking, s.ranking)
        for path in (workflows.export_ranking(s, self.folder / "r.csv"),
                     workflows.export_chart(s, self.folder / "c.svg"),
                     *workflows.export_curves(s, self.folder / "k.pdf"),
                     *workflows.export_curves(s, self.folder / "one.svg", 1)):
            self.assertGreater(path.stat().st_size, 100)
        with self.assertRaises(TrainingError):
            workflows.export_curves(s, self.folder / "k.svg", 99)
        self._verdicts(s, made)

    def _verdicts(self, s: workflows.Snapshot, made: object) -> None:
        self.assertIn("12 runs ended", search_verdict(s))
        self.assertIn("better than the baseline", ranking_verdict(s))
        self.assertIn("Place", recipe_verdict(s, s.ranking.rows[0].recipe))
        self.assertIn("12 runs", draft_verdict(s.file, s.dataset, made))  # type: ignore[arg-type]
        self.assertIn("cannot be run", draft_verdict(s.file, s.dataset, None, "why"))
        for difference, left, words in (
                (-0.3, 0, "and the linear model (0."), (0.3, 0, "It is worse than"),
                (0.05, 0, "It is not clearly better or worse than the linear model"),
                (0.05, 7, "7 validation rows that also stand in the training part are left out")):
            claim = Claim(difference, 0.1, 48 - left, left)
            said = ranking_verdict(replace(s, skill={**s.skill, "linear model": claim}))
            self.assertIn(words, said)
        unknown = ranking_verdict(replace(s, skill={}))
        self.assertIn("better than the baseline (0.", unknown)  # by more than the whole interval

    def test_the_number_of_workers_does_not_change_the_result(self) -> None:
        found = []
        for workers in (1, 2):
            workspace = ring_workspace(self.folder / str(workers))
            s = workflows.wait(workspace, workflows.start_search(workspace, ring_search(), workers))
            found.append([(r.recipe, r.loss, r.spread) for r in s.ranking.rows])
            with workspace.locked("what comes next"):  # the next command need not try again
                self.assertTrue(s.over)
        self.assertEqual(found[0], found[1])

    def test_a_space_without_recipes_is_refused(self) -> None:
        workspace = ring_workspace(self.folder / "w")
        data = workflows.data_set(workspace)
        search = workflows.new_search(data, vary={"width": "8 | 16"}, constraints=["width < 1"])
        with self.assertRaises(TrainingError):
            workflows.forecast_search(search, data)

    def test_steps_are_timed_once_for_all_recipes_that_take_the_same_steps(self) -> None:
        data = workflows.data_set(ring_workspace(self.folder / "w"))
        asked: list[int] = []

        def answer(*words: str, request: Any) -> dict[str, Any]:
            asked.append(len(request["recipes"]))
            return {"measured": [[10, 1e-4, 100]] * asked[-1]}

        def forecast(**base: object) -> None:
            vary = {"learning_rate": "0.01 | 0.1"}
            workflows.forecast_search(workflows.new_search(data, base=base, vary=vary), data)

        with mock.patch("axiarch.workflows.forecasting.ask", answer), \
                mock.patch("axiarch.workflows.forecasting._TIMED", {}), \
                mock.patch("time.monotonic", lambda: self.now):
            self.now = 0.0
            forecast(l2=0.1)
            self.assertEqual(asked, [1])
            for same in ({"l2": 0.2}, {"l2": 0.2, "epochs": 9}, {"l2": 0.1, "patience": 2}):
                forecast(**same)
                self.assertEqual(asked, [1], same)
            for number, other in enumerate(({"width": 9}, {"l2": 0.0}, {"batch_size": 8},
                                            {"l2": 0.1, "optimiser": "sgd"}), 2):
                forecast(**other)
                self.assertEqual(asked, [1] * number, other)
            self.now = 1e4
            forecast(l2=0.1)
            self.assertEqual(asked, [1] * 6)

    def test_no_search_yet(self) -> None:
        with self.assertRaises(WorkspaceMissing):
            workflows.snapshot_of(ring_workspace(self.folder / "w"))


class Demo(FolderCase):
    def test_the_demo_is_made_once(self) -> None:
        workspace = workflows.make_demo(self.folder / "d")
        data = workflows.data_set(workspace, "hive states")
        self.assertEqual(sum(data.rows.values()), 3000)
        self.assertEqual(workflows.load_draft(workspace, data), workflows.demo_search(data))
        self.assertEqual(workflows.make_demo(self.folder / "d"), workspace)
        names = {k.name for k in workflows.demo_search(data).space.knobs}
        self.assertGreaterEqual(names,
                                {"batch_size", "learning_rate", "width", "optimiser", "dropout"})


class Answers(unittest.TestCase):
    def test_errors_come_back_as_what_they_were(self) -> None:
        with self.assertRaises(DataError) as caught:
            raise_answer({"error": "DataError", "what": "a", "where": "b", "remedy": "c"})
        self.assertEqual(str(caught.exception), "b: a – c")

    def test_what_is_no_error_of_ours_is_still_an_error(self) -> None:
        for name in ("SystemExit", "annotations", "NotationError", 3):
            with self.assertRaises(AxiarchError):
                raise_answer({"error": name, "what": "a"})

    def test_no_error_raises_nothing(self) -> None:
        raise_answer({"started": 3})


if __name__ == "__main__":
    unittest.main()
