"""Packed workspaces: the same again elsewhere, and nothing from an archive that cannot be
trusted.
"""

from __future__ import annotations

import contextlib
import json
import os
import shutil
import stat
import unittest
import zipfile
from pathlib import Path

from axiarch import workflows
from axiarch.errors import AxiarchError, InputError, WorkspaceError, WorkspaceLocked
from axiarch.journal.archive import LIST
from tests.support import FolderCase, finished_workspace


class Archives(FolderCase):
    def setUp(self) -> None:
        super().setUp()
        shutil.copytree(finished_workspace(), self.folder / "w")
        self.workspace = workflows.open_workspace(self.folder / "w")
        self.file = self.folder / "w.zip"

    def test_everything_is_there_elsewhere(self) -> None:
        snapshot = workflows.snapshot_of(self.workspace)
        leader = snapshot.ranking.rows[0].recipe
        workflows.keep_model(self.workspace, snapshot, leader, "best")
        link = self.workspace.search(1) / "checkpoints" / "link"
        link.symlink_to("/etc/passwd")
        steps: list[str] = []
        files = workflows.pack(self.workspace,
                               self.file,
                               on_progress=lambda step, _: steps.append(step))
        with zipfile.ZipFile(self.file) as archive:
            names = set(archive.namelist())
        self.assertEqual(len(names), files + 1)
        self.assertTrue({"journal.sqlite", "axiarch.json"} <= names)
        self.assertFalse({"lock", "searches/0001/checkpoints/link", "journal.sqlite-wal"} & names)
        self.assertIn("packing", steps)
        there = workflows.unpack(self.file, self.folder / "there")
        self.assertEqual(workflows.snapshot_of(there).ranking, snapshot.ranking)
        self.assertEqual(workflows.judge_recipe(there, workflows.snapshot_of(there), leader),
                         workflows.judge_recipe(self.workspace, snapshot, leader))
        (model,) = workflows.kept_models(there)
        kept, found = workflows.verify_model(there, model)
        self.assertEqual(kept, found)
        self.assertEqual([p for p in self.folder.iterdir() if p.name.startswith(".")], [])

    def test_what_cannot_be_packed(self) -> None:
        with self.workspace.locked("search 1"), self.assertRaises(WorkspaceLocked):
            workflows.pack(self.workspace, self.file)
        with self.assertRaisesRegex(InputError, "would lie in the workspace"):
            workflows.pack(self.workspace, self.workspace.folder / "in.zip")
        with self.assertRaises(InputError):
            workflows.pack(self.workspace, self.folder / "w.tar")
        workflows.pack(self.workspace, self.file)
        with self.assertRaisesRegex(InputError, "there already"):
            workflows.pack(self.workspace, self.file)

    def changed(self,
                *,
                name: str = "x",
                raw: bytes = b"1",
                listed: bool = True,
                mode: int = stat.S_IFREG,
                size: int | None = None) -> Path:
        """Return an archive to which one more file was added."""
        import xxhash

        workflows.pack(self.workspace, self.file, force=True)
        bad = self.folder / "bad.zip"
        with zipfile.ZipFile(self.file) as old, zipfile.ZipFile(bad, "w") as new:
            known = json.loads(old.read(LIST))
            if listed:
                known["files"][name] = {"bytes": len(raw) if size is None else size,
                                        "checksum": xxhash.xxh3_128(raw).hexdigest()}
            new.writestr(LIST, json.dumps(known))
            for entry in old.infolist():
                if entry.filename != LIST:
                    new.writestr(entry, old.read(entry))
            made = zipfile.ZipInfo(name)
            made.external_attr = (mode | 0o644) << 16
            new.writestr(made, raw)
        return bad

    def refuse(self, path: Path, words: str = "") -> None:
        """The archive must be refused, and nothing be left behind."""
        with self.assertRaisesRegex(AxiarchError, words):
            workflows.unpack(path, self.folder / "there")
        self.assertFalse((self.folder / "there").exists())
        self.assertFalse((self.folder / "escaped").exists())
        self.assertEqual([p for p in self.folder.iterdir() if p.name.startswith(".")], [])

    def test_a_harmless_addition_is_unpacked(self) -> None:
        there = workflows.unpack(self.changed(name="exports/a.csv"), self.folder / "there")
        self.assertEqual((there.folder / "exports" / "a.csv").read_bytes(), b"1")

    def test_hostile_archives(self) -> None:
        for name in ("../escaped", "/tmp/axiarch-escaped", "a/../../escaped", "..\\escaped",
                     "C:/escaped", "a//b", ".hidden", "data/.x/y", "a/"):
            with self.subTest(name=name):
                self.refuse(self.changed(name=name))
        self.refuse(self.changed(name="link", raw=b"/etc/passwd", mode=stat.S_IFLNK),
                    "no file below")
        self.refuse(self.changed(listed=False), "other files than it lists")
        self.refuse(self.changed(size=0), "not what was packed")
        self.refuse(self.changed(raw=b"0" * 10_000_000, size=1), "not what was packed")
        self.refuse(self.changed(size=1 << 50), "too large")
        self.refuse(self.changed(size=-1))
        self.assertFalse(os.path.exists("/tmp/axiarch-escaped"))

    def test_damaged_archives(self) -> None:
        workflows.pack(self.workspace, self.file)
        raw = self.file.read_bytes()
        for cut in (0, 10, len(raw) // 2, len(raw) - 5):
            (self.folder / "cut.zip").write_bytes(raw[:cut])
            with self.subTest(cut=cut):
                self.refuse(self.folder / "cut.zip")
        for place in range(0, len(raw), len(raw) // 40):
            bad = bytearray(raw)
            bad[place] ^= 255
            (self.folder / "bad.zip").write_bytes(bad)
            with self.subTest(place=place), contextlib.suppress(WorkspaceError):
                there = workflows.unpack(self.folder / "bad.zip", self.folder / f"t{place}")
                self.assertEqual(len(workflows.snapshot_of(there).ranking.rows), 5,
                                 "only a byte that means nothing")
        with zipfile.ZipFile(self.folder / "other.zip", "w") as other:
            other.writestr("a", "b")
        self.refuse(self.folder / "other.zip", "not a packed workspace")
        self.refuse(self.folder / "none.zip", "no such archive")
        (self.folder / "full").mkdir()
        (self.folder / "full" / "a").write_text("mine")
        with self.assertRaisesRegex(WorkspaceError, "not empty"):
            workflows.unpack(self.file, self.folder / "full")


if __name__ == "__main__":
    unittest.main()
