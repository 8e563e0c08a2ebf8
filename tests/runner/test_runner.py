"""The runner's decisions, with an executor that does as it is told, and in one process for real."""

from __future__ import annotations

import unittest
from dataclasses import replace
from types import SimpleNamespace
from unittest import mock

from axiarch.data.building import build_dataset
from axiarch.data.plan import DataPlan, SplitPlan
from axiarch.data.sealed import kept_table
from axiarch.engine.run import RunEnd, RunSpec
from axiarch.engine.streams import Streams
from axiarch.journal import inbox
from axiarch.journal.inbox import send
from axiarch.journal.read import JournalReader
from axiarch.journal.write import JournalWriter
from axiarch.recipes.searchfile import SearchFile, write_search
from axiarch.runner.executors import Executor
from axiarch.runner.executors.inline import InlineExecutor
from axiarch.runner.history import RunEntry
from axiarch.runner.material import outgrows_memory, training_data
from axiarch.runner.queue import Queue
from axiarch.runner.runner import Runner
from axiarch.runner.running import RunningSearch, store_of
from axiarch.runner.tasks import Failed, Held, Joined, Left, Load, Returned, Silent, Trained
from axiarch.runs.epoch import Epoch
from axiarch.workflows.opening import data_set
from axiarch.workflows.snapshot import Snapshot
from axiarch.workflows.watching import Watcher
from tests.runner.fakes import ScriptedExecutor
from tests.support import FolderCase, recipe, ring_dataset, ring_search, ring_workspace


class RunnerCase(FolderCase):
    def setUp(self) -> None:
        super().setUp()
        # In one turn all is decided that can be, however slow the machine is.
        patched = mock.patch("axiarch.runner.handing._DECIDING", 60.0)
        patched.start()
        self.addCleanup(patched.stop)
        self.workspace = ring_workspace(self.folder / "w")
        self.dataset = data_set(self.workspace, "ring")

    def make(self, search: SearchFile, executor: Executor | None = None, number: int = 1,
             room: int = 0) -> Runner:
        """Return a runner of a search, fresh or continued; by default it trains inline."""
        folder = self.workspace.search(number)
        folder.mkdir(exist_ok=True)
        (folder / "search.toml").write_text(write_search(search))
        journal = JournalWriter(self.workspace.journal)
        self.addCleanup(journal.close)
        data = data_set(self.workspace, search.data)
        executor = executor or InlineExecutor(store_of(self.workspace, number, data))
        return Runner(RunningSearch(self.workspace, number, search, data, journal, executor,
                                    room=room))

    def look(self, number: int = 1) -> Snapshot:
        """Return the search as it stands."""
        watcher = Watcher(self.workspace, number)
        self.addCleanup(watcher.close)
        snapshot = watcher.poll()
        assert snapshot is not None
        return snapshot

    def state(self, number: int = 1) -> str:
        """Return the search's journalled state."""
        reader = JournalReader(self.workspace.journal)
        self.addCleanup(reader.close)
        found = reader.search(number)
        assert found is not None
        return found.state


class Inline(RunnerCase):
    def test_a_search_runs_to_its_end(self) -> None:
        self.assertEqual(self.make(ring_search()).run(), "done")
        s = self.look()
        self.assertEqual((s.search.state, len(s.recipes), s.ended_runs), ("done", 6, 12))
        self.assertEqual(len(s.ranking.rows) + len(s.ranking.broken), 6)

    def test_no_run_is_trained_beyond_its_epochs_or_leaves_a_gap(self) -> None:
        self.make(ring_search(epochs=4)).run()
        for run, curve in self.look().curves.items():
            self.assertEqual(len(curve), 4, run)

    def test_every_recipe_trains_on_every_fold_and_a_resumed_search_ends_with_the_same_bits(
            self) -> None:
        plan = DataPlan(("place",), split=SplitPlan(folds=3))
        data = build_dataset(kept_table(ring_dataset(self.folder / "r")),
                             self.workspace.data("folded"),
                             "f",
                             plan=plan)
        search = replace(ring_search(recipes=3, repeats=2), data="folded")
        self.make(search).run()
        half = self.make(search, number=2)
        half.turn(0)
        half.stop()
        half.run()
        self.make(search, number=2).run()
        one, two = self.look(1), self.look(2)
        self.assertEqual((one.search.state, one.expected_runs, one.ended_runs), ("done", 18, 18))
        self.assertEqual({(r.repeat, r.fold) for r in one.runs_of(1)},
                         {(i, j) for i in range(2) for j in range(3)})
        curves = [[s.curves[r.id].validation
                   for n in s.recipes
                   for r in s.runs_of(n)]
                  for s in (one, two)]
        self.assertEqual(*curves)
        self.assertEqual(len({c for c in curves[0]}), 18)
        self.assertEqual(one.run_name(one.runs_of(1)[4]), "seed 2, fold 2")
        self.assertEqual(one.dataset.folds, data.folds)

    def test_two_runs_of_one_search_give_the_same_bits(self) -> None:
        for number in (1, 2):
            self.make(ring_search(), number=number).run()
        a, b = self.look(1), self.look(2)
        self.assertEqual([c.validation for c in a.curves.values()],
                         [c.validation for c in b.curves.values()])
        self.assertEqual([r.loss for r in a.ranking.rows], [r.loss for r in b.ranking.rows])

    def test_a_search_stopped_half_way_and_resumed_ends_with_the_same_bits(self) -> None:
        self.make(ring_search()).run()
        half = self.make(ring_search(), number=2)
        half.turn(0)
        half.turn(0)
        half.stop()
        self.assertEqual(half.run(), "stopped")
        self.assertLess(self.look(2).ended_runs, 12)
        self.assertEqual(self.make(ring_search(), number=2).run(), "done")
        a, b = self.look(1), self.look(2)
        for number in a.recipes:
            for first, second in zip(a.runs_of(number), b.runs_of(number), strict=True):
                self.assertEqual(a.curves[first.id].validation, b.curves[second.id].validation)

    def test_resuming_what_is_done_changes_nothing(self) -> None:
        self.make(ring_search()).run()
        before = self.look().epochs
        self.assertEqual(self.make(ring_search()).run(), "done")
        self.assertEqual(self.look().epochs, before)


class Scripted(RunnerCase):
    def start(self, search: SearchFile | None = None, workers: int = 2
              ) -> tuple[Runner, ScriptedExecutor]:
        """Return a runner that has handed out its first tasks."""
        executor = ScriptedExecutor(workers)
        runner = self.make(search or ring_search(), executor)
        runner.turn(0)
        return runner, executor

    def finish(self, runner: Runner, executor: ScriptedExecutor) -> Snapshot:
        """End all that is handed out, until nothing is."""
        for _ in range(400):
            for worker in executor.busy:
                executor.end(worker)
            runner.turn(0)
            if runner._over():
                return self.look()
        raise AssertionError("the search does not end")

    def test_what_is_decided_is_handed_out_at_once_and_one_run_waits_behind_another(self) -> None:
        _, executor = self.start()
        self.assertEqual(executor.given(), {0: [1, 3], 1: [2, 4]})

    def test_as_many_wait_as_the_executor_needs(self) -> None:
        executor = ScriptedExecutor(1, ahead=3)
        self.make(ring_search(), executor).turn(0)
        self.assertEqual(len(executor.given()[0]), 4)

    def test_nothing_waits_behind_a_long_training(self) -> None:
        with mock.patch("axiarch.runner.handing._SHORT", 1e-6):
            _, executor = self.start()
        self.assertEqual([len(runs) for runs in executor.given().values()], [1, 1])

    def test_where_a_run_ends_another_takes_its_place_behind_the_next(self) -> None:
        runner, executor = self.start(workers=1)
        (one, two) = executor.given()[0]
        self.assertEqual([self.look().runs[run].state for run in (one, two)],
                         ["training", "waiting"])
        executor.end(0, one)
        runner.turn(0)
        (now, three) = executor.given()[0]
        self.assertEqual(now, two)
        self.assertEqual([self.look().runs[run].state for run in (one, two, three)],
                         ["ended", "training", "waiting"])

    def test_every_fold_is_trained_on_in_turn(self) -> None:
        build_dataset(kept_table(ring_dataset(self.folder / "r")), self.workspace.data("folded"),
                      "f", plan=DataPlan(("place",), split=SplitPlan(folds=3)))
        runner, executor = self.start(replace(ring_search(recipes=1), data="folded"), workers=1)
        s = self.finish(runner, executor)
        self.assertEqual(sorted((r.repeat, r.fold) for r in s.runs.values()),
                         [(i, j) for i in range(2) for j in range(3)])
        self.assertEqual({r.state for r in s.runs.values()}, {"ended"})

    def test_only_data_larger_than_memory_are_read_ahead(self) -> None:
        data = training_data(self.dataset)
        free = SimpleNamespace(available=data.bytes)
        with mock.patch("psutil.virtual_memory", lambda: free):
            self.assertTrue(outgrows_memory(data, 1))
            free.available *= 10
            self.assertFalse(outgrows_memory(data, 1))
            self.assertTrue(outgrows_memory(data, 10))

    def test_a_pause_counts_when_every_worker_has_paused(self) -> None:
        runner, executor = self.start()
        send(self.workspace.search(1), inbox.Pause())
        executor.hold = lambda: executor.reports.append(Held(0))  # type: ignore[method-assign]
        runner.turn(0)
        self.assertEqual(self.state(), "running")
        executor.reports.append(Held(1))
        runner.turn(0)
        self.assertEqual(self.state(), "paused")
        send(self.workspace.search(1), inbox.Resume())
        runner.turn(0)
        self.assertEqual(executor.orders, ["go"])
        self.assertEqual(self.state(), "running")

    def test_nothing_is_handed_out_while_paused(self) -> None:
        runner, executor = self.start()
        send(self.workspace.search(1), inbox.Pause())
        runner.turn(0)
        before = len(executor.submitted)
        executor.end(0)
        runner.turn(0)
        self.assertEqual(len(executor.submitted), before)

    def test_a_dead_worker_costs_no_finished_run_and_its_others_train_alone(self) -> None:
        runner, executor = self.start()
        first, *lost = executor.given()[0]
        executor.end(0, first)
        executor.die(0)
        runner.turn(0)
        while not (alone := [runs for runs in executor.given().values() if lost[0] in runs]):
            executor.end(0)
            runner.turn(0)
        self.assertEqual(alone, [lost], "and none before or behind it")
        s = self.finish(runner, executor)
        self.assertEqual({r.state for r in s.runs.values()}, {"ended"})
        self.assertEqual(s.runs[first].attempts, 0)
        self.assertRegex(next(e.text for e in s.events if e.kind == "died"),
                         "worker 1: killed; its run is tried again")

    def test_a_run_whose_worker_dies_twice_has_failed_and_the_others_go_on(self) -> None:
        runner, executor = self.start()
        doomed = executor.given()[0][0]
        for _ in range(60):
            for worker in executor.busy:
                if doomed in executor.given()[worker]:
                    executor.die(worker, "out of memory")
                else:
                    executor.end(worker)
            runner.turn(0)
        s = self.look()
        self.assertEqual((s.runs[doomed].state, s.runs[doomed].text),
                         ("failed", "out of memory, twice"))
        self.assertEqual({r.state for r in s.runs.values() if r.id != doomed}, {"ended"})

    def test_a_run_that_comes_further_between_two_deaths_of_its_worker_is_tried_again(self) -> None:
        runner, executor = self.start(ring_search(recipes=1, repeats=1), workers=1)
        for epochs in (1, 2, 3):
            executor.train(0, 1, [0.5] * epochs, rest=False)
            executor.die(0)
            runner.turn(0)
            self.assertEqual(self.look().runs[1].state, "training")
        for _ in range(2):
            executor.die(0)
            runner.turn(0)
        self.assertEqual(self.look().runs[1].state, "failed")

    def test_runs_that_cannot_be_trained_fail_at_once_with_the_cause(self) -> None:
        runner, executor = self.start()
        runs = executor.given()[0]
        executor.reports += [Failed(0, run, "no such file") for run in runs]
        runner.turn(0)
        s = self.look()
        self.assertTrue(
            all(s.runs[r].state == "failed" and s.runs[r].text == "no such file" for r in runs))

    def test_stopping_puts_back_what_was_in_training(self) -> None:
        runner, executor = self.start()
        runner.stop()
        self.assertEqual(runner.run(), "stopped")
        self.assertEqual({r.state for r in self.look().runs.values()}, {"waiting"})
        self.assertIn("drop", executor.orders)

    def test_what_a_worker_says_of_a_run_it_no_longer_has_is_left_out(self) -> None:
        """A worker was given up, another trains its run, and then the first comes back."""
        runner, executor = self.start()
        run = executor.given()[0][0]
        executor.reports.append(Left(0, "the network was cut"))
        executor.tasks[0] = []
        runner.turn(0)
        while run not in executor.given()[1]:
            executor.end(1)
            runner.turn(0)
        late = Epoch(run, 1, 9.0, 9.0, 9.0, (0.5, 0.5), 0.1, 1.0, 0.01)
        executor.reports += [Trained(0, run, (late,), RunEnd("completed", "", 1, 1, 9.0)),
                             Joined(0), Trained(0, run, (late,)), Returned(0, (run,))]
        runner.turn(0)
        self.assertEqual(self.look().runs[run].state, "training")
        s = self.finish(runner, executor)
        self.assertEqual(s.curves[run].validation, (0.5,))

    def test_what_the_smallest_worker_cannot_hold_fails_with_the_numbers(self) -> None:
        """Decided before any worker had joined, and before it is known what they can hold."""
        executor = ScriptedExecutor(0)
        runner = self.make(ring_search(recipes=2, repeats=1), executor)
        runner.turn(0)
        executor.tasks = {0: [], 1: []}
        executor.reports += [Joined(0, "large", 1 << 30), Joined(1, "small", 100)]
        runner.turn(0)
        s = self.look()
        self.assertEqual({r.state for r in s.runs.values()}, {"failed"})
        self.assertIn("a worker may take 100 B", next(iter(s.runs.values())).text)
        self.assertFalse(executor.submitted)

    def test_two_reports_of_one_epoch_are_one(self) -> None:
        runner, executor = self.start(ring_search(recipes=1, repeats=1), workers=1)
        executor.train(0, 1, [0.5], rest=False)
        executor.train(0, 1, [0.5, 0.4], rest=False)
        runner.turn(0)
        self.assertEqual(self.look().curves[1].validation, (0.5, 0.4))

    def test_workers_join_late_and_leave_and_what_they_do_is_shown(self) -> None:
        runner, executor = self.start(workers=1)
        executor.reports += [Joined(7, "node7"), Load(7, 1 << 20, 0.75)]
        executor.tasks[7] = []
        runner.turn(0)
        self.assertTrue(executor.given()[7])
        (_, late) = self.look().workers
        self.assertEqual((late.number, late.machine, late.state, late.memory, late.busy),
                         (7, "node7", "training", 1 << 20, 0.75))
        executor.reports.append(Silent(7))
        runner.turn(0)
        self.assertEqual(self.look().workers[1].state, "silent")
        executor.reports.append(Left(7))
        executor.tasks.pop(7)
        runner.turn(0)
        self.assertEqual([worker.number for worker in self.look().workers], [0])
        s = self.finish(runner, executor)
        self.assertEqual({r.state for r in s.runs.values()}, {"ended"})


class QueueLaws(unittest.TestCase):
    def queue(self, count: int, alone: tuple[int, ...] = ()) -> Queue:
        """Return a queue of the runs from 0; those named are to train with none behind them."""
        queue = Queue()
        for number in range(count):
            queue.put(RunEntry(RunSpec(number, recipe(), Streams(1)), 1,
                               attempts=int(number in alone)))
        return queue

    def test_everything_put_in_is_taken_out_once_and_the_oldest_first(self) -> None:
        queue, taken = self.queue(50), []
        while (found := queue.take()) is not None:
            taken.append(found.id)
        self.assertEqual(taken, list(range(50)))
        self.assertEqual(len(queue), 0)

    def test_a_run_to_train_alone_waits_behind_no_other(self) -> None:
        queue = self.queue(4, alone=(0, 2))
        behind = [queue.take(behind=True) for _ in range(3)]
        self.assertEqual([run.id for run in behind if run], [1, 3])
        first = queue.take()
        assert first is not None
        self.assertEqual((first.id, first.alone, len(queue)), (0, True, 1))

    def test_what_is_removed_is_not_taken(self) -> None:
        queue = self.queue(2)
        queue.remove(0)
        queue.remove(7)
        found = queue.take()
        assert found is not None
        self.assertEqual(found.id, 1)

    def test_what_the_next_decision_waits_for_is_taken_first(self) -> None:
        queue = self.queue(5)
        runs = [queue.take() for _ in range(5)]
        for run, due in zip(runs, (3.0, 1.0, 2.0, 1.0, 9.0), strict=True):
            assert run is not None
            run.due = due
            queue.put(run)
        last = runs[4]
        assert last is not None
        last.due = 0.5  # another step wants it sooner
        queue.put(last)
        order = [run.id for run in iter(queue.take, None)]
        self.assertEqual(order, [4, 1, 3, 2, 0])


if __name__ == "__main__":
    unittest.main()
