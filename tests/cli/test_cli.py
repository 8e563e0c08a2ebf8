"""The command line as a program: what it prints, its JSON, its exit codes."""

from __future__ import annotations

import json
import signal
import subprocess
import sys
import time
import unittest
from dataclasses import replace

from axiarch import workflows
from axiarch.recipes.searchfile import MethodChoice, write_search
from tests.support import (
    FolderCase,
    commanded,
    ring_rows,
    ring_search,
    ring_workspace,
    until,
    write_csv,
)


class CliCase(FolderCase):
    def cli(self, *words: str, code: int = 0) -> subprocess.CompletedProcess[str]:
        """Run the program in this process; its exit code must be `code`, and never a traceback."""
        done = commanded(self.folder, *words)
        self.assertNotIn("Traceback", done.stderr)
        self.assertEqual(done.returncode, code, done.stderr)
        return done

    def search_file(self, text: str = "") -> str:
        """Write a search file and return its path."""
        path = self.folder / "s.toml"
        path.write_text(text or write_search(ring_search()))
        return str(path)


class WholeWay(CliCase):
    def test_from_a_table_to_exports(self) -> None:
        table = str(write_csv(self.folder / "ring.csv", ["x", "y", "side", "place"], ring_rows()))
        work = ["-w", str(self.folder / "w")]
        data = json.loads(self.cli("data", "add", table, "--json", *work).stdout)
        self.assertEqual((data["targets"], data["classes"]), (["place"], ["in", "out"]))
        self.assertIn("sealed", self.cli("data", "show", *work).stdout)
        found = json.loads(self.cli("forecast", self.search_file(), "--json", *work).stdout)
        self.assertEqual(found["runs"], 12)
        done = self.cli("search", self.search_file(), "--json", *work)
        result = json.loads(done.stdout)
        self.assertIn("search 1", done.stderr)
        self.assertEqual((result["state"], len(result["ranking"])), ("done", 6))
        self.assertLess(result["ranking"][0]["steady_loss"], result["baseline_loss"])
        again = json.loads(self.cli("ranking", "1", "--json", *work).stdout)
        self.assertEqual(again["ranking"], result["ranking"])
        self.assertIn("leader", self.cli("ranking", *work).stdout)
        self.assertEqual(json.loads(self.cli("status", "--json", *work).stdout)["runs_ended"], 12)
        judged = json.loads(self.cli("judge", "--json", *work).stdout)
        self.assertEqual(sum(map(sum, judged["confusion"])), judged["rows"])
        self.assertAlmostEqual(judged["accuracy"],
                               sum(judged["confusion"][i][i] for i in range(2)) / judged["rows"])
        leader = next(r for r in result["ranking"] if r["place"] == 1)
        self.assertEqual(judged["recipe"], leader["recipe"])
        self.assertIn("precision", self.cli("judge", *work).stdout)
        for what, name in (("ranking", "r.csv"), ("chart", "c.svg"), ("chart", "c.pdf"), ("curves",
                                                                                          "k.svg")):
            self.cli("export", what, name, *work)
            self.assertTrue((self.folder / name).exists())
        self.assertTrue((self.folder / "k-data.csv").exists())

    def test_a_search_in_the_background_is_paused_resumed_and_stopped(self) -> None:
        workspace = ring_workspace(self.folder / "w")
        work = ["-w", str(workspace.folder)]
        path = self.search_file(write_search(ring_search(epochs=60_000, recipes=8, patience=0)))
        self.assertIn("background", self.cli("search", path, "--background", *work).stdout)
        for word, state in (("pause", "paused"), ("resume", "running"), ("stop", "stopped")):
            self.cli(word, *(["--background"] if word == "resume" else []), *work)
            until(lambda wanted=state: workflows.snapshot_of(workspace).search.state == wanted,
                  what=state)
        self.assertIn("stopped", self.cli("status", *work).stdout)

    def test_a_race_is_steered_and_a_recipe_goes_on_when_it_is_over(self) -> None:
        workspace = ring_workspace(self.folder / "w")
        work = ["-w", str(workspace.folder)]
        options = {"recipes": 9, "window": 6, "finalists": 2}
        race = replace(ring_search(epochs=90_000, patience=0),
                       method=MethodChoice("racing", options))
        self.cli("search", self.search_file(write_search(race)), "--background", *work)
        until(lambda: len(workflows.snapshot_of(workspace).recipes) >= 4, what="recipes")
        for words, text in ((("cut", "2"), "cuts recipe 2"), (("keep", "3"), "keeps recipe 3"),
                            (("more", "4", "7"), "7 more epochs"),
                            (("budget", "11"), "11 recipes in all"), (("workers", "1"), "1 worker"),
                            (("add", "width=5", "learning_rate=0.02"), "recipe added")):
            self.assertIn(text, self.cli(*words, *work).stdout)
        until(lambda: workflows.snapshot_of(workspace).runs_of(2)[0].text == "cut by hand",
              what="the cut")
        until(
            lambda: 5 in [r.recipe["width"]
                          for r in workflows.snapshot_of(workspace).recipes.values()],
            what="it")
        self.assertIn("there is no recipe 99", self.cli("cut", "99", *work, code=4).stderr)
        self.assertIn("one value", self.cli("add", "width=5 | 6", *work, code=2).stderr)
        until(lambda: any(r.state == "training" and s.curves.get(r.id)
                          for s in [workflows.snapshot_of(workspace)]
                          for r in s.runs.values()),
              what="an epoch")
        self.cli("stop", *work)
        until(lambda: workflows.snapshot_of(workspace).search.state == "stopped", what="the stop")
        recipe = next(r.recipe
                      for r in workflows.snapshot_of(workspace).runs.values()
                      if workflows.snapshot_of(workspace).curves.get(r.id) and r.state != "ended")
        result = json.loads(self.cli("more", str(recipe), "3", "--json", *work).stdout)
        self.assertEqual((result["state"], len(result["ranking"])), ("done", 1))

    def test_ctrl_c_stops_and_keeps_what_has_ended(self) -> None:
        workspace = ring_workspace(self.folder / "w")
        path = self.search_file(write_search(ring_search(epochs=60_000, recipes=8, patience=0)))
        process = subprocess.Popen(
            [sys.executable, "-m", "axiarch", "search", path, "-w",
             str(workspace.folder)],
            stdout=subprocess.PIPE,
            stderr=subprocess.PIPE,
            text=True)
        until(lambda: workspace.journal.exists() and workspace.owner() is not None,
              what="the start")
        time.sleep(1.0)
        process.send_signal(signal.SIGINT)
        out, errors = process.communicate(timeout=60)
        self.assertEqual(process.returncode, 130)
        self.assertNotIn("Traceback", errors)
        self.assertIn("stopped", out)


    def test_a_search_in_the_background_is_followed_and_left_running(self) -> None:
        workspace = ring_workspace(self.folder / "w")
        path = self.search_file(write_search(ring_search(epochs=60_000, recipes=8, patience=0)))
        self.cli("search", path, "--background", "-w", str(workspace.folder))
        attached = [sys.executable, "-m", "axiarch", "attach", "1", "-w", str(workspace.folder)]
        process = subprocess.Popen(attached,
                                   stdout=subprocess.PIPE,
                                   stderr=subprocess.PIPE,
                                   text=True)
        self.assertIn("search 1", process.stderr.readline())  # type: ignore[union-attr]
        process.send_signal(signal.SIGINT)
        _, errors = process.communicate(timeout=60)
        self.assertEqual(process.returncode, 130)
        self.assertIn("keeps running in the background", errors)
        until(lambda: workflows.snapshot_of(workspace).search.state == "running",
              what="the search to go on")
        process = subprocess.Popen([*attached, "--json"],
                                   stdout=subprocess.PIPE,
                                   stderr=subprocess.DEVNULL,
                                   text=True)
        self.cli("stop", "-w", str(workspace.folder))
        out, _ = process.communicate(timeout=60)
        self.assertEqual((process.returncode, json.loads(out)["state"]), (0, "stopped"))


class BadInput(CliCase):
    def test_search_files_with_mistakes(self) -> None:
        ring_workspace(self.folder / "w")
        work = ["-w", str(self.folder / "w")]
        for text, place, word in (
            ("[vary]\nwidth = '8 .. 500 doubling'", "line 2, [vary] width", "256 or 512"),
            ("nam = 'x'", "line 1, nam", "name"),
            ("[method]\nname = 'magic'", "[method]", "random"),
            ("[method]\nrecipes = 0", "recipes", "whole number"),
            ("data = 'none'", "", "ring"),
        ):
            with self.subTest(text=text):
                done = self.cli("search",
                                self.search_file(text),
                                *work,
                                code=3 if text.startswith("data") else 2)
                self.assertIn(place, done.stderr)
                self.assertIn(word, done.stderr)
                self.assertEqual(done.stdout, "")
        self.assertEqual(list((self.folder / "w" / "searches").iterdir()), [])

    def test_decisions_about_data(self) -> None:
        self.cli("data", "demo-files", "files")
        messy = ("data", "add", "files/hive-states-messy.csv", "-w", "w", "--json")
        found = json.loads(self.cli(*messy).stdout)
        self.assertEqual([f["kind"] for f in found["findings"]],
                         ["leak", "duplicates", "time", "constant"])
        shown = self.cli("data", "show", "-w", "w").stdout
        self.assertIn("1  Ignore the column alarm_code (leak in alarm_code)", shown)
        changed = json.loads(self.cli("data", "change", "1", "-w", "w", "--json").stdout)
        self.assertNotIn("leak", [f["kind"] for f in changed["findings"]])
        again = self.cli("data", "change", "1", changed["name"], "-w", "w").stdout
        self.assertIn(f"{changed['name']} stays as it is", again)
        self.assertIn("give one from 1 to",
                      self.cli("data", "change", "99", changed["name"], "-w", "w", code=2).stderr)
        mended = json.loads(
            self.cli(*messy, "--name", "mended", "--ignore", "alarm_code", "--group", "hive",
                     "--scaling", "robust", "--test", "0.1").stdout)
        self.assertEqual([f["kind"] for f in mended["findings"]], ["strong column", "constant"])
        self.assertGreater(mended["linear"]["loss"], found["linear"]["loss"] + 0.5)
        for words in (("--group", "hives"), ("--validation", "0.95"), ("--encoding", "klingon"),
                      ("--separator", "||"), ("--target", "stat"), ("--order", "humidity_percent")):
            with self.subTest(words=words):
                self.cli(*messy, "--name", "bad", *words, code=2)
        self.assertEqual(len(list((self.folder / "w" / "data").iterdir())), 4)

    def test_amounts_folds_treatments_and_the_seal(self) -> None:
        self.cli("data", "demo-files", "files")
        add = ("data", "add", "files/nectar-flow.csv", "-w", "w", "--json")
        found = json.loads(self.cli(*add).stdout)
        self.assertEqual((found["task"], found["targets"], found["loss"]),
                         ("regression", ["gain_g"], "RMSE (gain_g)"))
        folded = json.loads(
            self.cli(*add, "--name", "folded", "--folds", "3", "--gaps", "wind_m_s=constant 0",
                     "--scaling", "robust", "--scaling", "rain_mm=logarithm", "--ordinal",
                     "meadow=heath < mixed < clover < linden").stdout)
        self.assertEqual(len(folded["folds"]), 3)
        self.assertEqual(folded["inputs"], found["inputs"] - 3)
        both = json.loads(
            self.cli(*add, "--name", "both", "--target", "gain_g", "--target",
                     "bloom_index").stdout)
        self.assertEqual((both["outputs"], set(both["baseline"])),
                         (2, {"loss", "RMSE of gain_g", "RMSE of bloom_index"}))
        opened = json.loads(
            self.cli("data", "open-seal", "folded", "--reason", "to see", "-w", "w",
                     "--json").stdout)
        self.assertEqual((opened["rows"], opened["times_opened"]), (500, 1))
        self.assertIn("to see", self.cli("data", "openings", "-w", "w").stdout)
        self.assertIn("RMSE", self.cli("data", "show", "folded", "-w", "w").stdout)
        for words in (("--gaps", "guess"), ("--scaling", "big"), ("--folds", "1"),
                      ("--task", "binary"), ("--target", "meadow", "--task", "regression"),
                      ("--validation-file", "files/hive-states.csv")):
            with self.subTest(words=words):
                self.cli(*add, "--name", "bad", *words, code=2)
        self.assertEqual(len(list((self.folder / "w" / "data").iterdir())), 3)

    def test_a_search_file_alone_brings_its_data(self) -> None:
        self.cli("data", "demo-files", "files")
        (self.folder / "files" / "s.toml").write_text(
            'data = "hum.npz"\nrepeats = 1\n[recipe]\nepochs = 2\ndepth = 1\n[vary]\nwidth = "8 | '
            '16"\n'
        )
        done = json.loads(self.cli("search", "files/s.toml", "-w", "fresh", "--json").stdout)
        self.assertEqual((done["data"], done["state"], len(done["ranking"])), ("hum", "done", 3))

    def test_files_that_are_not_there(self) -> None:
        ring_workspace(self.folder / "w")
        self.cli("search", "none.toml", "-w", "w", code=2)
        self.cli("data", "add", "none.csv", "-w", "w", code=2)
        self.cli("status", "-w", "nowhere", code=3)
        self.assertFalse((self.folder / "nowhere").exists())

    def test_nothing_to_rank_or_steer(self) -> None:
        ring_workspace(self.folder / "w")
        for words in (("ranking", ), ("pause", ), ("stop", "7"), ("resume", ), ("export", "ranking",
                                                                                "x.csv")):
            self.cli(*words, "-w", "w", code=3)

    def test_no_terminal_is_said(self) -> None:
        done = self.cli("-w", "w", code=2)
        self.assertIn("terminal", done.stderr)

    def test_names_from_files_never_control_the_terminal(self) -> None:
        table = write_csv(self.folder / "t.csv", ["x", "\x1b[2Jclear", "place"],
                          [[row[0], row[1], row[3]] for row in ring_rows()])
        done = self.cli("data", "add", str(table), "-w", "w")
        self.assertNotIn("\x1b", done.stdout)
        self.assertIn("␛[2Jclear", done.stdout)

    def test_help_and_version(self) -> None:
        self.assertIn("Exit codes", self.cli("--help").stdout)
        self.assertIn("0.1", self.cli("--version").stdout)


if __name__ == "__main__":
    unittest.main()
