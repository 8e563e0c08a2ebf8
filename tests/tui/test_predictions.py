"""The view of predictions: what is drawn, what the keys do, and that test rows stay sealed until
they are opened.
"""

from __future__ import annotations

import json
import unittest

import numpy as np

from axiarch import workflows
from axiarch.insight.predicted import Run, summary
from axiarch.tui.plots import predicted
from axiarch.tui.plots.runs import row_width
from tests.support import write_csv
from tests.tui.test_app import AppCase, screen


class Drawings(unittest.TestCase):
    def rows(self, classes: int) -> dict[str, object]:
        rng = np.random.default_rng(0)
        true = rng.integers(0, classes, 200)
        made = rng.dirichlet(np.ones(classes), 200)
        return summary([Run(0, made, true), Run(0, made, true)], classes)

    def test_every_drawing_keeps_to_its_room_whatever_the_names(self) -> None:
        for classes in (2, 5, 40):
            names = ["a" * 70, "[red]x[/]", *(f"class {i}" for i in range(classes - 2))]
            found = self.rows(classes)
            for width, height in ((30, 8), (78, 18), (140, 40)):
                for drawn in (predicted.confusion(found, names, 0, width, height),
                              predicted.confusion(found, names, 2, width, height),
                              predicted.by_class(found, names, width, height),
                              predicted.calibration(found, width, height),
                              predicted.mistakes(found, names, "validation", width, height)):
                    with self.subTest(classes=classes, width=width):
                        if classes == 2:
                            self.assertLessEqual(max(map(row_width, predicted.precision_recall(
                                found, names[1], width, height))), width)
                        self.assertLessEqual(max(map(row_width, drawn), default=0), width)
                        self.assertLessEqual(len(drawn), height + 1)

    def test_the_matrix_says_what_it_counts(self) -> None:
        true = np.array([0, 0, 0, 1])
        made = np.eye(2)[[0, 0, 1, 1]] * 0.8 + 0.1
        found = summary([Run(0, made, true)], 2)
        text = [
            "".join(t
                    for t, _ in row)
            for row in predicted.confusion(found, ["ash", "elm"], 0, 60, 12)
        ]
        self.assertRegex(text[2], r"ash\s+2\s+1")
        self.assertRegex(text[3], r"elm\s+0\s+1")
        self.assertIn("33.3 % of ash is predicted as elm", "\n".join(text))
        text = [
            "".join(t
                    for t, _ in row)
            for row in predicted.confusion(found, ["ash", "elm"], 2, 60, 12)
        ]
        self.assertRegex(text[2], r"ash\s+100(\.0)? %\s+50(\.0)? %")

    def test_amounts(self) -> None:
        rng = np.random.default_rng(1)
        true = rng.normal(size=(300, 2)) * [3, 1e6]
        found = summary([Run(0, true + rng.normal(size=true.shape), true)], 0)
        for width, height in ((40, 10), (100, 20)):
            for i, name in enumerate(("x", "y" * 80)):
                pairs = found["points"][i]
                for drawn in (predicted.scatter(pairs, name, width, height),
                              predicted.in_order(pairs, name, width, height),
                              predicted.residuals(pairs, name, width, height),
                              predicted.furthest(found, ["x", "y"], "test", width, height),
                              predicted.errors(found, ["x", name], width)):
                    self.assertLessEqual(max(map(row_width, drawn)), width)

    def test_the_dot_stands_on_its_interval(self) -> None:
        text = "".join(t for t, _ in predicted.interval(50, 20, 80, 10))
        self.assertEqual(text, "  ───●─── ")
        self.assertEqual("".join(t for t, _ in predicted.interval(100, 100, 100, 10)), "         ●")


class View(AppCase):
    async def test_from_the_ladder_to_predictions_the_seal_and_a_model(self) -> None:
        workspace = self.searched()
        async with self.running(workspace) as (app, pilot):
            leader = app.state.open_recipe
            await pilot.press("6")
            await self.shows(app, pilot, f"Recipe {leader} on the validation rows: accuracy")
            found = workflows.judge_recipe(workspace, app.state.snapshot, leader,
                                           inputs=True)["summary"]
            self.assertEqual(app.state.predictions[1, leader, "validation"], found)
            for text in ("true ↓", "precision", "predicted wrong", "share that is right"):
                self.assertIn(text, screen(app))
            await pilot.press("a")
            await self.shows(app, pilot, "shares of the true class")
            await self.shows(app, pilot, "false positives")
            await pilot.press("a")
            await self.shows(app, pilot, "a missed out costs 5 x a false alarm")
            await pilot.press("b")
            await self.shows(app, pilot, f"Recipe {leader} on the training rows: accuracy")
            await self.shows(app, pilot, "Validation ")
            await pilot.press("b")
            await self.shows(app, pilot, "The test rows are sealed for this recipe")
            self.assertEqual(workflows.openings(workspace), ())
            await pilot.press("ctrl+o")
            await self.shows(app, pilot, f"This scores recipe {leader} of search 1")
            await pilot.press(*"final", "enter")
            await self.shows(app, pilot, "Opened and recorded")
            await self.shows(app, pilot, f"Recipe {leader} on the test rows: accuracy")
            (opening,) = workflows.openings(workspace)
            self.assertEqual((opening.recipe, opening.reason), (leader, "final"))
            self.assertEqual(app.state.predictions[1, leader, "test"],
                             json.loads(opening.scores)["summary"])
            await pilot.press("K")
            await self.shows(app, pilot, f"Keep recipe {leader} as a model?")
            await pilot.press(*"best: good", "enter")
            await self.shows(app, pilot, "Kept 'best'")
            (model,) = workflows.kept_models(workspace)
            self.assertEqual((model.name, model.note, model.recipe), ("best", "good", leader))
            await pilot.press("e")
            await self.shows(app, pilot, "Written:")
            self.assertEqual({p.suffix for p in workspace.exports.iterdir()},
                             {".svg", ".pdf", ".csv"})
            table = write_csv(self.folder / "new.csv", ["x", "y", "note"],
                              [[0, 0, "=1"], [3, 3, "b"]])
            await pilot.press("P")
            await self.shows(app, pilot, "type a path")
            await pilot.press(*str(table), "enter")
            await self.shows(app, pilot, "2 rows predicted")
            await self.shows(app, pilot, "1 input column missing from the file: side")
            written = (workspace.exports / "new-predicted.csv").read_text()
            self.assertIn("'=1", written)
            self.assertEqual(len(written.splitlines()), 3)
            self.assertEqual([p.name for p in workspace.folder.iterdir() if p.name.startswith(".")],
                             [])
            await pilot.press("R")
            await self.until(pilot, lambda: (workspace.exports / "search-1-report.pdf").exists())
            await pilot.press("b", "right_square_bracket")
            second = app.state.open_recipe
            self.assertNotEqual(second, leader)
            await self.shows(app, pilot, f"Recipe {second} on the validation rows")

    async def test_a_recipe_is_confirmed_on_fresh_seeds(self) -> None:
        workspace = self.searched()
        async with self.running(workspace) as (app, pilot):
            leader = app.state.open_recipe
            await pilot.press("4", "F")
            await self.shows(app, pilot, f"Confirm recipe {leader} on how many fresh seeds?")
            await pilot.press("2", "enter")
            await self.shows(app, pilot, f"On 2 fresh seeds recipe {leader} of search 1")
            await self.until(pilot, lambda: workspace.search_numbers() == [1, 2])

    async def test_in_a_small_window_drawings_take_turns(self) -> None:
        async with self.running(self.searched(), (80, 24)) as (app, pilot):
            await pilot.press("6")
            await self.shows(app, pilot, "true ↓")
            for text in ("precision", "predicted wrong", "share that is right",
                         *("the strongest first", ) * 3, "by more than chance", "true ↓"):
                await pilot.press("space")
                await self.shows(app, pilot, text)

    async def test_a_recipe_without_a_checkpoint_says_so(self) -> None:
        import shutil

        workspace = self.searched()
        shutil.rmtree(workspace.search(1) / "checkpoints")
        async with self.running(workspace) as (app, pilot):
            await pilot.press("6")
            await self.shows(app, pilot, "has left no checkpoint")


if __name__ == "__main__":
    unittest.main()
