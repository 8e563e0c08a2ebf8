"""The short notation for values, ranges and conditions, parsed once into immutable values.

    values    = "16 | 32 | 64"                     one of
              | "1e-4 .. 1e-1 log"                 a continuum, even in the logarithm
              | "0 .. 0.6"                         a continuum, or whole numbers for a whole value
              | "8 .. 512 doubling"                8 16 32 … 512
              | "0 .. 0.6 step 0.1"                evenly spaced values
    condition = values " when " name sign value { "|" value }        sign is = != < <= > >=

Every mistake is a :class:`~axiarch.errors.NotationError` at its character.
"""

from __future__ import annotations

import re
from collections.abc import Sequence
from dataclasses import dataclass
from functools import lru_cache

from axiarch.errors import NotationError, RecipeError
from axiarch.recipes.bounds import MOST_CHARACTERS, MOST_DIGITS, MOST_VALUES
from axiarch.recipes.conditions import Condition, Value, written
from axiarch.recipes.fields import EARLIER_NAMES, FIELDS, Field, field_named
from axiarch.recipes.network import parse_network
from axiarch.recipes.ranges import Ladder, OneOf, Range, Span, Whole

_TOKEN = re.compile(
    r"\s*(?:(?P<number>[+-]?(?:\d+\.(?!\.)\d*|\.\d+|\d+)(?:[eE][+-]?\d+)?(?![\w]))"
    r"|(?P<word>[A-Za-z_]\w*)|(?P<sign>\.\.|\||!=|<=|>=|=|<|>))", re.ASCII
)


@dataclass(frozen=True)
class _Token:
    kind: str
    text: str
    position: int


@dataclass(frozen=True)
class Typed:
    """What was typed for one value of a recipe.

    Attributes
    ----------
    value : Value or None
        The fixed value, if one was typed.
    range : Range or None
        The range, if one was typed.
    when : Condition or None
    """

    value: Value | None = None
    range: Range | None = None
    when: Condition | None = None


@lru_cache(maxsize=4096)
def parse(name: str, text: str) -> Typed:
    """Parse what was typed for the value called `name`.

    Raises
    ------
    NotationError
        At the character that does not fit.
    RecipeError
        If no value is called `name`.
    """
    field = field_named(name)
    if len(text) > MOST_CHARACTERS:
        raise NotationError(text[:80], 80, f"{len(text)} characters are too many",
                            f"give at most {MOST_CHARACTERS}")
    return _lines(field, text) if field.kind == "line" else _Parser(field, text).parse()


def fixed_values(texts: Sequence[str]) -> dict[str, Value]:
    """Return values typed as ``name=value``, such as ``learning_rate=0.01``.

    Raises
    ------
    InputError
        Where one is not of that form, unknown, out of bounds, or a range.
    """
    found: dict[str, Value] = {}
    for text in texts:
        name, sign, value = text.partition("=")
        if not sign:
            raise NotationError(text, len(text), "a name without a value", "write it as name=value")
        typed = parse(name.strip(), value.strip())
        if typed.value is None:
            raise NotationError(text,
                                len(name) + 1, "a range where one value is wanted",
                                "give one value")
        found[name.strip()] = typed.value
    return found


def parse_range(name: str, text: str) -> tuple[Range, Condition | None]:
    """Parse a range for the value called `name`; a single value is a range of one."""
    typed = parse(name, text)
    if typed.range is None:
        assert typed.value is not None
        return OneOf((typed.value,)), typed.when
    return typed.range, typed.when


def _lines(field: Field, text: str) -> Typed:
    """Parse one line or several with bars between, each with a grammar of its own."""
    found: list[Value] = []
    start = 0
    for piece in text.split("|"):
        lead = len(piece) - len(piece.lstrip())
        try:
            parse_network(piece.strip())
        except NotationError as error:
            raise NotationError(text, min(start + lead + error.position, len(text)), error.what,
                                error.remedy) from None
        value = field.check(piece.strip())
        if value in found:
            raise NotationError(text, start + lead, f"{value} is listed twice",
                                "name each line once")
        if len(found) >= MOST_VALUES:
            raise NotationError(text, start + lead, "too many lines are listed",
                                f"give at most {MOST_VALUES}")
        found.append(value)
        start += len(piece) + 1
    return Typed(value=found[0]) if len(found) == 1 else Typed(range=OneOf(tuple(found)))


class _Parser:
    """Recursive descent over the tokens of one text."""

    def __init__(self, field: Field, text: str) -> None:
        self.field = field
        self.text = text
        self.tokens = self._tokens(text)
        self.index = 0

    def _tokens(self, text: str) -> list[_Token]:
        found, position = [], 0
        end = len(text.rstrip())
        while position < end:
            match = _TOKEN.match(text, position)
            if match is None or match.lastgroup is None:
                start = position + len(text[position:]) - len(text[position:].lstrip())
                raise self._error(start,
                                  f"{_piece(text, start)!r} is not a number, a word or a sign",
                                  self._forms())
            kind, word = match.lastgroup, match[match.lastgroup]
            if kind == "number" and len(word) > MOST_DIGITS:
                raise self._error(match.start(kind),
                                  f"a number of {len(word)} characters is too long",
                                  f"give at most {MOST_DIGITS}")
            found.append(_Token(kind, word, match.start(kind)))
            position = match.end()
        return found

    # -- grammar ---------------------------------------------------------------------------------

    def parse(self) -> Typed:
        if not self.tokens:
            raise self._error(len(self.text), "nothing was typed", self._forms())
        first_at = self._here()
        first = self._value()
        if self._take(".."):
            found: Range | None = self._span(first, first_at)
        elif self._peek("|"):
            found = self._choice(first, first_at)
        else:
            found = None
        when = self._when()
        if self.index < len(self.tokens):
            raise self._unexpected()
        if found is None:
            if when is not None:
                return Typed(range=OneOf((first,)), when=when)
            return Typed(value=first)
        return Typed(range=found, when=when)

    def _choice(self, first: Value, first_at: int) -> OneOf:
        values = {first: None}
        while self._take("|"):
            at = self._here()
            value = self._value()
            if value in values:
                raise self._error(at, f"{written(value)} is listed twice", "name each value once")
            if len(values) >= MOST_VALUES:
                raise self._error(at, "too many values are listed",
                                  f"give at most {MOST_VALUES}, or a range")
            values[value] = None
        return OneOf(tuple(values))

    def _span(self, low: Value, low_at: int) -> Range:
        if isinstance(low, str):
            raise self._error(low_at, f"{self.field.label} has no order, so it has no range",
                              f"separate the words: {' | '.join(self.field.choices)}")
        high_at = self._here()
        high = self._value()
        assert not isinstance(high, str)
        if high <= low:
            raise self._error(high_at, f"{written(high)} is not above {written(low)}",
                              "give the lower end first")
        how_at = self._here()
        if self._take("doubling"):
            return self._doubling(low, high, low_at, high_at)
        if self._take("step"):
            return self._stepped(low, high, high_at)
        log = self._take("log")
        if log and low <= 0:
            raise self._error(low_at, f"{written(low)} has no logarithm",
                              "start above 0, or leave out log")
        if self.index < len(self.tokens) and not self._peek("when"):
            raise self._error(how_at, f"{self.tokens[self.index].text!r} does not belong here",
                              "after a range: log, doubling, step, when, or nothing")
        if self.field.kind == "whole":
            return Whole(int(low), int(high), log)
        return Span(float(low), float(high), log)

    def _doubling(self, low: int | float, high: int | float, low_at: int, high_at: int) -> Ladder:
        if low <= 0:
            raise self._error(low_at, f"{written(low)} does not grow by doubling", "start above 0")
        rung: int | float = low
        while rung * 2 <= high:
            rung *= 2
        if rung != high:
            raise self._error(high_at,
                              f"{written(low)} doubled repeatedly does not reach {written(high)}",
                              f"end at {written(rung)} or {written(rung * 2)}")
        return Ladder(low, high)

    def _stepped(self, low: int | float, high: int | float, high_at: int) -> Ladder:
        at = self._here()
        token = self._next("a step")
        if token.kind != "number" or not 0 < float(token.text) < float("inf"):
            raise self._error(at, f"{token.text!r} is not a step", "give a number above 0")
        step: int | float = float(token.text)
        if self.field.kind == "whole":
            if step != int(step):
                raise self._error(at, f"{token.text} is not a whole number",
                                  f"{self.field.label} is whole")
            step = int(step)
        steps = (high - low) / step
        if steps > MOST_VALUES:
            raise self._error(at, f"that makes more than {MOST_VALUES} values",
                              "take a larger step, or leave it out")
        if abs(steps - round(steps)) > 1e-6 or round(steps) < 1:
            last = low + max(int(steps + 1e-6), 1) * step
            raise self._error(
                high_at,
                f"steps of {written(step)} from {written(low)} do not reach {written(high)}",
                f"end at {written(float(f'{last:.12g}'))}")
        return Ladder(low, high, step)

    def _when(self) -> Condition | None:
        if not self._take("when"):
            return None
        at = self._here()
        name = self._next("the name of a value").text
        name = EARLIER_NAMES.get(name, name)
        if name not in FIELDS:
            raise self._error(at, f"no value is called {name!r}", _near(name))
        if name == self.field.name:
            raise self._error(at, f"{name} cannot depend on itself", "name another value")
        sign_at = self._here()
        sign = self._next("a comparison").text
        if sign not in ("=", "!=", "<", "<=", ">", ">="):
            raise self._error(sign_at, f"{sign!r} is not a comparison", "one of = != < <= > >=")
        other = FIELDS[name]
        if other.kind == "line":
            raise self._error(at, f"{name} is a text of its own, so nothing can depend on it",
                              "name a number or a choice")
        if other.kind == "choice" and sign not in ("=", "!="):
            raise self._error(sign_at, f"{name} has no order", "compare it with = or !=")
        values = [self._value(other)]
        while self._take("|"):
            values.append(self._value(other))
        if len(values) > 1 and sign not in ("=", "!="):
            raise self._error(sign_at, f"{sign} compares with one value", "leave one")
        return Condition(name, sign, tuple(values))

    # -- tokens ----------------------------------------------------------------------------------

    def _value(self, field: Field | None = None) -> Value:
        field = field or self.field
        at = self._here()
        token = self._next(field.wanted())
        if field.kind == "choice":
            raw: object = token.text
        elif token.kind == "number":
            raw = _number(token.text)
        else:
            raise self._error(at, f"{token.text!r} is not a number", f"give {field.wanted()}")
        try:
            return field.check(raw)
        except RecipeError as error:
            raise self._error(at, error.what, error.remedy) from None

    def _here(self) -> int:
        return self.tokens[self.index].position if self.index < len(self.tokens) else len(self.text)

    def _peek(self, text: str) -> bool:
        return self.index < len(self.tokens) and self.tokens[self.index].text == text

    def _take(self, text: str) -> bool:
        if self._peek(text):
            self.index += 1
            return True
        return False

    def _next(self, wanted: str) -> _Token:
        if self.index >= len(self.tokens):
            raise self._error(len(self.text), "the text ends too early", f"expected {wanted}")
        token = self.tokens[self.index]
        self.index += 1
        return token

    def _unexpected(self) -> NotationError:
        token = self.tokens[self.index]
        cure = "separate values with |" if token.kind in ("number", "word") else self._forms()
        return self._error(token.position, f"{token.text!r} does not belong here", cure)

    def _forms(self) -> str:
        if self.field.kind == "choice":
            return f"such as {' | '.join(self.field.choices[:2])}"
        low = written(self.field.default)
        return f"such as {low}, or {_example(self.field)}"

    def _error(self, position: int, what: str, remedy: str) -> NotationError:
        return NotationError(self.text, position, what, remedy)


def _number(text: str) -> int | float:
    try:
        return int(text)
    except ValueError:
        return float(text)


def _piece(text: str, start: int) -> str:
    return text[start:].split()[0] if text[start:].split() else ""


def _example(field: Field) -> str:
    if field.kind == "whole":
        return "16 | 32 | 64, or 8 .. 64 doubling" if field.high > 64 else "1 .. 4"
    return "1e-4 .. 1e-1 log" if field.name == "learning_rate" else "0 .. 0.5"


def _near(name: str) -> str:
    try:
        field_named(name)
    except RecipeError as error:
        return error.remedy
    return ""
