"""Strangers' folders, files and streams: no code of theirs runs, nothing of ours is lost, no
traceback.
"""

from __future__ import annotations

import json
import os
import shutil
import subprocess
import sys
import unittest
from pathlib import Path

from axiarch.journal.workspace import Workspace
from axiarch.recipes.searchfile import write_search
from axiarch.runner import launching
from tests.support import (
    FolderCase,
    commanded,
    finished_workspace,
    ring_rows,
    ring_search,
    write_csv,
)

#: Modules that a folder of traps holds: each leaves a mark when it is run.
TRAPS = ("numba", "numpy", "json", "click", "polars", "scipy", "multiprocessing", "axiarch_trap",
         "psutil", "random", "sitecustomize", "usercustomize", "threadpoolctl", "safetensors",
         "matplotlib", "xxhash", "tests", "msgspec")
#: Escapes that no command may send: a title, a colour, a cursor that jumps.
ESCAPES = "\x1b]0;owned\x07\x1b[31m\x9b2J\u202e"


class Command(FolderCase):
    def run_it(self,
               *words: str,
               code: int | None = 0,
               where: Path | None = None,
               env: dict[str, str] | None = None,
               stdout: int | None = subprocess.PIPE) -> subprocess.CompletedProcess[bytes]:
        """Run the program, in a process of its own where its environment or its streams matter;
        never a traceback.
        """
        if env is None and stdout == subprocess.PIPE:
            here = commanded(where or self.folder, *words)
            done = subprocess.CompletedProcess(here.args, here.returncode, here.stdout.encode(),
                                               here.stderr.encode())
        else:
            done = self.process(*words, where=where, env=env, stdout=stdout)
        self.assertNotIn(b"Traceback", done.stderr)
        if code is not None:
            self.assertEqual(done.returncode, code, done.stderr.decode(errors="replace"))
        return done

    def process(self, *words: str, where: Path | None, env: dict[str, str] | None,
                stdout: int | None) -> subprocess.CompletedProcess[bytes]:
        """Run the program in a process of its own."""
        return subprocess.run([sys.executable, "-m", "axiarch", *words],
                              stdout=stdout,
                              stderr=subprocess.PIPE,
                              stdin=subprocess.DEVNULL,
                              timeout=180,
                              cwd=where or self.folder,
                              env={**os.environ, **(env or {})})


class Traps(Command):
    def test_no_command_runs_what_lies_in_the_current_folder(self) -> None:
        traps = self.folder / "traps"
        traps.mkdir()
        for name in TRAPS:
            (traps /
             f"{name}.py").write_text(f"open({str(traps / 'sprung')!r}, 'a').write({name!r})\n")
        (traps / "axiarch").mkdir()
        (traps / "axiarch" /
         "__init__.py").write_text(f"open({str(traps / 'sprung')!r}, 'a').write('axiarch')\n")
        (traps / "matplotlibrc").write_text("font.size: 99\n")
        write_csv(traps / "ring.csv", ["x", "y", "side", "place"], ring_rows(90))
        (traps / "s.toml").write_text(write_search(ring_search(epochs=2, recipes=3, repeats=1)))
        program = [str(Path(sys.executable).with_name("axiarch"))]
        if not Path(program[0]).exists():
            program = [sys.executable, "-P", "-m", "axiarch"]
        for words in (("data", "add", "ring.csv"), ("forecast", "s.toml"), ("search", "s.toml"),
                      ("status", ), ("ranking", ), ("judge", ), ("export", "chart", "c.svg"),
                      ("resume", "1"), ("data", "show"), ("models", "keep", "1", "--name", "m"),
                      ("models", "verify", "m"), ("models", "export", "m",
                                                  "m.onnx"), ("predict", "m", "ring.csv", "o.csv")):
            done = subprocess.run([*program, *words, "-w", "w"],
                                  cwd=traps,
                                  capture_output=True,
                                  text=True,
                                  stdin=subprocess.DEVNULL,
                                  timeout=180)
            with self.subTest(words=words):
                self.assertNotIn("Traceback", done.stderr)
                self.assertIn(done.returncode, (0, 3) if words[0] == "resume" else (0, ),
                              done.stderr)
                self.assertFalse((traps / "sprung").exists(), "a trap was sprung")
        self.assertNotIn("99px", (traps / "c.svg").read_text())

    def test_our_processes_get_no_path_that_is_not_absolute(self) -> None:
        given = {
            "PYTHONPATH": f":.:relative:{self.folder}", "NUMBA_CACHE_DIR": "cache", "HOME": "/x"
        }
        found = launching.environment(given)
        self.assertEqual(found["PYTHONPATH"], str(self.folder))
        self.assertNotIn("NUMBA_CACHE_DIR", found)
        self.assertEqual((found["HOME"], found["PYTHONSAFEPATH"], found["OMP_NUM_THREADS"]),
                         ("/x", "1", "1"))
        self.assertNotIn("PYTHONPATH", launching.environment({"PYTHONPATH": ":."}))


class Streams(Command):
    def setUp(self) -> None:
        super().setUp()
        shutil.copytree(finished_workspace(), self.folder / "w")

    def test_output_in_any_encoding_and_to_a_full_or_closed_end(self) -> None:
        for encoding in ("ascii", "latin-1", "utf-8"):
            for words in (("ranking",), ("data", "show"), ("status",)):
                self.run_it(*words,
                            "-w",
                            "w",
                            env={"PYTHONIOENCODING": encoding, "PYTHONUTF8": "0"})
        if Path("/dev/full").exists():
            full = os.open("/dev/full", os.O_WRONLY)
            try:
                done = self.run_it("ranking", "-w", "w", code=None, stdout=full)
            finally:
                os.close(full)
            self.assertEqual(done.returncode, 3)
            self.assertNotIn(b"Exception ignored", done.stderr)
        reading, writing = os.pipe()
        os.close(reading)
        done = self.run_it("ranking", "-w", "w", code=None, stdout=writing)
        os.close(writing)
        self.assertNotIn(b"Exception ignored", done.stderr)

    def test_a_full_disk_is_said_with_the_remedy_for_it(self) -> None:
        from unittest import mock

        from click.testing import CliRunner

        from axiarch.cli.main import main

        (self.folder / "s.toml").write_text(
            write_search(ring_search(epochs=2, recipes=3, repeats=1)))
        before = sorted(p.name for p in (self.folder / "w" / "searches").iterdir())
        for words in (("search", "s.toml"), ("more", "1", "5"), ("export", "ranking", "r.csv"),
                      ("rescue", "x")):
            given = [str(self.folder / w) if w.endswith(("toml", "csv")) else w for w in words]
            with mock.patch("os.replace", side_effect=OSError(28, "No space left on device")):
                done = CliRunner().invoke(main, [*given, "-w", str(self.folder / "w")])
            with self.subTest(words=words):
                self.assertEqual(done.exit_code, 3, done.output)
                self.assertRegex(done.stderr,
                                 "No space left on device(.|\n)*free some (disk )?space")
        self.assertEqual(sorted(p.name for p in (self.folder / "w" / "searches").iterdir()), before)

    def test_escapes_in_every_text_of_journal_and_data_set_are_shown_and_not_sent(self) -> None:
        import contextlib
        import sqlite3

        from axiarch.data.describing import description

        workspace = Workspace.open(self.folder / "w")
        with contextlib.closing(sqlite3.connect(workspace.journal)) as db, db:
            for table, column in (("search", "name"), ("search", "why"), ("event", "kind"),
                                  ("event", "text"), ("run", "text"), ("run", "reason"),
                                  ("opening", "reason"), ("opening", "data")):
                db.execute(f"UPDATE {table} SET {column} = ?", (ESCAPES,))
        place = workspace.data("ring") / "data.json"
        known = json.loads(place.read_text())
        del known["checksum"]
        known |= {"how": ESCAPES, "name": ESCAPES, "source": ESCAPES, "findings": [
            {"kind": ESCAPES, "column": ESCAPES, "evidence": ESCAPES, "remedy": ESCAPES},
            {"name": ESCAPES, "title": ESCAPES, "column": ESCAPES, "evidence": ESCAPES,
             "advice": ESCAPES, "changes": [{"words": ESCAPES, "what": "ignore", "column": ESCAPES,
                                             "value": ESCAPES}]}]}
        for column in known["columns"]:
            column["reason"] = ESCAPES
        for fold in known["folds"]:
            fold["encoding"]["target"]["classes"] = [ESCAPES, "b" + ESCAPES]
        place.write_text(description(known))
        for words in (("status", ), ("ranking", ), ("data", "show"), ("data", "openings"),
                      ("data", "change", "1"),
                      ("judge", ), ("attach", ), ("status", "--json"), ("ranking", "--json"),
                      ("data", "show", "--json"), ("more", "99", "1"),
                      ("export", "ranking", "r.csv"), ("forecast", f"no{chr(27)}[31mfile.toml"),
                      ("resume", "1"), ("models", "keep", "1", "--name", ESCAPES, "--note",
                                        ESCAPES), ("models", "list"), ("models", "verify", ESCAPES),
                      ("models", "list", "--json")):
            done = self.run_it(*words, "-w", "w", code=None)
            for raw in (done.stdout, done.stderr):
                text = raw.decode()
                sent = [
                    c for c in text
                    if (ord(c) < 32 and c not in "\n\t") or 127 <= ord(c) < 160 or c == "\u202e"
                ]
                with self.subTest(words=words):
                    self.assertEqual(sent, [], text[:300])


class Exports(Command):
    def setUp(self) -> None:
        super().setUp()
        shutil.copytree(finished_workspace(), self.folder / "w")

    def test_only_regular_files_are_replaced_and_only_when_that_is_said(self) -> None:
        (self.folder / "thesis.csv").write_text("mine")
        (self.folder / "folder.csv").mkdir()
        (self.folder / "link.csv").symlink_to(self.folder / "thesis.csv")
        os.mkfifo(self.folder / "pipe.csv")
        for what, name, words in (("ranking", "thesis.csv", b"there already"),
                                  ("ranking", "folder.csv", b"a folder"), ("ranking", "link.csv",
                                                                           b"not a file"),
                                  ("ranking", "pipe.csv", b"not a file"), ("ranking", "/dev/null",
                                                                           b"written as .csv"),
                                  ("ranking", "", b"needs a name"), ("ranking", "r.txt", b".csv"),
                                  ("chart", "c.png", b".svg or .pdf"),
                                  ("curves", "c", b".svg or .pdf"), ("ranking", "x" * 300 + ".csv",
                                                                     b"")):
            with self.subTest(name=name[:20]):
                done = self.run_it("export", what, name, "-w", "w", code=None)
                self.assertIn(done.returncode, (2, 3))
                self.assertIn(words, done.stderr)
        for name in ("folder.csv", "link.csv", "pipe.csv"):
            self.run_it("export", "ranking", name, "--force", "-w", "w", code=2)
        self.assertEqual((self.folder / "thesis.csv").read_text(), "mine")
        self.run_it("export", "ranking", "thesis.csv", "--force", "-w", "w")
        self.assertIn("place", (self.folder / "thesis.csv").read_text())


class Damage(Command):
    def test_a_search_on_damaged_arrays_is_refused_by_name(self) -> None:
        shutil.copytree(finished_workspace(), self.folder / "w")
        workspace = Workspace.open(self.folder / "w")
        path = workspace.data("ring") / "folds" / "0" / "train.inputs.npy"
        raw = bytearray(path.read_bytes())
        raw[-1] ^= 0x80
        path.write_bytes(raw)
        (self.folder / "s.toml").write_text(write_search(ring_search(epochs=2, recipes=2)))
        done = self.run_it("search", "s.toml", "-w", "w", code=3)
        self.assertIn(b"train.inputs.npy", done.stderr)
        self.assertEqual(workspace.search_numbers(), [1], "nothing is left of the search refused")

    def test_what_was_begun_and_killed_is_removed_by_the_next_command_that_writes(self) -> None:
        workspace = Workspace.create(self.folder / "w")
        left = workspace.data() / ".draft.0123456789abcdef"
        left.mkdir(parents=True)
        with workspace.locked("a test"):
            self.assertFalse(left.exists())

    def test_a_damaged_workspace_is_rescued(self) -> None:
        shutil.copytree(finished_workspace(), self.folder / "w")
        journal = self.folder / "w" / "journal.sqlite"
        raw = bytearray(journal.read_bytes())
        raw[4096 * 5 : 4096 * 6] = os.urandom(4096)
        journal.write_bytes(raw)
        done = self.run_it("rescue", "new", "-w", "w")
        self.assertIn(b"data set ring", done.stdout)
        self.run_it("data", "show", "-w", "new")


if __name__ == "__main__":
    unittest.main()
