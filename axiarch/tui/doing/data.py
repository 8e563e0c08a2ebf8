"""What a user does with data: add them, and decide about columns, rows and the split."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from pathlib import Path

from axiarch import workflows
from axiarch.data.dataset import Dataset
from axiarch.data.decisions import Decision
from axiarch.data.plan import DataPlan, FormatOverrides, parse_split, split_words
from axiarch.data.table import Tell
from axiarch.errors import AxiarchError
from axiarch.insight.proposal import Change
from axiarch.runs.proposal import Proposal
from axiarch.text import shown
from axiarch.tui import messages
from axiarch.tui.doing.context import Context
from axiarch.tui.doing.sheet import propose
from axiarch.tui.doing.work import add, later
from axiarch.tui.views.data import DataView
from axiarch.tui.widgets.browser import Browser
from axiarch.tui.widgets.choices import Choice, Choices
from axiarch.tui.widgets.dialogs import Asked
from axiarch.tui.widgets.examples import Examples


def open_file(c: Context) -> None:
    """Ask for a table to open."""
    c.ask(Browser(Path.cwd(), workflows.recent_tables(c.workspace)),
          lambda answer: add_file(c, answer))


def add_file(c: Context, answer: str | None) -> None:
    if answer:
        add(c, lambda on_progress: workflows.add_table(
            c.workspace, Path(answer).expanduser(), on_progress=on_progress).folder.name)


def add_demo(c: Context) -> None:
    """Add the demo data."""
    add(c, lambda _: workflows.data_set(workflows.make_demo(c.workspace.folder),
                                           "hive states").folder.name)


def other_data(c: Context) -> None:
    """Turn to the next data set of the workspace."""
    names, data = c.workspace.data_names(), c.state.dataset
    if data is not None and len(names) > 1 and data.folder.name in names:
        c.post(
            messages.DataAdded(names[(names.index(data.folder.name) + 1) % len(names)]))


def examples(c: Context) -> None:
    """Look at examples, a page at a time."""
    if c.state.dataset is not None:
        c.ask(Examples(c.state.dataset))


def pane(c: Context) -> None:
    """Show another part of the data view where there is little room."""
    c.widget(DataView).turn_pane()


def split(c: Context) -> None:
    """Ask how the rows are split, and split them so."""
    data = c.state.dataset
    if data is not None:
        c.ask(
            Asked(
                f"How are the rows of {data.name} split?",
                "Shares of the rows for validation and test; the rest trains. With folds, "
                "every open row validates once, as often as it is repeated. The seed fixes the "
                "split.",
                "validation 0.2, test 0.2, folds 5, repeats 2, seed 1",
                split_words(data.plan.split)),
            lambda answer: redecide(c, 
                data, lambda: replace(data.plan, split=parse_split(answer, data.plan.split)))
            if answer else None)


def redecide(c: Context, data: Dataset, decide: Callable[[], DataPlan]) -> None:
    """Make a data set anew by a plan that is still to be read from what was typed."""
    try:
        plan = decide()
    except AxiarchError as error:
        c.post(messages.ErrorRaised(error))
        return
    if plan != data.plan:
        rebuild(c, data, plan)


def rebuild(c: Context, data: Dataset, plan: DataPlan) -> None:
    """Rebuild a data set by other decisions, which one key undoes."""

    def job(on_progress: Tell) -> str:
        made = workflows.redecide(c.workspace, data, plan, on_progress).folder.name
        c.decided.append((data, made))
        return made

    add(c, job)


def undo_decision(c: Context) -> None:
    """Undo the last decision about the data set in front."""
    if c.adding:
        later(c, lambda: undo_decision(c))
        return
    now = c.state.dataset
    if now is None or not c.decided or c.decided[-1][1] != now.folder.name:
        c.post(messages.Noted("No decision about these data has been made since the program was "
                              "started."))
        return
    before, _ = c.decided.pop()
    add(c, lambda on_progress: workflows.undo_decision(c.workspace, before, now,
                                                       on_progress).folder.name)


def mend_data(c: Context) -> None:
    """Show what the checks of the data propose, and make the change that is chosen."""
    if c.adding:
        later(c, lambda: mend_data(c))
        return
    data, draft = c.state.dataset, c.state.draft
    if data is None:
        return
    changes = workflows.data_changes(
        workflows.data_proposals(data, draft.space.base if draft else None))
    if not changes:
        c.post(messages.Noted("The checks of these data propose no change."))
        return
    choices = [Choice(_change_line(proposal, change), _reason(proposal),
                      _details(c, data, change)) for proposal, change in changes]
    c.ask(Choices(f"What to change about {data.name}", choices,
                  "Enter makes the change, Z undoes it    Esc closes"),
          lambda answer: _settled(c, data, changes[int(answer.split()[1])][1]) if answer else None)


def _change_line(proposal: Proposal[Decision | Change], change: Decision | Change) -> str:
    about = f" in {shown(proposal.column, 30)}" if proposal.column else ""
    return f"{change.words} ({proposal.title}{about})"


def _reason(proposal: Proposal[Decision | Change]) -> str:
    return f"{proposal.evidence[0].upper()}{proposal.evidence[1:]}; {proposal.advice}."


def _details(c: Context, data: Dataset, change: Decision | Change) -> tuple[str, ...]:
    if isinstance(change, Change):
        return (f"on the sheet: {workflows.change_words(change)}",)
    return tuple(workflows.decision_preview(c.workspace, data, change))


def _settled(c: Context, data: Dataset, change: Decision | Change) -> None:
    """Make a change: of the recipe on the sheet, or of the decisions about the data."""
    if isinstance(change, Change):
        propose(c, change)
    else:
        redecide(c, data, lambda: change.applied(data.plan))


def reread(c: Context) -> None:
    """Ask how the file is written, and read it so."""
    data = c.state.dataset
    if data is not None and " between cells" in data.how:
        c.ask(
            Asked(
                f"How is {data.source} written?",
                f"It was read as {data.how}. Type only what is wrong; the rest is detected. "
                "Separators: comma, semicolon, tab, bar, space, or any character.",
                "separator semicolon, encoding windows-1252, decimal comma, header no",
                str(data.plan.said)), lambda answer: redecide(c, 
                    data, lambda: replace(data.plan, said=FormatOverrides.parse(answer)))
            if answer else None)


def set_target(c: Context) -> None:
    """Predict the column under the cursor."""
    toggle_decision(c, "aim")


def add_target(c: Context) -> None:
    """Predict the column under the cursor too, or no longer."""
    toggle_decision(c, "also aim")


def group(c: Context) -> None:
    """Keep rows with equal values of the column under the cursor together, or not."""
    toggle_decision(c, "group")


def as_text(c: Context) -> None:
    """Keep the column under the cursor as text, or not."""
    toggle_decision(c, "as text")


def subsample(c: Context) -> None:
    """Train on a part of the rows, or on all again."""
    toggle_decision(c, "fewer")


def downscale(c: Context) -> None:
    """Shrink pictures further, or leave them as they are."""
    toggle_decision(c, "smaller")


def gaps(c: Context) -> None:
    """Fill the gaps of the column under the cursor another way."""
    toggle_decision(c, "gaps")


def scaling(c: Context) -> None:
    """Scale the column under the cursor another way."""
    toggle_decision(c, "scaling")


def ordinal(c: Context) -> None:
    """Take categories as ordered, or one by one."""
    toggle_decision(c, "ordinal")


def folds(c: Context) -> None:
    """Validate on folds, or on one part."""
    toggle_decision(c, "folds")


def task(c: Context) -> None:
    """Predict classes or an amount."""
    toggle_decision(c, "task")


def measure(c: Context) -> None:
    """Rank recipes by another measure, or by the loss again."""
    toggle_decision(c, "ranked by")


def order(c: Context) -> None:
    """Split by the order of the column under the cursor, or not."""
    toggle_decision(c, "order")


def dates(c: Context) -> None:
    """Read dates in another order."""
    toggle_decision(c, "dates")


def merge_case(c: Context) -> None:
    """Take texts that differ only in case as equal, or not."""
    toggle_decision(c, "merge case")


def equal_rows(c: Context) -> None:
    """Keep rows with the same inputs together, or not."""
    toggle_decision(c, "equal rows")


def marks(c: Context) -> None:
    """Ask which texts mean a missing value in the column under the cursor."""
    data, name = c.state.dataset, c.widget(DataView).column_name()
    if data is None or not name:
        return
    own = data.plan.treatment(name).missing
    known = next((c.missing for c in data.conversions if c.column == name), ())
    c.ask(
        Asked(
            f"Which texts or numbers mean a missing value in {name}?",
            "Separate them by commas, or type none: then only empty cells are missing. Texts "
            "replace the usual marks and those that were found; numbers alone are added to "
            "them.",
            "-999, unknown", ", ".join(own if own is not None else known) or "none"),
        lambda answer: mark_missing(c, data, name, answer) if answer else None)


def mark_missing(c: Context, data: Dataset, name: str, answer: str) -> None:
    marks = () if answer == "none" else tuple(
        filter(None, (mark.strip() for mark in answer.split(","))))
    redecide(c, data, lambda: data.plan.treated(name, missing=marks))


def ignore(c: Context) -> None:
    """Ignore the column under the cursor, or use it again."""
    toggle_decision(c, "ignore")


def toggle_decision(c: Context, what: str, column: str = "") -> None:
    """Carry out a decision about a column, by default the one under the cursor; later if one
    is under way.
    """
    view = c.widget(DataView)
    column = column or view.column_name()
    if c.adding:
        later(c, lambda: toggle_decision(c, what, column))
        return
    data, plan = c.state.dataset, view.decided(what, column)
    if data is not None and plan is not None:
        c.say((f"rebuilding {data.name}", "faint"))
        rebuild(c, data, plan)
