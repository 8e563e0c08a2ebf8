"""Search files (TOML): a search that can be read, written, kept under version control and sent to
others.

    format = 1
    name = "first look"
    data = "hive states"
    seed = 7
    repeats = 2
    constraints = ["width * depth <= 1024"]

    [decisions]         # where data names a file: how it is read (docs/data.md)
    targets = ["state"]
    missing = ["-999"]

    [method]
    name = "random"
    recipes = 40

    [recipe]            # the base: fixed values
    epochs = 30

    [vary]              # the knobs: ranges in the short notation
    learning_rate = "1e-4 .. 1e-1 log"
"""

from __future__ import annotations

import json
import math
import re
import tomllib
from collections.abc import Mapping
from dataclasses import asdict, dataclass, field, replace
from typing import Any

from axiarch.errors import InputError, NotationError, RecipeError, SearchFileError
from axiarch.recipes.bounds import MOST_DIGITS, MOST_FILE
from axiarch.recipes.constraints import parse_constraint
from axiarch.recipes.fields import FIELDS
from axiarch.recipes.installed import is_full
from axiarch.recipes.members import OPEN
from axiarch.recipes.notation import parse
from axiarch.recipes.recipe import Recipe
from axiarch.recipes.space import Space, knob
from axiarch.text import shown

#: What a search makes of earlier ones on the same data.
USE, IGNORE = "use", "ignore"
#: The version of the file format written, and the latest one read.
FORMAT = 1


@dataclass(frozen=True)
class MethodChoice:
    """Which method proposes recipes, and its options by name (checked by the method itself)."""

    name: str = "guided_racing"
    options: Mapping[str, int | float | str | bool] = field(default_factory=dict)


@dataclass(frozen=True)
class Start:
    """Where the base recipe starts from.

    Attributes
    ----------
    search, run : int
        A run of an earlier search, which is continued; 0 where a model is named.
    at : {"last", "best"}
        From its last epoch or its best.
    model : str
        A kept model, whose weights are the first ones; the training itself begins at epoch 1.
    """

    search: int = 0
    run: int = 0
    at: str = "last"
    model: str = ""


@dataclass(frozen=True)
class Branch:
    """What a follow-up search comes from.

    Attributes
    ----------
    search, recipe : int
        The recipe that is its base.
    reason : str
        Why, in words.
    aside : bool
        Whether it only answers a question about that search: commands that name no search do not
        mean it.
    """

    search: int
    recipe: int
    reason: str = ""
    aside: bool = False


@dataclass(frozen=True)
class SearchFile:
    """All that defines a search.

    Attributes
    ----------
    name : str
        What people call it.
    data : str
        The data set's name in the workspace.
    space : Space
    method : MethodChoice
    seed : int
        Fixes every random number of the search.
    repeats : int
        Seeds each recipe is trained with.
    start : Start, optional
        Where the base recipe starts from, if not afresh.
    decisions : mapping
        How the file that `data` names is read, as the names of a data plan; checked when it is
        added.
    cluster : str
        Address of the Dask scheduler whose workers train, or ``local:4``; empty for worker
        processes on this machine. It changes no result.
    earlier : {"use", "ignore"}
        Whether runs that earlier searches of the workspace hold are taken over, and the method
        learns from them.
    confirm : int
        Fresh seeds on which the leader and what is tied with it are trained at the end; 0 for none.
    branch : Branch, optional
        What it comes from, where it is a follow-up search.
    """

    name: str = "search"
    data: str = ""
    space: Space = field(default_factory=Space)
    method: MethodChoice = field(default_factory=MethodChoice)
    seed: int = 1
    repeats: int = 2
    start: Start | None = None
    decisions: Mapping[str, Any] = field(default_factory=dict)
    cluster: str = ""
    earlier: str = USE
    confirm: int = 0
    branch: Branch | None = None

    def members(self) -> dict[str, str]:
        """Return the members of packages that its recipes name, each with the field that names
        it.
        """
        found: dict[str, str] = {}
        for name in (*OPEN, "network"):
            knob = self.space.varied(name)
            texts = knob.range.grid(0) if knob is not None else (self.space.base.word(name),)
            for word in " ".join(map(str, texts)).replace(",", " ").split():
                if is_full(word):
                    found[word] = OPEN.get(name, "activation")
        return found

    def with_space(self, space: Space) -> SearchFile:
        """Return a copy with another space."""
        return replace(self, space=space)


def read_search(text: str, where: str = "search file") -> SearchFile:
    """Read the text of a search file.

    Raises
    ------
    SearchFileError
        With the line, the key, what was read and what would be right.
    """
    if len(text) > MOST_FILE:
        raise SearchFileError(f"a search file of {len(text)} characters is too long", where,
                              f"give at most {MOST_FILE}")
    try:
        table = tomllib.loads(text)
    except (ValueError, RecursionError) as error:  # of which the errors of TOML are one
        why = shown(error, 120) if isinstance(error, ValueError) else "it is nested too deeply"
        raise SearchFileError(f"this is not TOML: {why}", where,
                              "see the example in docs/search-files.md") from None
    lines = _Lines(text, where)
    checked = _check_shape(table, lines)
    return SearchFile(
        name=checked.name,
        data=checked.data,
        seed=checked.seed,
        repeats=checked.repeats,
        method=MethodChoice(checked.method.name, dict(checked.method.model_extra or {})),
        space=_space(checked, lines),
        start=Start(**checked.start.model_dump()) if checked.start else None,
        decisions=checked.decisions,
        cluster=checked.cluster,
        earlier=checked.earlier,
        confirm=checked.confirm,
        branch=Branch(**checked.branch.model_dump()) if checked.branch else None,
    )


def write_search(search: SearchFile) -> str:
    """Return a search as the text of a search file that reads back as equal."""
    import tomlkit

    doc = tomlkit.document()
    doc.update({"format": FORMAT, "name": search.name, "data": search.data, "seed": search.seed,
                "repeats": search.repeats})
    if search.cluster:
        doc["cluster"] = search.cluster
    if search.confirm:
        doc["confirm"] = search.confirm
    if search.earlier != USE:
        doc["earlier"] = search.earlier
    if search.space.constraints:
        doc["constraints"] = [str(c) for c in search.space.constraints]
    method = tomlkit.table()
    method.update({"name": search.method.name, **search.method.options})
    doc["method"] = method
    if search.start:
        start = tomlkit.table()
        start.update(
            {"model": search.start.model} if search.start.model else
            {name: value for name, value in asdict(search.start).items() if name != "model"})
        doc["start"] = start
    if search.branch:
        branch = tomlkit.table()
        branch.update({name: value for name, value in asdict(search.branch).items()
                       if name != "aside" or value})
        doc["branch"] = branch
    if search.decisions:
        doc["decisions"] = dict(search.decisions)
    recipe = tomlkit.table()
    recipe.update(search.space.base.changed_values())
    doc["recipe"] = recipe
    vary = tomlkit.table()
    vary.update({k.name: str(k) for k in search.space.knobs})
    doc["vary"] = vary
    return tomlkit.dumps(doc)


class _Lines:
    """Finds the line of a key, for messages."""

    def __init__(self, text: str, where: str) -> None:
        self.rows = text.splitlines()
        self.where = where

    def of(self, key: str, table: str = "") -> str:
        current = ""
        for n, row in enumerate(self.rows, 1):
            header = re.match(r"\s*\[\s*([^\]]+?)\s*\]", row)
            if header:
                current = header[1]
                if key == "" and current == table:
                    return f"{self.where}, line {n}, [{table}]"
            elif current == table and re.match(rf"\s*[\"']?{re.escape(key)}[\"']?\s*=", row):
                return f"{self.where}, line {n}, {f'[{table}] ' if table else ''}{key}"
        return f"{self.where}, {f'[{table}] ' if table else ''}{key}"


def _check_shape(table: dict[str, Any], lines: _Lines) -> Any:
    """Check keys and types with a pydantic model (imported here, so that start-up need not wait
    for it).
    """
    import pydantic

    from axiarch.recipes._shape import SearchShape

    version = table.get("format", FORMAT)
    if isinstance(version, int) and version > FORMAT:
        raise SearchFileError(f"the file has format {version}; this program reads up to {FORMAT}",
                              lines.of("format"),
                              "use the version of the program that wrote it, or a later one")
    for name, value in _pairs(table.get("method")):
        if isinstance(value, float) and not math.isfinite(value):
            raise SearchFileError(f"{value} is not a finite number", lines.of(name, "method"),
                                  "give a number")
    try:
        return SearchShape.model_validate(table)
    except pydantic.ValidationError as error:
        first = error.errors(include_url=False)[0]
        path = [str(p) for p in first["loc"]]
        raise SearchFileError(*_said(first, path, lines)) from None


def _pairs(table: object) -> list[tuple[str, object]]:
    return list(table.items()) if isinstance(table, dict) else []


def _said(problem: Any, path: list[str], lines: _Lines) -> tuple[str, str, str]:
    in_table = path[0] in ("method", "recipe", "vary", "start", "branch") and len(path) > 1
    place = lines.of(path[1], path[0]) if in_table else lines.of(path[0])
    if problem["type"] == "start":
        return "it does not say where to start", lines.of("", "start"), problem["msg"]
    if problem["type"] == "extra_forbidden":
        import difflib

        from axiarch.recipes._shape import SearchShape

        if path[-1] == "folds":
            return "folds belong to the data set", place, ("give them there: axiarch data add "
                                                           "FILE --folds 5")
        if path[-1] == "seeds":
            return "no key is called 'seeds'", place, ("repeats = 3 trains every recipe with three "
                                                       "seeds")
        near = difflib.get_close_matches(path[-1], SearchShape.model_fields, n=1)
        known = ", ".join(SearchShape.model_fields)
        remedy = f"did you mean {near[0]}?" if near else f"the keys are {known}"
        return f"no key is called {path[-1]!r}", place, remedy
    kind, bounds = problem["type"], problem.get("ctx", {})
    if kind == "missing":
        return f"{path[-1]} is missing", lines.of("", path[0]), f"write {path[-1]} = …"
    if kind in ("model_type", "dict_type"):
        remedy = f"write the table [{path[0]}]" + (
            f", and name = {json.dumps(problem['input'])} below it"
            if path[0] == "method" and isinstance(problem["input"], str) else "")
    else:
        known = _REMEDIES.get(kind, "")
        remedy = known.format(**bounds) or problem["msg"][:1].lower() + problem["msg"][1:]
    return f"{shown(_brief(problem['input']), 60)} does not fit", place, remedy


#: What would be right, by what pydantic calls the mistake.
_REMEDIES: Mapping[str, str] = {
    "int_type": "give a whole number", "string_type": "give text in quotes",
    "bool_type": "give true or false", "list_type": "give a list: [\"…\", \"…\"]",
    "literal_error": "give {expected}", "string_too_short": "give some text",
    "string_too_long": "give at most {max_length} characters",
    "greater_than_equal": "give {ge} or more", "less_than_equal": "give {le} or less",
    "less_than": "give less than {lt}"}


def _brief(value: Any) -> str:
    """Return what was given, or what kind of thing where it is large."""
    if isinstance(value, list | dict):
        return "a table or list"
    return "a very large number" if isinstance(
        value, int) and abs(value) > 10**MOST_DIGITS else repr(value)


def _space(checked: Any, lines: _Lines) -> Space:
    base = _base(checked.recipe, lines)
    knobs = []
    for name, text in checked.vary.items():
        place = lines.of(name, "vary")
        try:
            knobs.append(knob(name, str(text)))
        except NotationError as error:
            raise SearchFileError(f"{error.what} ({error.where} of {error.text!r})", place,
                                  error.remedy) from None
        except InputError as error:
            raise SearchFileError(error.what, place, error.remedy) from None
    constraints = []
    for text in checked.constraints:
        try:
            constraints.append(parse_constraint(text))
        except NotationError as error:
            raise SearchFileError(f"{error.what} ({error.where} of {error.text!r})",
                                  lines.of("constraints"), error.remedy) from None
    try:
        return Space(base, tuple(knobs), tuple(constraints))
    except RecipeError as error:
        raise SearchFileError(error.what, f"{lines.of('', 'vary')} {error.where}",
                              error.remedy) from None


def _base(values: Mapping[str, object], lines: _Lines) -> Recipe:
    for name, value in values.items():
        try:
            Recipe({name: value})
        except RecipeError as error:
            if name in FIELDS and isinstance(value, str) and _is_range(name, value):
                raise SearchFileError(f"{value!r} is a range", lines.of(name, "recipe"),
                                      f"put it under [vary]: {name} = \"{value}\"") from None
            raise SearchFileError(error.what, lines.of(name, "recipe"), error.remedy) from None
    return Recipe(values)


def _is_range(name: str, text: str) -> bool:
    try:
        return parse(name, text).range is not None
    except InputError:
        return False
