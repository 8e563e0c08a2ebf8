"""The workspace: opened without a change, locked by one, refused in words."""

from __future__ import annotations

import fcntl
import json
import os
import subprocess
import sys
import threading
import time
import unittest
from unittest import mock

from axiarch.errors import (
    WorkspaceError,
    WorkspaceLocked,
    WorkspaceMissing,
    WorkspaceNewer,
    WorkspaceReadOnly,
)
from axiarch.files import write_whole
from axiarch.journal import inbox
from axiarch.journal.workspace import Workspace, slug
from tests.support import FolderCase, without_privileges

HOLD = """
import sys
from pathlib import Path
from axiarch.journal.workspace import Workspace
with Workspace.open(Path(sys.argv[1])).locked("search 7"):
    print("held", flush=True)
    sys.stdin.read()
"""


class Opening(FolderCase):
    def test_a_new_or_empty_folder_becomes_a_workspace(self) -> None:
        made = Workspace.create(self.folder / "new")
        self.assertEqual(Workspace.open(self.folder / "new"), made)
        self.assertEqual(Workspace.create(self.folder / "new"), made)

    def test_a_folder_with_other_things_is_left_alone(self) -> None:
        (self.folder / "thesis.txt").write_text("mine")
        with self.assertRaises(WorkspaceMissing):
            Workspace.create(self.folder)
        self.assertEqual([p.name for p in self.folder.iterdir()], ["thesis.txt"])

    def test_no_workspace(self) -> None:
        with self.assertRaises(WorkspaceMissing) as caught:
            Workspace.open(self.folder)
        self.assertEqual(caught.exception.exit_code, 3)

    def test_a_newer_one_is_refused(self) -> None:
        Workspace.create(self.folder / "w")
        (self.folder / "w" / "axiarch.json").write_text(json.dumps({"format": 2}))
        with self.assertRaises(WorkspaceNewer):
            Workspace.open(self.folder / "w")

    def test_a_broken_one_is_said(self) -> None:
        Workspace.create(self.folder / "w")
        (self.folder / "w" / "axiarch.json").write_text("{")
        with self.assertRaises(WorkspaceError):
            Workspace.open(self.folder / "w")

    def test_names_become_folder_names(self) -> None:
        self.assertEqual(slug("Hive States / 2!"), "hive-states-2")
        self.assertEqual(slug("../../etc"), "etc")
        self.assertEqual(slug("日本"), "data")


class Locking(FolderCase):
    def setUp(self) -> None:
        super().setUp()
        self.workspace = Workspace.create(self.folder / "w")

    def hold(self) -> subprocess.Popen[str]:
        """Let another process hold the workspace."""
        process = subprocess.Popen(
            [sys.executable, "-c", HOLD, str(self.workspace.folder)],
            text=True,
            stdin=subprocess.PIPE,
            stdout=subprocess.PIPE)
        self.addCleanup(process.communicate)
        self.addCleanup(process.kill)
        assert process.stdout is not None
        self.assertEqual(process.stdout.readline(), "held\n")
        return process

    def test_only_one_process_writes(self) -> None:
        process = self.hold()
        with self.assertRaises(WorkspaceLocked) as caught, self.workspace.locked("me"):
            self.fail("two hold it")
        self.assertIn(str(process.pid), caught.exception.what)
        self.assertIn("search 7", caught.exception.what)

    def test_a_lock_that_is_changing_hands_is_waited_for_but_not_for_long(self) -> None:
        with (self.workspace.folder / "lock").open("w") as file:
            fcntl.flock(file, fcntl.LOCK_EX)  # its holder is no longer noted, or not yet
            later = threading.Timer(0.2, lambda: fcntl.flock(file, fcntl.LOCK_UN))
            later.start()
            with self.workspace.locked("me"):
                later.join()
            fcntl.flock(file, fcntl.LOCK_EX)
            with mock.patch("axiarch.journal.workspace._CHANGING", 0.1), \
                    self.assertRaises(WorkspaceLocked), self.workspace.locked("me"):
                self.fail("two hold it")

    def test_the_owner_is_known_while_it_lives(self) -> None:
        self.assertIsNone(self.workspace.owner())
        process = self.hold()
        owner = self.workspace.owner()
        assert owner is not None
        self.assertEqual((owner.pid, owner.what), (process.pid, "search 7"))

    def test_the_owner_is_known_when_the_clock_jumps(self) -> None:
        process = self.hold()
        shifted = time.time() + 7200
        with (mock.patch("time.time",
                         return_value=shifted), mock.patch("psutil.boot_time",
                                                           return_value=shifted),
              mock.patch("psutil.Process.create_time", return_value=shifted)):
            owner = self.workspace.owner()
        assert owner is not None
        self.assertEqual(owner.pid, process.pid)

    def test_a_killed_owner_lets_go(self) -> None:
        process = self.hold()
        process.kill()
        process.wait()
        self.assertIsNone(self.workspace.owner())
        with self.workspace.locked("me"):
            pass

    def test_a_process_with_the_same_number_is_not_the_owner(self) -> None:
        with self.workspace.locked("me"):
            text = (self.workspace.folder / "lock").read_text()
        lock = self.workspace.folder / "lock"
        lock.write_text(text)
        self.assertIsNotNone(self.workspace.owner())
        lock.write_text(json.dumps({**json.loads(text), "born": "another day"}))
        self.assertIsNone(self.workspace.owner())

    def test_a_read_only_workspace_is_said_and_left_alone(self) -> None:
        self.workspace.folder.chmod(0o555)
        self.folder.chmod(0o755)
        self.addCleanup(self.workspace.folder.chmod, 0o755)
        before = sorted(p.name for p in self.workspace.folder.rglob("*"))
        with without_privileges(), self.assertRaises(WorkspaceReadOnly), self.workspace.locked(
                "me"):
            self.fail("it could be locked")
        self.assertEqual(sorted(p.name for p in self.workspace.folder.rglob("*")), before)


class Links(FolderCase):
    """A workspace that a stranger sent: nothing outside it is written, emptied or deleted."""

    def setUp(self) -> None:
        super().setUp()
        self.workspace = Workspace.create(self.folder / "w")
        self.outside = self.folder / "outside"
        self.outside.mkdir()
        (self.outside / "1.json").write_text("mine")
        (self.workspace.search(1) / "inbox").mkdir(parents=True)

    def test_every_link_pipe_and_device_in_the_place_of_ours_is_refused_by_name(self) -> None:
        file = self.outside / "1.json"
        for name, target in (("lock", file), ("journal.sqlite", file), ("journal.sqlite-wal", file),
                             ("draft.toml", file), ("data", self.outside),
                             ("searches", self.outside), ("exports", self.outside),
                             ("versions", self.outside), ("searches/0001/inbox", self.outside),
                             ("searches/0001/checkpoints",
                              self.outside), ("searches/0001/runner.log", file), ("searches/0002",
                                                                                  self.outside),
                             ("data/d", self.outside), ("data/d2/folds", self.outside)):
            place = self.workspace.folder / name
            with self.subTest(name=name):
                aside = self.folder / "aside"
                if place.exists():
                    place.rename(aside)
                place.parent.mkdir(exist_ok=True)
                place.symlink_to(target)
                with self.assertRaises(WorkspaceError) as caught:
                    Workspace.open(self.workspace.folder)
                self.assertIn("symbolic link", caught.exception.what)
                self.assertIn(name, caught.exception.where)
                with self.assertRaises(WorkspaceError), self.workspace.locked("me"):
                    self.fail("it could be locked")
                place.unlink()
                if aside.exists():
                    aside.rename(place)
                self.assertEqual(file.read_text(), "mine")
        os.mkfifo(self.workspace.folder / "draft.toml")
        with self.assertRaises(WorkspaceError) as caught:
            Workspace.open(self.workspace.folder)
        self.assertIn("named pipe", caught.exception.what)

    def test_a_link_to_the_workspace_itself_is_fine(self) -> None:
        (self.folder / "short").symlink_to(self.workspace.folder)
        Workspace.open(self.folder / "short")

    def test_a_checkpoint_that_is_a_link_is_replaced_and_not_followed(self) -> None:
        (self.outside / "link").symlink_to(self.outside / "1.json")
        write_whole(self.outside / "link", "ours")
        self.assertEqual((self.outside / "1.json").read_text(), "mine")
        self.assertEqual((self.outside / "link").read_text(), "ours")


class Inbox(FolderCase):
    def test_requests_arrive_once_and_in_order(self) -> None:
        asked = [
            inbox.Pause(),
            inbox.More(3, 10),
            inbox.Add({"width": 8})
        ]
        for request in asked:
            inbox.send(self.folder, request)
        self.assertEqual(inbox.receive(self.folder), (asked, []))
        self.assertEqual(inbox.receive(self.folder), ([], []))

    def test_what_is_no_request_is_set_aside_with_its_reason(self) -> None:
        inbox.send(self.folder, inbox.Stop())
        place = self.folder / "inbox"
        texts = ("{", '{"do": "explode"}', "[]", '{"do": "budget", "count": 1e999}', "[" * 100_000,
                 '{"do": "budget", "count": 1' + "0" * 30 + "}", '{"do": "cut", "recipe": -1}',
                 '{"do": []}', '{"do": "cut", "recipe": "2"}', '{"do": "add", "values": []}',
                 "\x00", "9" * 5000,
                 '{"do": "pause", "values": ' + '{"a": ' * 2000 + "1" + "}" * 2001)
        for i, text in enumerate(texts):
            (place / f"{i}.json").write_text(text)
        (place / "8folder.json").mkdir()
        os.mkfifo(place / "8pipe.json")
        (place / "8link.json").symlink_to(self.folder)
        (place / "8large.json").write_bytes(b" " * (inbox.MOST_BYTES + 1))
        requests, refused = inbox.receive(self.folder)
        self.assertEqual(requests, [inbox.Stop()])
        self.assertEqual(len(refused), len(texts) + 4)
        self.assertEqual(len(list((place / "refused").iterdir())), len(texts) + 4)
        self.assertTrue(all("cannot be read" in why for why in refused))
        self.assertEqual(inbox.receive(self.folder), ([], []))


if __name__ == "__main__":
    unittest.main()
