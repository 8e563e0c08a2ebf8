"""Runs that rest, go on, are cut; what a user does to them; and runs that go on from what others
left.
"""

from __future__ import annotations

import random
from dataclasses import replace
from unittest import mock

import numpy as np

from axiarch.data.building import build_dataset
from axiarch.data.demo_hum import hum
from axiarch.data.plan import DataPlan
from axiarch.data.reading import read_table
from axiarch.data.sealed import kept_table
from axiarch.engine.run import RunSpec
from axiarch.engine.streams import Streams
from axiarch.errors import InputError, RecipeError, TrainingError
from axiarch.journal import inbox
from axiarch.journal.inbox import Request, send
from axiarch.journal.read import JournalReader
from axiarch.recipes.searchfile import MethodChoice, SearchFile, Start
from axiarch.recipes.space import Space
from axiarch.runner.handing import propose
from axiarch.runner.history import RunEntry
from axiarch.runner.runner import Runner
from axiarch.runner.store import key_of, latest
from axiarch.runs.states import RunState, SearchState
from axiarch.workflows.comparing import differences, keep_version, versions
from axiarch.workflows.continuing import continued
from axiarch.workflows.judging import first_run
from axiarch.workflows.leading import ranking_verdict
from axiarch.workflows.opening import data_set
from axiarch.workflows.scaling import scale_up
from axiarch.workflows.telling import example_predictions
from tests.runner.fakes import ScriptedExecutor
from tests.runner.test_runner import RunnerCase
from tests.support import recipe, ring_dataset, ring_search


def race(recipes: int = 20, epochs: int = 18, **options: int) -> SearchFile:
    """Return a race on the ring data."""
    return replace(ring_search(epochs=epochs, patience=0),
                   method=MethodChoice(
                       "racing", {"recipes": recipes, "window": 8, "finalists": 2, **options}))


def once(epochs: int = 12, **values: object) -> SearchFile:
    """Return one training."""
    return replace(ring_search(),
                   space=Space(recipe(epochs=epochs, patience=0, **values)),
                   repeats=1,
                   method=MethodChoice("grid"))


class Racing(RunnerCase):
    def test_recipes_rest_go_on_and_are_cut_with_the_reason(self) -> None:
        self.assertEqual(self.make(race()).run(), "done")
        s = self.look()
        lengths = {n: len(s.curves[s.runs_of(n)[0].id]) for n in s.recipes}
        self.assertEqual(set(lengths.values()), {6, 18})
        for run in s.runs.values():
            self.assertEqual(run.state == "cut", len(s.curves[run.id]) < 18)
            if run.state == "cut":
                self.assertRegex(run.text,
                                 r"place \d+ of \d+ after \d+ epochs, where one in 3 went on")
        self.assertEqual([r.repeats for r in s.ranking.rows[:2]], [2, 2])
        self.assertEqual(len(s.ranking.rows) + len(s.ranking.partial), 20)
        for known in s.ranking.partial:
            self.assertLessEqual(known.best_then, known.loss)
        lower = replace(s.ranking.partial[0], loss=s.ranking.rows[0].loss - 0.01, epochs=6)
        for state, said in (("running", True), ("done", False)):
            now = replace(s, search=replace(s.search, state=SearchState(state)),
                          ranking=replace(s.ranking, partial=(lower,)))
            self.assertEqual(f"Recipe {lower.recipe} is lower already" in ranking_verdict(now),
                             said)
        first = sum(len(s.curves[run.id]) for run in s.runs.values() if run.repeat == 0)
        self.assertLess(first, 20 * 18 * 0.9)

    def test_what_goes_on_has_the_bits_of_what_never_rested(self) -> None:
        self.make(race()).run()
        s = self.look()
        number = s.ranking.rows[0].recipe
        alone = replace(race(),
                        space=Space(s.recipes[number].recipe),
                        method=MethodChoice("grid"),
                        repeats=1)
        self.make(alone, number=2).run()
        other = self.look(2)
        self.assertEqual(s.curves[s.runs_of(number)[0].id].validation,
                         other.curves[other.runs_of(1)[0].id].validation)

    def test_the_number_of_runs_side_by_side_changes_no_decision(self) -> None:
        """One worker or three, in whatever order they report: the same steps."""
        found = []
        for number, workers in ((1, 1), (2, 3)):
            executor = ScriptedExecutor(workers)
            runner = self.make(race(12), executor, number)
            for _ in range(400):
                runner.turn(0)
                for worker in sorted(executor.busy, reverse=number == 2):
                    for task in list(executor.tasks[worker]):
                        loss = int(task.run.recipe.fingerprint[:4], 16) / 65536
                        executor.train(worker, task.id, [loss] * (task.until or 17),
                                       rest=task.until > 0)
                        if not task.until:
                            executor.end(worker, task.id, loss=loss)
                if runner._over():
                    break
            found.append([(t.step.recipe, t.step.until, t.step.replicates, t.observed)
                          for t in runner.search.history.sequence.steps])
        self.assertEqual(*found)

    def test_a_runner_that_is_held_up_decides_all_there_is_to_decide(self) -> None:
        """Where the moment for deciding was over before it began, a search once counted as done
        while outcomes of its last runs had not been observed.
        """
        search = race()
        self.make(search).run()
        chance, clock = random.Random(1), [0.0]

        def busy() -> float:
            clock[0] += chance.random() < 0.5  # every other look at the clock comes a second later
            return clock[0]

        with mock.patch("axiarch.runner.handing._DECIDING", 0.003), \
                mock.patch("axiarch.runner.handing.time.perf_counter", busy):
            self.make(replace(search, name="held up"), number=2).run()
        one, two = self.look(1), self.look(2)
        self.assertEqual(one.search.state, "done")
        self.assertEqual((len(one.recipes), one.epochs), (len(two.recipes), two.epochs))
        self.assertEqual(len(one.recipes), 20)


class ByHand(RunnerCase):
    """Requests about single recipes, the budget and the workers; journalled, so that a later
    sitting knows them.
    """

    def running(self, search: SearchFile | None = None) -> tuple[Runner, ScriptedExecutor]:
        executor = ScriptedExecutor()
        runner = self.make(search or race(), executor)
        self.settle(runner)
        return runner, executor

    def settle(self, runner: Runner) -> None:
        """Let all be decided that can be now."""
        runner.turn(0)
        while runner._more:
            runner.turn(0)

    def ask(self, runner: Runner, *requests: Request) -> None:
        for request in requests:
            send(self.workspace.search(1), request)
        self.settle(runner)

    def test_a_recipe_is_cut(self) -> None:
        runner, executor = self.running()
        run = executor.given()[0][0]
        number = runner.search.history.runs[run].recipe
        self.ask(runner, inbox.Cut(number))
        s = self.look()
        self.assertEqual((s.runs[run].state, s.runs[run].text), ("cut", "cut by hand"))
        self.assertIn(f"release {run}", executor.orders)
        executor.train(0, run, [0.5] * 3)
        runner.turn(0)
        self.assertEqual(self.look().runs[run].state, "cut")
        again = self.make(race(), ScriptedExecutor())
        self.assertIn(number, again.search.history.method._barred)

    def test_a_recipe_is_kept_and_given_more_epochs(self) -> None:
        runner, _ = self.running()
        short = [t.number for t in runner.search.history.sequence.steps if t.step.until == 6][:2]
        self.ask(runner, inbox.Keep(short[0]), inbox.More(short[1], 2))
        entries = [runner.search.history.runs_of(n)[0] for n in short]
        self.assertEqual([e.until for e in entries], [0, 8])

    def test_a_recipe_is_added_and_a_wrong_one_refused_in_words(self) -> None:
        runner, _ = self.running()
        before = len(runner.search.history.recipes)
        self.ask(runner, inbox.Add({"width": 5}), inbox.Add({"width": -5}),
                 inbox.Cut(999), inbox.Budget(2))
        self.assertIn(5, [r["width"] for r in runner.search.history.recipes.values()])
        self.assertEqual(len(runner.search.history.recipes), before + 1)
        refused = [e.text for e in self.look().events if e.kind == "refused"]
        self.assertEqual(len(refused), 3)
        self.assertIn("no recipe 999", refused[1])

    def test_what_makes_no_sense_is_refused_and_ends_nothing(self) -> None:
        """The same epochs asked for twice, more of what trains to its end anyway, and keeping
        what was cut.
        """
        search = race(6)
        runner = self.make(search)
        while not any(e.state == "ended" for e in runner.search.history.runs.values()):
            runner.turn(0)
        number = next(e.recipe for e in runner.search.history.runs.values() if e.state == "ended")
        for request in (inbox.More(number, 4), inbox.More(number, 4), inbox.Cut(6), inbox.Keep(6)):
            send(self.workspace.search(1), request)
        self.assertEqual(runner.run(), "done")
        refused = [e.text for e in self.look().events if e.kind == "refused"]
        self.assertIn("already", refused[0])

    def test_an_outcome_stays_what_it_was_whatever_becomes_of_the_run_later(self) -> None:
        entry = RunEntry(RunSpec(1, recipe(), Streams(1)), 1, RunState.RESTING,
                         [0.5, 0.4, 0.3], until=3)
        before = (entry.curve(3), entry.known(3), entry.over_by(3))
        self.assertEqual(before, ((0.5, 0.4, 0.3), True, False))
        for state in (RunState.FAILED, RunState.CUT, RunState.TRAINING):
            entry.state = state
            entry.losses = [0.5, 0.4, 0.3, 0.2][: 3 if state == RunState.FAILED else 4]
            self.assertEqual((entry.curve(3), entry.known(3), entry.over_by(3)), before, state)
        entry.state, entry.losses = RunState.FAILED, [0.5]
        self.assertEqual((entry.curve(3), entry.over_by(3)), ((), True))

    def test_a_continuation_that_cannot_start_leaves_no_trace(self) -> None:
        with self.assertRaises(InputError):
            self.make(replace(once(9), start=Start(7, 7)), number=3)
        reader = JournalReader(self.workspace.journal)
        self.addCleanup(reader.close)
        self.assertIsNone(reader.search(3))

    def test_the_budget_is_raised_and_remembered(self) -> None:
        runner, _ = self.running()
        self.ask(runner, inbox.Budget(33))
        self.assertEqual(runner.search.history.method.values["recipes"], 33)
        self.assertEqual(
            self.make(race(), ScriptedExecutor()).search.history.method.values["recipes"], 33)

    def test_an_ended_recipe_goes_on_as_a_new_one(self) -> None:
        search = race(6)
        runner = self.make(search)
        while not any(e.state == "ended" for e in runner.search.history.runs.values()):
            runner.turn(0)
        number = next(e.recipe for e in runner.search.history.runs.values() if e.state == "ended")
        send(self.workspace.search(1), inbox.More(number, 4))
        self.assertEqual(runner.run(), "done")
        s = self.look()
        longer = next(n for n, r in s.recipes.items() if r.recipe["epochs"] == 22)
        run, old = s.runs_of(longer)[0], s.runs_of(number)[0]
        self.assertEqual((run.start, len(s.curves[run.id])), (18, 22))
        self.assertEqual(s.curves[run.id].validation[:18], s.curves[old.id].validation)


class Continued(RunnerCase):
    def test_more_epochs_from_where_it_stopped_are_those_of_a_longer_training(self) -> None:
        self.make(once(8)).run()
        self.make(once(14), number=2).run()
        s, longer = self.look(1), self.look(2)
        search = continued(s, first_run(s, 1).id, 6)
        self.assertEqual(search.start, Start(1, first_run(s, 1).id, "last"))
        self.make(search, number=3).run()
        again = self.look(3)
        self.assertEqual(again.curves[first_run(again, 1).id].validation,
                         longer.curves[first_run(longer, 1).id].validation)
        self.assertEqual(again.epochs, 6)

    def test_one_that_was_stopped_before_it_was_saved_is_trained_from_its_beginning(self) -> None:
        self.make(once(8)).run()
        s = self.look()
        run = first_run(s, 1)
        latest(self.workspace.search(1) / "checkpoints", run.id).unlink()
        self.make(continued(s, run.id, 6), number=2).run()
        again = self.look(2)
        curve = again.curves[first_run(again, 1).id].validation
        self.assertEqual((again.search.state, len(curve)), ("done", 14))
        self.assertEqual(curve[:8], s.curves[run.id].validation)
        with self.assertRaisesRegex(InputError,
                                    "no checkpoint"):  # its best epoch is gone with the checkpoint
            self.make(continued(s, run.id, 6, "best"), number=3)

    def test_back_to_the_best_epoch_with_another_rate(self) -> None:
        self.make(once(40, learning_rate=0.1, width=32)).run()
        s = self.look()
        run = first_run(s, 1)
        self.assertLess(run.best_epoch, 40)
        self.make(continued(s, run.id, 5, "best", {"learning_rate": 1e-3}), number=2).run()
        other = self.look(2)
        curve = other.curves[first_run(other, 1).id]
        self.assertEqual(len(curve), run.best_epoch + 5)
        self.assertEqual(curve.validation[:run.best_epoch],
                         s.curves[run.id].validation[:run.best_epoch])
        self.assertLess(
            abs(curve.validation[run.best_epoch] - curve.validation[run.best_epoch - 1]), 0.2)

    def test_what_does_not_fit_is_said(self) -> None:
        self.make(once(6)).run()
        s = self.look()
        run = first_run(s, 1).id
        with self.assertRaises(RecipeError) as caught:
            continued(s, run, 5, changes={"width": 99})
        self.assertIn("do not fit", caught.exception.what)
        with self.assertRaises(TrainingError):
            continued(s, 4711, 5)
        with self.assertRaises(TrainingError):
            first_run(s, 9)

    def test_an_interrupted_continuation_does_not_start_afresh(self) -> None:
        """Its own checkpoint ahead of the journal is of no use; the one it started from is."""
        self.make(once(8)).run()
        s = self.look()
        search = continued(s, first_run(s, 1).id, 6)
        runner = self.make(search, number=2)
        runner.turn(0)
        propose(runner.search)
        run, entry = next(iter(runner.search.history.runs.items()))
        entry.checkpoints.append(key_of(run, 9))
        runner.search.store.checkpoint(key_of(run, 9)).write_bytes(b"spoilt")
        self.assertEqual(runner.run(), "done")
        other = self.look(2)
        self.assertEqual(len(other.curves[run]), 14)

    def test_a_watched_training_tells_what_it_takes_rows_for(self) -> None:
        self.make(once(4)).run()
        s = self.look()
        epoch, said = example_predictions(s, first_run(s, 1).id)
        self.assertEqual((epoch, len(said)), (4, 8))
        for each in said:
            self.assertIn(each.truth, s.dataset.classes)
            self.assertAlmostEqual(sum(share for _, share in each.shares), 1.0, places=6)
            self.assertGreaterEqual(each.shares[0][1], each.shares[-1][1])
        self.assertEqual(example_predictions(s, 999), (0, ()))


class ScaledUp(RunnerCase):
    def test_a_recipe_is_held_against_larger_ones_with_what_they_cost(self) -> None:
        self.make(once(6, width=8)).run()
        s = self.look()
        scaled = scale_up(self.workspace, s, 1, ["width=32", "epochs=12"])
        self.assertEqual((scaled.search.method.name, scaled.search.repeats), ("grid", 3))
        self.assertGreater(scaled.step, 4)
        self.assertAlmostEqual(scaled.training, 2 * scaled.step)
        self.assertFalse(scaled.weights_fit)
        self.assertIn("do not fit", str(scaled))
        self.make(scaled.search, number=2).run()
        found = self.look(2)
        self.assertEqual({(r.recipe["width"], r.recipe["epochs"]) for r in found.recipes.values()},
                         {(8, 6), (8, 12), (32, 6), (32, 12)})

    def test_where_the_network_stays_the_weights_fit(self) -> None:
        self.make(once(4)).run()
        scaled = scale_up(self.workspace, self.look(), 1, ["epochs=9"])
        self.assertTrue(scaled.weights_fit)
        self.assertEqual(scaled.step, 1)
        with self.assertRaises(RecipeError):
            scale_up(self.workspace, self.look(), 1, ["epochs=4"])

    def test_a_recipe_found_on_some_rows_is_trained_on_all(self) -> None:
        some = build_dataset(kept_table(ring_dataset(self.folder / "r")),
                             self.workspace.data("some"),
                             "some",
                             plan=DataPlan(("place", ), rows=40))
        self.make(replace(once(3, width=4), data="some")).run()
        s = self.look()
        scaled = scale_up(self.workspace, s, 1, ["rows=all", "width=8"])
        whole = data_set(self.workspace, scaled.search.data)
        self.assertEqual(scaled.rows, (40, whole.rows["train"]))
        self.assertGreater(scaled.training, 2 * scaled.step)
        self.assertIn("instead of 40", str(scaled))
        for part in ("inputs", "targets"):
            before, now = (getattr(each.part("validation"), part) for each in (some, whole))
            self.assertEqual(len(before), len(now))
        self.assertEqual(
            scale_up(self.workspace, s, 1, ["rows=all"]).search.data, whole.name, "made once")
        self.make(scaled.search, number=2).run()
        self.assertEqual({r.recipe["width"] for r in self.look(2).recipes.values()}, {4, 8})
        for wrong in (["rows=30"], ["rows=many"]):
            with self.assertRaises(RecipeError):
                scale_up(self.workspace, s, 1, wrong)
        with self.assertRaises(RecipeError):
            scale_up(self.workspace, self.look(2), 1, ["rows=all"])

    def test_a_recipe_found_on_small_pictures_is_trained_on_large_ones(self) -> None:
        table, _ = read_table(hum(120).to_npz(self.folder / "h.npz"))
        small = build_dataset(table,
                              self.workspace.data("small"),
                              "small",
                              plan=DataPlan(rows=40, shrink=4))
        self.make(replace(once(2, network="conv 2, pool 2, 4"), data="small")).run()
        s = self.look()
        scaled = scale_up(self.workspace, s, 1, ["pictures=all", "rows=all"])
        large = data_set(self.workspace, scaled.search.data)
        self.assertEqual((small.encoding.picture, large.encoding.picture), ((4, 4, 1), (16, 16, 1)))
        self.assertGreater(scaled.step, 8)
        self.assertIn("pictures of 16 x 16 instead of 4 x 4, and is validated on the same rows",
                      str(scaled))
        np.testing.assert_array_equal(
            small.part("validation").targets,
            large.part("validation").targets)
        self.make(scaled.search, number=2).run()
        self.assertEqual(len(self.look(2).runs), 3)
        for wrong in (["pictures=8"], ["pictures=all"]):
            with self.assertRaises(RecipeError):
                scale_up(self.workspace, self.look(2 if wrong == ["pictures=all"] else 1), 1, wrong)


class Versions(RunnerCase):
    def test_versions_are_kept_with_note_and_change_and_read_again(self) -> None:
        first = keep_version(self.workspace, recipe(), "as it was")
        second = keep_version(self.workspace, recipe(learning_rate=0.02),
                              "hotter: a note with [markup]")
        third = keep_version(self.workspace, recipe(learning_rate=0.02, width=7))
        self.assertEqual([v.name for v in versions(self.workspace)],
                         ["the first version", "hotter", "width 7"])
        self.assertEqual(versions(self.workspace), (first, second, third))
        self.assertEqual(second.note, "a note with [markup]")

    def test_what_is_no_version_is_passed_over(self) -> None:
        keep_version(self.workspace, recipe())
        folder = self.workspace.folder / "versions"
        for name, text in (("0002.toml", "x = ["), ("0003.toml", "[recipe]\nwidth = -1"),
                           ("0004.toml", "name = 'a'")):
            (folder / name).write_text(text)
        self.assertEqual(len(versions(self.workspace)), 1)
        self.assertEqual(keep_version(self.workspace, recipe(width=3)).number, 5)

    def test_two_recipes_side_by_side(self) -> None:
        found = differences(recipe(optimiser="momentum"), recipe(width=9))
        table = {d.label: (d.first, d.second) for d in found}
        self.assertEqual(table["width"], ("6", "9"))
        self.assertEqual(table["optimiser"], ("momentum", "adam"))
        self.assertEqual(table["momentum"], ("0.9", ""))
        self.assertEqual(differences(recipe(), recipe()), ())
