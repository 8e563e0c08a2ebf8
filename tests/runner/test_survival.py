"""Whatever process is killed, whenever: no journalled row is lost, no run trained twice, the
same bits in the end.
"""

from __future__ import annotations

import contextlib
import errno
import io
import random
import signal
import sqlite3
import subprocess
import sys
import time
from dataclasses import replace
from multiprocessing import Pipe
from unittest import mock

import psutil

from axiarch import workflows
from axiarch.engine.run import RunSpec
from axiarch.engine.streams import Streams
from axiarch.errors import AxiarchError
from axiarch.journal import inbox
from axiarch.journal.inbox import send
from axiarch.recipes.searchfile import MethodChoice, SearchFile
from axiarch.runner import worker
from axiarch.runner.orders import Begin, Quit, Train
from axiarch.runner.tasks import Task
from axiarch.workflows.snapshot import Snapshot
from tests.runner.test_processes import ProcessCase, losses, undisturbed, workers_of
from tests.runner.test_runner import RunnerCase
from tests.support import glance, recipe, ring_dataset, ring_search, searched, until

#: Processes killed in one test run, in each search of it, and searches that must be compared at
#: least.
KILLS, KILLS_EACH, COMPARED = 30, 6, 3


def raced(recipes: int = 30, epochs: int = 60) -> SearchFile:
    """Return a race in which runs rest, go on and are cut."""
    options = {"recipes": recipes, "window": 10, "finalists": 3}
    return replace(ring_search(epochs=epochs, repeats=2, width=8),
                   method=MethodChoice("guided_racing", options))


def rows(s: Snapshot) -> list[tuple[int, str, str, int]]:
    """Return what the ranking says, to the bit."""
    return [(r.recipe, r.loss.hex(), r.training.hex(), r.repeats) for r in s.ranking.rows]


class Killed(ProcessCase):
    def steps(self, number: int) -> list[tuple[object, ...]]:
        """Return the steps that were decided."""
        with contextlib.closing(sqlite3.connect(self.workspace.journal)) as db:
            return db.execute(
                "SELECT number, recipe, until, replicates, observed FROM step WHERE search = ? "
                "ORDER BY number",
                (number, )).fetchall()

    def journalled(self) -> set[tuple[object, ...]]:
        """Return all epoch rows there are."""
        with contextlib.closing(sqlite3.connect(self.workspace.journal)) as db:
            return set(
                db.execute("SELECT run, epoch, train_loss, validation_loss FROM epoch").fetchall())

    def victim(self, chance: random.Random) -> psutil.Process | None:
        """Return the runner, one of its workers, or the process that forks them."""
        owner = self.workspace.owner()
        if owner is None:
            return None
        with contextlib.suppress(psutil.Error):
            runner = psutil.Process(owner.pid)
            return chance.choice([runner, *runner.children(recursive=True)])
        return None

    def test_thirty_kills_at_random_moments_change_nothing(self) -> None:
        search = raced()
        calm = workflows.snapshot_of(searched(search), 1)
        chance, kills, compared = random.Random(11), 0, 0
        before: set[tuple[object, ...]] = set()
        while kills < KILLS or compared < COMPARED:
            self.assertLess(kills, 3 * KILLS, "too few searches could be compared")
            wanted = kills + KILLS_EACH
            number = workflows.start_search(self.workspace, search, 2)
            before = set()
            while workflows.snapshot_of(self.workspace, number).search.state != "done":
                self.assertLessEqual(before, self.journalled(), "a journalled row was lost")
                before = self.journalled()
                time.sleep(chance.uniform(0.0, 0.9))
                found = self.victim(chance)
                if found is not None and kills < wanted:
                    with contextlib.suppress(psutil.Error):
                        found.send_signal(signal.SIGKILL)
                        kills += 1
                self.go_on(number)
            s = self.look(number)
            # A run whose worker was killed twice at one epoch has failed, as documented; that
            # search is not compared.
            if any(r.state == "failed" for r in s.runs.values()):
                continue
            compared += 1
            with self.subTest(search=number, kills=kills):
                self.assertEqual(rows(s), rows(calm))
                self.assertEqual(losses(s), losses(calm))
                for run, curve in s.curves.items():
                    self.assertLessEqual(len(curve),
                                         s.recipes[s.runs[run].recipe].recipe.whole("epochs"))

    def go_on(self, number: int) -> None:
        """Let a search go on whose runner is gone."""
        s = self.look(number)
        if s.search.state not in ("interrupted", "failed", "stopped"):
            return
        with contextlib.suppress(AxiarchError):
            workflows.resume_search(self.workspace, number, 2)

    def test_a_killed_interface_ends_no_search(self) -> None:
        number = self.start(ring_search(epochs=30_000, recipes=4, patience=0))
        code = (
            "from pathlib import Path\nfrom axiarch.tui.app import AxiarchApp\nfrom "
            "axiarch.workflows import "
            f"open_workspace\nAxiarchApp(open_workspace(Path({str(self.workspace.folder)!r}))).run(headless=True)"
        )
        watching = subprocess.Popen([sys.executable, "-c", code], stdin=subprocess.DEVNULL,
                                    stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)
        time.sleep(1.5)
        watching.kill()
        watching.wait()
        epochs = self.look(number).epochs
        until(lambda: glance(self.workspace, number).epochs > epochs, what="going on")
        workflows.steer_search(self.workspace, number, inbox.Stop())

    def test_workers_can_be_added_and_given_up_while_it_runs(self) -> None:
        search = ring_search(epochs=600, recipes=8, patience=0)
        number = workflows.start_search(self.workspace, search, 2)
        for count in (3, 1, 2):
            workflows.steer_search(self.workspace, number, inbox.Workers(count))
            until(lambda count=count: len(glance(self.workspace, number).workers) == count,
                  what=f"{count} workers")  # type: ignore[misc]
        s = workflows.wait(self.workspace, number)
        self.assertEqual(s.search.state, "done")
        self.assertEqual(losses(s), undisturbed(search))

    def test_a_worker_that_cannot_map_its_data_leaves_and_fails_no_run(self) -> None:
        dataset = ring_dataset(self.folder / "ring")
        ours, theirs = Pipe()
        begin = Begin(0, self.folder, self.folder, {dataset.fingerprint: dataset.folder})
        ours.send(Train(Task(RunSpec(1, recipe(), Streams(1)), 0, 0, dataset.fingerprint)))
        ours.send(Quit())
        full = OSError(errno.ENOMEM, "Cannot allocate memory")
        with ours, theirs, mock.patch("numpy.load", side_effect=full), \
                mock.patch("os._exit", side_effect=SystemExit) as left, \
                self.assertRaises(SystemExit):
            worker._Worker(theirs, begin).work()
        left.assert_called_once_with(worker.OUT_OF_MEMORY)

    def test_a_worker_out_of_memory_costs_its_runs_one_more_try(self) -> None:
        import resource

        number = self.start(self.long_search())
        owner = self.workspace.owner()
        assert owner is not None
        limited = workers_of(owner.pid)[0]
        limit = limited.memory_info().vms
        resource.prlimit(limited.pid, resource.RLIMIT_AS, (limit, limit))
        s = workflows.wait(self.workspace, number)
        self.assertEqual(s.search.state, "done")
        self.assertEqual({r.state for r in s.runs.values()}, {"ended"}, s.events)
        self.assertEqual(losses(s), self.wanted())


class Broken(RunnerCase):
    def test_a_full_disk_pauses_the_search_until_there_is_space(self) -> None:
        self.assertEqual(self.make(raced(12, 12)).run(), "done")
        runner = self.make(raced(12, 12), number=2)
        for _ in range(3):
            runner.turn(0)
        before = self.look(2).epochs
        with mock.patch("axiarch.runner.store.write_whole",
                        side_effect=OSError(errno.ENOSPC, "No space left")):
            for _ in range(4):
                runner.turn(0)
            self.assertEqual(self.state(2), "paused")
            self.assertRegex(self.look(2).events[0].text, "No space left.*free some space")
            self.assertGreaterEqual(self.look(2).epochs, before)
            send(self.workspace.search(2), inbox.Resume())
            for _ in range(4):
                runner.turn(0)
            self.assertEqual(self.state(2), "paused", "still no space")
        send(self.workspace.search(2), inbox.Resume())
        self.assertEqual(runner.run(), "done")
        self.assertEqual(rows(self.look(1)), rows(self.look(2)))

    def test_a_journal_that_cannot_grow_ends_the_search_as_if_it_had_been_killed(self) -> None:
        self.assertEqual(self.make(raced(12, 12)).run(), "done")
        runner = self.make(raced(12, 12), number=2)
        pages = runner.search.journal._db.execute("PRAGMA page_count").fetchone()[0]
        runner.search.journal._db.execute(f"PRAGMA max_page_count = {pages + 2}")
        with contextlib.redirect_stderr(io.StringIO()) as said:
            self.assertEqual(runner.run(), "interrupted")
        self.assertIn("the disk is full", said.getvalue())
        runner.search.journal.close()
        self.assertEqual(self.look(2).search.state, "interrupted")
        self.assertEqual(self.make(raced(12, 12), number=2).run(), "done")
        self.assertEqual(rows(self.look(1)), rows(self.look(2)))

    def test_a_clock_that_jumps_changes_no_decision(self) -> None:
        calm = self.make(raced(12, 12), number=1)
        self.assertEqual(calm.run(), "done")
        times = iter(range(0, 10**9, 86_400))
        with mock.patch("time.time", lambda: 2e9 - next(times)):
            self.assertEqual(self.make(raced(12, 12), number=2).run(), "done")
        self.assertEqual(rows(self.look(1)), rows(self.look(2)))

    def test_a_race_stopped_anywhere_goes_on_as_if_nothing_had_happened(self) -> None:
        self.assertEqual(self.make(raced(14, 12)).run(), "done")
        turns = 0
        while True:
            runner = self.make(raced(14, 12), number=2)
            for _ in range(1 + turns % 3):
                runner.turn(0)
            turns += 1
            if runner._over():
                self.assertEqual(runner.run(), "done")
                break
            runner.stop()
            self.assertEqual(runner.run(), "stopped")
            runner.search.journal.close()
            self.assertLess(turns, 200)
        self.assertGreater(turns, 4)
        one, two = self.look(1), self.look(2)
        self.assertEqual(rows(one), rows(two))
        self.assertEqual([r.text for r in one.runs.values() if r.state == "cut"],
                         [r.text for r in two.runs.values() if r.state == "cut"])
