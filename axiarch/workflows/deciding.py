"""What the checks of a data set propose, and doing one of it: decisions about the data, or changes
of the recipe on the sheet.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping

from axiarch.data.dataset import Dataset
from axiarch.data.decisions import Decision
from axiarch.data.findings import Finding
from axiarch.data.table import Tell, no_progress
from axiarch.errors import DataError
from axiarch.insight.proposal import Change
from axiarch.insight.remedies import balanced, regularise
from axiarch.journal.workspace import Workspace
from axiarch.recipes.recipe import Recipe
from axiarch.runs.proposal import Proposal
from axiarch.text import shown
from axiarch.workflows.adding import redecide, used

DataProposal = Proposal[Decision | Change]

#: Findings about the data that a recipe answers.
_BY_RECIPE: Mapping[str, Callable[[Recipe], Change]] = {
    "overfitting": regularise, "more inputs than rows": regularise, "imbalance": balanced}


def data_proposals(data: Dataset, base: Recipe | None = None) -> tuple[DataProposal, ...]:
    """Return what the checks of a data set found, each with the changes that answer it.

    Parameters
    ----------
    base : Recipe, optional
        The recipe that changes of recipes start from.
    """
    base = base or Recipe()
    return tuple(_proposal(found, base) for found in data.findings)


def _proposal(found: Finding, base: Recipe) -> DataProposal:
    change = _BY_RECIPE.get(found.name)
    more = (change(base),) if change else ()
    return DataProposal(found.name, found.title, found.evidence, found.sure,
                        (*found.changes, *more), column=found.column, advice=found.advice)


def data_changes(found: tuple[DataProposal, ...]) -> list[tuple[DataProposal, Decision | Change]]:
    """Return all changes in the order in which they are numbered."""
    return [(p, change) for p in found for change in p.changes]


def decision_preview(workspace: Workspace, data: Dataset, decision: Decision) -> list[str]:
    """Return what a decision would change, and which data set then holds it."""
    lines = _preview(data, decision)
    stays = (f"{shown(data.name, 40)} stays as it is, since a search has used it or its seal was "
             "opened: the change makes a new data set.") if used(workspace, data) else (
                 f"{shown(data.name, 40)} is rebuilt.")
    return [*lines, stays]


def _preview(data: Dataset, decision: Decision) -> list[str]:
    try:
        return decision.preview(data.plan)
    except DataError as error:
        return [f"not possible: {error.what}"]


def decide(workspace: Workspace, data: Dataset, which: int,
           on_progress: Tell = no_progress) -> tuple[Decision, Dataset]:
    """Make one of the decisions proposed for a data set, by its number from 1, in a new data set
    beside it.

    Returns
    -------
    Decision
        What was decided.
    Dataset
        The new data set.

    Raises
    ------
    DataError
        If there is no such change, it is one of the recipe, or the table cannot be used so.
    """
    changes = data_changes(data_proposals(data))
    where = f"the checks of {shown(data.name, 40)}"
    if not changes:
        raise DataError("no change of these data is proposed", where,
                        "see axiarch data show for what was found")
    if not 1 <= which <= len(changes):
        raise DataError(f"there is no change {which}", where, f"give one from 1 to {len(changes)}")
    change = changes[which - 1][1]
    if isinstance(change, Change):
        raise DataError(
            "this is a change of the recipe, not of the data", where,
            f"press ! in the data view, or write in the search file, {search_file_words(change)}")
    return change, redecide(workspace, data, change.applied(data.plan), on_progress, beside=True)


def search_file_words(change: Change) -> str:
    """Return a change of the recipe as it is written into a search file, in one line."""
    import tomlkit

    lines = [f"under [recipe], {name} = {tomlkit.item(value).as_string()}"
             for name, value in change.values.items()]
    lines += [f'under [vary], {name} = "{text}"' for name, text in change.ranges.items()]
    return "; ".join(lines)


def proposal_lines(found: tuple[DataProposal, ...], data: Dataset) -> list[str]:
    """Return the changes that the checks of a data set propose as lines of text, numbered."""
    lines = []
    for number, (proposal, change) in enumerate(data_changes(found), 1):
        what = f"in the search file, {search_file_words(change)}" if isinstance(
            change, Change) else ", ".join(_preview(data, change))
        about = f" in {shown(proposal.column, 30)}" if proposal.column else ""
        lines.append(f"{number}  {change.words} ({proposal.title}{about}): {what}")
    return lines


def undo_decision(workspace: Workspace, before: Dataset, now: Dataset,
                  on_progress: Tell = no_progress) -> Dataset:
    """Return the data set as it was before a decision: the one that is still there, or `now`
    rebuilt by the decisions of before.
    """
    if before.folder != now.folder and before.folder.exists():
        return before
    return redecide(workspace, now, before.plan, on_progress)
