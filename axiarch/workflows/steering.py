"""Ask a search that runs in the background for something: to pause, to cut a recipe, to take one in."""

from __future__ import annotations

from collections.abc import Mapping

from axiarch.errors import WorkspaceMissing
from axiarch.journal.inbox import Deed, Request, send
from axiarch.journal.workspace import Workspace
from axiarch.plain import shown
from axiarch.recipes.recipe import Recipe


def steer_search(workspace: Workspace, number: int, deed: Deed, recipe: int = 0, count: int = 0,
                 values: Mapping[str, object] | None = None) -> None:
    """Ask a running search for something; it obeys within a second, and says in its journal if it cannot.

    Parameters
    ----------
    deed : str
        Pause, resume, stop; cut, keep or more (epochs) of a recipe; add a recipe; budget (recipes in all); workers.
    recipe : int
        The recipe that is meant.
    count : int
        Epochs more, recipes in all, or workers.
    values : mapping, optional
        Of the recipe to add.

    Raises
    ------
    WorkspaceMissing
        If no process runs this search.
    RecipeError
        If the recipe to add is none.
    """
    owner = workspace.owner()
    if owner is None or owner.what != f"search {number}":
        raise WorkspaceMissing(f"search {number} is not running", shown(workspace.folder),
                               f"let it go on: axiarch resume {number}")
    if values is not None:
        values = Recipe(values).changed_values()
    send(workspace.search(number), Request(deed, recipe, count, values or {}))
