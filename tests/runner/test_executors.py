"""The laws that every executor keeps: inline, worker processes, and a Dask cluster."""

from __future__ import annotations

import pickle
import time
import unittest
from collections.abc import Callable
from pathlib import Path
from tempfile import TemporaryDirectory

import psutil

from axiarch.engine.run import RunEnd, RunSpec
from axiarch.engine.streams import Streams
from axiarch.errors import TrainingError
from axiarch.runner.executors import Executor
from axiarch.runner.executors.cluster import ClusterExecutor
from axiarch.runner.executors.inline import InlineExecutor
from axiarch.runner.executors.processes import ProcessExecutor
from axiarch.runner.store import FolderStore, named, origin_of
from axiarch.runner.tasks import (
    Failed,
    Held,
    Joined,
    Left,
    Load,
    Report,
    Returned,
    Task,
    Trained,
)
from axiarch.runner.trainer import Trainer
from tests.runner.clusters import Cluster
from tests.runner.test_processes import workers_of
from tests.support import PATIENCE, FolderCase, recipe, ring_dataset

#: Epochs of a task that lasts longer than any test needs.
LONG = 60_000


class ExecutorLaws:
    """What every executor must do. Tasks of one recipe and repeat are the same training."""

    class Case(FolderCase):
        workers = 2

        def setUp(self) -> None:
            super().setUp()
            self.dataset = ring_dataset(self.folder / "ring")
            self.store = FolderStore(self.folder / "kept", self.folder / "data",
                                     {self.dataset.fingerprint: self.dataset.folder})
            self.reports: list[Report] = []
            self.executor = self.make()
            self.addCleanup(self.executor.close)
            self.until(lambda: len(self.found(Joined)) == self.workers, "workers joining")

        def make(self) -> Executor:
            """Return the executor that is tried out."""
            raise NotImplementedError

        def task(self, run: int, until: int = 0, repeat: int = 0, start: int = 0,
                 epochs: int = 8, **more: object) -> Task:
            spec = RunSpec(run, recipe(epochs=epochs, patience=0, **more), Streams(1, repeat))
            keys = tuple(self.store.keys().get(run, ()))
            return Task(spec, start, until, self.dataset.fingerprint, keys)

        def found(self, kind: type) -> list:  # type: ignore[type-arg]
            """Return the reports of a kind so far."""
            return [report for report in self.reports if isinstance(report, kind)]

        def until(self, done: Callable[[], bool], what: str, seconds: float = PATIENCE) -> None:
            """Poll until something holds."""
            end = time.monotonic() + seconds
            while not done():
                self.assertLess(time.monotonic(), end, f"waited in vain for {what}")
                self.reports += self.executor.poll(0.05)

        def epochs(self, run: int) -> list[tuple[int, float]]:
            """Return the epochs reported of a run, with their losses."""
            return [(e.epoch, e.validation_loss) for r in self.found(Trained) if r.run == run
                    for e in r.epochs]

        def over(self, *runs: int) -> bool:
            ended = {r.run for r in self.found(Trained) if r.end is not None or r.rests}
            return set(runs) <= ended

        def calm(self, repeat: int = 0, epochs: int = 8) -> list[tuple[int, float]]:
            """Return the epochs of an undisturbed training in this process."""
            reports: list[Report] = []
            trainer = Trainer(0, FolderStore(self.folder / "calm", self.folder, self.store.known),
                              reports.append)
            trainer.begin(self.task(99, 0, repeat, epochs=epochs))
            while not trainer.step():
                pass
            return [(e.epoch, e.validation_loss) for r in reports if isinstance(r, Trained)
                    for e in r.epochs]

        # -- the laws ----------------------------------------------------------------------------

        def test_whoever_trains_computes_the_same_bits(self) -> None:
            for run in range(4):
                self.executor.submit(run % self.workers, self.task(run, repeat=run // 2))
            self.until(lambda: self.over(0, 1, 2, 3), "four trainings")
            for run in range(4):
                self.assertEqual(self.epochs(run), self.calm(run // 2), run)

        def test_a_worker_trains_its_tasks_in_their_order_and_joins_no_epochs_of_two(self) -> None:
            for run in (5, 3, 4):
                self.executor.submit(0, self.task(run))
            self.until(lambda: self.over(3, 4, 5), "three trainings")
            order = [r.run for r in self.found(Trained)]
            self.assertEqual(list(dict.fromkeys(order)), [5, 3, 4])
            for report in self.found(Trained):
                self.assertEqual({e.run for e in report.epochs}, {report.run})

        def test_a_run_rests_where_it_was_asked_to_and_continues_on_any_worker(self) -> None:
            self.executor.submit(0, self.task(1, until=3))
            self.until(lambda: self.over(1), "a rest")
            rested = self.found(Trained)[-1]
            self.assertTrue(rested.rests)
            self.assertTrue(self.store.has(named(rested.checkpoint)))
            self.reports.clear()
            self.executor.submit(self.workers - 1, self.task(1, start=3))
            self.until(lambda: self.over(1), "its end")
            self.assertEqual(self.epochs(1), self.calm()[3:])
            end = self.found(Trained)[-1].end
            self.assertIsInstance(end, RunEnd)

        def test_a_pause_takes_hold_within_a_second_and_ends_when_asked(self) -> None:
            for worker in range(self.workers):
                self.executor.submit(worker, self.task(worker, epochs=LONG, repeat=worker))
            self.until(lambda: all(self.epochs(w) for w in range(self.workers)), "training")
            asked = time.monotonic()
            self.executor.hold()
            self.until(lambda: len(self.found(Held)) >= self.workers, "a pause", 10)
            self.assertLess(time.monotonic() - asked, 3.0)  # a second, and room for a busy machine
            self.reports += self.executor.poll(0.3)
            before = len(self.epochs(0))
            time.sleep(0.3)
            self.reports += self.executor.poll(0.3)
            self.assertEqual(len(self.epochs(0)), before)
            self.executor.go()
            self.until(lambda: len(self.epochs(0)) > before, "training again", 10)
            self.assertEqual([e for e, _ in self.epochs(0)], list(range(1,
                                                                        len(self.epochs(0)) + 1)))

        def test_a_run_is_cut_at_once_and_the_next_one_begins(self) -> None:
            for run in (1, 2, 3):
                self.executor.submit(0, self.task(run, epochs=8 if run == 3 else LONG))
            self.until(lambda: bool(self.epochs(1)), "training")
            asked = time.monotonic()
            self.executor.release(0, 2)
            self.executor.release(0, 1)
            self.until(lambda: {run for r in self.found(Returned) for run in r.runs} == {1, 2},
                       "both runs given back", 10)
            self.assertLess(time.monotonic() - asked, 3.0)
            self.until(lambda: self.over(3), "the third run")
            self.assertEqual(self.epochs(3), self.calm())
            self.assertFalse(self.epochs(2))

        def test_a_stop_gives_every_task_back(self) -> None:
            for run in range(1, 4):
                self.executor.submit(0, self.task(run, epochs=LONG))
            self.until(lambda: bool(self.epochs(1)), "training")
            self.executor.drop()
            self.until(lambda: {run for r in self.found(Returned) for run in r.runs} == {1, 2, 3},
                       "all runs given back", 10)
            self.executor.submit(0, self.task(9))
            self.until(lambda: self.over(9), "another task")

        def test_a_run_that_cannot_be_trained_fails_with_the_cause_and_the_next_is_trained(
                self) -> None:
            bad = Task(self.task(1).run, 0, 0, "0" * 32)
            self.executor.submit(0, bad)
            self.executor.submit(0, self.task(2))
            self.until(lambda: self.over(2), "the run after")
            (failed,) = self.found(Failed)
            self.assertEqual(failed.run, 1)
            self.assertIn("data set", failed.cause)

        def test_a_run_continues_another_ones_weights_or_fails(self) -> None:
            self.executor.submit(0, self.task(1, until=4))
            self.until(lambda: self.over(1), "a rest")
            start = self.store.get(named(self.found(Trained)[-1].checkpoint))
            self.store.put(named(origin_of(2)), start)
            self.executor.submit(0, Task(self.task(2).run, 4, 0, self.dataset.fingerprint, (),
                                         origin_of(2)))
            self.until(lambda: self.over(2), "a continuation")
            self.assertEqual(self.epochs(2), self.calm()[4:])
            self.store.put(named(origin_of(3)), b"not weights")
            self.executor.submit(0, Task(self.task(3).run, 4, 0, self.dataset.fingerprint, (),
                                         origin_of(3)))
            self.until(lambda: bool(self.found(Failed)), "a failure")
            self.assertIn("starts from cannot be read", self.found(Failed)[0].cause)

        def test_nothing_of_one_machine_crosses_the_seam(self) -> None:
            task = self.task(1)
            self.executor.submit(0, task)
            self.until(lambda: self.over(1), "a training")
            for value in (task, *self.reports):
                crossing = pickle.dumps(value)
                self.assertNotIn(str(self.folder).encode(), crossing)
                self.assertNotIn(b"pathlib", crossing)

        def test_examples_are_predicted_where_they_are_asked_for(self) -> None:
            task = Task(self.task(1).run, 0, 0, self.dataset.fingerprint, examples=5)
            self.executor.submit(0, task)
            self.until(lambda: self.over(1), "a training")
            shares = self.found(Trained)[-1].examples
            self.assertEqual(len(shares), 5)
            for row in shares:
                self.assertAlmostEqual(sum(row), 1.0, places=6)


class ProcessLaws:
    """What executors with workers of their own must do besides."""

    class Case(ExecutorLaws.Case):
        def kill(self, worker: int) -> None:
            """Kill the process of a worker."""
            raise NotImplementedError

        def test_a_worker_that_dies_is_reported_and_its_run_ends_with_the_same_bits(self) -> None:
            self.executor.submit(0, self.task(1, epochs=400))
            self.until(lambda: len(self.epochs(1)) > 3, "training")
            self.kill(0)
            self.until(lambda: bool(self.found(Left)), "the report of a death", 30)
            self.assertTrue(self.found(Left)[0].cause)
            joined = len(self.found(Joined))
            self.until(lambda: len(self.found(Joined)) > joined or self.workers > 1, "a worker")
            known = len(self.epochs(1))
            worker = self.found(Joined)[-1].worker
            self.executor.submit(worker, self.task(1, start=known, epochs=400))
            self.until(lambda: self.over(1), "its end")
            calm = self.calm(epochs=400)
            for epoch, loss in self.epochs(1):
                self.assertEqual(loss, calm[epoch - 1][1])

        def test_workers_say_what_they_take(self) -> None:
            self.executor.submit(0, self.task(1, epochs=LONG))
            self.until(lambda: bool(self.found(Load)), "a load", 20)
            load = self.found(Load)[0]
            self.assertGreater(load.memory, 1 << 20)
            self.assertTrue(0.0 < load.busy <= 1.0, load.busy)


class Inline(ExecutorLaws.Case):
    workers = 1

    def make(self) -> Executor:
        return InlineExecutor(self.store)

    def test_there_is_one_worker(self) -> None:
        self.executor.resize(1)
        with self.assertRaises(TrainingError):
            self.executor.resize(2)


class Processes(ProcessLaws.Case):
    def make(self) -> Executor:
        return ProcessExecutor(self.store, self.workers)

    def kill(self, worker: int) -> None:
        assert isinstance(self.executor, ProcessExecutor)
        self.executor._workers[worker].process.kill()

    def test_workers_are_added_and_given_up(self) -> None:
        self.executor.resize(3)
        self.until(lambda: len(self.found(Joined)) == 3, "a third worker")
        self.executor.submit(2, self.task(1, epochs=LONG))
        self.until(lambda: bool(self.epochs(1)), "training")
        self.executor.resize(1)
        self.until(lambda: {left.worker for left in self.found(Left)} == {1, 2}, "two to leave")
        self.assertEqual({left.cause for left in self.found(Left)}, {""})


class DaskCluster(ProcessLaws.Case):
    cluster: Cluster

    @classmethod
    def setUpClass(cls) -> None:
        place = TemporaryDirectory(prefix="axiarch-test-")
        cls.addClassCleanup(place.cleanup)
        cls.cluster = Cluster(Path(place.name))
        cls.addClassCleanup(cls.cluster.close)
        cls.cluster.add(threads=2)

    def make(self) -> Executor:
        return ClusterExecutor(self.cluster.address, self.store, self.dataset.fingerprint)

    def kill(self, worker: int) -> None:
        """Kill the process that trains, below the Dask worker; that replaces it."""
        host = psutil.Process(self.cluster.workers[0].pid)
        below = (host, *host.children(recursive=True))
        training = [p for one in below for p in workers_of(one.pid)]
        max(training, key=lambda p: p.cpu_times().user).kill()

    def test_the_cluster_decides_how_many_workers_there_are(self) -> None:
        with self.assertRaisesRegex(TrainingError, "the cluster decides"):
            self.executor.resize(3)




if __name__ == "__main__":
    unittest.main()
