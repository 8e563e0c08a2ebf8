"""Ask a search that runs in the background for something: to pause, to cut a recipe, to take one
in.
"""

from __future__ import annotations

from contextlib import closing

from axiarch.errors import TrainingError, WorkspaceMissing
from axiarch.journal.inbox import Add, Request, send
from axiarch.journal.read import JournalReader
from axiarch.journal.workspace import Workspace
from axiarch.recipes.recipe import Recipe
from axiarch.text import shown
from axiarch.workflows.watching import newest


def steer_search(workspace: Workspace, number: int, request: Request) -> int:
    """Ask a running search for something; it obeys within a second, and says in its journal if it
    cannot.

    Nothing is read but what that takes, so that to ask is quick, however much has been trained.

    Parameters
    ----------
    number : int
        Of the search; 0 is the newest one.
    request : Request
        One of those in :mod:`axiarch.journal.inbox`.

    Returns
    -------
    int
        The number of the search.

    Raises
    ------
    WorkspaceMissing
        If no process runs this search.
    TrainingError
        If it has no such recipe.
    RecipeError
        If the recipe to add is none.
    """
    with closing(JournalReader(workspace.journal)) as reader:
        number = number or newest(reader, workspace)
        recipe = getattr(request, "recipe", 0)
        if recipe and not reader.holds(number, recipe):
            raise TrainingError(f"there is no recipe {recipe}", f"search {number}",
                                "see axiarch ranking")
        found = reader.search(number)
    owner = workspace.owner()
    if owner is None or owner.what != f"search {number}":
        over = found is not None and found.state in ("done", "failed")
        raise WorkspaceMissing(
            f"search {number} {'is over' if over else 'is not running'}", shown(workspace.folder),
            f"see its ranking: axiarch ranking {number}"
            if over else f"resume it first: axiarch resume {number}")
    if isinstance(request, Add):
        request = Add(dict(Recipe(request.values).changed_values()))
    send(workspace.search(number), request)
    return number
