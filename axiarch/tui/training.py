"""What a user does with recipes in training: more epochs, cut, keep, add, mark for comparison,
keep as a version.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from pathlib import Path
from typing import Literal

from textual import work

from axiarch import workflows
from axiarch.errors import AxiarchError
from axiarch.journal import inbox
from axiarch.journal.workspace import Workspace
from axiarch.plain import count
from axiarch.recipes.recipe import Recipe
from axiarch.tui import messages
from axiarch.tui.state import Marked
from axiarch.tui.views.ladder import LadderView
from axiarch.tui.views.overlay import LETTERS
from axiarch.tui.views.sheet import SheetView
from axiarch.tui.views.strips import StripsView
from axiarch.tui.widgets.dialogs import Asked, Question
from axiarch.tui.widgets.versions import Versions
from axiarch.tui.working import WorkingApp
from axiarch.workflows.watching import Snapshot

#: Most recipes that are drawn over one another.
MOST_MARKED = 6


class TrainingApp(WorkingApp):
    """An application in which trained recipes can be gone on with, compared, confirmed and kept."""

    def __init__(self, workspace: Workspace, view: str = "") -> None:
        super().__init__(workspace, view)
        self._confirming: dict[int, tuple[Snapshot, int]] = {}

    def chosen(self) -> int:
        """Return the recipe that is meant: under the cursor of the ladder, or the open one; 0 if
        there is none.
        """
        s = self._state.snapshot
        if s is None:
            return 0
        return self.query_one(
            LadderView).selected() if self.view == "ladder" else self._state.open_recipe

    def ask_number(self, question: str, why: str, value: int, then: Callable[[int],
                                                                             object]) -> None:
        """Ask for a whole number, and go on with it."""

        def answered(text: str | None) -> None:
            if not text:
                return
            if text.isdecimal() and int(text) > 0:
                then(int(text))
            else:
                self.post_message(
                    messages.Noted(f"{text!r} is not a whole number above 0; nothing was changed."))

        self.push_screen(Asked(question, why, "a whole number", str(value)), answered)

    def replacing(self, paths: list[Path], write: Callable[[bool], object]) -> None:
        """Call `write` with whether to replace files; asks first where some of `paths` exist."""
        there = [path.name for path in paths if path.exists()]
        if not there:
            write(False)
            return

        def answered(answer: str | None) -> None:
            if answer == "yes":
                write(True)

        self.push_screen(
            Question(f"Replace {', '.join(there)}?",
                     f"Exported before to {paths[0].parent}. What they hold now is lost."),
            answered)

    # -- more of one recipe ----------------------------------------------------------------------

    def do_more(self) -> None:
        """Let a recipe train for more epochs, from exactly where it stopped."""
        self._more("last")

    def do_from_best(self) -> None:
        """Go back to the best epoch of a recipe and train on from there."""
        s = self._state.snapshot
        if s is not None and not s.over:
            self.post_message(
                messages.Noted(
                    "To go back to a best epoch, stop this search first with x: it becomes a "
                    "training of its own. c continues from the last epoch now."))
        else:
            self._more("best")

    def _more(self, at: Literal["last", "best"]) -> None:
        s, recipe = self._state.snapshot, self.chosen()
        if s is None or recipe not in s.recipes:
            return
        if not s.over:
            self.ask_number(f"How many more epochs for recipe {recipe}?",
                            "Training continues from its current weights, in the running search.",
                            10, lambda n: self._steer(inbox.More(recipe, n)))
            return
        try:
            run = workflows.first_run(s, recipe)
        except AxiarchError as error:
            self.post_message(messages.ErrorRaised(error))
            return
        trained = len(s.curves[run.id])
        start, where = (trained, "its last epoch") if at == "last" else (run.best_epoch,
                                                                         "its best epoch")
        self.ask_number(
            f"How many more epochs for recipe {recipe}, from {where}, {start}?",
            f"Training continues from the checkpoint of {s.run_name(run)}: weights, optimiser "
            "state, row order and random numbers, exactly as if it had never stopped. A schedule "
            "over the whole training is stretched to the new length. To train from scratch "
            "instead, make it the base, then press o on the sheet.",
            max(trained // 2, 1), lambda n: self._continue(run.id, n, at))

    @work(thread=True, exclusive=True, group="start")
    def _continue(self, run: int, epochs: int, at: Literal["last", "best"]) -> None:
        s = self._state.snapshot
        assert s is not None
        try:
            number = workflows.continue_run(self._workspace, s, run, epochs, at)
            self.post_message(messages.SearchStarted(number, "strips"))
        except AxiarchError as error:
            self.post_message(messages.ErrorRaised(error))

    def do_scale_up(self) -> None:
        """Ask what is to be larger, and hold the recipe against that."""
        s, recipe = self._state.snapshot, self.chosen()
        if s is None or recipe not in s.recipes:
            return
        base, plan = s.recipes[recipe].recipe, s.dataset.plan
        rows = (" rows=all" if plan.rows else "") + (" pictures=all" if plan.shrink > 1 else "")
        self.push_screen(
            Asked(
                f"Scale up recipe {recipe}: what should be larger?",
                "It is trained as it is and with every combination of the changes, on the same "
                "three seeds, so that you see what the larger scale gains and what it costs. More "
                "rows (rows=all) and larger pictures (pictures=all) are for data that were cut or "
                "shrunk for quick work.",
                f"width=256 epochs=120{rows}",
                f"width={2 * base.whole('width')} epochs={2 * base.whole('epochs')}{rows}"),
            lambda answer: self._scale_up(recipe, answer))

    def _scale_up(self, recipe: int, answer: str | None) -> None:
        if answer:
            self._start_larger(recipe, answer)

    @work(thread=True, exclusive=True, group="start")
    def _start_larger(self, recipe: int, answer: str) -> None:
        s = self._state.snapshot
        assert s is not None
        try:
            scaled = workflows.scale_up(self._workspace, s, recipe, answer.split())
            self.post_message(
                messages.SearchStarted(workflows.start_search(self._workspace, scaled.search),
                                       "field"))
            self.post_message(messages.Noted(str(scaled)))
        except AxiarchError as error:
            self.post_message(messages.ErrorRaised(error))

    def do_confirm(self) -> None:
        """Ask on how many fresh seeds a recipe is trained again, then compare with what was
        foretold.
        """
        s, recipe = self._state.snapshot, self.chosen()
        if s is None or recipe not in s.recipes:
            return
        if not s.over:
            self.post_message(
                messages.Noted(
                    "Confirm a recipe when its search is over: only one search runs at a time."))
            return
        self.ask_number(
            f"Confirm recipe {recipe} on how many fresh seeds?",
            "They have chosen nothing, so their mean says what the recipe reaches. It is compared "
            "with what the ranking foretold.", 5, lambda n: self._confirm(recipe, n))

    @work(thread=True, exclusive=True, group="start")
    def _confirm(self, recipe: int, seeds: int) -> None:
        s = self._state.snapshot
        assert s is not None
        try:
            number = workflows.start_search(self._workspace, workflows.confirming_search(
                self._workspace, s, recipe, seeds))
        except AxiarchError as error:
            self.post_message(messages.ErrorRaised(error))
            return
        self._confirming[number] = (s, recipe)
        self.post_message(messages.SearchStarted(number, "field"))

    @work(thread=True, exclusive=True, group="confirm")
    def _say_whether_it_holds(self, number: int) -> None:
        """Say what a search on fresh seeds found of the recipe that it confirms."""
        origin, recipe = self._confirming.pop(number)
        try:
            found = [
                each for each in workflows.confirmations(self._workspace, origin, recipe)
                if each.again == number
            ]
        except AxiarchError as error:
            self.post_message(messages.ErrorRaised(error))
            return
        for each in found:
            self.post_message(messages.Noted(str(each)))

    # -- the race --------------------------------------------------------------------------------

    def do_keep(self) -> None:
        """Let a recipe train to its end, whatever the others do."""
        if self._search_runs() and (recipe := self.chosen()):
            self._steer(inbox.Keep(recipe))
            self.post_message(messages.Noted(f"Recipe {recipe} will be trained to its end."))

    def do_cut(self) -> None:
        """Ask, then train a recipe no further."""
        if self._search_runs() and (recipe := self.chosen()):
            self.push_screen(
                Question(
                    f"Cut recipe {recipe}?", "Its runs end now. Their results are kept. It will "
                    "not be trained further in this search."),
                lambda answer: self._steer(inbox.Cut(recipe)) if answer == "yes" else None)

    def do_add_recipe(self) -> None:
        """Ask, then take the base on the sheet into the running search."""
        draft = self._state.draft
        if self._search_runs() and draft is not None:
            base = draft.space.base
            self.push_screen(
                Question("Add the base recipe on the sheet to this search?",
                         "It is trained in full, on every seed and fold."),
                lambda answer: self._steer(inbox.Add(dict(base))) if answer == "yes" else None)

    def do_budget(self) -> None:
        """Ask how many recipes the running search tries in all."""
        s = self._state.snapshot
        if self._search_runs() and s is not None:
            self.ask_number(
                "How many recipes in all?",
                f"{count(len(s.recipes), 'recipe')} so far. More recipes find better ones ever "
                "more slowly.", max(2 * len(s.recipes),
                                                     10), lambda n: self._steer(inbox.Budget(n)))

    def do_workers(self) -> None:
        """Ask how many worker processes the running search uses."""
        s = self._state.snapshot
        if self._search_runs() and s is not None:
            self.ask_number(
                "How many workers?",
                f"{count(len(s.workers), 'worker')} now; one per core is usual. "
                "Workers change how long the search takes, never its results.",
                max(len(s.workers), 1), lambda n: self._steer(inbox.Workers(n)))

    def _search_runs(self) -> bool:
        s = self._state.snapshot
        if s is None or s.over:
            self.post_message(messages.Noted("This needs a running search."))
            return False
        return True

    # -- comparing -------------------------------------------------------------------------------

    def do_mark(self) -> None:
        """Mark a recipe, to be drawn over others, or no longer."""
        s, recipe = self._state.snapshot, self.chosen()
        if s is None or recipe not in s.recipes:
            return
        others = tuple(m for m in self._state.marked
                       if (m.search, m.recipe) != (s.search.number, recipe))
        if len(others) < len(self._state.marked):
            self._show(marked=others)
            self.post_message(
                messages.Noted(f"Unmarked recipe {recipe}; {len(others)} still marked."))
            return
        try:
            run = workflows.first_run(s, recipe)
        except AxiarchError as error:
            self.post_message(messages.ErrorRaised(error))
            return
        mark = Marked(s.search.number, recipe, s.curves_of(recipe), s.steps(recipe, run.fold),
                      s.recipes[recipe].recipe)
        self._show(marked=(*others, mark)[-MOST_MARKED:])
        letter = LETTERS[len(self._state.marked) - 1]
        self.post_message(
            messages.Noted(f"Marked recipe {recipe} as {letter}; {len(self._state.marked)} "
                       "marked. Press v on the strips to overlay them, m again to unmark."))

    def _fresh_marks(self) -> tuple[Marked, ...]:
        """Return the marked recipes, those of the search in front with all epochs that they have
        by now.
        """
        s = self._state.snapshot
        found = []
        for mark in self._state.marked:
            if s is not None and mark.search == s.search.number and mark.recipe in s.recipes:
                mark = replace(mark, curves=s.curves_of(mark.recipe))
            found.append(mark)
        return tuple(found)

    def do_overlay(self) -> None:
        """Draw the marked recipes over one another, or the open one by itself again."""
        self.query_one(StripsView).turn_overlay()
        self._show(marked=self._fresh_marks())

    def do_other_bands(self) -> None:
        """Draw the other bands below the losses."""
        self.query_one(StripsView).turn_bands()

    def do_overlay_axis(self) -> None:
        """Draw the marked recipes by epoch, by step or by seconds."""
        self.query_one(StripsView).turn_axis()
        self._show(marked=self._fresh_marks())

    # -- versions --------------------------------------------------------------------------------

    def do_keep_version(self) -> None:
        """Ask for a note and keep the base recipe as a version."""
        draft = self._state.draft
        if draft is not None:
            base = draft.space.base
            self.push_screen(
                Asked(
                    "Keep the base recipe as a version?",
                    "It is kept with its time, what changed against the version before, and a "
                    "note of yours.",
                    "a note; or a name, a colon, and a note"), lambda note: None
                if note is None else self._keep_version(base, note))

    def _keep_version(self, base: Recipe, note: str) -> None:
        try:
            version = workflows.keep_version(self._workspace, base, note)
        except AxiarchError as error:
            self.post_message(messages.ErrorRaised(error))
            return
        self._show(versions=workflows.versions(self._workspace))
        self.post_message(messages.Noted(f"Kept as version {version.number}: {version.name}."))

    def do_versions(self) -> None:
        """Look through the versions kept, beside the base recipe."""
        draft = self._state.draft
        if draft is None:
            return
        kept = workflows.versions(self._workspace)
        self._show(versions=kept)
        self.push_screen(Versions(kept, draft.space.base), self._take_version)

    def _take_version(self, number: str | None) -> None:
        if number:
            version = next(v for v in self._state.versions if v.number == int(number))
            self.query_one(SheetView).rebase(version.recipe)
            self.post_message(messages.Noted(f"The base is version {number} now; press u to undo."))
