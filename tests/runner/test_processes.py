"""Real worker processes and a real runner: killed, paused, stopped, resumed, and always the same
bits.
"""

from __future__ import annotations

import contextlib
import os
import signal
import time
import unittest

import psutil

from axiarch import workflows
from axiarch.errors import WorkspaceLocked, WorkspaceMissing, WorkspaceReadOnly
from axiarch.journal import inbox
from axiarch.journal.workspace import Workspace
from axiarch.recipes.searchfile import SearchFile
from axiarch.workflows.snapshot import Snapshot
from tests.support import (
    FolderCase,
    glance,
    ring_search,
    ring_workspace,
    searched,
    until,
    without_privileges,
)


def losses(s: Snapshot) -> dict[tuple[int, int], tuple[float, ...]]:
    """Return the validation losses of every run by recipe and repeat."""
    return {(r.recipe, r.repeat): s.curves[r.id].validation
            for r in s.runs.values()
            if r.id in s.curves}


def undisturbed(search: SearchFile) -> dict[tuple[int, int], tuple[float, ...]]:
    """Return the validation losses of a search that was trained in one process."""
    return losses(workflows.snapshot_of(searched(search), 1))


def workers_of(pid: int) -> list[psutil.Process]:
    """Return the worker processes below a process: forked by one that it started."""
    below = psutil.Process(pid).children(recursive=True)
    forking = {p.pid for p in below if "nursery" in p.cmdline() and p.ppid() == pid}
    return [p for p in below if p.ppid() in forking and p.status() != psutil.STATUS_ZOMBIE]


class ProcessCase(FolderCase):
    def setUp(self) -> None:
        super().setUp()
        self.workspace = ring_workspace(self.folder / "w")
        self.addCleanup(self.end)

    def end(self) -> None:
        """End whatever still runs."""
        owner = self.workspace.owner()
        if owner is not None:
            with contextlib.suppress(psutil.Error):
                for process in [
                        *psutil.Process(owner.pid).children(recursive=True),
                        psutil.Process(owner.pid)
                ]:
                    process.kill()

    def long_search(self) -> SearchFile:
        """Return a search that takes some seconds."""
        return ring_search(epochs=250, recipes=8)

    def start(self, search: SearchFile) -> int:
        """Start a search and wait until it trains."""
        number = workflows.start_search(self.workspace, search, 2)
        until(lambda: glance(self.workspace, number).epochs > 30, what="training")
        return number

    def look(self, number: int) -> Snapshot:
        """Return the search as it stands."""
        return workflows.snapshot_of(self.workspace, number)

    def wanted(self) -> dict[tuple[int, int], tuple[float, ...]]:
        """Return what an undisturbed run of the long search gives."""
        return undisturbed(self.long_search())


class Killed(ProcessCase):
    def test_killed_workers_cost_nothing_but_time(self) -> None:
        number = self.start(self.long_search())
        owner = self.workspace.owner()
        assert owner is not None
        workers_of(owner.pid)[0].kill()
        until(lambda: any(e.kind == "died" for e in glance(self.workspace, number).events),
              what="the loss")
        s = workflows.wait(self.workspace, number)
        self.assertEqual(s.search.state, "done")
        self.assertTrue(any("SIGKILL" in e.text for e in s.events))
        self.assertEqual({r.state for r in s.runs.values()}, {"ended"})
        self.assertEqual(losses(s), self.wanted())

    def test_workers_go_on_when_the_process_that_forked_them_is_killed(self) -> None:
        number = self.start(self.long_search())
        owner = self.workspace.owner()
        assert owner is not None
        workers = workers_of(owner.pid)
        psutil.Process(owner.pid).children()[0].kill()
        workers[0].kill()
        until(lambda: any(e.kind == "died" for e in glance(self.workspace, number).events),
              what="the loss")
        s = workflows.wait(self.workspace, number)
        self.assertEqual(s.search.state, "done")
        self.assertEqual({r.state for r in s.runs.values()}, {"ended"})
        self.assertEqual(losses(s), self.wanted())

    def test_a_killed_runner_leaves_no_process_and_the_search_goes_on_from_there(self) -> None:
        number = self.start(self.long_search())
        owner = self.workspace.owner()
        assert owner is not None
        workers = psutil.Process(owner.pid).children(recursive=True)
        os.kill(owner.pid, signal.SIGKILL)
        until(lambda: self.look(number).search.state == "interrupted",
              what="being seen as interrupted")
        before = losses(self.look(number))
        until(lambda: not any(_trains(w) for w in workers), what="the workers' end")
        workflows.resume_search(self.workspace, number, 2)
        s = workflows.wait(self.workspace, number)
        self.assertEqual(s.search.state, "done")
        found = losses(s)
        for key, curve in before.items():
            self.assertEqual(found[key][: len(curve)], curve)
        self.assertEqual(found, self.wanted())


def _trains(process: psutil.Process) -> bool:
    try:
        return bool(process.status() != psutil.STATUS_ZOMBIE)
    except psutil.Error:
        return False


class Steered(ProcessCase):
    def test_pause_resume_and_stop_take_hold_within_a_second(self) -> None:
        number = self.start(self.long_search())
        for request, state in ((inbox.Pause(), "paused"), (inbox.Resume(), "running"),
                               (inbox.Pause(), "paused"), (inbox.Stop(), "stopped")):
            asked = time.monotonic()
            workflows.steer_search(self.workspace, number, request)
            until(lambda wanted=state: glance(self.workspace, number).state == wanted, 10, state)
            self.assertLess(time.monotonic() - asked,
                            3.0)  # one second, and room for a busy machine
            if state == "paused":
                epochs = self.look(number).epochs
                time.sleep(0.4)
                self.assertEqual(self.look(number).epochs, epochs)
        until(lambda: self.workspace.owner() is None, what="the runner's end")
        workflows.resume_search(self.workspace, number, 2)
        s = workflows.wait(self.workspace, number)
        self.assertEqual((s.search.state, losses(s)), ("done", self.wanted()))

    def test_a_search_outlives_a_hang_up(self) -> None:
        number = self.start(self.long_search())
        owner = self.workspace.owner()
        assert owner is not None
        os.kill(owner.pid, signal.SIGHUP)
        self.assertNotEqual(os.getsid(owner.pid), os.getsid(0))
        self.assertEqual(workflows.wait(self.workspace, number).search.state, "done")

    def test_a_polite_end_is_a_stop(self) -> None:
        number = self.start(self.long_search())
        owner = self.workspace.owner()
        assert owner is not None
        os.kill(owner.pid, signal.SIGTERM)
        self.assertEqual(workflows.wait(self.workspace, number).search.state, "stopped")


class Refused(ProcessCase):
    def test_a_second_search_is_refused_while_one_runs(self) -> None:
        number = self.start(self.long_search())
        with self.assertRaises(WorkspaceLocked) as caught:
            workflows.start_search(self.workspace, ring_search())
        self.assertIn(f"search {number}", caught.exception.what)
        self.assertEqual(self.workspace.search_numbers(), [number])

    def test_a_read_only_workspace_is_refused_and_can_still_be_looked_at(self) -> None:
        number = workflows.start_search(self.workspace, ring_search(), 1)
        workflows.wait(self.workspace, number)
        until(lambda: self.workspace.owner() is None, what="the runner's end")
        for place in (self.folder, self.workspace.folder, self.workspace.folder / "searches"):
            place.chmod(0o755)
        with without_privileges():
            if os.geteuid() != 0:
                with self.assertRaises(WorkspaceReadOnly):
                    workflows.start_search(self.workspace, ring_search())
            self.assertEqual(self.look(number).search.state, "done")
        self.assertEqual(self.workspace.search_numbers(), [number])

    def test_what_does_not_run_cannot_be_steered(self) -> None:
        with self.assertRaises(WorkspaceMissing):
            workflows.steer_search(self.workspace, 1, inbox.Pause())
        with self.assertRaises(WorkspaceMissing):
            workflows.resume_search(self.workspace, 9)

    def test_done_is_done_and_other_data_are_refused(self) -> None:
        number = workflows.start_search(self.workspace, ring_search(epochs=2, recipes=2), 1)
        workflows.wait(self.workspace, number)
        with self.assertRaises(WorkspaceMissing) as caught:
            workflows.resume_search(self.workspace, number)
        self.assertIn("done", caught.exception.what)

    def test_a_moved_workspace_goes_on(self) -> None:
        number = self.start(self.long_search())
        workflows.steer_search(self.workspace, number, inbox.Stop())
        workflows.wait(self.workspace, number)
        until(lambda: self.workspace.owner() is None, what="the runner's end")
        moved = self.workspace.folder.rename(self.folder / "moved")
        self.workspace = Workspace.open(moved)
        workflows.resume_search(self.workspace, number, 2)
        self.assertEqual(workflows.wait(self.workspace, number).search.state, "done")


if __name__ == "__main__":
    unittest.main()
