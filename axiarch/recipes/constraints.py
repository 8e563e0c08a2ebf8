"""Constraints between the values of a recipe: ``width * depth <= 1024``.

The text is read with Python's own expression grammar and walked by hand; nothing in it is ever run.
"""

from __future__ import annotations

import ast
import operator
import re
import warnings
from collections.abc import Callable, Mapping
from dataclasses import dataclass
from functools import lru_cache

from axiarch.errors import NotationError
from axiarch.recipes.bounds import MOST_CHARACTERS, MOST_TERMS
from axiarch.recipes.conditions import Value
from axiarch.recipes.fields import EARLIER_NAMES, FIELDS

_SUMS: Mapping[type[ast.operator], Callable[[float, float], float]] = {
    ast.Add: operator.add, ast.Sub: operator.sub, ast.Mult: operator.mul, ast.Div: operator.truediv,
}
_COMPARE: Mapping[type[ast.cmpop], Callable[[float, float], bool]] = {
    ast.LtE: operator.le, ast.Lt: operator.lt, ast.GtE: operator.ge, ast.Gt: operator.gt,
    ast.Eq: operator.eq, ast.NotEq: operator.ne,
}


_NUMBERS = ("whole", "real")
_NAME = re.compile(r"[a-z]\w*")
#: What a constraint is made of, for counting.
_SIGNS = re.compile(r"[\w.]+|[^\w\s]")


@dataclass(frozen=True)
class Constraint:
    """A comparison of sums and products of values that every recipe of a space must satisfy."""

    text: str

    def holds(self, recipe: Mapping[str, Value]) -> bool:
        """Say whether a recipe satisfies the constraint."""
        tree = _tree(self.text)
        values = [_worth(side, recipe) for side in (tree.left, *tree.comparators)]
        return all(_COMPARE[type(sign)](a, b)
                   for sign, a, b in zip(tree.ops, values, values[1:], strict=False))

    def __str__(self) -> str:
        return self.text


def parse_constraint(text: str) -> Constraint:
    """Read a constraint, or raise :class:`NotationError` at the character that does not fit."""
    _tree(text)
    return Constraint(_NAME.sub(lambda name: EARLIER_NAMES.get(name[0], name[0]), text.strip()))


@lru_cache(maxsize=256)
def _tree(text: str) -> ast.Compare:
    stripped = text.strip()
    if len(text) > MOST_CHARACTERS or len(_SIGNS.findall(stripped)) > MOST_TERMS:
        raise NotationError(
            text[:80], 80, "the constraint is too long", f"give at most {MOST_TERMS} "
            "names, numbers and signs, or several constraints")
    try:
        with warnings.catch_warnings():
            warnings.simplefilter("ignore")
            tree = ast.parse(stripped, mode="eval").body
    except (SyntaxError, ValueError, RecursionError, MemoryError) as error:
        at = min(max((getattr(error, "offset", None) or 1) - 1, 0), len(text))
        raise NotationError(text, at, "this is not a comparison of values",
                            "such as width * depth <= 1024") from None
    if not isinstance(tree, ast.Compare):
        raise NotationError(text, len(text), "nothing is compared", "such as width * depth <= 1024")
    for sign in tree.ops:
        if type(sign) not in _COMPARE:
            raise NotationError(text, tree.left.end_col_offset or 0, "this comparison is not known",
                                "one of < <= > >= == !=")
    for side in (tree.left, *tree.comparators):
        _check(side, text)
    return tree


def _check(node: ast.expr, text: str) -> None:
    if isinstance(node, ast.BinOp) and type(node.op) in _SUMS:
        _check(node.left, text)
        _check(node.right, text)
    elif isinstance(node, ast.Name):
        _check_name(node, text)
    elif not (isinstance(node, ast.Constant) and isinstance(node.value, int | float)
              and not isinstance(node.value, bool) and abs(node.value) < 1e300):
        raise NotationError(text, node.col_offset,
                            "this is neither a number of usual size nor a value of the recipe",
                            "use names of values, numbers and + - * /")


def _check_name(node: ast.Name, text: str) -> None:
    node.id = EARLIER_NAMES.get(node.id, node.id)
    if node.id not in FIELDS:
        raise NotationError(
            text, node.col_offset, f"no value is called {node.id!r}",
            "the numbers are " + ", ".join(n for n, f in FIELDS.items() if f.kind in _NUMBERS))
    if FIELDS[node.id].kind not in _NUMBERS:
        raise NotationError(
            text, node.col_offset, f"{node.id} is a text, not a number",
            "use names of numeric values; a choice can only be a condition: … when optimiser = adam"
        )


def _worth(node: ast.expr, recipe: Mapping[str, Value]) -> float:
    if isinstance(node, ast.BinOp):
        left, right = _worth(node.left, recipe), _worth(node.right, recipe)
        if isinstance(node.op, ast.Div) and right == 0:
            return float("inf")
        return _SUMS[type(node.op)](left, right)
    if isinstance(node, ast.Name):
        return float(recipe[node.id])
    assert isinstance(node, ast.Constant) and isinstance(node.value, int | float)
    return float(node.value)
