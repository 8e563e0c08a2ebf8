"""The search being put together: its base recipe and what varies."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import replace

from axiarch.data.dataset import Dataset
from axiarch.engine import memory
from axiarch.engine.network import NetworkShape
from axiarch.engine.schedules import rates
from axiarch.errors import InputError, RecipeError, not_written
from axiarch.files import write_whole
from axiarch.journal.workspace import Workspace
from axiarch.recipes.ranges import OneOf
from axiarch.recipes.recipe import Recipe
from axiarch.recipes.searchfile import MethodChoice, SearchFile, read_search, write_search
from axiarch.recipes.space import Space, space
from axiarch.runner.material import shape_of
from axiarch.search.method import Method
from axiarch.search.methods import METHODS, make_method
from axiarch.text import shown

#: What varies in a search that nobody has edited yet: the value that matters most.
FIRST_KNOBS = {"learning_rate": "1e-4 .. 1e-1 log"}


def new_search(data: Dataset,
               *,
               name: str = "search",
               base: Mapping[str, object] | None = None,
               vary: Mapping[str, str] | None = None,
               constraints: Sequence[str] = (),
               method: str = "guided_racing",
               seed: int = 1,
               repeats: int = 2,
               **options: int) -> SearchFile:
    """Return a search on `data`, from plain values and texts in the short notation.

    Parameters
    ----------
    base : mapping, optional
        Values of the base recipe that differ from the defaults.
    vary : mapping, optional
        Ranges by name, such as ``{"learning_rate": "1e-4 .. 1e-1 log"}``.
    constraints : sequence of str, optional
        Such as ``"width * depth <= 1024"``.
    **options
        Options of the method, such as ``recipes=40``.

    Raises
    ------
    InputError
        On a name, value or range that does not fit.
    """
    if data.encoding.picture is not None:
        base = {"network": FIRST_PICTURE_NETWORK, "depth": 1, **(base or {})}
    made = space(base, FIRST_KNOBS if vary is None else vary, constraints)
    return SearchFile(name, data.folder.name, made, MethodChoice(method, options), seed, repeats)


#: The network that pictures begin with.
FIRST_PICTURE_NETWORK = "conv 8, pool 2, conv 16, pool 2, hidden"


def network_shape(recipe: Recipe, data: Dataset) -> NetworkShape:
    """Return the network that a recipe makes on a data set: its layers, their shapes and
    parameters.

    Raises
    ------
    RecipeError
        If it cannot be built, with the layer and the sizes.
    """
    return shape_of(recipe, data)


def run_bytes(recipe: Recipe, data: Dataset) -> int:
    """Return the bytes that one run of a recipe takes on a data set at the most."""
    return memory.run_bytes(shape_of(recipe, data), data.rows["train"])


def check_networks(search: SearchFile, data: Dataset) -> None:
    """Raise where a network of a search's space cannot be built on its data.

    Raises
    ------
    RecipeError
    """
    varied = search.space.varied("network")
    lines = varied.values if isinstance(varied, OneOf) else (search.space.base.word("network"),)
    for line in lines:
        network_shape(search.space.base.changed({"network": line}), data)


def known_methods() -> Mapping[str, type[Method]]:
    """Return the methods of search by name."""
    return METHODS


def check_method(search: SearchFile) -> None:
    """Raise where a search's method or its options do not fit.

    Raises
    ------
    RecipeError
    """
    make_method(search.method, search.space, search.seed)


def rates_at(recipe: Recipe, steps: Sequence[int], per_epoch: int) -> list[float]:
    """Return the learning rate of a recipe at some steps (T,) of the optimiser, from 0."""
    return [float(rates(recipe, step, 1, per_epoch)[0]) for step in steps]


def load_draft(workspace: Workspace, data: Dataset) -> SearchFile:
    """Return the draft kept in the workspace, for `data`; a fresh one if there is none or it
    cannot be read.
    """
    kept = _kept(workspace)
    if kept is None:
        return new_search(data)
    kept = replace(kept, data=data.folder.name)
    try:
        check_networks(kept, data)
    # such as convolutions on a table: the network of the draft goes, the rest stays
    except RecipeError:
        return kept.with_space(
            replace(kept.space,
                    base=kept.space.base.changed({"network": "hidden"}),
                    knobs=tuple(k for k in kept.space.knobs if k.name != "network")))
    pictures = data.encoding.picture is not None and kept.space.varied("network") is None
    if pictures and kept.space.base.word("network") == "hidden":
        return kept.with_space(
            replace(kept.space, base=kept.space.base.changed({"network": FIRST_PICTURE_NETWORK})))
    return kept


def alone(search: SearchFile) -> SearchFile:
    """Return a search that trains the base recipe of another, once."""
    return replace(search, name="base alone", space=Space(search.space.base), repeats=1,
                   method=MethodChoice("grid", {}))


def draft_data(workspace: Workspace) -> str:
    """Return the name of the data set that the draft is for, or of the first there is; empty if
    there is none.
    """
    kept, names = _kept(workspace), workspace.data_names()
    if kept is not None and workspace.data(kept.data).name in names:
        return workspace.data(kept.data).name
    return names[0] if names else ""


def _kept(workspace: Workspace) -> SearchFile | None:
    try:
        return read_search(workspace.draft.read_text(encoding="utf-8"), shown(workspace.draft))
    except (OSError, UnicodeDecodeError, InputError):
        return None


def save_draft(workspace: Workspace, search: SearchFile) -> None:
    """Keep the draft in the workspace."""
    try:
        write_whole(workspace.draft, write_search(search))
    except OSError as error:
        raise not_written("the draft cannot be kept", shown(workspace.draft), error,
                          "change the permissions; the draft stays as it was") from None
