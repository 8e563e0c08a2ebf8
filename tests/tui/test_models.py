"""Models in the application: kept, averaged, compared, used, removed; trainings of other origin;
the last training.
"""

from __future__ import annotations

import unittest

from axiarch import workflows
from axiarch.tui.widgets.models import Models
from tests.support import write_csv
from tests.tui.test_app import AppCase, screen


class List(AppCase):
    async def test_everything_that_is_done_with_a_model_is_a_key(self) -> None:
        workspace = self.searched()
        async with self.running(workspace) as (app, pilot):
            leader = app.state.open_recipe
            await pilot.press("4", "M")
            await self.shows(app, pilot, "No model has been kept yet")
            await pilot.press("escape", "K")
            await self.shows(app, pilot, f"Keep recipe {leader} as a model?")
            await pilot.press(*"first: a note", "enter")
            await self.shows(app, pilot, "Kept 'first'")
            await pilot.press("A")
            await self.shows(app, pilot, f"the average of recipe {leader}'s seeds")
            await pilot.press("enter")
            await self.shows(app, pilot, "statistically tied with the best of them")
            snapshot = workflows.snapshot_of(workspace)
            other = snapshot.ranking.rows[-1].recipe
            workflows.keep_model(workspace, snapshot, other, "[red]other[/]")

            await self.listed(app, pilot)
            await pilot.press("m", "down")
            for text in ("[red]other[/]", "a note", f"recipe {leader} of search 1",
                         "learning rate"):
                await self.shows(app, pilot, text)
            await pilot.press("v")
            await self.shows(app, pilot, "the same to the last bit")

            await self.listed(app, pilot)
            await pilot.press("x")
            await self.shows(app, pilot, "It differs from our own predictions by")
            self.assertEqual(len(list(workspace.exports.glob("*.onnx"))), 1)

            table = write_csv(self.folder / "new.csv", ["x", "y", "side"],
                              [[0, 0, "a"], [3, 3, "b"]])
            await self.listed(app, pilot)
            await pilot.press("p")
            await self.shows(app, pilot, "type a path")
            await pilot.press(*str(table), "enter")
            await self.shows(app, pilot, "2 rows predicted")

            await self.listed(app, pilot)
            await pilot.press("d")
            await self.shows(app, pilot, "Remove the model")
            await pilot.press("y")
            await self.shows(app, pilot, "freed.")
            self.assertEqual([m.name for m in workflows.kept_models(workspace)], ["first"])

            await self.listed(app, pilot)
            await pilot.press("c")
            await self.shows(app, pilot, "Train how many epochs from the weights of first?")
            await pilot.press("2", "enter")
            await self.until(
                pilot,
                lambda: app.state.snapshot is not None and app.state.snapshot.search.number == 2)
            await self.until(pilot, lambda: app.state.snapshot.over)
            self.assertEqual(workflows.snapshot_of(workspace, 2).epochs, 2)

    async def listed(self, app, pilot) -> None:  # type: ignore[no-untyped-def]
        await pilot.press("M")
        await self.until(pilot, lambda: isinstance(app.screen, Models))
        await self.shows(app, pilot, "mark to compare")

    async def test_a_model_that_cannot_be_used_says_why(self) -> None:
        workspace = self.searched()
        workspace.models.mkdir(exist_ok=True)
        (workspace.models / "bad.safetensors").write_bytes(b"nothing")
        async with self.running(workspace, (80, 24)) as (app, pilot):
            await pilot.press("4")
            await self.listed(app, pilot)
            await self.shows(app, pilot, "bad: cannot be used")
            await pilot.press("v")
            await self.shows(app, pilot, "the model cannot be read")


class Others(AppCase):
    async def test_trainings_of_other_origin_stand_on_the_ladder_marked(self) -> None:
        workspace = self.searched()
        rows = [[i, 0.9 - i / 10, 0.8 - i / 10, "7 [red]layers"] for i in range(1, 5)]
        table = write_csv(self.folder / "old.csv",
                          ["epoch", "training loss", "validation loss", "net"], rows)
        async with self.running(workspace) as (app, pilot):
            await pilot.press("4", "I")
            await self.shows(app, pilot, "type a path")
            await pilot.press(*str(table), "enter")
            await self.shows(app, pilot, "1 training of other origin ranked in search 1")
            await self.until(pilot,
                             lambda: any(r.origin for r in app.state.snapshot.recipes.values()))
            await self.shows(app, pilot, "trained elsewhere, old.csv: net 7 [red]layers")
            self.assertIn("its losses are as given", screen(app).replace("\n", " "))

    async def test_the_last_training_takes_all_open_rows(self) -> None:
        workspace = self.searched()
        async with self.running(workspace) as (app, pilot):
            leader = app.state.open_recipe
            await pilot.press("4", "L")
            await self.shows(app, pilot, f"Train recipe {leader} on training and validation rows")
            await pilot.press("1", "enter")
            await self.until(
                pilot, lambda: app.state.snapshot is not None and app.state.snapshot.search.number
                == 2 and app.state.snapshot.over)
            await pilot.press("4")
            await self.shows(app, pilot, "no loss here says how good it is")
            await pilot.press("6")
            await self.shows(app, pilot, "validation (trained on) rows")


if __name__ == "__main__":
    unittest.main()
