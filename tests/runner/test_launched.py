"""Processes of our own: however they are started, they answer, end, and outlive what they must."""

from __future__ import annotations

import contextlib
import json
import os
import signal
import subprocess
import tempfile
import unittest
from concurrent.futures import ThreadPoolExecutor
from unittest import mock

import psutil

from axiarch.runner import launched
from axiarch.runner.launched import Launched, launch
from axiarch.runner.nursery import Nursery
from tests.support import FolderCase, ring_dataset, ring_search, until


class LaunchLaws:
    """What holds however a process is started."""

    class Case(FolderCase):
        kept = False

        def setUp(self) -> None:
            super().setUp()
            keeping = launched._Keeping(self.kept)
            self.enterContext(mock.patch.object(launched, "_KEEPING", keeping))
            self.addCleanup(lambda: keeping.nursery and keeping.nursery.close())
            self.errors = self.enterContext(tempfile.TemporaryFile("w+"))

        def start(self, *words: str, alone: bool = False) -> Launched:
            """Start a process, which ends with the test."""
            process = launch(*words, errors=self.errors.fileno(), alone=alone)
            self.addCleanup(process.end)
            return process

        def answer(self, process: Launched, request: object = None) -> str:
            """Return the last line that a process says."""
            with contextlib.suppress(BrokenPipeError), process.input:
                json.dump(request, process.input)
            return (process.output.read().splitlines() or [""])[-1]

        def request(self) -> object:
            """Return what a process is asked that times a recipe."""
            ring_dataset(self.folder / "ring")
            return {"data": str(self.folder / "ring"), "recipes": [dict(ring_search().space.base)]}

        def test_what_is_asked_is_answered(self) -> None:
            process = self.start("measure")
            ((work, seconds, size),) = json.loads(self.answer(process, self.request()))["measured"]
            self.assertGreater(min(work, seconds, size), 0)
            until(lambda: process.process.poll() == 0, what="its exit code")

        def test_errors_and_exit_codes_come_through(self) -> None:
            process = self.start("nonsense")
            self.assertEqual(self.answer(process), "")
            until(lambda: process.process.poll() == 2, what="its exit code")
            self.errors.seek(0)
            self.assertIn("started by the program itself", self.errors.read())

        def test_what_is_ended_says_nothing_more(self) -> None:
            process = self.start("measure")
            process.end()
            self.assertTrue(process.output.closed)
            until(lambda: process.process.poll() == -signal.SIGKILL, what="its end")

        def test_one_that_is_alone_has_a_session_of_its_own(self) -> None:
            self.start("measure", alone=True)
            until(lambda: any(leads(process) for process in psutil.Process().children(True)),
                  what="a session of its own")


def leads(process: psutil.Process) -> bool:
    """Say whether a process leads a session."""
    with contextlib.suppress(OSError):
        return os.getsid(process.pid) == process.pid
    return False


class FromNothing(LaunchLaws.Case):
    pass


class Kept(LaunchLaws.Case):
    kept = True

    def nursery(self) -> Nursery:
        """Return the process that is kept."""
        found = launched._KEEPING.nursery
        assert found is not None
        return found

    def keeper(self) -> psutil.Process:
        """Return it as the system sees it."""
        process = self.nursery()._process
        assert isinstance(process, subprocess.Popen)
        return psutil.Process(process.pid)

    def test_one_process_is_kept_for_all(self) -> None:
        request, before = self.request(), len(psutil.Process().children())
        with ThreadPoolExecutor(4) as pool:
            started = pool.map(lambda _: self.start("measure"), range(4))
            said = list(pool.map(lambda each: self.answer(each, request), started))
        self.assertTrue(all("measured" in each for each in said), said)
        self.assertEqual(len(psutil.Process().children()), before + 1)

    def test_who_never_asks_how_they_ended_can_start_as_many_as_he_likes(self) -> None:
        with mock.patch.object(Nursery, "_hear", return_value=False):
            for _ in range(320):
                process = launch("nonsense", errors=self.errors.fileno())
                process.input.close()
                process.output.close()
        self.assertIn("measured", self.answer(self.start("measure"), self.request()))

    def test_another_takes_the_place_of_one_that_was_killed(self) -> None:
        request = self.request()
        first = self.start("measure")
        until(lambda: [p.name() for p in self.keeper().children()] == ["axiarch measure"],
              what="the fork, and its name")
        self.keeper().kill()
        until(lambda: self.nursery().gone, what="its end")
        self.assertIn("measured", self.answer(self.start("measure"), request))
        self.assertIn("measured", self.answer(first, request))
        self.assertIsNone(first.process.poll())

    def test_another_environment_is_another_process(self) -> None:
        request = self.request()
        self.start("measure")
        kept = self.nursery()
        with mock.patch.dict(os.environ, AXIARCH_TEST="other"):
            self.assertIn("measured", self.answer(self.start("measure"), request))
            self.assertIsNot(self.nursery(), kept)
            self.assertEqual(self.keeper().environ()["AXIARCH_TEST"], "other")

    def test_where_none_can_be_kept_processes_are_started_from_nothing(self) -> None:
        with mock.patch.object(launched, "Nursery", side_effect=OSError):
            process = self.start("measure")
        self.assertIsInstance(process.process, subprocess.Popen)
        self.assertIn("measured", self.answer(process, self.request()))

    def test_words_that_no_message_holds_start_a_process_from_nothing(self) -> None:
        process = self.start("nonsense", "x" * 40_000)
        self.assertIsInstance(process.process, subprocess.Popen)
        until(lambda: process.process.poll() == 2, what="its exit code")

    def test_when_whoever_keeps_it_is_gone_it_ends(self) -> None:
        self.start("measure")
        until(lambda: self.keeper().children(), what="the fork")
        keeper = self.keeper()
        self.nursery()._socket.close()
        until(lambda: self.nursery().gone, what="its end")
        self.assertFalse(keeper.is_running() and keeper.status() != psutil.STATUS_ZOMBIE)


if __name__ == "__main__":
    unittest.main()
