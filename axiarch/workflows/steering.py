"""Ask a search for something: to pause, to cut a recipe, to take one in, to train more seeds.

What makes a search go on can be asked of one that is over: it is resumed with the request.
"""

from __future__ import annotations

from contextlib import closing

from axiarch.errors import TrainingError, WorkspaceMissing
from axiarch.journal.inbox import EXTENDING, Add, Request, Seeds, send
from axiarch.journal.read import JournalReader
from axiarch.journal.workspace import Workspace
from axiarch.recipes.recipe import Recipe
from axiarch.text import shown
from axiarch.workflows.snapshot import Snapshot
from axiarch.workflows.starting import check_free, resume_search
from axiarch.workflows.watching import newest

#: Seeds that the leader is measured on again where the ranking advises nothing.
_FRESH = 5


def seeds_wanted(snapshot: Snapshot, recipes: tuple[int, ...] = (), count: int = 0
                 ) -> tuple[tuple[int, ...], int]:
    """Return recipes and on how many more seeds to train them: as given, or as the ranking
    advises.
    """
    advice = snapshot.ranking.advice
    if not recipes and advice is not None and advice.recipes:
        recipes, count = advice.recipes, count or advice.seeds
    if not recipes:
        recipes = tuple(row.recipe for row in snapshot.ranking.tied[:_FRESH])
    if not recipes and snapshot.ranking.rows:
        recipes = tuple(row.recipe for row in snapshot.ranking.rows[:_FRESH])
    return recipes, count or _FRESH


def steer_search(workspace: Workspace, number: int, request: Request) -> int:
    """Ask a search for something; it obeys within a second, and says in its journal if it cannot.

    Nothing is read but what that takes, so that to ask is quick, however much has been trained. A
    search that is not running is resumed for more recipes, epochs or seeds.

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
        If no process runs this search, and the request is none that makes it go on.
    TrainingError
        If it has no such recipe.
    RecipeError
        If the recipe to add is none.
    """
    with closing(JournalReader(workspace.journal)) as reader:
        number = number or newest(reader, workspace)
        named = request.recipes if isinstance(request, Seeds) else (getattr(request, "recipe", 0),)
        for recipe in named:
            if recipe and not reader.holds(number, recipe):
                raise TrainingError(f"there is no recipe {recipe}", f"search {number}",
                                    "see axiarch ranking")
        found = reader.search(number)
    owner = workspace.owner()
    ended = found is not None and found.state in ("done", "failed", "stopped")
    running = not ended and owner is not None and owner.what == f"search {number}"
    if isinstance(request, Add):
        request = Add(dict(Recipe(request.values).changed_values()))
    if not running and isinstance(request, EXTENDING) and found is not None:
        check_free(workspace)
        send(workspace.search(number), request)
        resume_search(workspace, number, extended=True)
        return number
    if not running:
        over = found is not None and found.state in ("done", "failed")
        raise WorkspaceMissing(
            f"search {number} {'is over' if over else 'is not running'}", shown(workspace.folder),
            f"see its ranking: axiarch ranking {number}"
            if over else f"resume it first: axiarch resume {number}")
    send(workspace.search(number), request)
    return number
