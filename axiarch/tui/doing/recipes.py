"""What a user does with trained recipes: open, continue, scale up, confirm, compare."""

from __future__ import annotations

from dataclasses import replace
from typing import Literal

from axiarch import workflows
from axiarch.errors import AxiarchError
from axiarch.journal import inbox
from axiarch.text import count
from axiarch.tui import messages
from axiarch.tui.doing.asking import ask_number, chosen
from axiarch.tui.doing.context import Context
from axiarch.tui.doing.work import steer
from axiarch.tui.state import Marked
from axiarch.tui.views.ladder import LadderView
from axiarch.tui.views.overlay import LETTERS
from axiarch.tui.views.strips import StripsView
from axiarch.tui.widgets.dialogs import Asked
from axiarch.tui.widgets.epochs import EpochTable

#: Most recipes that are drawn over one another.
MOST_MARKED = 6


def open_recipe(c: Context) -> None:
    """Open the recipe under the cursor."""
    recipe = c.widget(LadderView).selected()
    if recipe:
        c.post(messages.RecipeOpened(recipe))


def previous_recipe(c: Context) -> None:
    """Open the next better recipe."""
    c.show(recipe=c.state.beside(-1))


def next_recipe(c: Context) -> None:
    """Open the next worse recipe."""
    c.show(recipe=c.state.beside(1))


def more(c: Context) -> None:
    """Let a recipe train for more epochs, from exactly where it stopped."""
    more_from(c, "last")


def from_best(c: Context) -> None:
    """Go back to the best epoch of a recipe and train on from there."""
    s = c.state.snapshot
    if s is not None and not s.over:
        c.post(
            messages.Noted(
                "To go back to a best epoch, stop this search first with x: it becomes a "
                "training of its own. c continues from the last epoch now."))
    else:
        more_from(c, "best")


def more_from(c: Context, at: Literal["last", "best"]) -> None:
    s, recipe = c.state.snapshot, chosen(c)
    if s is None or recipe not in s.recipes:
        return
    if not s.over:
        ask_number(c, f"How many more epochs for recipe {recipe}?",
                        "Training continues from its current weights, in the running search.",
                        10, lambda n: steer(c, inbox.More(recipe, n)))
        return
    try:
        run = workflows.first_run(s, recipe)
    except AxiarchError as error:
        c.post(messages.ErrorRaised(error))
        return
    trained = len(s.curves[run.id])
    start, where = (trained, "its last epoch") if at == "last" else (run.best_epoch,
                                                                     "its best epoch")
    ask_number(c, 
        f"How many more epochs for recipe {recipe}, from {where}, {start}?",
        f"Training continues from the checkpoint of {s.run_name(run)}: weights, optimiser "
        "state, row order and random numbers, exactly as if it had never stopped. A schedule "
        "over the whole training is stretched to the new length. To train from scratch "
        "instead, make it the base, then press o on the sheet.",
        max(trained // 2, 1), lambda n: continue_run(c, run.id, n, at))


def continue_run(c: Context, run: int, epochs: int, at: Literal["last", "best"]) -> None:
    def job() -> None:
        s = c.state.snapshot
        assert s is not None
        try:
            number = workflows.continue_run(c.workspace, s, run, epochs, at)
            c.post(messages.SearchStarted(number, "strips"))
        except AxiarchError as error:
            c.post(messages.ErrorRaised(error))

    c.in_thread(job, "start")


def seeds(c: Context) -> None:
    """Ask on how many more seeds to train the leader and what it is not told from."""
    s = c.state.snapshot
    if s is None or not s.ranking.rows:
        c.post(messages.Noted("No run has ended yet."))
        return
    chosen, advised = workflows.seeds_wanted(s)
    names = ", ".join(f"#{recipe}" for recipe in chosen)
    ask_number(c, "How many more seeds?",
               f"{count(len(chosen), 'recipe')} ({names}) are trained on as many new seeds, which "
               "chose nothing, in this search.", advised,
               lambda n: steer(c, inbox.Seeds(chosen, n)))


def scale_up(c: Context) -> None:
    """Ask what to enlarge, and compare the recipe with larger versions."""
    s, recipe = c.state.snapshot, chosen(c)
    if s is None or recipe not in s.recipes:
        return
    base, plan = s.recipes[recipe].recipe, s.dataset.plan
    rows = (" rows=all" if plan.rows else "") + (" pictures=all" if plan.shrink > 1 else "")
    c.ask(
        Asked(
            f"Scale up recipe {recipe}: what should be larger?",
            "It is trained as it is and with every combination of the changes, on the same "
            "three seeds, so that you see what the larger scale gains and what it costs. More "
            "rows (rows=all) and larger pictures (pictures=all) are for data that were cut or "
            "shrunk for quick work.",
            f"width=256 epochs=120{rows}",
            f"width={2 * base.whole('width')} epochs={2 * base.whole('epochs')}{rows}"),
        lambda answer: scale_up_to(c, recipe, answer))


def scale_up_to(c: Context, recipe: int, answer: str | None) -> None:
    if answer:
        start_larger(c, recipe, answer)


def start_larger(c: Context, recipe: int, answer: str) -> None:
    def job() -> None:
        s = c.state.snapshot
        assert s is not None
        try:
            scaled = workflows.scale_up(c.workspace, s, recipe, answer.split())
            c.post(
                messages.SearchStarted(workflows.start_search(c.workspace, scaled.search),
                                       "field"))
            c.post(messages.Noted(str(scaled)))
        except AxiarchError as error:
            c.post(messages.ErrorRaised(error))

    c.in_thread(job, "start")


def confirm(c: Context) -> None:
    """Ask on how many fresh seeds a recipe is trained again, then compare with what was
    expected.
    """
    s, recipe = c.state.snapshot, chosen(c)
    if s is None or recipe not in s.recipes:
        return
    if not s.over:
        c.post(
            messages.Noted(
                "Confirm a recipe when its search is over: only one search runs at a time."))
        return
    ask_number(c, 
        f"Confirm recipe {recipe} on how many fresh seeds?",
        "They have chosen nothing, so their mean says what the recipe reaches. It is compared "
        "with what the ranking expected.", 5, lambda n: confirm_on(c, recipe, n))


def confirm_on(c: Context, recipe: int, seeds: int) -> None:
    def job() -> None:
        s = c.state.snapshot
        assert s is not None
        try:
            number = workflows.start_search(c.workspace, workflows.confirming_search(
                c.workspace, s, recipe, seeds))
        except AxiarchError as error:
            c.post(messages.ErrorRaised(error))
            return
        c.confirming[number] = (s, recipe)
        c.post(messages.SearchStarted(number, "field"))

    c.in_thread(job, "start")


def say_whether_it_holds(c: Context, number: int) -> None:
    """Say what a search on fresh seeds found of the recipe that it confirms."""

    def job() -> None:
        origin, recipe = c.confirming.pop(number)
        try:
            found = [
                each for each in workflows.confirmations(c.workspace, origin, recipe)
                if each.again == number
            ]
        except AxiarchError as error:
            c.post(messages.ErrorRaised(error))
            return
        for each in found:
            c.post(messages.Noted(str(each)))

    c.in_thread(job, "confirm")


def epoch_table(c: Context) -> None:
    """Show every epoch of the open recipe's runs in numbers."""
    s = c.state.snapshot
    runs, epoch = c.widget(StripsView).reading
    if s is None or not runs:
        c.post(messages.Noted("This recipe has not been trained yet."))
        return
    target = s.dataset.target
    c.ask(EpochTable(c.state.open_recipe, runs, target.metrics, target.loss_name, epoch),
          lambda _: None)


def mark(c: Context) -> None:
    """Mark a recipe, to be drawn over others, or no longer."""
    s, recipe = c.state.snapshot, chosen(c)
    if s is None or recipe not in s.recipes:
        return
    others = tuple(m for m in c.state.marked
                   if (m.search, m.recipe) != (s.search.number, recipe))
    if len(others) < len(c.state.marked):
        c.show(marked=others)
        c.post(
            messages.Noted(f"Unmarked recipe {recipe}; {len(others)} still marked."))
        compare_marked(c)
        return
    try:
        run = workflows.first_run(s, recipe)
    except AxiarchError as error:
        c.post(messages.ErrorRaised(error))
        return
    mark = Marked(s.search.number, recipe, s.curves_of(recipe), s.steps(recipe, run.fold),
                  s.recipes[recipe].recipe)
    c.show(marked=(*others, mark)[-MOST_MARKED:])
    letter = LETTERS[len(c.state.marked) - 1]
    c.post(
        messages.Noted(f"Marked recipe {recipe} as {letter}; {len(c.state.marked)} "
                   "marked. Press v on the strips to compare them, m again to unmark."))
    compare_marked(c)


def compare_marked(c: Context) -> None:
    """Work out the marked recipes side by side, off the interface's loop."""
    s, marked = c.state.snapshot, c.state.marked
    c.show(comparison=None)
    if s is None or len(marked) < 2:
        return

    keys = tuple((m.search, m.recipe) for m in marked)

    def job() -> messages.Compared:
        try:
            return messages.Compared(keys, workflows.compare_recipes(
                c.workspace, s, [f"{search}:{recipe}" for search, recipe in keys]))
        except AxiarchError as error:
            return messages.Compared(keys, f"{error.what}; {error.remedy}")

    c.in_thread_and_post(job, "compare")


def compared(c: Context, message: messages.Compared) -> None:
    """Show the marked recipes side by side, if they are still those that are marked."""
    if message.marked == tuple((m.search, m.recipe) for m in c.state.marked):
        c.show(comparison=message.found)


def fresh_marks(c: Context) -> tuple[Marked, ...]:
    """Return the marked recipes, those of the search in front with all epochs that they have
    by now.
    """
    s = c.state.snapshot
    found = []
    for mark in c.state.marked:
        if s is not None and mark.search == s.search.number and mark.recipe in s.recipes:
            mark = replace(mark, curves=s.curves_of(mark.recipe))
        found.append(mark)
    return tuple(found)


def compare(c: Context) -> None:
    """Show the marked recipes side by side, or the open one by itself again."""
    c.widget(StripsView).turn_overlay()
    c.show(marked=fresh_marks(c))
    compare_marked(c)


def other_bands(c: Context) -> None:
    """Draw the other bands below the losses."""
    c.widget(StripsView).turn_bands()


def overlay_axis(c: Context) -> None:
    """Draw the marked recipes by epoch, by step or by seconds."""
    c.widget(StripsView).turn_axis()
    c.show(marked=fresh_marks(c))
