"""What a user does with a running search: pause, stop, cut, keep, add, look at another."""

from __future__ import annotations

from dataclasses import replace

from axiarch import workflows
from axiarch.errors import AxiarchError
from axiarch.journal import inbox
from axiarch.text import count
from axiarch.tui import messages
from axiarch.tui.doing.asking import ask_number, chosen, search_runs
from axiarch.tui.doing.context import Context
from axiarch.tui.doing.sheet import propose, put_on_sheet
from axiarch.tui.doing.work import explain, resume_search, steer
from axiarch.tui.views.field import FieldView
from axiarch.tui.views.ladder import LadderView
from axiarch.tui.views.strips import StripsView
from axiarch.tui.widgets.dialogs import Asked, Question
from axiarch.workflows.explaining import KnobEffects
from axiarch.workflows.trading import TradeOffs


def pause(c: Context) -> None:
    """Pause the search, or resume it."""
    s = c.state.snapshot
    if s is None:
        return
    if s.search.state in ("running", "preparing"):
        steer(c, inbox.Pause())
    elif s.search.state == "paused":
        steer(c, inbox.Resume())
    elif s.search.state in ("stopped", "interrupted", "failed"):
        resume_search(c, s.search.number)


def stop(c: Context) -> None:
    """Ask, then stop the search."""
    s = c.state.snapshot
    if s is None or s.over:
        return
    training = sum(r.state == "training" for r in s.runs.values())
    c.ask(
        Question(
            f"Stop search {s.search.number}?",
            f"{s.ended_runs} of {s.expected_runs} runs have ended and are kept. {training} in "
            "training lose what they did since their last checkpoint, a few seconds. Press p "
            "to resume it later."
        ), lambda answer: steer(c, inbox.Stop()) if answer == "yes" else None)


def older_search(c: Context) -> None:
    """Look at the search before."""
    other_search(c, -1)


def newer_search(c: Context) -> None:
    """Look at the search after."""
    other_search(c, 1)


def other_search(c: Context, by: int) -> None:
    s = c.state.snapshot
    numbers = c.workspace.search_numbers()
    if s is None or s.search.number not in numbers:
        return
    at = max(0, min(numbers.index(s.search.number) + by, len(numbers) - 1))
    c.state = replace(c.state, recipe=0)
    c.feed.watch(numbers[at])


def keep(c: Context) -> None:
    """Let a recipe train to its end, whatever the others do."""
    if search_runs(c) and (recipe := chosen(c)):
        steer(c, inbox.Keep(recipe))
        c.post(messages.Noted(f"Recipe {recipe} will be trained to its end."))


def cut(c: Context) -> None:
    """Ask, then train a recipe no further."""
    if search_runs(c) and (recipe := chosen(c)):
        c.ask(
            Question(
                f"Cut recipe {recipe}?", "Its runs end now. Their results are kept. It will "
                "not be trained further in this search."),
            lambda answer: steer(c, inbox.Cut(recipe)) if answer == "yes" else None)


def add_recipe(c: Context) -> None:
    """Ask, then take the base on the sheet into the search."""
    draft = c.state.draft
    if c.state.snapshot is not None and draft is not None:
        base = draft.space.base
        c.ask(
            Question("Add the base recipe on the sheet to this search?",
                     "It is trained in full, on every seed and fold."),
            lambda answer: steer(c, inbox.Add(dict(base))) if answer == "yes" else None)


def budget(c: Context) -> None:
    """Ask how many recipes the search tries in all."""
    s = c.state.snapshot
    if s is not None:
        ask_number(c, "How many recipes in all?",
                   f"{count(len(s.recipes), 'recipe')} so far. More recipes find better ones ever "
                   "more slowly.",
                   max(2 * len(s.recipes), 10), lambda n: steer(c, inbox.Budget(n)))


def workers(c: Context) -> None:
    """Ask how many worker processes the running search uses."""
    s = c.state.snapshot
    if search_runs(c) and s is not None:
        ask_number(c, 
            "How many workers?",
            f"{count(len(s.workers), 'worker')} now; one per core is usual. "
            "Workers change how long the search takes, never its results.",
            max(len(s.workers), 1), lambda n: steer(c, inbox.Workers(n)))


def effects(c: Context) -> None:
    """Show which knobs matter, or the ranking again."""
    view, s = c.widget(LadderView), c.state.snapshot
    if isinstance(view.panel, KnobEffects | str) or s is None:
        view.panel = None
        c.show()
        return
    view.panel = ""
    explain(c, s)
    c.show()


def tradeoffs(c: Context) -> None:
    """Show what a lower loss costs, or the ranking again."""
    view, s = c.widget(LadderView), c.state.snapshot
    view.panel = None if isinstance(view.panel, TradeOffs) or s is None else TradeOffs(s)
    c.show()


def turn_panel(c: Context) -> None:
    """Show the next page of effects, or the next cost."""
    c.widget(LadderView).turn()


def widen(c: Context) -> None:
    """Put the space of this search on the sheet, with ranges widened where the best recipes stand
    at an end.
    """
    view, s = c.widget(LadderView), c.state.snapshot
    if s is None or not isinstance(view.panel, KnobEffects):
        c.post(messages.Noted("Show the effects first with f: they say which ranges to widen."))
        return
    proposal = view.panel.widening(s)
    if proposal is None:
        c.post(messages.Noted("No range needs widening: the best recipes lie inside all of them."))
        return
    propose(c, proposal.changes[0], replace(s.file, start=None))


def ladder_of_capacity(c: Context) -> None:
    """Put a ladder of capacity on the sheet, with a recipe as its base."""
    s, recipe = c.state.snapshot, chosen(c)
    if s is None:
        return
    try:
        draft = workflows.ladder_from(s, recipe)
    except AxiarchError as error:
        c.post(messages.ErrorRaised(error))
        return
    put_on_sheet(c, draft, f"A ladder of capacity with recipe {recipe} as its base is on the "
                 "sheet. s starts it, u undoes this.")


def sort(c: Context) -> None:
    """Order the ranking by the next thing."""
    c.widget(LadderView).sort()


def filter_recipes(c: Context) -> None:
    """Ask which recipes are listed."""
    view = c.widget(LadderView)

    def answered(text: str | None) -> None:
        if text is None:
            return
        try:
            workflows.parse_filter(text)
        except AxiarchError as error:
            c.post(messages.ErrorRaised(error))
            return
        view.where = text.strip()
        c.show()

    c.ask(Asked("List which recipes?", "Empty lists all. Enter accepts, Esc cancels.",
                "optimiser = adam and width <= 64", view.where), answered)


def cheapest(c: Context) -> None:
    """Go to the smallest recipe that is not clearly worse than the leader."""
    s = c.state.snapshot
    if s is None:
        return
    try:
        recipe, words = workflows.cheapest(s)
    except AxiarchError as error:
        c.post(messages.ErrorRaised(error))
        return
    c.widget(LadderView).point(recipe)
    c.post(messages.Noted(words))


def axis(c: Context) -> None:
    """Draw against budget or epochs."""
    c.widget(FieldView).turn_axis()


def cursor_left(c: Context) -> None:
    """Read the chart further back."""
    move_cursor(c, -1)


def cursor_right(c: Context) -> None:
    """Read the chart further on."""
    move_cursor(c, 1)


def move_cursor(c: Context, by: int) -> None:
    front = c.front()
    if isinstance(front, FieldView | StripsView):
        front.move(by)
