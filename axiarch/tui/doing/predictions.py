"""What a user does with predictions: turn them, choose rows, open the seal."""

from __future__ import annotations

from dataclasses import replace
from typing import Any

from axiarch import workflows
from axiarch.data.dataset import Dataset
from axiarch.tui.doing.context import Context
from axiarch.tui.doing.work import score_test_rows
from axiarch.tui.views.predictions import PredictionsView
from axiarch.tui.widgets.dialogs import Asked
from axiarch.workflows.snapshot import Snapshot


def part(c: Context) -> None:
    """Show the predictions on other rows."""
    c.widget(PredictionsView).turn_part()
    c.show()


def page(c: Context) -> None:
    """Show the next drawing of the predictions."""
    c.widget(PredictionsView).turn_page()


def reading(c: Context) -> None:
    """Read the confusion matrix another way."""
    c.widget(PredictionsView).turn_reading()


def open_seal(c: Context) -> None:
    """Ask for the reason, then open the seal on the record."""
    s = c.state.snapshot
    data = s.dataset if s is not None and c.view == "predictions" else c.state.dataset
    if data is not None:
        c.ask(
            Asked(
                f"Open the {data.rows['test']} sealed test rows of {data.name}?",
                f"This scores {to_be_scored(c, data)[1]} on the test rows. Every opening "
                "is recorded with its "
                "time and reason, and the record is never erased: choosing by the test rows "
                "makes them useless "
                "for judging the choice.", "the reason, in a few words"),
            lambda reason: record_opening(c, data, reason) if reason else None)


def to_be_scored(c: Context, data: Dataset) -> tuple[int, str]:
    """Return the recipe that an opening scores, 0 for none, and what is scored in words."""
    s, recipe = c.state.snapshot, c.state.open_recipe
    if s is None or not recipe or s.dataset.fingerprint != data.fingerprint or not s.curves_of(
            recipe):
        return 0, "the baseline and a linear model"
    return recipe, (f"recipe {recipe} of search {s.search.number}, the baseline and a linear "
                    "model")


def record_opening(c: Context, data: Dataset, reason: str) -> None:
    recipe, _ = to_be_scored(c, data)
    c.say(("Recording the opening, then scoring the test rows.", "ink"))
    score_test_rows(c, data, reason, c.state.snapshot if recipe else None, recipe)


def forget_predictions(c: Context, snapshot: Snapshot) -> None:
    """Forget predictions that training or an opening of the seal has overtaken."""
    before = c.state.snapshot
    if before is None or before.search.number != snapshot.search.number:
        return
    opened = before.openings != snapshot.openings
    kept = {
        key: found
        for key, found in c.state.predictions.items()
        if key[0] != snapshot.search.number or (before.curves_of(key[1]) == snapshot.curves_of(
            key[1]) and not (opened and key[2] == "test"))
    }
    c.state = replace(c.state, predictions=kept)


def on_test_rows(c: Context, recipe: int) -> dict[str, Any] | str:
    """Return what the last opening of the seal for a recipe found."""
    s = c.state.snapshot
    for opening in reversed(s.openings if s else ()):
        score = workflows.score_of(opening)
        if s is not None and score and (opening.search, opening.recipe) == (s.search.number,
                                                                            recipe):
            return score.summary
    return ("The test rows are sealed for this recipe. ctrl+o opens them, with a reason, on "
            "the record.")
