"""What the checks of the data propose, made and undone through the keys."""

from __future__ import annotations

import unittest

from axiarch import workflows
from axiarch.tui.app import AxiarchApp
from axiarch.tui.widgets.choices import Choices
from axiarch.tui.widgets.dialogs import Question
from tests.support import ring_workspace
from tests.tui.test_app import AppCase, screen


def findings(app: AxiarchApp) -> list[str]:
    data = app.state.dataset
    return [f.name for f in data.findings] if data else []


class Deciding(AppCase):
    async def test_a_leak_is_ignored_by_one_key_and_taken_in_again_by_another(self) -> None:
        workspace = workflows.open_workspace(self.folder / "w", create=True)
        lines = [f"{i},{i * 7 % 13},{'bc'[i % 3 == 0]}{i % 3 == 0},{'yes' if i % 3 == 0 else 'no'}"
                 for i in range(400)]
        (self.folder / "t.csv").write_text("\n".join(["when,x,code,y", *lines]))
        workflows.add_table(workspace, self.folder / "t.csv", target="y")
        async with self.running(workspace) as (app, pilot):
            await self.shows(app, pilot, "press ! for what to change")
            await pilot.press("exclamation_mark")
            await self.until(pilot, lambda: isinstance(app.screen, Choices))
            await self.shows(app, pilot, "ignored columns: none → code")
            await self.shows(app, pilot, "t is rebuilt.")
            await pilot.press("enter")
            await self.until(pilot, lambda: "leak" not in findings(app))
            await self.until(pilot, lambda: not app.context.adding)
            await pilot.press("Z")
            await self.until(pilot, lambda: "leak" in findings(app))
            await self.until(pilot, lambda: not app.context.adding)
            self.assertEqual(workspace.data_names(), ["t"])
            await pilot.press("Z")
            await self.shows(app, pilot, "No decision about these data")

    async def test_data_that_a_search_has_used_stay_and_are_gone_back_to(self) -> None:
        workspace = ring_workspace(self.folder / "w")
        workflows.wait(workspace, workflows.start_search(
            workspace, workflows.new_search(workflows.data_set(workspace), recipes=2), 1))
        async with self.running(workspace) as (app, pilot):
            await pilot.press("1")
            await pilot.press("b")
            await self.until(pilot, lambda: len(workspace.data_names()) == 2)
            await self.until(pilot, lambda: not app.context.adding)
            await pilot.press("Z")
            await self.until(pilot, lambda: app.state.dataset is not None
                             and not app.state.dataset.plan.split.folds)
            self.assertEqual(len(workspace.data_names()), 2)

    async def test_what_a_recipe_answers_is_put_on_the_sheet(self) -> None:
        workspace = workflows.open_workspace(self.folder / "w", create=True)
        lines = [f"{i * 7 % 131},{i * 11 % 17},{'rare' if i % 20 == 0 else 'common'}"
                 for i in range(600)]
        (self.folder / "t.csv").write_text("\n".join(["x,z,y", *lines]))
        workflows.add_table(workspace, self.folder / "t.csv", target="y")
        async with self.running(workspace) as (app, pilot):
            await self.shows(app, pilot, "imbalance")
            await pilot.press("exclamation_mark")
            await self.until(pilot, lambda: isinstance(app.screen, Choices))
            await self.shows(app, pilot, "Let all classes weigh alike")
            while "on the sheet: " not in screen(app):
                await pilot.press("down")
            await pilot.press("enter")
            await self.until(pilot, lambda: isinstance(app.screen, Question))
            await pilot.press("y")
            await self.until(pilot, lambda: app.state.draft is not None
                             and app.state.draft.space.varied("class_weights") is not None)


if __name__ == "__main__":
    unittest.main()
