"""What has happened is taken in: one function a message."""

from __future__ import annotations

from dataclasses import replace

from axiarch import workflows
from axiarch.errors import AxiarchError
from axiarch.text import step_text
from axiarch.tui import messages
from axiarch.tui.doing.context import Context
from axiarch.tui.doing.predictions import forget_predictions, on_test_rows
from axiarch.tui.doing.recipes import fresh_marks, say_whether_it_holds
from axiarch.tui.doing.work import forecast_soon, foresee, guard, predict, times_opened
from axiarch.tui.views.ladder import LadderView
from axiarch.tui.views.predictions import PredictionsView
from axiarch.tui.views.strips import StripsView
from axiarch.tui.widgets.frame import Trail


def snapshot_taken(c: Context, message: messages.SnapshotTaken) -> None:
    """Show the search as it stands now."""
    forget_predictions(c, message.snapshot)
    c.show(snapshot=message.snapshot)
    if message.snapshot.search.number in c.confirming and message.snapshot.over:
        say_whether_it_holds(c, message.snapshot.search.number)
    if message.snapshot.over and c.foreseen != message.snapshot.search.number:
        c.foreseen = message.snapshot.search.number
        foresee(c)
    if c.state.marked:
        c.state = replace(c.state, marked=fresh_marks(c))


def error_raised(c: Context, message: messages.ErrorRaised) -> None:
    """Say what went wrong, where, and what to do; keys that waited for it are dropped."""
    c.pending.clear()
    e = message.error
    where = f"where: {e.where}" if e.where else ""
    c.say((e.what, "warn*"), (where, "faint"), (e.remedy, "ink"))


def noted(c: Context, message: messages.Noted) -> None:
    """Say what was done."""
    c.say((message.text, "second"))


def step_taken(c: Context, message: messages.StepTaken) -> None:
    """Say how far the work on data is."""
    if c.adding:
        c.say(
            (step_text(message.step, message.done, message.seconds), "ink"),
            ("Esc cancels", "faint"))


def view_wanted(c: Context, message: messages.ViewWanted) -> None:
    """Go to another view."""
    c.go(message.view)


def recipe_pointed(c: Context, message: messages.RecipePointed) -> None:
    """Name the recipe that keys act on now."""
    if c.view == "ladder":
        c.state = replace(c.state, recipe=message.recipe)
        c.widget(Trail).state = c.state


def recipe_opened(c: Context, message: messages.RecipeOpened) -> None:
    """Open one recipe."""
    c.state = replace(c.state, recipe=message.recipe)
    c.go("strips")


def predictions_wanted(c: Context, message: messages.PredictionsWanted) -> None:
    """Work out predictions, once; of test rows show what was found when the seal was opened."""
    key, s = (message.search, message.recipe, message.part), c.state.snapshot
    if s is None or s.search.number != message.search or key == c.predicting:
        return
    if message.part == "test":
        predictions_made(c, 
            messages.PredictionsMade(*key, on_test_rows(c, message.recipe)))
        return
    c.predicting = key
    predict(c, s, message.recipe, "train" if message.part == "train" else "validation")


def predictions_made(c: Context, message: messages.PredictionsMade) -> None:
    """Show predictions."""
    if message.key == c.predicting:
        c.predicting = None
    c.show(predictions={**c.state.predictions, message.key: message.found})


def effects_made(c: Context, message: messages.EffectsMade) -> None:
    """Show which knobs matter, if that search is still in front."""
    s = c.state.snapshot
    if s is not None and s.search.number == message.search:
        if c.widget(LadderView).panel == "":
            c.widget(LadderView).panel = message.found
        c.show()


def foreseen(c: Context, message: messages.Foreseen) -> None:
    """Keep what is expected of recipes, if these data are still in front."""
    if c.state.dataset is not None and c.state.dataset.fingerprint == message.data:
        c.show(foresight=message.foresight)


def draft_edited(c: Context, message: messages.DraftEdited) -> None:
    """Keep the draft and work out what it will take."""
    try:
        workflows.save_draft(c.workspace, message.draft)
    except AxiarchError as error:
        c.post(messages.ErrorRaised(error))
    c.show(draft=message.draft, forecast=None, forecast_error="")
    forecast_soon(c)


def forecast_made(c: Context, message: messages.ForecastMade) -> None:
    """Show the forecast, unless the draft has been edited since."""
    if message.draft == c.state.draft:
        c.show(forecast=message.forecast,
                   forecast_error=message.error.what if message.error else "")


def search_started(c: Context, message: messages.SearchStarted) -> None:
    """Watch the search that has been started."""
    c.state = replace(c.state, snapshot=None, recipe=0, searches=message.number)
    c.feed.watch(message.number)
    c.widget(StripsView).set_class(False, "over")
    c.go(message.view)


def data_added(c: Context, message: messages.DataAdded) -> None:
    """Show the data set that has been added."""
    dataset = guard(c, lambda: workflows.data_set(c.workspace, message.name))
    if dataset is not None:
        draft = workflows.load_draft(c.workspace, dataset)
        c.say()
        c.show(dataset=dataset,
                   draft=draft,
                   forecast=None,
                   openings=times_opened(c, dataset))
        draft_edited(c, messages.DraftEdited(draft))
        foresee(c)
        if not c.pending:
            c.go("data")
    if c.pending:
        c.pending.popleft()()


def seal_opened(c: Context, message: messages.SealOpened) -> None:
    """Say what was found on the test rows."""
    tests = {key: found for key, found in c.state.predictions.items() if key[2] != "test"}
    c.show(openings=message.times, predictions=tests)
    if c.view == "predictions":
        c.widget(PredictionsView).show_part("test")
    c.post(messages.Noted(f"Opened and recorded. {message.text}"))
