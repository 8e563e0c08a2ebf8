"""The application through Textual's pilot: every view, every key, empty and awkward states."""

from __future__ import annotations

import asyncio
import atexit
import contextlib
import functools
import json
import os
import shutil
import sqlite3
import tempfile
import threading
import time
import unittest
from collections.abc import AsyncIterator, Callable
from dataclasses import replace
from pathlib import Path
from unittest import mock

from textual.pilot import Pilot
from textual.widgets import ContentSwitcher

from axiarch import workflows
from axiarch.data.demo_hum import hum
from axiarch.data.describing import description
from axiarch.errors import DataError, WorkspaceError, WorkspaceLocked
from axiarch.journal.records import EventRecord
from axiarch.journal.workspace import Workspace
from axiarch.recipes.searchfile import MethodChoice
from axiarch.tui import messages
from axiarch.tui.action import VIEWS
from axiarch.tui.actions import ACTIONS, actions_of
from axiarch.tui.app import AxiarchApp
from axiarch.tui.doing.asking import chosen
from axiarch.tui.doing.moving import farewell
from axiarch.tui.palette import DARK, LIGHT, PALETTES
from axiarch.tui.plots.runs import Rows
from axiarch.tui.terms import ABOUT, TERMS
from axiarch.tui.views import field
from axiarch.tui.views.field import Lines
from axiarch.tui.views.ladder import LadderView, Rungs
from axiarch.tui.widgets.dialogs import Help, Question
from tests.support import (
    PATIENCE,
    FolderCase,
    ring_rows,
    ring_search,
    ring_workspace,
    shown,
    write_csv,
)


def screen(app: AxiarchApp) -> str:
    """Return what is on the screen, as text."""
    return "\n".join(strip.text for strip in app.screen._compositor.render_strips())


@functools.cache
def _searched() -> Path:
    """Train a small search once; its folder is removed with the process."""
    folder = Path(tempfile.mkdtemp(prefix="axiarch-test-"))
    atexit.register(shutil.rmtree, folder, ignore_errors=True)
    workspace = ring_workspace(folder / "w")
    workflows.save_draft(workspace, ring_search())
    workflows.wait(workspace, workflows.start_search(workspace, ring_search(), 2))
    for _ in range(600):  # done is said before the runner has closed its files
        with contextlib.suppress(WorkspaceLocked), workspace.locked("tests"):
            break
        time.sleep(0.05)
    return folder / "w"


class AppCase(FolderCase, unittest.IsolatedAsyncioTestCase):
    workspace: Workspace

    async def asyncSetUp(self) -> None:
        """Keep time as the application does: the loop's bookkeeping for debugging makes every
        message wait.
        """
        asyncio.get_running_loop().set_debug(False)

    @contextlib.asynccontextmanager
    async def running(self, workspace: Workspace, size: tuple[int, int] = (140, 42)
                      ) -> AsyncIterator[tuple[AxiarchApp, Pilot[str]]]:
        """Run the application until it has looked at its workspace."""
        app = AxiarchApp(workspace)
        async with app.run_test(size=size) as pilot:
            await self.until(pilot, lambda: app.state.looked)
            if workspace.search_numbers():
                await self.until(pilot,
                                 lambda: app.state.snapshot is not None and app.view == "field")
            yield app, pilot

    async def until(self,
                    pilot: Pilot[str],
                    condition: Callable[[], object],
                    seconds: float = PATIENCE) -> None:
        """Wait until a condition holds; what takes long is asked less and less often."""
        pause = 0.02
        async with asyncio.timeout(seconds):
            while not condition():
                await asyncio.sleep(pause)
                pause = min(pause * 1.2, 0.2)

    async def shows(self, app: AxiarchApp, pilot: Pilot[str], text: str) -> None:
        """Wait until a text is on the screen."""
        try:
            await self.until(pilot, lambda: shown(text, screen(app)))
        except TimeoutError:
            self.fail(f"{text!r} is not on the screen:\n{screen(app)}")

    def searched(self) -> Workspace:
        """Return a workspace with a search that is done: a copy of one that all tests of this
        process share.
        """
        shutil.copytree(_searched(), self.folder / "w")
        return Workspace.open(self.folder / "w")


class Hostile(AppCase):
    """A workspace that a stranger sent: what it says is shown, never obeyed."""

    async def test_no_escape_of_a_journal_or_data_set_reaches_the_terminal(self) -> None:
        workspace = self.searched()
        evil = "\x1b]0;owned\x07\x1b[31m\u202e"
        with contextlib.closing(sqlite3.connect(workspace.journal)) as db, db:
            for table, column in (("search", "name"), ("search", "why"), ("event", "text"),
                                  ("event", "kind"), ("run", "text"), ("recipe", "origin")):
                db.execute(f"UPDATE {table} SET {column} = ?", (evil,))
        place = workspace.data("ring") / "data.json"
        known = json.loads(place.read_text())
        del known["checksum"]
        change = {"words": evil, "what": "ignore", "column": evil, "value": evil}
        known |= {"how": evil, "name": evil, "source": evil, "findings": [
            dict.fromkeys(("kind", "column", "evidence", "remedy"), evil),
            {**dict.fromkeys(("name", "title", "column", "evidence", "advice"), evil),
             "changes": [change]}]}
        for column in known["columns"]:
            column["reason"] = evil
        for fold in known["folds"]:
            fold["encoding"]["target"]["classes"] = [evil, evil + "b"]
        place.write_text(description(known))
        async with self.running(workspace) as (app, pilot):
            for keys in ("1", "2", "3", "4", "5", "6", "b", "b", "?", "escape", "1", "e", "escape",
                         "!", "escape", "ctrl+o", "escape", "4", "enter"):
                await pilot.press(keys)
                await pilot.pause(0.1)
                for line in app.screen._compositor.render_strips():
                    for segment in line:
                        self.assertTrue(segment.text.isprintable(), repr(segment.text))

    async def test_a_workspace_with_links_is_refused_before_anything_is_drawn(self) -> None:
        workspace = self.searched()
        (workspace.folder / "exports" / "x.csv").symlink_to("/etc/hostname")
        with self.assertRaises(WorkspaceError):
            Workspace.open(workspace.folder)

    async def test_a_damaged_journal_is_said_and_the_program_stays(self) -> None:
        workspace = self.searched()
        with contextlib.closing(sqlite3.connect(workspace.journal)) as db:
            db.execute("PRAGMA journal_mode = DELETE")
        raw = bytearray(workspace.journal.read_bytes())
        raw[4096 : 4096 * 12] = bytes(4096 * 11)
        workspace.journal.write_bytes(raw)
        app = AxiarchApp(workspace)
        async with app.run_test(size=(140, 42)) as pilot:
            await self.shows(app, pilot, "the journal is damaged")
            await self.shows(app, pilot, "axiarch rescue")
            for key in ("3", "4", "5"):
                await pilot.press(key)
                await self.shows(app, pilot, "has not been read yet")
                self.assertNotIn("No search has been started", screen(app))


class AtTheKeyboard(AppCase):
    async def test_what_is_in_front_is_named_on_every_view_and_is_what_keys_act_on(self) -> None:
        workspace = self.searched()
        table = write_csv(self.folder / "t.csv", ["x", "y", "side", "place"], ring_rows(90))
        workflows.add_table(workspace, table, name="other ring")
        async with self.running(workspace) as (app, pilot):
            head = lambda: screen(app).splitlines()[0]  # noqa: E731
            leader = app.state.open_recipe
            self.assertRegex(head(), f"ring .*search 1 done .*#{leader}")
            await pilot.press("1", "comma")
            await self.until(pilot, lambda: "other ring" in head())
            self.assertIn("search 1 done", head())
            self.assertIn("on ring", head())
            await pilot.press("4", "down")
            await self.until(pilot, lambda: f"#{chosen(app.context)}" in head())
            await self.until(pilot, lambda: chosen(app.context) != leader)
            self.assertNotIn("other ring", head())
            second = chosen(app.context)
            await pilot.press("m")
            await self.shows(app, pilot, f"Marked recipe {second} as A")
            await self.shows(app, pilot, f"#{second} A")
            await pilot.press("5")
            await self.shows(app, pilot, f"Recipe {second} (marked A")
            await pilot.press("m")
            await self.shows(app, pilot, f"Unmarked recipe {second}; 0 still marked")

    async def test_typing_replaces_a_value_and_arrows_step(self) -> None:
        workspace = ring_workspace(self.folder / "w")
        workflows.save_draft(workspace, ring_search())
        async with self.running(workspace) as (app, pilot):
            await pilot.press("2", "down", "enter")
            await self.shows(app, pilot, "depth, now 2")
            await pilot.press("1", "enter")
            await self.until(pilot, lambda: app.state.draft.space.base["depth"] == 1)
            await pilot.press("enter", "up", "up", "down", "enter")
            await self.until(pilot, lambda: app.state.draft.space.base["depth"] == 2)
            await pilot.press("enter", "right", "1", "enter")
            await self.until(pilot, lambda: app.state.draft.space.base["depth"] == 21)

    async def test_an_export_asks_before_it_replaces(self) -> None:
        workspace = self.searched()
        async with self.running(workspace) as (app, pilot):
            await pilot.press("4", "e")
            await self.shows(app, pilot, "Written")
            path = workspace.exports / "search-1-ranking.csv"
            path.write_text("mine")
            await pilot.press("e")
            await self.shows(app, pilot, "Replace search-1-ranking.csv")
            await pilot.press("n")
            await pilot.pause(0.2)
            self.assertEqual(path.read_text(), "mine")
            await pilot.press("e")
            await self.shows(app, pilot, "Replace search-1-ranking.csv")
            await pilot.press("y")
            await self.until(pilot, lambda: path.read_text() != "mine")

    async def test_the_ranking_is_sorted_filtered_and_its_cheapest_found(self) -> None:
        async with self.running(self.searched()) as (app, pilot):
            await pilot.press("4", "s")
            await self.shows(app, pilot, "by parameters")
            rungs = app.query_one(Rungs)
            sizes = [app.state.snapshot.recipes[n].parameters for n in rungs._order]
            self.assertEqual(sizes, sorted(sizes))
            await pilot.press("slash", *"width <= 4", "enter")
            await self.shows(app, pilot, "only width <= 4")
            self.assertEqual({app.state.snapshot.recipes[n].recipe["width"] <= 4
                              for n in rungs._order}, {True})
            await pilot.press("slash", *["backspace"] * 12, *"wide > 3", "enter")
            await self.shows(app, pilot, "no value of a recipe is called 'wide'")
            await pilot.press("slash", *["backspace"] * 12, *"width > 99", "enter")
            await self.shows(app, pilot, "no recipe matches width > 99; press / to change it")
            await pilot.press("slash", *["backspace"] * 12, "enter", "$")
            await self.shows(app, pilot, "tied")
            for _ in range(5):
                await pilot.press("s")
            await self.shows(app, pilot, "differs from the leader in")

    async def test_more_seeds_are_trained_in_a_search_that_is_done(self) -> None:
        async with self.running(self.searched()) as (app, pilot):
            await pilot.press("4")
            await self.shows(app, pilot, "leads at")
            before = len(app.state.snapshot.runs)
            await pilot.press("+")
            await self.shows(app, pilot, "How many more seeds?")
            await pilot.press(*["backspace"] * 4, "2", "enter")
            await self.until(pilot, lambda: len(app.state.snapshot.runs) > before
                             and app.state.snapshot.search.state == "done")
            self.assertEqual(max(r.repeat for r in app.state.snapshot.runs.values()), 3)
            await self.shows(app, pilot, "Confirmed:")

    async def test_which_knobs_matter_is_shown_or_said_why_not(self) -> None:
        async with self.running(self.searched()) as (app, pilot):
            await pilot.press("4", "f")
            await self.shows(app, pilot, "too few recipes to learn from")
            await pilot.press("f")
            await self.shows(app, pilot, "differs from the leader in")

    async def test_two_marked_recipes_are_compared(self) -> None:
        async with self.running(self.searched()) as (app, pilot):
            await pilot.press("4", "m", "down", "m")
            await self.shows(app, pilot, "against recipe")

    async def test_marks_dates_case_and_equal_rows_are_decided_by_keys(self) -> None:
        rows = [[
            f"{i % 31}" if i % 9 else "-999", f"0{i % 9 + 1}/0{i % 8 + 1}/2020",
            "Yes" if i % 2 else ["no", "NO"][i % 4 // 2], "uvw"[i % 3]
        ] for i in range(120)]
        workspace = Workspace.create(self.folder / "w")
        workflows.add_table(workspace,
                            write_csv(self.folder / "t.csv", ["a", "day", "word", "y"], rows))
        async with self.running(workspace) as (app, pilot):
            await self.shows(app, pilot, "120 rows")
            app.front().focus_main()
            plan = lambda: app.state.dataset.plan  # noqa: E731
            await pilot.press("w")
            await self.shows(app, pilot, "mean a missing value in a?")
            await pilot.press(*["backspace"] * 5, *"-999", "enter")
            await self.until(pilot, lambda: plan().treatment("a").missing == ("-999",))
            self.assertGreater(app.state.dataset.columns[0].missing, 5)
            await pilot.press("down", "D", "down", "u",
                              "j")  # typed at once: each waits for the one before
            await self.until(pilot, lambda: plan().split.equal_rows)
            self.assertEqual(plan().treatment("day").dates, "day first")
            self.assertTrue(plan().treatment("word").merge_case)


class Empty(AppCase):
    async def test_an_empty_workspace_says_what_to_do(self) -> None:
        async with self.running(Workspace.create(self.folder / "w")) as (app, pilot):
            await self.shows(app, pilot, "no data in this workspace")
            for key in "2345":
                await pilot.press(key)
                await pilot.pause()
                self.assertRegex(screen(app), "There is no|No search|No recipe")

    async def test_a_table_is_opened_by_keyboard(self) -> None:
        table = write_csv(self.folder / "my ring.csv", ["x", "y", "side", "place"], ring_rows())
        async with self.running(Workspace.create(self.folder / "w")) as (app, pilot):
            await pilot.press("o")
            await pilot.press(*str(table), "enter")
            await self.shows(app, pilot, "240 rows")
            self.assertIn("place", screen(app))

    async def test_a_table_is_found_in_the_folders_and_again_among_those_opened_before(
            self) -> None:
        write_csv(self.folder / "found.csv", ["x", "y", "side", "place"], ring_rows())
        (self.folder / "thesis.docx").write_text("not a table")
        here = Path.cwd()
        os.chdir(self.folder)
        self.addCleanup(os.chdir, here)
        workspace = Workspace.create(self.folder / "w")
        async with self.running(workspace) as (app, pilot):
            await pilot.press("o")
            await self.shows(app, pilot, "found.csv")
            self.assertNotIn("thesis", screen(app))
            await pilot.press("tab", "end", "enter")
            await self.shows(app, pilot, "240 rows")
            self.assertEqual(workflows.recent_tables(workspace), (str(self.folder / "found.csv"),))
            await pilot.press("o")
            await self.shows(app, pilot, "opened before")
            await pilot.press("tab", "enter")  # the same table again: its name is taken
            await self.shows(app, pilot, "is there already")

    async def test_a_file_that_is_not_there_is_said_and_nothing_changes(self) -> None:
        async with self.running(Workspace.create(self.folder / "w")) as (app, pilot):
            await pilot.press("o", *"/none.csv", "enter")
            await self.shows(app, pilot, "there is no such file")
            await pilot.press("escape")
            await pilot.pause()
            self.assertNotIn("there is no such file", screen(app))


class Deciding(AppCase):
    async def test_columns_are_ignored_taken_in_predicted_and_grouped_by(self) -> None:
        table = write_csv(self.folder / "r.csv", ["x", "y", "side", "place"], ring_rows())
        workspace = Workspace.create(self.folder / "w")
        workflows.add_table(workspace, table)
        async with self.running(workspace) as (app, pilot):
            await self.shows(app, pilot, "240 rows")
            app.front().focus_main()
            roles = lambda: {c.name: c.role for c in app.state.dataset.columns}  # noqa: E731
            await pilot.press("down", "i")
            await self.until(pilot, lambda: roles()["y"] == "ignored")
            await pilot.press("i")
            await self.until(pilot, lambda: roles()["y"] == "input")
            await pilot.press("down", "m")
            await self.until(pilot, lambda: roles()["side"] == "target")
            await pilot.press("up", "g")
            await self.until(pilot, lambda: app.state.dataset.plan.split.group == "y")
            self.assertEqual(roles()["y"], "ignored")
            await pilot.press("h")
            await pilot.press("i")  # while the data set is rebuilt: it waits its turn
            await self.until(
                pilot, lambda: app.state.dataset.plan.rows and "y" in app.state.dataset.plan.use)
            self.assertEqual(roles()["y"], "input")
            await pilot.press("down", "down",
                              "i")  # the old target; side cannot be told without it or x
            await self.until(pilot, lambda: roles()["place"] == "ignored")
            self.assertEqual(workflows.data_set(workspace), app.state.dataset)


    async def test_treatments_folds_tasks_and_several_targets(self) -> None:
        table = write_csv(self.folder / "r.csv", ["x", "y", "side", "place"], ring_rows())
        workspace = Workspace.create(self.folder / "w")
        workflows.add_table(workspace, table)
        async with self.running(workspace) as (app, pilot):
            await self.shows(app, pilot, "240 rows")
            app.front().focus_main()
            plan = lambda: app.state.dataset.plan  # noqa: E731
            await pilot.press("f")
            await self.until(pilot, lambda: plan().treatment("x").gaps == "median")
            await pilot.press("z")
            await self.until(pilot, lambda: plan().treatment("x").scaling == "z-score")
            await pilot.press("b")
            await self.until(pilot, lambda: len(app.state.dataset.folds) == 5)
            await self.shows(app, pilot, "5 folds")
            await pilot.press("v", *", test x", "enter")
            await self.shows(app, pilot, "unknown split option")
            await pilot.press("v", *["backspace"] * 6, *"seed 9, repeats 2", "enter")
            await self.until(pilot, lambda: len(app.state.dataset.folds) == 10)
            await pilot.press("v", *", folds 0, test 0.3", "enter")
            await self.until(pilot, lambda: app.state.dataset.rows["test"] == 72)
            await pilot.press("down", "m")
            await self.until(pilot, lambda: app.state.dataset.target.columns == ("y",))
            await self.shows(app, pilot, "an amount")
            await pilot.press("up", "M")
            await self.until(pilot, lambda: set(app.state.dataset.target.columns) == {"x", "y"})
            await self.shows(app, pilot, "2 amounts")
            await pilot.press("down", "down", "c")
            await self.until(pilot, lambda: plan().treatment("side").order == ())

    async def test_examples_are_paged_and_the_seal_is_opened_with_a_reason(self) -> None:
        async with self.running(ring_workspace(self.folder / "w")) as (app, pilot):
            await self.shows(app, pilot, "240 rows")
            await pilot.press("e")
            await self.shows(app, pilot, "training rows 1 to")
            await pilot.press("pagedown")
            await self.until(pilot, lambda: "training rows 1 to" not in screen(app))
            await pilot.press("escape", "ctrl+o", *"why not", "enter")
            await self.shows(app, pilot, "Opened and recorded")
            await self.shows(app, pilot, "opened 1 time")
            self.assertEqual(app.state.openings, 1)

    async def test_a_file_is_read_otherwise(self) -> None:
        (self.folder / "t.csv").write_text(
            "a;c;b\n" + "".join(f"{i * 7 % 50};{i},5;{'xyz'[i % 3]}\n" for i in range(60)))
        workspace = Workspace.create(self.folder / "w")
        workflows.add_table(workspace, self.folder / "t.csv")
        async with self.running(workspace) as (app, pilot):
            await self.shows(app, pilot, "decimal comma")
            await pilot.press("r", *"header maybe", "enter")
            await self.shows(app, pilot, "unknown format option")
            await pilot.press("r", *"header yes, decimal point", "enter")
            await self.shows(app, pilot, "decimal point, first row")
            self.assertEqual(str(app.state.dataset.plan.said), "decimal point, header yes")
            await pilot.press("r", "escape")
            await pilot.pause(0.3)
            self.assertFalse(app.context.adding)
            self.assertEqual(str(app.state.dataset.plan.said), "decimal point, header yes")
            self.assertEqual({c.name: c.kind for c in app.state.dataset.columns}["c"], "text")

    async def test_pictures_are_drawn(self) -> None:
        workspace = Workspace.create(self.folder / "w")
        workflows.add_table(workspace, hum(200).to_npz(self.folder / "h.npz"))
        async with self.running(workspace) as (app, pilot):
            await self.shows(app, pilot, "pictures of 16")
            await self.until(pilot, lambda: screen(app).count("▀" * 16) >= 8)
            await pilot.press("e")
            await self.until(pilot, lambda: screen(app).count("▀" * 16) > 40)


class Sheet(AppCase):
    async def test_values_are_edited_with_mistakes_marked_and_undone(self) -> None:
        workspace = ring_workspace(self.folder / "w")
        workflows.save_draft(workspace, ring_search())
        async with self.running(workspace) as (app, pilot):
            await pilot.press("2")
            await self.shows(app, pilot, "12 runs")
            await pilot.press("down", "down", "enter")
            for _ in range(10):
                await pilot.press("backspace")
            await pilot.press(*"8 .. 500 doubling")
            await self.shows(app, pilot, "256 or 512")
            await pilot.press("enter")  # a mistake is not taken
            self.assertEqual(str(app.state.draft.space.varied("width")),
                             "4 | 8")  # type: ignore[union-attr]
            for _ in range(len("500 doubling")):
                await pilot.press("backspace")
            await pilot.press(*"32 doubling", "enter")
            await self.until(
                pilot, lambda: str(app.state.draft.space.varied("width")) == "8 .. 32 doubling")
            self.assertEqual(workflows.load_draft(workspace, workflows.data_set(workspace)),
                             app.state.draft)
            await pilot.press("u")
            await self.until(pilot, lambda: str(app.state.draft.space.varied("width")) == "4 | 8")
            await pilot.press("ctrl+r")
            await self.until(
                pilot, lambda: str(app.state.draft.space.varied("width")) == "8 .. 32 doubling")
            await pilot.press("v")
            await self.until(pilot, lambda: app.state.draft.space.varied("width") is None)

    async def test_the_network_is_drawn_while_it_is_typed_and_as_before_when_left(self) -> None:
        workspace = ring_workspace(self.folder / "w")
        async with self.running(workspace) as (app, pilot):
            await pilot.press("2")
            await self.shows(app, pilot, "relu 64")
            await pilot.press("down", "down", "enter", "backspace", "backspace", *"17")
            await self.shows(app, pilot, "relu 17")
            await pilot.press("escape")
            await self.shows(app, pilot, "relu 64")
            self.assertNotIn("relu 17", screen(app))

    async def test_a_network_line_is_typed_and_the_base_is_trained_once(self) -> None:
        workspace = Workspace.create(self.folder / "w")
        workflows.add_table(workspace, hum(200).to_npz(self.folder / "h.npz"))
        async with self.running(workspace) as (app, pilot):
            await pilot.press("2")
            await self.shows(app, pilot, "conv 8 3x3, 16×16×8")
            await pilot.press("home", "enter")
            for _ in range(len("conv 8, pool 2, conv 16, pool 2, hidden")):
                await pilot.press("backspace")
            await pilot.press(*"conv 2, pool 32")
            await self.shows(app, pilot, "does not fit into 16 x 16")
            await pilot.press("backspace", "backspace", *"4, 8 tan")
            await self.shows(app, pilot, "'tan' does not belong")
            await pilot.press("h", "enter")
            await self.until(
                pilot,
                lambda: app.state.draft.space.base.word("network") == "conv 2, pool 4, 8 tanh")
            await pilot.press("o")
            await self.until(pilot,
                             lambda: app.state.snapshot is not None and app.state.snapshot.over)
            self.assertEqual((app.view, len(app.state.snapshot.runs)), ("strips", 1))
            await self.shows(app, pilot, "gap: validation minus")
            await pilot.press("a")
            await self.shows(app, pilot, "validation accuracy")
            self.assertNotIn("gap: validation", screen(app))

    async def test_escape_leaves_a_value_as_it_was(self) -> None:
        workspace = ring_workspace(self.folder / "w")
        async with self.running(workspace) as (app, pilot):
            before = app.state.draft
            await pilot.press("2", "down", "down", "enter", *"999", "escape")
            await pilot.pause()
            self.assertEqual(app.state.draft, before)
            self.assertEqual(app.view, "sheet")

    async def test_a_forecast_that_cannot_be_made_says_why(self) -> None:
        workspace = ring_workspace(self.folder / "w")
        bad = workflows.new_search(workflows.data_set(workspace),
                                   vary={"width": "8 | 16"},
                                   constraints=["width < 2"])
        workflows.save_draft(workspace, bad)
        async with self.running(workspace) as (app, pilot):
            await pilot.press("2")
            await self.shows(app, pilot, "cannot be run")


class Searching(AppCase):
    async def test_start_watch_pause_resume_stop_and_go_on(self) -> None:
        workspace = ring_workspace(self.folder / "w")
        workflows.save_draft(workspace, ring_search(epochs=30000, recipes=8, patience=0))
        async with self.running(workspace) as (app, pilot):
            await pilot.press("2", "s")
            await self.until(pilot, lambda: app.view == "field")
            await self.until(pilot, lambda: app.state.snapshot and app.state.snapshot.epochs > 50)
            await self.shows(app, pilot, "training now")
            for key, state in (("p", "paused"), ("p", "running")):
                await pilot.press(key)
                await self.until(pilot, lambda s=state: app.state.snapshot.search.state == s)
            await pilot.press("x")
            self.assertIsInstance(app.screen, Question)
            await pilot.press("escape")
            await pilot.pause()
            self.assertEqual(app.state.snapshot.search.state,
                             "running")  # type: ignore[union-attr]
            await pilot.press("x", "y")
            await self.until(pilot, lambda: app.state.snapshot.search.state == "stopped")
            await self.shows(app, pilot, "Stopped by hand")
            await pilot.press("p")
            await self.until(pilot, lambda: app.state.snapshot.search.state == "running")
            await pilot.press("x", "y")
            await self.until(pilot, lambda: app.state.snapshot.search.state == "stopped")

    async def test_what_is_done_is_there_again(self) -> None:
        workspace = self.searched()
        async with self.running(workspace) as (app, pilot):
            self.assertEqual(app.view, "field")
            await self.shows(app, pilot, "12 runs ended")
            await pilot.press("left", "left")
            await self.shows(app, pilot, "best steady loss by then")
            await pilot.press("b")
            await self.shows(app, pilot, "epoch of each run")
            await pilot.press("left")
            await self.shows(app, pilot, "runs that got there 12")
            await pilot.press("n")
            await self.shows(app, pilot, "differs from the leader")
            await pilot.press("down", "down", "enter")
            await self.until(pilot, lambda: app.view == "strips")
            third = app.state.snapshot.ranking.rows[2].recipe  # type: ignore[union-attr]
            self.assertEqual(app.state.open_recipe, third)
            await self.shows(app, pilot, "gap: validation minus training loss")
            await pilot.press("left", "left")
            await self.shows(app, pilot, "epoch 4")
            await pilot.press("left_square_bracket")
            self.assertEqual(app.state.open_recipe,
                             app.state.snapshot.ranking.rows[1].recipe)  # type: ignore
            await pilot.press("escape")
            self.assertEqual(app.view, "ladder")

    async def test_recipes_are_marked_drawn_together_and_gone_on_with(self) -> None:
        workspace = self.searched()
        async with self.running(workspace) as (app, pilot):
            await pilot.press("4", "m", "down", "m", "enter")
            await self.until(pilot, lambda: app.view == "strips")
            self.assertEqual(len(app.state.marked), 2)
            await pilot.press("v")
            await self.shows(app, pilot, "against A")
            await self.shows(app, pilot, "95 %: ")
            text = screen(app)
            self.assertLess(text.index("learning rate"), text.index("standing"))
            late = messages.Compared(((1, 99), (1, 98)), "of recipes that are marked no more")
            app.post_message(late)
            await pilot.pause(0.2)
            self.assertNotIsInstance(app.state.comparison, str)
            for axis in ("step of the optimiser", "seconds of training"):
                await pilot.press("b")
                await self.shows(app, pilot, axis)
            await pilot.press("m")
            self.assertEqual(len(app.state.marked), 1)
            await pilot.press("v", "c")
            await self.shows(app, pilot, "from its last epoch, 6?")
            await pilot.press("x", "enter")
            await self.shows(app, pilot, "not a whole number")
            await pilot.press("c", "backspace", "4", "enter")
            await self.until(
                pilot, lambda: app.state.snapshot and app.state.snapshot.search.number == 2 and
                app.state.snapshot.search.state == "done")
            s = app.state.snapshot
            assert s is not None
            self.assertEqual(len(next(iter(s.curves.values()))), 10)
            await self.shows(app, pilot, "of validation rows")
            await pilot.press("C")
            await self.shows(app, pilot, "from its best epoch")
            await pilot.press("escape", "k", "d", "a", "g", "w")
            await self.shows(app, pilot, "needs a running search")

    async def test_versions_are_kept_compared_and_gone_back_to(self) -> None:
        workspace = ring_workspace(self.folder / "w")
        workflows.save_draft(workspace, ring_search())
        async with self.running(workspace) as (app, pilot):
            await pilot.press("2", "V")
            await self.shows(app, pilot, "No version has been kept yet")
            await pilot.press("escape", "k")
            await pilot.press(*"plain", "colon", *"first", "enter")
            await self.shows(app, pilot, "Kept as version 1: plain")
            await pilot.press("down", "down", "enter", *["backspace"] * 12, *"13", "enter")
            await self.until(pilot, lambda: app.state.draft.space.base["width"] == 13)
            await pilot.press("V")
            await self.shows(app, pilot, "base on the sheet")
            await self.shows(app, pilot, "first")
            await pilot.press("enter")
            await self.until(pilot, lambda: app.state.draft.space.base["width"] == 8)
            await pilot.press("u")
            await self.until(pilot, lambda: app.state.draft.space.base["width"] == 13)

    async def test_a_race_is_watched_and_steered(self) -> None:
        workspace = ring_workspace(self.folder / "w")
        options = {"recipes": 30, "window": 6, "finalists": 2}
        race = replace(ring_search(epochs=90_000, patience=0),
                       method=MethodChoice("racing", options))
        workflows.save_draft(workspace, race)
        async with self.running(workspace) as (app, pilot):
            await pilot.press("2", "s")
            await self.until(pilot, lambda: app.view == "field")
            await self.shows(app, pilot, "of about")
            await self.until(pilot, lambda: len(app.state.snapshot.recipes) >= 4)
            await self.until(
                pilot, lambda: app.state.snapshot.curves.get(1))  # the first recipe has an epoch
            await pilot.press("g")
            await self.shows(app, pilot, "How many recipes in all?")
            await pilot.press(*["backspace"] * 3, "9", "enter", "a", "y", "5", "k")
            await self.shows(app, pilot, "will be trained to its end")
            await pilot.press("d")
            await self.shows(app, pilot, "Cut recipe 1?")
            await pilot.press("y")
            await self.until(pilot, lambda: app.state.snapshot.runs_of(1)[0].text == "cut by hand")
            await pilot.press("4")
            await self.shows(app, pilot, "cut at")
            await pilot.press("x", "y")
            await self.until(pilot, lambda: app.state.snapshot.search.state == "stopped")

    async def test_exports_are_written_and_named(self) -> None:
        workspace = self.searched()
        async with self.running(workspace) as (app, pilot):
            for view, names in (("4", [
                    "search-1-ranking.csv", "search-1-ranking.svg", "search-1-ranking.pdf"
            ]), ("3", ["search-1-curves.svg", "search-1-curves-data.csv"])):
                await pilot.press(view, "e")
                await self.shows(app, pilot, "Written: " + names[0].rsplit(".", 1)[0])
                for name in names:
                    self.assertTrue((workspace.exports / name).exists(), name)

    async def test_a_recipe_becomes_the_base(self) -> None:
        workspace = self.searched()
        async with self.running(workspace) as (app, pilot):
            await pilot.press("4", "r")
            await self.until(pilot, lambda: app.view == "sheet")
            s = app.state.snapshot
            assert s is not None
            leader = s.recipes[s.ranking.rows[0].recipe].recipe
            await self.until(pilot, lambda: app.state.draft.space.base == leader)

    async def test_the_cursor_stays_on_its_recipe_when_the_order_changes(self) -> None:
        workspace = self.searched()
        async with self.running(workspace) as (app, pilot):
            await pilot.press("4", "down", "down")
            await pilot.pause()
            from dataclasses import replace

            s = app.state.snapshot
            assert s is not None
            ladder = app.query_one("#ladder", LadderView)
            await self.until(pilot, lambda: ladder.query_one(Rungs).cursor == 2)
            app.context.feed.end(
            )  # no look at the journal puts the order right between two lines of this test
            app.context.feed.join(20)
            chosen = ladder.selected()
            rows = (s.ranking.rows[2], *s.ranking.rows[:2], *s.ranking.rows[3:])
            app.post_message(
                messages.SnapshotTaken(replace(s, ranking=replace(s.ranking, rows=rows))))
            await self.until(pilot, lambda: ladder.query_one(Rungs).cursor == 0)
            self.assertEqual(ladder.selected(), chosen)
            app.post_message(messages.SnapshotTaken(
                s))  # and back: it has not become the leader's cursor meanwhile
            await self.until(pilot, lambda: ladder.query_one(Rungs).cursor == 2)
            self.assertEqual(ladder.selected(), chosen)

    async def test_what_is_on_its_way_when_the_screen_is_taken_down_does_no_harm(self) -> None:
        async with self.running(self.searched()) as (app, pilot):
            s = app.state.snapshot
            assert s is not None
            app.context.feed.end()
            await app.screen.query(ContentSwitcher).remove()
            for message in (messages.RecipePointed(1), messages.SnapshotTaken(s),
                            messages.ViewWanted("ladder"), messages.Noted("late")):
                app.post_message(message)
            await pilot.pause()

    async def test_what_was_refused_is_said_while_the_search_runs(self) -> None:
        workspace = self.searched()
        async with self.running(workspace) as (app, pilot):
            s = app.state.snapshot
            assert s is not None
            app.context.feed.end()
            app.context.feed.join(20)
            running = replace(s, search=replace(s.search, state="running"))
            for kind, shown in (("refused", True), ("added", False), ("afresh", True)):
                events = (EventRecord(1, 0.0, kind, "there is no recipe [b]99"),)
                app.post_message(messages.SnapshotTaken(replace(running, events=events)))
                await self.until(pilot, lambda e=events: app.state.snapshot.events == e)
                await self.until(pilot,
                                 lambda w=shown: ("there is no recipe [b]99" in screen(app)) == w)

    async def test_an_order_that_comes_with_the_key_does_not_take_the_cursor_back(self) -> None:
        workspace = self.searched()
        async with self.running(workspace) as (app, pilot):
            await pilot.press("4", "down")
            rungs = app.query_one(Rungs)
            await self.until(pilot, lambda: rungs.cursor == 1)
            rungs.action_move(
                1)  # the key, and the snapshot before any message of the first is handled
            app.query_one(LadderView).show()
            self.assertEqual(rungs.cursor, 2)


class Fluid(AppCase):
    async def test_a_drawing_that_takes_long_keeps_no_key_waiting(self) -> None:
        workspace = self.searched()
        drawn, allowed = Lines.draw, threading.Event()

        def slow(lines: Lines, width: int, height: int) -> Rows:
            allowed.wait(30)
            return drawn(lines, width, height)

        async with self.running(workspace) as (app, pilot):
            await self.shows(app, pilot, "budget spent")
            with mock.patch.object(Lines, "draw", slow), mock.patch.object(field, "_MANY", 0):
                await pilot.press("b")
                self.assertIn("budget spent", screen(app),
                              "the last drawing stays until the new one is there")
                allowed.set()
                await self.shows(app, pilot, "epoch of each run")
                await pilot.press("b",
                                  "b")  # what is asked for while it is drawn is drawn after that
                await self.shows(app, pilot, "epoch of each run")
                await pilot.press("left")
                await self.shows(app, pilot, "runs that got there")
                await pilot.resize_terminal(100, 30)
                await self.until(pilot, lambda: not app.query_one(Lines)._drawing)
                await self.shows(app, pilot, "epoch of each run")
                await pilot.press("b")
                await self.shows(app, pilot, "what each other run came to")
                self.assertNotIn("cut or waiting", screen(app))


class Frame(AppCase):
    async def test_every_view_is_usable_in_a_small_and_a_large_window(self) -> None:
        workspace = self.searched()
        for size in ((80, 24), (200, 60), (60, 16)):
            async with self.running(workspace, size) as (app, pilot):
                for key, name, _ in VIEWS:
                    await pilot.press(key)
                    await pilot.pause()
                    with self.subTest(size=size, view=name):
                        self.assertEqual(app.view, name)
                        self.assertIn("q quit", screen(app))

    async def test_the_theme_turns_and_nothing_else_changes(self) -> None:
        workspace = self.searched()
        async with self.running(workspace) as (app, pilot):
            await pilot.press("4")
            await self.shows(app, pilot, "differs from the leader")
            await pilot.pause(0.3)
            before = screen(app)
            await pilot.press("t")
            await pilot.pause(0.3)
            self.assertEqual(app.theme, LIGHT)
            self.assertEqual(screen(app), before)

    async def test_help_explains_the_view_in_front(self) -> None:
        workspace = self.searched()
        async with self.running(workspace) as (app, pilot):
            for key, name, question in VIEWS:
                await pilot.press(key, "question_mark")
                await self.until(pilot, lambda: isinstance(app.screen, Help))
                self.assertIn(question[:20], screen(app), name)
                await pilot.press("escape")

    async def test_the_palette_finds_actions_of_other_views(self) -> None:
        workspace = self.searched()
        async with self.running(workspace) as (app, pilot):
            await pilot.press("1", "ctrl+p")
            await pilot.pause(0.3)
            await pilot.press(*"budget")
            await self.shows(app, pilot, "Draw runs against the budget")
            await pilot.press("down", "enter")
            await self.until(pilot, lambda: app.view == "field")

    async def test_errors_are_shown_with_place_and_remedy_as_plain_text(self) -> None:
        async with self.running(Workspace.create(self.folder / "w")) as (app, pilot):
            app.post_message(
                messages.ErrorRaised(DataError("[bold]x[/bold] \x1b[31m", "here", "do this")))
            await self.shows(app, pilot, "[bold]x[/bold] ␛[31m")
            self.assertIn("do this", screen(app))

    async def test_what_cannot_be_read_at_the_start_stays_said(self) -> None:
        workspace = ring_workspace(self.folder / "w")
        workflows.save_draft(workspace, ring_search())
        (workspace.data(workspace.data_names()[0]) / "data.json").write_text("{")
        async with self.running(workspace) as (app, pilot):
            await pilot.pause(0.2)
            self.assertIn("is damaged", screen(app))

    async def test_who_goes_somewhere_before_the_workspace_is_read_stays_there(self) -> None:
        reading, read = threading.Event(), workflows.draft_data
        with mock.patch.object(workflows, "draft_data", lambda w: (reading.wait(30), read(w))[1]):
            app = AxiarchApp(self.searched())
            async with app.run_test(size=(140, 42)) as pilot:
                self.addCleanup(reading.set)
                await pilot.press("2")
                self.assertIn("Reading the workspace.", screen(app))
                app.post_message(
                    messages.ErrorRaised(DataError("something went wrong", "here", "do this")))
                await self.shows(app, pilot, "something went wrong")
                reading.set()
                await self.until(pilot,
                                 lambda: app.state.looked and app.state.snapshot is not None)
                await pilot.pause(0.2)
                self.assertEqual(app.view, "sheet")
                self.assertIn("something went wrong", screen(app))

    async def test_names_from_files_are_not_markup(self) -> None:
        table = write_csv(self.folder / "t.csv", ["[red]x[/]", "y" * 60, "place"],
                          [[row[0], row[1], row[3]] for row in ring_rows()])
        workspace = Workspace.create(self.folder / "w")
        workflows.add_table(workspace, table)
        async with self.running(workspace, (80, 24)) as (app, pilot):
            await self.shows(app, pilot, "[red]x[/]")


class Tables(unittest.TestCase):
    def test_no_key_means_two_things_in_one_view(self) -> None:
        for _, view, _ in VIEWS:
            keys = [a.key for a in actions_of(view)]
            self.assertEqual(len(set(keys)), len(keys), view)

    def test_every_action_is_a_function_of_its_name(self) -> None:
        for action in ACTIONS:
            if not action.name.startswith("go_") and action.name != "quit":
                self.assertEqual(action.do.__name__, action.name)

    def test_every_view_is_explained(self) -> None:
        self.assertEqual(set(ABOUT), {name for _, name, _ in VIEWS})
        self.assertEqual(set(TERMS), set(ABOUT))

    def test_text_stands_out_by_at_least_four_and_a_half_to_one(self) -> None:
        for name, palette in PALETTES.items():
            for role in ("ink", "faint", "lead", "second", "train", "warn", "glow"):
                for ground in ("ground", "select"):
                    wanted = 4.5 if ground == "ground" else 4.0
                    with self.subTest(theme=name, role=role, ground=ground):
                        self.assertGreaterEqual(_contrast(palette[role], palette[ground]), wanted)

    def test_both_themes_name_the_same_roles(self) -> None:
        self.assertEqual(set(PALETTES[DARK]), set(PALETTES[LIGHT]))


def _contrast(a: str, b: str) -> float:
    """Return the contrast of two colours after WCAG 2.1."""
    def luminance(colour: str) -> float:
        parts = [int(colour[i : i + 2], 16) / 255 for i in (1, 3, 5)]
        linear = [c / 12.92 if c <= 0.03928 else ((c + 0.055) / 1.055) ** 2.4 for c in parts]
        return 0.2126 * linear[0] + 0.7152 * linear[1] + 0.0722 * linear[2]

    high, low = sorted((luminance(a), luminance(b)), reverse=True)
    return (high + 0.05) / (low + 0.05)


class Farewell(AppCase):
    async def test_leaving_a_running_search_says_that_it_goes_on(self) -> None:
        workspace = self.searched()
        async with self.running(workspace) as (app, _):
            with mock.patch.object(app.context, "state") as state:
                state.snapshot.search.state = "running"
                self.assertIn("keeps running in the background", farewell(app.context))
            self.assertEqual(farewell(app.context), "")


if __name__ == "__main__":
    unittest.main()
