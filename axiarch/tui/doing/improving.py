"""What a user does next with what was found: try a remedy, look at the lineage, keep a note."""

from __future__ import annotations

import re
from collections.abc import Callable

from axiarch import workflows
from axiarch.errors import AxiarchError
from axiarch.insight.proposal import Change, Proposal
from axiarch.insight.recipe_warnings import check_recipe
from axiarch.text import shown
from axiarch.tui import messages
from axiarch.tui.doing.asking import chosen
from axiarch.tui.doing.context import Context
from axiarch.tui.doing.sheet import propose
from axiarch.tui.widgets.choices import Choice, Choices
from axiarch.tui.widgets.dialogs import Asked, Message, Question
from axiarch.workflows.snapshot import Snapshot

#: Recipes that a dialog lists.
_LISTED = 15


def remedy(c: Context) -> None:
    """Show what may be changed about a recipe, and try what is chosen."""
    s, recipe = c.state.snapshot, chosen(c)
    if s is None or recipe not in s.recipes:
        return
    try:
        found = workflows.diagnosis(s, recipe)
    except AxiarchError as error:
        c.post(messages.ErrorRaised(error))
        return
    changes = workflows.changes_of(found)
    if not changes:
        c.post(messages.Noted(f"Nothing is wrong with recipe {recipe} that a change would help. f "
                              "on the ladder shows which ranges could be wider."))
        return
    choices = [Choice(f"{change.words}, because {proposal.title}", proposal.evidence,
                      (workflows.change_words(change),)) for proposal, change in changes]
    c.ask(Choices(f"What to change about recipe {recipe} of search {s.search.number}", choices),
          lambda answer: _take(c, s, recipe, changes, answer))


def mend(c: Context) -> None:
    """Show what may be changed about the recipe on the sheet, and put what is chosen on it."""
    draft, dataset = c.state.draft, c.state.dataset
    if draft is None or dataset is None:
        return
    found = check_recipe(draft.space.base, dataset.rows)
    changes = workflows.changes_of(found)
    if not changes:
        c.post(messages.Noted("Nothing about this recipe is known to go wrong."))
        return
    choices = [Choice(change.words, proposal.evidence, (workflows.change_words(change),))
               for proposal, change in changes]
    c.ask(Choices("What to change about the recipe on the sheet", choices,
                  "Enter puts it on the sheet    Esc closes"),
          lambda answer: propose(c, changes[int(answer.split()[1])][1]) if answer else None)


def _take(c: Context, s: Snapshot, recipe: int, changes: list[tuple[Proposal, Change]],
          answer: str | None) -> None:
    if not answer:
        return
    how, _, index = answer.partition(" ")
    proposal, change = changes[int(index)]
    if how == "sheet":
        base = s.file.with_space(workflows.space_of(s, recipe))
        propose(c, change, base)
    elif not s.over:
        c.post(messages.Noted("Only one search runs at a time: stop this one first with x, or put "
                              "the change on the sheet with s."))
    else:
        _start(c, s, recipe, proposal, change)


def _start(c: Context, s: Snapshot, recipe: int, proposal: Proposal, change: Change) -> None:
    def job() -> None:
        try:
            file = workflows.branch(s, recipe, proposal, change)
            number = workflows.start_search(c.workspace, file)
        except AxiarchError as error:
            c.post(messages.ErrorRaised(error))
            return
        c.post(messages.SearchStarted(number, "field"))

    c.in_thread(job, "start")


def lineage(c: Context) -> None:
    """Show which search came from which, and what each brought."""

    _show(c, "Searches, each below the one that it comes from",
          lambda: workflows.lineage_lines(workflows.lineage(c.workspace)))


def note(c: Context) -> None:
    """Ask for words, and keep them as a note on the recipe."""
    s, recipe = c.state.snapshot, chosen(c)
    if s is None:
        return
    about = f"recipe {recipe}" if recipe in s.recipes else f"search {s.search.number}"
    kept = [n.text for n in workflows.find_notes(c.workspace)
            if n.search == s.search.number and n.recipe in (0, recipe)]
    c.ask(Asked(f"Note on {about}", "\n".join(kept[-5:]) or "No note has been kept on it yet.",
                "words; 'seed 2: words' is on that run only, '?words' finds notes"),
          lambda text: _keep(c, s.search.number, recipe if recipe in s.recipes else 0, text))


#: How a note on a single run begins.
_RUN = re.compile(r"seed (\d{1,6})(?:,? fold (\d{1,6}))?: *(?=\S)")


def _keep(c: Context, search: int, recipe: int, text: str | None) -> None:
    if not text:
        return
    if text.startswith("?"):
        _show(c, "Notes", lambda: workflows.note_lines(c.workspace, text[1:]))
        return
    run = _RUN.match(text) if recipe else None
    seed, fold = (int(run[1]), int(run[2] or 1)) if run else (0, 1)

    def job() -> messages.Noted:
        kept = workflows.keep_note(c.workspace, text[run.end():] if run else text, search, recipe,
                                   seed, fold)
        return messages.Noted(f"The note on {workflows.about_words(c.workspace, kept)} is kept.")

    c.in_thread_and_post(job, "note")


def by_measure(c: Context) -> None:
    """Ask for a measure, and show the ranking by it."""
    s = c.state.snapshot
    if s is None or not s.ranking.rows:
        c.post(messages.Noted("No run has ended yet."))
        return
    first = "balanced accuracy" if s.dataset.classes else "own loss"

    def answered(name: str | None) -> None:
        if name:
            _show(c, f"Ranked by {shown(name, 40)}", lambda: _ranked_by(s, name.strip()))

    c.ask(Asked("Rank by which measure?", "Loss, accuracy, balanced accuracy, F1 or AUC; of "
                "amounts mean squared error, mean absolute error, Huber loss, or own loss. The "
                "search was guided by what the data are ranked by.",
                "a measure", first), answered)


def _ranked_by(s: Snapshot, name: str) -> list[str]:
    found = workflows.by_measure(s, name)
    return [found.verdict(), "", *workflows.measure_lines(found, _LISTED)]


def together(c: Context) -> None:
    """Ask for searches, and show them in one ranking."""
    s = c.state.snapshot
    if s is None:
        return
    same = [n for n in c.workspace.search_numbers() if n != s.search.number]

    def answered(text: str | None) -> None:
        numbers = [int(word) for word in (text or "").replace(",", " ").split()
                   if word.isdecimal()]
        if text:
            _show(c, "Ranked together", lambda: _ranked_together(c, numbers))

    c.ask(Asked("Rank which searches together?", "They must be on the same data and split.",
                "numbers of searches", " ".join(map(str, [s.search.number, *same[-1:]]))), answered)


def _ranked_together(c: Context, numbers: list[int]) -> list[str]:
    found = workflows.together(c.workspace, numbers)
    return [found.verdict(), "", *workflows.together_lines(found, _LISTED)]


#: What a proxy can make smaller, by what it is called on the screen.
_PROXIES = {
    "Fewer epochs": ("epochs", "Read off the curves: nothing is trained."),
    "Fewer training rows": ("rows", "The best recipes are trained once more, on an eighth, a "
                                    "quarter and a half of the training rows."),
    "Smaller pictures": ("pictures", "The best recipes are trained once more, on pictures of a "
                                     "quarter and a half of the side."),
    "Narrower layers": ("width", "The best recipes are trained once more, with layers of an "
                                 "eighth, a quarter and a half of their width."),
}


def proxy(c: Context) -> None:
    """Ask what may be smaller, and show how well it told the order of the best recipes."""
    s = c.state.snapshot
    if s is None:
        return
    kinds = {words: found for words, found in _PROXIES.items()
             if found[0] != "pictures" or s.dataset.encoding.picture}
    choices = [Choice(words, reason, ()) for words, (_, reason) in kinds.items()]
    c.ask(Choices("Would a smaller training show which of the best recipes is better?", choices,
                  "Enter starts it    Esc closes"),
          lambda answer: _compare_proxies(c, s, [kind for kind, _ in kinds.values()][
              int(answer.split()[1])]) if answer else None)


def _compare_proxies(c: Context, s: Snapshot, kind: str) -> None:
    if kind != "epochs" and not s.over:
        c.post(messages.Noted("Only one search runs at a time: stop this one first with x."))
        return
    _show(c, "How small may the proxy be?", lambda: _proxies(c, s, kind))


def _proxies(c: Context, s: Snapshot, kind: str) -> list[str]:
    if kind == "epochs":
        found = workflows.proxies(s)
    else:
        smaller = workflows.smaller_trainings(c.workspace, s, kind)
        for each in smaller:
            if not workflows.train_proxy(c.workspace, s, each, started=lambda number: c.post(
                    messages.SearchStarted(number, "field"))):
                return ["Stopped. What has been trained is kept; ask again to continue."]
        found = workflows.proxy_agreements(c.workspace, s, smaller)
    return [workflows.proxy_verdict(s, found, kind), "", *workflows.proxy_lines(found)]


def more_rows(c: Context) -> None:
    """Ask, then train a recipe on ever more of its rows, and show what twice as many would bring.
    """
    s, recipe = c.state.snapshot, chosen(c)
    if s is None or recipe not in s.recipes:
        return
    if not s.over:
        c.post(messages.Noted("Only one search runs at a time: stop this one first with x."))
        return
    c.ask(Question(f"Would more rows help recipe {recipe}?",
                   "It is trained on 10, 20, 40, 80 and 100 % of its training rows, on three seeds "
                   "each: five searches, one after the other. x stops the one that runs."),
          lambda answer: _train_on_rows(c, s, recipe) if answer == "yes" else None)


def _train_on_rows(c: Context, s: Snapshot, recipe: int) -> None:
    def lines() -> list[str]:
        for file in workflows.row_searches(c.workspace, s, recipe):
            number = workflows.start_search(c.workspace, file)
            c.post(messages.SearchStarted(number, "field"))
            if workflows.wait(c.workspace, number).search.state != "done":
                return ["Stopped. What has been trained is kept; ask again to continue."]
        found = workflows.more_rows(c.workspace, s, recipe)
        return [found.verdict(), "", *workflows.row_lines(found)]

    _show(c, f"More rows for recipe {recipe} of search {s.search.number}", lines)


def _show(c: Context, title: str, lines: Callable[[], list[str]]) -> None:
    """Work out lines of text off the interface's loop, and show them."""

    def job() -> None:
        try:
            text = "\n".join(lines())
        except AxiarchError as error:
            c.post(messages.ErrorRaised(error))
            return
        c.call(c.ask, Message(title, text), lambda answer: None)

    c.in_thread(job, "learnt")
