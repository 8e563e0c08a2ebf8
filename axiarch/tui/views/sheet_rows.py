"""The lines of the sheet: every value of a recipe and of the search, edited by one text each.

Pure functions from a search and a text to another search, so that they are tested without a screen.
"""

from __future__ import annotations

import math
from collections.abc import Callable, Mapping
from dataclasses import dataclass, replace

from axiarch import workflows
from axiarch.errors import InputError, NotationError
from axiarch.recipes.conditions import written
from axiarch.recipes.constraints import parse_constraint
from axiarch.recipes.fields import FIELDS
from axiarch.recipes.notation import parse
from axiarch.recipes.ranges import OneOf
from axiarch.recipes.searchfile import IGNORE, USE, MethodChoice, SearchFile
from axiarch.recipes.space import Knob, Space, inactive_knobs
from axiarch.text import shown
from axiarch.workflows.drafting import check_method, known_methods

#: What the line of the cluster says where worker processes on this machine train.
HERE = "here"


@dataclass(frozen=True)
class Line:
    """One line of the sheet.

    Attributes
    ----------
    key : str
        Name of the value.
    group, label, base, varies, unit, summary : str
        What the line shows; `varies` is empty for a fixed value.
    applies : bool
        Whether the value has any effect as things stand.
    recipe : bool
        Whether it belongs to the recipe (or to the search around it).
    """

    key: str
    group: str
    label: str
    base: str
    varies: str
    unit: str
    summary: str
    applies: bool = True
    recipe: bool = True

    @property
    def text(self) -> str:
        """What an editor starts with."""
        return self.varies or self.base


def lines(search: SearchFile) -> list[Line]:
    """Return all lines of the sheet: the recipe's values, then the search's."""
    space = search.space
    idle = inactive_knobs(space)
    out = []
    for name, field in FIELDS.items():
        knob = space.varied(name)
        felt = space.base.applies(name) or (knob is not None and name not in idle) or _may_apply(
            space, name)
        out.append(
            Line(name, field.group, field.label, written(space.base[name]),
                 str(knob) if knob else "", field.unit, field.summary, felt))
    return out + _search_lines(search)


def shown_lines(search: SearchFile, pictures: bool = True, amounts: bool = True) -> list[Line]:
    """Return the lines worth showing: values without effect as things stand are left out unless
    they vary.
    """
    return [line for line in lines(search) if line.varies or (
        line.applies and (pictures or line.group != "pictures")
        and not (line.recipe and FIELDS[line.key].only == ("classes" if amounts else "amounts")))]


def _may_apply(space: Space, name: str) -> bool:
    """Say whether a value has an effect in some recipe of the space, because what it needs
    varies.
    """
    needs = FIELDS[name].needs
    other = space.varied(needs.name) if needs else None
    return other is not None and needs is not None and any(
        needs.holds({needs.name: v}) for v in other.range.grid(5))


def _search_lines(search: SearchFile) -> list[Line]:
    kind = known_methods()[search.method.name]
    rows = [
        Line("method",
             "search",
             "method",
             search.method.name,
             "",
             "",
             f"{kind.name}: {kind.summary}",
             recipe=False)
    ]
    for option in kind.options:
        value = search.method.options.get(option.name, option.default)
        rows.append(
            Line(option.name,
                 "search",
                 option.name,
                 str(value),
                 "",
                 "",
                 option.summary,
                 recipe=False))
    constraints = ", ".join(map(str, search.space.constraints)) or "none"
    return [
        *rows,
        Line("repeats",
             "search",
             "repeats",
             str(search.repeats),
             "",
             "seeds",
             "seeds each recipe is trained with",
             recipe=False),
        Line("seed",
             "search",
             "seed",
             str(search.seed),
             "",
             "",
             "fixes every random number of the search",
             recipe=False),
        Line(
            "constraints",
            "search",
            "constraints",
            constraints,
            "",
            "",
            "comparisons that every recipe must satisfy, such as width * depth <= 256; none for "
            "none",
            recipe=False),
        Line("cluster",
             "search",
             "cluster",
             search.cluster or HERE,
             "",
             "",
             "who trains: here, or a Dask scheduler such as tcp://host:8786, or local:4",
             recipe=False),
        Line("confirm",
             "search",
             "confirm",
             str(search.confirm),
             "",
             "seeds",
             "fresh seeds for the leader and what is tied with it, in the end; 0 for none",
             recipe=False),
        Line("earlier",
             "search",
             "earlier results",
             search.earlier,
             "",
             "",
             "use or ignore what earlier searches on the same data know: runs are not trained "
             "twice, and the method starts from their losses",
             recipe=False),
        Line("name",
             "search",
             "name",
             search.name,
             "",
             "",
             "what the search is called",
             recipe=False),
    ]


def edited(search: SearchFile, line: Line, text: str) -> SearchFile:
    """Return the search with a line's text replaced.

    Raises
    ------
    InputError
        At the character that does not fit, where there is one.
    """
    if not line.recipe:
        return _edited_search(search, line.key, text.strip())
    typed = parse(line.key, text)
    space = search.space
    others = tuple(k for k in space.knobs if k.name != line.key)
    if typed.range is None:
        return search.with_space(
            replace(space, base=space.base.changed({line.key: typed.value}), knobs=others))
    position = next((i for i, k in enumerate(space.knobs) if k.name == line.key), len(others))
    knobs = (*others[:position], Knob(line.key, typed.range, typed.when), *others[position:])
    if isinstance(typed.range, OneOf) and typed.range.size == 1 and typed.when is None:
        knobs = others
    return search.with_space(replace(space, knobs=knobs))


def toggled(search: SearchFile, line: Line) -> SearchFile:
    """Return the search with a value varying over its usual range, or fixed at its base value
    again.
    """
    if not line.recipe:
        return search
    return edited(search, line, line.base if line.varies else FIELDS[line.key].ranged)


def stepped(line: Line, text: str, by: int) -> str:
    """Return the value after a typed one: the next choice, a whole number more, or the next of 1,
    2, 5, 10.

    Empty where there is nothing to step to.
    """
    field = FIELDS.get(line.key) if line.recipe else None
    if line.key == "earlier":
        return IGNORE if text == USE else USE
    if field is None or field.kind == "line":
        return ""
    try:
        value = parse(line.key, text).value
    except InputError:
        return ""
    if value is None:
        return ""
    if isinstance(value, str):
        return field.choices[(field.choices.index(value) + by) % len(field.choices)]
    if field.kind == "whole" and (value < 8 or field.high <= 64):
        return written(int(min(max(value + by, field.low), field.high)))
    if value == 0:
        return written(float(field.ranged.split()[0])) if by > 0 and ".." in field.ranged else text
    exponent = math.floor(math.log10(value) + 1e-9)
    steps = [m * 10.0**e for e in range(exponent - 1, exponent + 2) for m in (1, 2, 5)]
    if field.kind == "whole":
        steps = [float(2**i) for i in range(21)]
    near = [s for s in steps if (s > value * (1 + 1e-9) if by > 0 else s < value * (1 - 1e-9))]
    found = min(max((min if by > 0 else max)(near), field.low), field.high) if near else value
    return written(int(found) if field.kind == "whole" else float(f"{found:.4g}"))


def _edited_search(search: SearchFile, key: str, text: str) -> SearchFile:
    setters: Mapping[str, Callable[[], SearchFile]] = {
        "method": lambda: _with_method(search, text),
        "repeats": lambda: replace(search, repeats=_whole(text, 1, 1000)),
        "seed": lambda: replace(search, seed=_whole(text, 0, 2**63 - 1)),
        "name": lambda: replace(search, name=_name(text)),
        "cluster": lambda: replace(search, cluster=_cluster(text)),
        "earlier": lambda: replace(search, earlier=_use(text)),
        "confirm": lambda: replace(search, confirm=_whole(text, 0, 100)),
        "constraints": lambda: _with_constraints(search, text),
    }
    if key in setters:
        return setters[key]()
    options = {**search.method.options, key: _whole(text, 0, 10**9)}
    found = replace(search, method=MethodChoice(search.method.name, options))
    check_method(found)
    return found


def _with_method(search: SearchFile, name: str) -> SearchFile:
    methods = known_methods()
    if name not in methods:
        raise NotationError(name, 0, f"there is no method called {name!r}",
                            "the methods are " + ", ".join(methods))
    known = {o.name for o in methods[name].options}
    kept = {k: v for k, v in search.method.options.items() if k in known}
    return replace(search, method=MethodChoice(name, kept))


def _with_constraints(search: SearchFile, text: str) -> SearchFile:
    parts = [] if text in ("", "none") else [p.strip() for p in text.split(",")]
    return search.with_space(
        replace(search.space, constraints=tuple(parse_constraint(p) for p in parts)))


def _whole(text: str, low: int, high: int) -> int:
    try:
        value = int(text)
    except ValueError:
        raise NotationError(text, 0, f"{text!r} is not a whole number",
                            f"give one from {low} up") from None
    if not low <= value <= high:
        raise NotationError(text, 0, f"{value} is out of bounds",
                            f"give a whole number from {low} to {high}")
    return value


def _cluster(text: str) -> str:
    """Return the address of a cluster that the user has typed; empty for this machine."""
    if text in ("", HERE):
        return ""
    workflows.check_address(text)
    return text


def _use(text: str) -> str:
    if text not in (USE, IGNORE):
        raise NotationError(text, 0, f"{text!r} is not known", f"type {USE} or {IGNORE}")
    return text


def _name(text: str) -> str:
    if not text:
        raise InputError("a name cannot be empty", "name", "type a word or two")
    return shown(text, 200)


def terms(line: Line) -> str:
    """Return what a value is counted in, its default and what it may be; nothing for lines of
    the search.
    """
    if not line.recipe:
        return ""
    field = FIELDS[line.key]
    unit = f"{field.unit[0].upper()}{field.unit[1:]}. " if field.unit else ""
    return f"{unit}Default {written(field.default)}; {field.wanted()}."


def meaning(line: Line, text: str) -> str:
    """Say what a text would do to a line, for the hint below the editor; raises as
    :func:`edited`.
    """
    if not line.recipe:
        return line.summary
    typed = parse(line.key, text)
    if typed.range is None:
        return f"fixed at {text.strip()} {line.unit}".rstrip()
    size = typed.range.size
    how = "a continuum" if size is None else f"{size} values"
    if size is not None and 1 < size <= 12:
        how += ": " + " ".join(written(v) for v in typed.range.grid(12))
    return f"varies over {how}" + (f", only when {typed.when}" if typed.when else "")
