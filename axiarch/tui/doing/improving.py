"""What a user does next with what was found: try a remedy, look at the lineage, keep a note."""

from __future__ import annotations

from axiarch import workflows
from axiarch.errors import AxiarchError
from axiarch.insight.proposal import Change, Proposal
from axiarch.insight.recipe_warnings import check_recipe
from axiarch.tui import messages
from axiarch.tui.doing.asking import chosen
from axiarch.tui.doing.context import Context
from axiarch.tui.doing.sheet import propose
from axiarch.tui.widgets.choices import Choice, Choices
from axiarch.tui.widgets.dialogs import Asked, Message
from axiarch.workflows.watching import Snapshot


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

    def job() -> None:
        try:
            lines = workflows.lineage_lines(workflows.lineage(c.workspace))
        except AxiarchError as error:
            c.post(messages.ErrorRaised(error))
            return
        c.call(c.ask, Message("Searches, each below the one that it comes from",
                              "\n".join(lines)), lambda answer: None)

    c.in_thread(job, "lineage")


def note(c: Context) -> None:
    """Ask for words, and keep them as a note on the recipe."""
    s, recipe = c.state.snapshot, chosen(c)
    if s is None:
        return
    about = f"recipe {recipe}" if recipe in s.recipes else f"search {s.search.number}"
    kept = [n.text for n in workflows.find_notes(c.workspace)
            if n.search == s.search.number and n.recipe in (0, recipe)]
    c.ask(Asked(f"Note on {about}", "\n".join(kept[-5:]) or "No note has been kept on it yet.",
                "words to find it by; axiarch notes WORDS finds it"),
          lambda text: _keep(c, s.search.number, recipe if recipe in s.recipes else 0, text))


def _keep(c: Context, search: int, recipe: int, text: str | None) -> None:
    if not text:
        return
    try:
        workflows.keep_note(c.workspace, text, search, recipe)
    except AxiarchError as error:
        c.post(messages.ErrorRaised(error))
        return
    c.post(messages.Noted("The note is kept."))
