"""The application: what has happened is taken in here, and what the user does is done."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from pathlib import Path
from typing import Any

from axiarch import workflows
from axiarch.data.dataset import Dataset
from axiarch.data.plan import DataPlan, FormatOverrides, parse_split, split_words
from axiarch.errors import AxiarchError
from axiarch.journal import inbox
from axiarch.journal.workspace import Workspace
from axiarch.plain import step_text
from axiarch.tui import messages
from axiarch.tui.actions import ACTIONS, VIEWS, Action
from axiarch.tui.doing import models
from axiarch.tui.palette import DARK, LIGHT
from axiarch.tui.quiet import be_quiet
from axiarch.tui.search import ActionFinder
from axiarch.tui.training import TrainingApp
from axiarch.tui.views.data import DataView
from axiarch.tui.views.field import FieldView
from axiarch.tui.views.ladder import LadderView
from axiarch.tui.views.predictions import PredictionsView
from axiarch.tui.views.sheet import SheetView
from axiarch.tui.views.strips import StripsView
from axiarch.tui.widgets.browser import Browser
from axiarch.tui.widgets.dialogs import Asked, Help, Question
from axiarch.tui.widgets.examples import Examples
from axiarch.tui.widgets.frame import Notice, Trail
from axiarch.workflows.watching import Snapshot

#: Actions that are plain functions, given the application.
DOING: dict[str, Callable[[TrainingApp], None]] = {
    "keep_model": models.keep_model, "keep_average": models.keep_average, "models": models.models,
    "last_training": models.last_training, "bring_in": models.bring_in}
_NAMES = tuple(name for _, name, _ in VIEWS)


class AxiarchApp(TrainingApp):
    """The full-screen application on one workspace."""

    TITLE = "Axiarch"
    _predicting: tuple[int, int, str] | None = None
    ENABLE_COMMAND_PALETTE = True
    COMMANDS = {ActionFinder}

    def on_mount(self) -> None:
        """Look at the workspace."""
        self._load()

    # -- what has happened -----------------------------------------------------------------------

    def on_snapshot_taken(self, message: messages.SnapshotTaken) -> None:
        """Show the search as it stands now."""
        self._forget_predictions(message.snapshot)
        self._show(snapshot=message.snapshot)
        if message.snapshot.search.number in self._confirming and message.snapshot.over:
            self._say_whether_it_holds(message.snapshot.search.number)
        if self._state.marked:
            self._state = replace(self._state, marked=self._fresh_marks())

    def _forget_predictions(self, snapshot: Snapshot) -> None:
        """Forget predictions that training or an opening of the seal has overtaken."""
        before = self._state.snapshot
        if before is None or before.search.number != snapshot.search.number:
            return
        opened = before.openings != snapshot.openings
        kept = {
            key: found
            for key, found in self._state.predictions.items()
            if key[0] != snapshot.search.number or (before.curves_of(key[1]) == snapshot.curves_of(
                key[1]) and not (opened and key[2] == "test"))
        }
        self._state = replace(self._state, predictions=kept)

    def on_error_raised(self, message: messages.ErrorRaised) -> None:
        """Say what went wrong, where, and what to do; keys that waited for it are dropped."""
        self._pending.clear()
        e = message.error
        where = f"where: {e.where}" if e.where else ""
        self.query_one(Notice).say((e.what, "warn*"), (where, "faint"), (e.remedy, "ink"))

    def on_noted(self, message: messages.Noted) -> None:
        """Say what was done."""
        self.query_one(Notice).say((message.text, "second"))

    def on_step_taken(self, message: messages.StepTaken) -> None:
        """Say how far the work on data is."""
        if self._adding:
            self.query_one(Notice).say(
                (step_text(message.step, message.done, message.seconds), "ink"),
                ("Esc cancels", "faint"))

    def on_view_wanted(self, message: messages.ViewWanted) -> None:
        """Go to another view."""
        self._go(message.view)

    def on_recipe_pointed(self, message: messages.RecipePointed) -> None:
        """Name the recipe that keys act on now."""
        if self.view == "ladder":
            self._state = replace(self._state, recipe=message.recipe)
            self.query_one(Trail).state = self._state

    def on_recipe_opened(self, message: messages.RecipeOpened) -> None:
        """Open one recipe."""
        self._state = replace(self._state, recipe=message.recipe)
        self._go("strips")

    def on_predictions_wanted(self, message: messages.PredictionsWanted) -> None:
        """Work out predictions, once; of test rows show what was found when the seal was opened."""
        key, s = (message.search, message.recipe, message.part), self._state.snapshot
        if s is None or s.search.number != message.search or key == self._predicting:
            return
        if message.part == "test":
            self.on_predictions_made(
                messages.PredictionsMade(*key, self._on_test_rows(message.recipe)))
            return
        self._predicting = key
        self._predict(s, message.recipe, "train" if message.part == "train" else "validation")

    def _on_test_rows(self, recipe: int) -> dict[str, Any] | str:
        """Return what the last opening of the seal for a recipe found."""
        s = self._state.snapshot
        for opening in reversed(s.openings if s else ()):
            score = workflows.score_of(opening)
            if s is not None and score and (opening.search, opening.recipe) == (s.search.number,
                                                                                recipe):
                return score.summary
        return ("The test rows are sealed for this recipe. ctrl+o opens them, with a reason, on "
                "the record.")

    def on_predictions_made(self, message: messages.PredictionsMade) -> None:
        """Show predictions."""
        if message.key == self._predicting:
            self._predicting = None
        self._show(predictions={**self._state.predictions, message.key: message.found})

    def on_draft_edited(self, message: messages.DraftEdited) -> None:
        """Keep the draft and work out what it will take."""
        try:
            workflows.save_draft(self._workspace, message.draft)
        except AxiarchError as error:
            self.post_message(messages.ErrorRaised(error))
        self._show(draft=message.draft, forecast=None, forecast_error="")
        self._forecast_soon()

    def on_forecast_made(self, message: messages.ForecastMade) -> None:
        """Show the forecast, unless the draft has been edited since."""
        if message.draft == self._state.draft:
            self._show(forecast=message.forecast,
                       forecast_error=message.error.what if message.error else "")

    def on_search_started(self, message: messages.SearchStarted) -> None:
        """Watch the search that has been started."""
        self._state = replace(self._state, snapshot=None, recipe=0, searches=message.number)
        self._feed.watch(message.number)
        self.query_one(StripsView).set_class(False, "over")
        self._go(message.view)

    def on_data_added(self, message: messages.DataAdded) -> None:
        """Show the data set that has been added."""
        dataset = self._guard(lambda: workflows.data_set(self._workspace, message.name))
        if dataset is not None:
            draft = workflows.load_draft(self._workspace, dataset)
            self.query_one(Notice).say()
            self._show(dataset=dataset,
                       draft=draft,
                       forecast=None,
                       openings=self._times_opened(dataset))
            self.on_draft_edited(messages.DraftEdited(draft))
            if not self._pending:
                self._go("data")
        if self._pending:
            self._pending.popleft()()

    # -- what the user does ----------------------------------------------------------------------

    def action_act(self, key: str) -> None:
        """Do what a key means in the view in front."""
        for action in ACTIONS:
            if action.key == key and (not action.views or self.view in action.views):
                self.perform(action)
                return

    def perform(self, action: Action) -> None:
        """Do one action of the table, in a view where it can be done."""
        name = action.name
        if action.views and self.view not in action.views:
            self._go(action.views[0])
        if name.startswith("go_"):
            self._go(name.removeprefix("go_"))
            return
        if name in DOING:
            DOING[name](self)
            return
        getattr(self, f"do_{name}")()

    def do_quit(self) -> None:
        """Leave."""
        self.exit(self._farewell())

    async def action_quit(self) -> None:
        """Leave."""
        self.do_quit()

    def _farewell(self) -> str:
        s = self._state.snapshot
        if s is not None and s.search.state in ("running", "preparing", "paused"):
            stays = "stays paused" if s.search.state == "paused" else ("keeps running in the "
                                                                       "background")
            return (f"Search {s.search.number} {stays}. To see it, open {self._workspace.folder} "
                    "again.")
        return ""

    def do_command_palette(self) -> None:
        """Find an action by words."""
        self.action_command_palette()

    def do_next_step(self) -> None:
        """Go on to the next view in the order of the work."""
        self._go(_NAMES[min(_NAMES.index(self.view) + 1, len(_NAMES) - 1)])

    def do_back(self) -> None:
        """End the work on data, close the notice, or go back to the view before."""
        notice = self.query_one(Notice)
        if self._adding:
            self._pending.clear()
            self._give_up.set()
        elif notice.display:
            notice.say()
        elif self._past:
            self._go(self._past.pop(), remember=False)

    def do_turn_theme(self) -> None:
        """Turn from dark to light or back."""
        self.theme = LIGHT if self.theme == DARK else DARK
        for each in self.query("*"):
            each.refresh()

    def do_explain(self) -> None:
        """Explain the view in front."""
        self.push_screen(Help(self.view))

    def do_open_file(self) -> None:
        """Ask for a table to open."""
        self.push_screen(Browser(Path.cwd(), workflows.recent_tables(self._workspace)),
                         self._open_file)

    def _open_file(self, answer: str | None) -> None:
        if answer:
            self._add(lambda on_progress: workflows.add_table(
                self._workspace, Path(answer).expanduser(), on_progress=on_progress).folder.name)

    def do_add_demo(self) -> None:
        """Add the demo data."""
        self._add(lambda _: workflows.data_set(workflows.make_demo(self._workspace.folder),
                                               "hive states").folder.name)

    def do_other_data(self) -> None:
        """Turn to the next data set of the workspace."""
        names, data = self._workspace.data_names(), self._state.dataset
        if data is not None and len(names) > 1 and data.folder.name in names:
            self.post_message(
                messages.DataAdded(names[(names.index(data.folder.name) + 1) % len(names)]))

    def do_examples(self) -> None:
        """Look at examples, a page at a time."""
        if self._state.dataset is not None:
            self.push_screen(Examples(self._state.dataset))

    def do_part(self) -> None:
        """Show the predictions on other rows."""
        self.query_one(PredictionsView).turn_part()
        self._show()

    def do_page(self) -> None:
        """Show the next drawing of the predictions."""
        self.query_one(PredictionsView).turn_page()

    def do_reading(self) -> None:
        """Read the confusion matrix another way."""
        self.query_one(PredictionsView).turn_reading()

    def do_open_seal(self) -> None:
        """Ask for the reason, then open the seal on the record."""
        s = self._state.snapshot
        data = s.dataset if s is not None and self.view == "predictions" else self._state.dataset
        if data is not None:
            self.push_screen(
                Asked(
                    f"Open the {data.rows['test']} sealed test rows of {data.name}?",
                    f"This scores {self._to_be_scored(data)[1]} on the test rows. Every opening "
                    "is recorded with its "
                    "time and reason, and the record is never erased: choosing by the test rows "
                    "makes them useless "
                    "for judging the choice.", "the reason, in a few words"),
                lambda reason: self._open_seal(data, reason) if reason else None)

    def _to_be_scored(self, data: Dataset) -> tuple[int, str]:
        """Return the recipe that an opening scores, 0 for none, and what is scored in words."""
        s, recipe = self._state.snapshot, self._state.open_recipe
        if s is None or not recipe or s.dataset.fingerprint != data.fingerprint or not s.curves_of(
                recipe):
            return 0, "the baseline and a linear model"
        return recipe, (f"recipe {recipe} of search {s.search.number}, the baseline and a linear "
                        "model")

    def do_shares(self) -> None:
        """Ask how the rows are split, and split them so."""
        data = self._state.dataset
        if data is not None:
            self.push_screen(
                Asked(
                    f"How are the rows of {data.name} split?",
                    "Shares of the rows for validation and test; the rest trains. With folds, "
                    "every open row validates once, as often as it is repeated. The seed fixes the "
                    "split.",
                    "validation 0.2, test 0.2, folds 5, repeats 2, seed 1",
                    split_words(data.plan.split)),
                lambda answer: self._redecide(
                    data, lambda: replace(data.plan, split=parse_split(answer, data.plan.split)))
                if answer else None)

    def _redecide(self, data: Dataset, decide: Callable[[], DataPlan]) -> None:
        """Make a data set anew by a plan that is still to be read from what was typed."""
        try:
            plan = decide()
        except AxiarchError as error:
            self.post_message(messages.ErrorRaised(error))
            return
        if plan != data.plan:
            self._add(lambda on_progress: workflows.redecide(self._workspace, data, plan,
                                                             on_progress).folder.name)

    def do_reread(self) -> None:
        """Ask how the file is written, and read it so."""
        data = self._state.dataset
        if data is not None and " between cells" in data.how:
            self.push_screen(
                Asked(
                    f"How is {data.source} written?",
                    f"It was read as {data.how}. Type only what is wrong; the rest is detected. "
                    "Separators: comma, semicolon, tab, bar, space, or any character.",
                    "separator semicolon, encoding windows-1252, decimal comma, header no",
                    str(data.plan.said)), lambda answer: self._redecide(
                        data, lambda: replace(data.plan, said=FormatOverrides.parse(answer)))
                if answer else None)

    def _open_seal(self, data: Dataset, reason: str) -> None:
        recipe, _ = self._to_be_scored(data)
        self.query_one(Notice).say(("Recording the opening, then scoring the test rows.", "ink"))
        self._score_test_rows(data, reason, self._state.snapshot if recipe else None, recipe)

    def on_seal_opened(self, message: messages.SealOpened) -> None:
        """Say what was found on the test rows."""
        tests = {key: found for key, found in self._state.predictions.items() if key[2] != "test"}
        self._show(openings=message.times, predictions=tests)
        if self.view == "predictions":
            self.query_one(PredictionsView).show_part("test")
        self.post_message(messages.Noted(f"Opened and recorded. {message.text}"))

    def do_ignore(self) -> None:
        """Ignore the column under the cursor, or use it again."""
        self._turn_decision("ignore")

    def do_aim(self) -> None:
        """Predict the column under the cursor."""
        self._turn_decision("aim")

    def do_also_aim(self) -> None:
        """Predict the column under the cursor too, or no longer."""
        self._turn_decision("also aim")

    def do_group(self) -> None:
        """Keep rows with equal values of the column under the cursor together, or not."""
        self._turn_decision("group")

    def do_as_text(self) -> None:
        """Keep the column under the cursor as text, or not."""
        self._turn_decision("as text")

    def do_fewer(self) -> None:
        """Train on a part of the rows, or on all again."""
        self._turn_decision("fewer")

    def do_smaller(self) -> None:
        """Shrink pictures further, or leave them as they are."""
        self._turn_decision("smaller")

    def do_gaps(self) -> None:
        """Fill the gaps of the column under the cursor another way."""
        self._turn_decision("gaps")

    def do_scaling(self) -> None:
        """Scale the column under the cursor another way."""
        self._turn_decision("scaling")

    def do_ordinal(self) -> None:
        """Take categories as ordered, or one by one."""
        self._turn_decision("ordinal")

    def do_folds(self) -> None:
        """Validate on folds, or on one part."""
        self._turn_decision("folds")

    def do_task(self) -> None:
        """Predict classes or an amount."""
        self._turn_decision("task")

    def do_order(self) -> None:
        """Split by the order of the column under the cursor, or not."""
        self._turn_decision("order")

    def do_pane(self) -> None:
        """Show another part of the data view where there is little room."""
        self.query_one(DataView).turn_pane()

    def do_dates(self) -> None:
        """Read dates in another order."""
        self._turn_decision("dates")

    def do_merge_case(self) -> None:
        """Take texts that differ only in case as equal, or not."""
        self._turn_decision("merge case")

    def do_equal_rows(self) -> None:
        """Keep rows with the same inputs together, or not."""
        self._turn_decision("equal rows")

    def do_marks(self) -> None:
        """Ask which texts mean a missing value in the column under the cursor."""
        data, name = self._state.dataset, self.query_one(DataView).column_name()
        if data is None or not name:
            return
        own = data.plan.treatment(name).missing
        known = next((c.missing for c in data.conversions if c.column == name), ())
        self.push_screen(
            Asked(
                f"Which texts or numbers mean a missing value in {name}?",
                "Separate them by commas, or type none: then only empty cells are missing. Texts "
                "replace the usual marks and those that were found; numbers alone are added to "
                "them.",
                "-999, unknown", ", ".join(own if own is not None else known) or "none"),
            lambda answer: self._mark_missing(data, name, answer) if answer else None)

    def _mark_missing(self, data: Dataset, name: str, answer: str) -> None:
        marks = () if answer == "none" else tuple(
            filter(None, (mark.strip() for mark in answer.split(","))))
        self._redecide(data, lambda: data.plan.treated(name, missing=marks))

    def _turn_decision(self, what: str, column: str = "") -> None:
        """Carry out a decision about a column, by default the one under the cursor; later if one
        is under way.
        """
        view = self.query_one(DataView)
        column = column or view.column_name()
        if self._adding:
            self._later(lambda: self._turn_decision(what, column))
            return
        data, plan = self._state.dataset, view.decided(what, column)
        if data is not None and plan is not None:
            self.query_one(Notice).say((f"rebuilding {data.name}", "faint"))
            self._add(lambda on_progress: workflows.redecide(self._workspace, data, plan,
                                                             on_progress).folder.name)

    def _later(self, what: Callable[[], None]) -> None:
        """Do something when the data set under way is there."""
        self._pending.append(what)
        waiting = len(self._pending)
        self.query_one(Notice).say(
            (f"The data set is still being rebuilt; {waiting} more "
             f"{'key waits' if waiting == 1 else 'keys wait'}. Esc cancels.", "ink"))

    def do_edit(self) -> None:
        """Edit the value under the cursor."""
        self.query_one(SheetView).edit()

    def do_vary(self) -> None:
        """Let the value under the cursor vary, or fix it."""
        self.query_one(SheetView).vary()

    def do_undo(self) -> None:
        """Undo the last edit."""
        self.query_one(SheetView).undo()

    def do_redo(self) -> None:
        """Redo what was undone."""
        self.query_one(SheetView).redo()

    def do_write_file(self) -> None:
        """Write the search on the sheet as a file."""
        draft = self._state.draft
        if draft is not None:
            path = self._workspace.exports / "search.toml"
            self._write([path], lambda force: [workflows.export_search(draft, path, force)])

    def do_start(self) -> None:
        """Start the search on the sheet."""
        if self._adding:
            self._later(self.do_start)
        elif self._state.draft is not None:
            self.query_one(Notice).say(("starting the search", "faint"))
            self._start()

    def do_train_once(self) -> None:
        """Train the base recipe once, and watch it."""
        if self._adding:
            self._later(self.do_train_once)
        elif self._state.draft is not None:
            self.query_one(Notice).say(("starting the training", "faint"))
            self._start(once=True)

    def do_pause(self) -> None:
        """Pause the search, or let it go on."""
        s = self._state.snapshot
        if s is None:
            return
        if s.search.state in ("running", "preparing"):
            self._steer(inbox.Pause())
        elif s.search.state == "paused":
            self._steer(inbox.Resume())
        elif s.search.state in ("stopped", "interrupted", "failed"):
            self._resume(s.search.number)

    def do_stop(self) -> None:
        """Ask, then stop the search."""
        s = self._state.snapshot
        if s is None or s.over:
            return
        training = sum(r.state == "training" for r in s.runs.values())
        self.push_screen(
            Question(
                f"Stop search {s.search.number}?",
                f"{s.ended_runs} of {s.expected_runs} runs have ended and are kept. {training} in "
                "training lose what they did since their last checkpoint, a few seconds. Press p "
                "to resume it later."
            ), lambda answer: self._steer(inbox.Stop()) if answer == "yes" else None)

    def do_older_search(self) -> None:
        """Look at the search before."""
        self._turn_to(-1)

    def do_newer_search(self) -> None:
        """Look at the search after."""
        self._turn_to(1)

    def _turn_to(self, by: int) -> None:
        s = self._state.snapshot
        numbers = self._workspace.search_numbers()
        if s is None or s.search.number not in numbers:
            return
        at = max(0, min(numbers.index(s.search.number) + by, len(numbers) - 1))
        self._state = replace(self._state, recipe=0)
        self._feed.watch(numbers[at])

    def do_axis(self) -> None:
        """Draw against budget or epochs."""
        self.query_one(FieldView).turn_axis()

    def do_open_recipe(self) -> None:
        """Open the recipe under the cursor."""
        recipe = self.query_one(LadderView).selected()
        if recipe:
            self.post_message(messages.RecipeOpened(recipe))

    def do_rebase(self) -> None:
        """Make the recipe in front the base on the sheet."""
        s = self._state.snapshot
        number = self.chosen()
        if s is None or number not in s.recipes:
            return
        recipe = s.recipes[number].recipe
        self._go("sheet")
        self.query_one(SheetView).rebase(recipe)
        self.post_message(
            messages.Noted(
                f"The base is recipe {number} of search {s.search.number} now; press u to undo."))

    def do_cursor_left(self) -> None:
        """Read the chart further back."""
        self._move_cursor(-1)

    def do_cursor_right(self) -> None:
        """Read the chart further on."""
        self._move_cursor(1)

    def _move_cursor(self, by: int) -> None:
        front = self.front()
        if isinstance(front, FieldView | StripsView):
            front.move(by)

    def do_previous_recipe(self) -> None:
        """Open the next better recipe."""
        self._show(recipe=self._state.beside(-1))

    def do_next_recipe(self) -> None:
        """Open the next worse recipe."""
        self._show(recipe=self._state.beside(1))

    def do_export(self) -> None:
        """Export what is in front."""
        s, place = self._state.snapshot, self._workspace.exports
        if s is None:
            return
        stem = place / f"search-{s.search.number}"
        ends = (".svg", ".pdf")
        if self.view == "predictions":
            self._export_predictions(s, stem)
        elif self.view in ("strips", "field"):
            recipe = self._state.open_recipe if self.view == "strips" else 0
            stem = stem.with_name(
                f"{stem.name}-recipe-{recipe}" if recipe else f"{stem.name}-curves")
            paths = [stem.with_name(stem.name + end) for end in ends]
            self._write([*paths, stem.with_name(f"{stem.name}-data.csv")], lambda force: [
                written for path in paths
                for written in workflows.export_curves(s, path, recipe, force)
            ])
        else:
            table, *charts = (stem.with_name(f"{stem.name}-ranking{end}")
                              for end in (".csv", *ends))
            self._write([table, *charts], lambda force: [
                workflows.export_ranking(s, table, force),
                *(workflows.export_chart(s, chart, force) for chart in charts)])

    def do_predict_file(self) -> None:
        """Ask for a file, then predict its rows with the network of a recipe."""
        s, recipe = self._state.snapshot, self.chosen()
        if s is None or recipe not in s.recipes:
            return

        def answered(path: str | None) -> None:
            if path:
                source = Path(path).expanduser()
                place = self._workspace.exports / f"{source.name.split('.')[0]}-predicted.csv"
                self.replacing([place], lambda force: self.predict_rows(
                    lambda on_progress: workflows.predict_with(self._workspace, s, recipe, source,
                                                               place, force, on_progress), place))

        self.push_screen(Browser(Path.cwd(), workflows.recent_tables(self._workspace)), answered)

    def do_report(self) -> None:
        """Write the report of the search in front, on the recipe that is open."""
        s = self._state.snapshot
        if s is None:
            return
        recipe = self.chosen()
        paths = [
            self._workspace.exports / f"search-{s.search.number}-report{end}"
            for end in (".html", ".pdf")
        ]
        self._write(paths, lambda force: [
            workflows.export_report(self._workspace, s, path, recipe, force) for path in paths])

    def _export_predictions(self, s: Snapshot, stem: Path) -> None:
        """Export the predictions in front."""
        recipe, part = self._state.open_recipe, self.query_one(PredictionsView).part
        found = self._state.predictions.get((s.search.number, recipe, part))
        if found is None or isinstance(found, str):
            self.post_message(messages.Noted("There are no predictions to export here yet."))
            return
        summary = found
        stem = stem.with_name(f"{stem.name}-recipe-{recipe}-{part}")
        paths = [stem.with_name(f"{stem.name}{end}") for end in (".svg", ".pdf")]
        self._write([*paths, stem.with_name(f"{stem.name}-data.csv")], lambda force: [
            written for path in paths
            for written in workflows.export_predictions(s, recipe, part, summary, path, force)])

    def _write(self, paths: list[Path], write: Callable[[bool], list[Path]]) -> None:
        """Write files, after asking where some of them are there already."""
        self.replacing(paths, lambda force: self._do(lambda: write(force)))


def run_app(workspace: Workspace) -> tuple[int, str]:
    """Run the application until the user leaves; return the exit code, and a farewell or
    nothing.
    """
    be_quiet()
    app = AxiarchApp(workspace)
    farewell = app.run()
    return app.return_code or 0, farewell or ""
