"""Findings, remedies, trade-offs, lineage and notes through the keys."""

from __future__ import annotations

import math
import unittest

from textual.widgets import Input

from axiarch import workflows
from axiarch.recipes.searchfile import MethodChoice, SearchFile
from axiarch.recipes.space import space
from axiarch.text import loss
from axiarch.tui.plots.effects import draw_effects
from axiarch.tui.plots.tradeoffs import draw_tradeoffs
from axiarch.tui.views.ladder import LadderView
from axiarch.tui.views.strips_words import Telling
from axiarch.tui.widgets.choices import Choices
from axiarch.tui.widgets.dialogs import Asked, Message
from axiarch.tui.widgets.probe import ProbeScreen
from axiarch.workflows.telling import ExamplePrediction
from axiarch.workflows.trading import TradeOffs
from tests.support import ring_workspace
from tests.tui.test_app import AppCase, screen

SLOW = {"epochs": 12, "learning_rate": 1e-6, "patience": 0, "width": 16, "batch_size": 16}


class Improving(AppCase):
    async def test_a_bad_recipe_is_named_and_its_remedy_started_by_its_key(self) -> None:
        workspace = ring_workspace(self.folder / "w")
        slow = SearchFile("slow", "ring", space(SLOW), MethodChoice("grid"), 3, 2)
        workflows.wait(workspace, workflows.start_search(workspace, slow, 2))
        async with self.running(workspace) as (app, pilot):
            await pilot.press("5")
            await self.shows(app, pilot, "learning rate is too low: ! shows remedies")
            await pilot.press("!")
            await self.until(pilot, lambda: isinstance(app.screen, Choices))
            await self.shows(app, pilot, "Raise the learning rate, because")
            await pilot.press("escape")
            self.assertEqual(workspace.search_numbers(), [1])
            await pilot.press("!")
            await self.until(pilot, lambda: isinstance(app.screen, Choices))
            await pilot.press("enter")
            await self.until(pilot, lambda: workspace.search_numbers() == [1, 2])
            await self.until(pilot, lambda: app.state.snapshot is not None
                             and app.state.snapshot.search.number == 2
                             and app.state.snapshot.over)
            await pilot.press("4")
            await self.shows(app, pilot, "better than the base recipe")
            await pilot.press("T")
            await self.until(pilot, lambda: isinstance(app.screen, Message))
            await self.shows(app, pilot, "from recipe 1: the learning rate is too low")

    async def test_smaller_trainings_are_compared_with_full_ones(self) -> None:
        workspace = ring_workspace(self.folder / "w")
        rates = " | ".join(f"{1e-4 * 2 ** i:g}" for i in range(8))
        file = SearchFile("rates", "ring", space({**SLOW, "epochs": 3}, {"learning_rate": rates}),
                          MethodChoice("grid"), 3, 1)
        workflows.wait(workspace, workflows.start_search(workspace, file, 2))
        async with self.running(workspace) as (app, pilot):
            await pilot.press("4", "X")
            await self.until(pilot, lambda: isinstance(app.screen, Choices))
            self.assertNotIn("Smaller pictures", screen(app))
            await pilot.press("enter")
            await self.until(pilot, lambda: isinstance(app.screen, Message))
            await self.shows(app, pilot, "Among the best 8 recipes")
            await pilot.press("escape", "X")
            await self.until(pilot, lambda: isinstance(app.screen, Choices))
            await pilot.press("down", "down", "enter")
            await self.until(pilot, lambda: isinstance(app.screen, Message), 90)
            await self.shows(app, pilot, "layers 25.0 % as wide")

    async def test_a_remedy_is_put_on_the_sheet_and_undone(self) -> None:
        workspace = ring_workspace(self.folder / "w")
        slow = SearchFile("slow", "ring", space(SLOW), MethodChoice("grid"), 3, 2)
        workflows.wait(workspace, workflows.start_search(workspace, slow, 2))
        async with self.running(workspace) as (app, pilot):
            before = app.state.draft
            await pilot.press("5", "!")
            await self.until(pilot, lambda: isinstance(app.screen, Choices))
            await pilot.press("s")
            await self.shows(app, pilot, "learning rate: 1e-6 →")
            await pilot.press("y")
            await self.until(pilot, lambda: app.view == "sheet" and app.state.draft != before)
            draft = app.state.draft
            assert draft is not None
            self.assertIsNotNone(draft.space.varied("learning_rate"))
            await pilot.press("u")
            await self.until(pilot, lambda: app.state.draft == before)

    async def test_trade_offs_capacity_and_notes(self) -> None:
        async with self.running(self.searched()) as (app, pilot):
            await pilot.press("4", "o")
            await self.shows(app, pilot, "parameters →")
            self.assertIsInstance(app.query_one(LadderView).panel, TradeOffs)
            await pilot.press("space")
            await self.shows(app, pilot, "seconds of training →")
            await pilot.press("o")
            await self.shows(app, pilot, "place")
            await pilot.press("W")
            await self.shows(app, pilot, "Show the effects first")
            await pilot.press("N")
            await pilot.press(*"good", "enter")
            await self.shows(app, pilot, "The note on search 1, recipe")
            self.assertEqual([n.text for n in workflows.find_notes(app.context.workspace)],
                             ["good"])
            await pilot.press("N")
            await pilot.press(*"seed 2: odd", "enter")
            await self.shows(app, pilot, ", seed 2 is kept.")
            self.assertTrue(workflows.find_notes(app.context.workspace, "odd")[0].run)
            await pilot.press("N")
            await pilot.press(*"?odd", "enter")
            await self.shows(app, pilot, ", seed 2: odd")
            await pilot.press("escape")
            await pilot.press("Y")
            await self.shows(app, pilot, "ladder of capacity")
            assert app.state.draft is not None
            self.assertEqual(app.state.draft.method.name, "capacity")

    async def test_a_probe_is_cancelled_or_put_on_the_sheet_and_undone(self) -> None:
        workspace = ring_workspace(self.folder / "w")
        made = space({"epochs": 8, "width": 8, "batch_size": 16})
        workflows.save_draft(workspace, SearchFile("x", "ring", made, MethodChoice("grid"), 1, 1))
        async with self.running(workspace) as (app, pilot):
            await pilot.press("2", "p")
            await self.until(pilot, lambda: isinstance(app.screen, Choices))
            await pilot.press("enter")
            await self.until(pilot, lambda: app.context.adding)
            await pilot.press("escape")
            await self.shows(app, pilot, "Cancelled. Nothing was changed.")
            self.assertEqual(workflows.kept_probes(workspace), [])
            await pilot.press("escape", "p")
            await self.until(pilot, lambda: isinstance(app.screen, Choices))
            await pilot.press("enter")
            await self.until(pilot, lambda: isinstance(app.screen, ProbeScreen))
            await self.shows(app, pilot, "Enter puts it on the sheet: learning rate")
            await pilot.press("enter")
            await self.until(pilot, lambda: app.state.draft is not None
                             and app.state.draft.space.varied("learning_rate") is not None)
            await pilot.press("u")
            await self.until(pilot, lambda: app.state.draft is not None
                             and app.state.draft.space.varied("learning_rate") is None)
            self.assertEqual(len(workflows.kept_probes(workspace)), 1)
            await pilot.press("p")
            await self.until(pilot, lambda: isinstance(app.screen, Choices))
            await pilot.press("end", "enter")
            await self.shows(app, pilot, "Probes of this data set, newest first")
            await self.shows(app, pilot, "The training loss falls between rates")
            await pilot.press("enter")
            await self.until(pilot, lambda: isinstance(app.screen, ProbeScreen))
            await pilot.press("enter")
            await self.until(pilot, lambda: app.state.draft is not None
                             and app.state.draft.space.varied("learning_rate") is not None)

    async def test_every_epoch_is_listed_in_numbers(self) -> None:
        workspace = ring_workspace(self.folder / "w")
        slow = SearchFile("slow", "ring", space(SLOW), MethodChoice("grid"), 3, 2)
        workflows.wait(workspace, workflows.start_search(workspace, slow, 2))
        async with self.running(workspace) as (app, pilot):
            await pilot.press("5", "left", "enter")
            await self.shows(app, pilot, "Recipe 1, seed 1: every epoch in numbers")
            s = app.state.snapshot
            assert s is not None
            first, other = (s.curves[r.id] for r in s.runs_of(1))
            await self.shows(app, pilot, f" 7 {loss(first.validation[6]):>11}")
            await pilot.press("right")
            await self.shows(app, pilot, "Recipe 1, seed 2: every epoch in numbers")
            await self.shows(app, pilot, f" 7 {loss(other.validation[6]):>11}")
            await pilot.press("escape")
            await self.until(pilot, lambda: len(app.screen_stack) == 1)

    async def test_a_training_that_diverged_is_shown_in_every_view(self) -> None:
        workspace = ring_workspace(self.folder / "w")
        wild = SearchFile("wild", "ring", space({**SLOW, "optimiser": "sgd",
                                                 "learning_rate": 1000.0, "width": 64,
                                                 "depth": 4}), MethodChoice("grid"), 3, 1)
        workflows.wait(workspace, workflows.start_search(workspace, wild, 1))
        async with self.running(workspace) as (app, pilot):
            for view in "3456":
                await pilot.press(view)
            await pilot.press("5")
            await self.shows(app, pilot, "Training loss was not finite at step")
            await pilot.press("enter")
            await self.shows(app, pilot, "not finite  not finite  not finite")
        infinite = ExamplePrediction(3, "in", (("in", math.inf), ("out", math.nan)))
        self.assertFalse(infinite.right)
        for each in infinite, ExamplePrediction(3, 0.5, amount=math.inf):
            self.assertEqual("".join(text for text, _ in Telling()._said(each, 33)),
                             " row 3    ✗ no finite prediction ")

    async def test_a_probe_of_the_batch_size_asks_whose_memory(self) -> None:
        workspace = ring_workspace(self.folder / "w")
        made = space({"epochs": 8, "width": 8, "batch_size": 16})
        workflows.save_draft(workspace, SearchFile("x", "ring", made, MethodChoice("grid"), 1, 1))
        async with self.running(workspace) as (app, pilot):
            for amount in ("nonsense", "95 KiB"):
                await pilot.press("2", "p")
                await self.until(pilot, lambda: isinstance(app.screen, Choices))
                await pilot.press("down", "enter")
                await self.until(pilot, lambda: isinstance(app.screen, Asked))
                app.screen.query_one(Input).value = amount
                await pilot.press("enter")
                if amount == "nonsense":
                    await self.shows(app, pilot, "no amount of memory")
                    await pilot.press("escape")
            await self.until(pilot, lambda: isinstance(app.screen, ProbeScreen))
            await self.shows(app, pilot, ", 128, 144 fit 95 KiB")
            ((_, kept),) = workflows.kept_probes(workspace)
            self.assertIn("95 KiB (as given)", kept.verdict())

    async def test_what_usually_goes_wrong_is_mended_on_the_sheet(self) -> None:
        workspace = ring_workspace(self.folder / "w")
        made = space({"epochs": 8, "learning_rate": 0.5})
        workflows.save_draft(workspace, SearchFile("x", "ring", made, MethodChoice("grid"), 1, 1))
        async with self.running(workspace) as (app, pilot):
            await pilot.press("2")
            await self.shows(app, pilot, "far above what adam")
            await pilot.press("!")
            await self.until(pilot, lambda: isinstance(app.screen, Choices))
            await pilot.press("enter")
            await self.shows(app, pilot, "learning rate: 0.5 → 0.003")
            await pilot.press("y")
            await self.until(pilot, lambda: app.state.draft is not None
                             and app.state.draft.space.base["learning_rate"] == 0.003)

    async def test_rankings_of_other_kinds_are_shown(self) -> None:
        workspace = self.searched()
        file = workflows.snapshot_of(workspace).file
        more = SearchFile("more", "ring", file.space, MethodChoice("random", {"recipes": 14}), 8, 1)
        workflows.wait(workspace, workflows.start_search(workspace, more, 2))
        async with self.running(workspace) as (app, pilot):
            await pilot.press("4", "B")
            await self.shows(app, pilot, "Rank by which measure?")
            await pilot.press("enter")
            await self.shows(app, pilot, "By balanced accuracy recipe")
            await pilot.press("escape", "J")
            await self.shows(app, pilot, "Rank which searches together?")
            await pilot.press("enter")
            await self.shows(app, pilot, "in 2 searches")
            await pilot.press("escape", "G")
            await self.shows(app, pilot, "Would more rows help")
            await pilot.press("y")
            await self.shows(app, pilot, "rows is too few to train on")

    async def test_what_is_expected_stands_on_the_sheet(self) -> None:
        workspace = self.searched()
        file = workflows.snapshot_of(workspace).file
        more = SearchFile("more", "ring", file.space, MethodChoice("random", {"recipes": 14}), 8, 1)
        workflows.wait(workspace, workflows.start_search(workspace, more, 2))
        async with self.running(workspace) as (app, pilot):
            await self.until(pilot, lambda: app.state.foresight is not None)
            await pilot.press("2")
            await self.shows(app, pilot, "expected loss")


class Drawings(AppCase):
    async def test_no_size_breaks_them(self) -> None:
        workspace = self.searched()
        file = workflows.snapshot_of(workspace).file
        more = SearchFile("more", "ring", file.space, MethodChoice("random", {"recipes": 14}), 8, 1)
        workflows.wait(workspace, workflows.start_search(workspace, more, 2))
        s = workflows.snapshot_of(workspace)
        effects = workflows.explain(s)
        for width, height in ((140, 40), (80, 18), (40, 8), (200, 60)):
            for page in range(7):
                rows = draw_effects(effects, width, height, page)
                self.assertLessEqual(len(rows), height + 1)
            for cost in ("parameters", "time", "prediction"):
                draw_tradeoffs(TradeOffs(s, cost), width, height)
        self.assertIn("page", "".join(t for row in draw_effects(effects, 80, 18, 1)
                                      for t, _ in row))
        self.assertNotIn("\x1b", screen.__doc__ or "")


if __name__ == "__main__":
    unittest.main()
