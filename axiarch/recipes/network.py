"""The network line: one short text that says which hidden layers a network has.

    line     = part { ", " part }                     the output layer follows from the data
    part     = "hidden"                               as many layers as depth says, as wide as width
    and shape say
             | [ N " of " ] WIDTH                     fully connected: one layer, or N alike
             | N " narrowing from " WIDTH             N layers, each half as wide as the one before
             | [ N " of " ] "conv " CHANNELS          convolution: 3 x 3, stride 1, the size kept
             | [ "mean " ] "pool " SIZE               the largest (or the mean) of each SIZE x SIZE
             square
    behind a layer, in any order:
               an activation, "batch norm" | "layer norm" | "no norm", "drop " SHARE, "residual";
               of a convolution also "size " N, "stride " N, "valid"

What a part leaves open is as the recipe says: ``conv 8, pool 2, conv 16 batch norm, pool 2,
hidden``.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Mapping
from dataclasses import replace
from functools import lru_cache
from typing import Literal

from axiarch.errors import NotationError, RecipeError
from axiarch.recipes.bounds import MOST_CHARACTERS, is_whole
from axiarch.recipes.installed import full_name, is_full
from axiarch.recipes.layers import KINDS, Layer, Shape
from axiarch.recipes.members import ACTIVATIONS

NORMS = ("none", "batch", "layer")
#: Layers that a line may have: deeper ones are mistakes.
MOST_LAYERS = 256
_WORD = re.compile(r"\s*(\S+)")


#: Stands in a parsed line for the layers that depth, width and shape make.
HIDDEN: Literal["hidden"] = "hidden"
Part = Layer | Literal["hidden"]


@lru_cache(maxsize=4096)
def parse_network(text: str) -> tuple[Part, ...]:
    """Parse a network line.

    Raises
    ------
    NotationError
        At the word that does not fit, with what would be right.
    """
    if len(text) > MOST_CHARACTERS:
        raise NotationError(text[:80], 80, f"{len(text)} characters are too many",
                            f"give at most {MOST_CHARACTERS}")
    parts: list[Part] = []
    start = 0
    for piece in text.split(","):
        parts += _Words(text, start, start + len(piece)).part()
        start += len(piece) + 1
        if len(parts) > MOST_LAYERS:
            raise NotationError(text, 0, f"that makes {len(parts)} layers or more",
                                f"at most {MOST_LAYERS}")
    return tuple(parts)


class _Words:
    """The words of one part, read from left to right."""

    def __init__(self, text: str, start: int, end: int) -> None:
        self._text = text
        self._words = [(m[1], start + m.start(1)) for m in _WORD.finditer(text[start:end])]
        self._end = end
        self._at = 0

    def _next(self, wanted: str) -> str:
        if self._at >= len(self._words):
            raise NotationError(self._text, self._end, "the part ends too early",
                                f"expected {wanted}")
        self._at += 1
        return self._words[self._at - 1][0]

    def _take(self, *words: str) -> bool:
        here = tuple(word for word, _ in self._words[self._at : self._at + len(words)])
        if here != words:
            return False
        self._at += len(words)
        return True

    def _wrong(self, what: str, remedy: str) -> NotationError:
        return NotationError(self._text, self._words[self._at - 1][1], what, remedy)

    def _whole(self, wanted: str, most: int = 16384) -> int:
        word = self._next(wanted)
        if not is_whole(word) or not 1 <= int(word) <= most:
            raise self._wrong(f"{word!r} is not {wanted}", f"give a whole number from 1 to {most}")
        return int(word)

    def part(self) -> list[Part]:
        if self._take("hidden"):
            if self._at < len(self._words):
                self._next("")
                raise self._wrong(f"{self._words[self._at - 1][0]!r} does not belong behind hidden",
                                  "hidden layers take their width and depth from the recipe")
            return [HIDDEN]
        count = self._count()
        if isinstance(count, list):
            return list(self._modified(layer) for layer in self._alike(count))
        layer = self._layer()
        before = self._at
        made: list[Part] = []
        for _ in range(count):
            self._at = before
            made.append(self._modified(layer))
        return made

    def _alike(self, layers: list[Layer]) -> list[Layer]:
        """Return layers that differ, to be modified alike: each reads the same words."""
        before = self._at
        out = []
        for layer in layers:
            self._at = before
            out.append(self._modified(layer))
        self._at = len(self._words)
        return out

    def _count(self) -> int | list[Layer]:
        words = [word for word, _ in self._words[:3]]
        if len(words) > 1 and words[1] == "of":
            count = self._whole("a number of layers", MOST_LAYERS)
            self._take("of")
            return count
        if words[1:3] == ["narrowing", "from"]:
            count = self._whole("a number of layers", MOST_LAYERS)
            self._take("narrowing", "from")
            return [KINDS["dense"].made(width) for width in funnel(self._whole("a width"), count)]
        return 1

    def _layer(self) -> Layer:
        for kind in sorted(KINDS.values(), key=lambda each: -len(each.words)):
            if kind.words and self._take(*kind.words):
                return kind.made(self._whole(kind.number, kind.most))
        word = self._next("a layer")
        bare = next(kind for kind in KINDS.values() if not kind.words)
        if is_whole(word) and 1 <= int(word) <= bare.most:
            return bare.made(int(word))
        raise self._wrong(f"{word!r} is no layer",
                          "such as 64, 3 of 64, 2 narrowing from 128, conv 16, pool 2, hidden")

    def _modified(self, layer: Layer) -> Layer:
        while self._at < len(self._words):
            layer = self._modify(layer)
        return layer

    def _modify(self, layer: Layer) -> Layer:
        behind = KINDS[layer.kind].behind
        for name in behind:
            changed = _ENDINGS[name][1](self, layer)
            if changed is not None:
                return changed
        word = self._next("")
        raise self._wrong(f"{word!r} does not belong behind a {layer.kind} layer",
                          ", ".join(_ENDINGS[name][0] for name in behind) or "nothing")

    def activation(self, layer: Layer) -> Layer | None:
        """Take the name of an activation."""
        word = full_name("activation", self._words[self._at][0])
        if word not in ACTIVATIONS and not is_full(word):
            return None
        self._at += 1
        return replace(layer, activation=word)

    def norm(self, layer: Layer) -> Layer | None:
        """Take a normalisation."""
        for norm in NORMS:
            if self._take("no" if norm == "none" else norm):
                if not self._take("norm"):
                    raise self._wrong(f"{self._next('norm')!r} is not norm",
                                      "batch norm, layer norm or no norm")
                return replace(layer, norm=norm)
        return None

    def drop(self, layer: Layer) -> Layer | None:
        """Take a share of units that are silenced."""
        return replace(layer, drop=self._share()) if self._take("drop") else None

    def residual(self, layer: Layer) -> Layer | None:
        """Take a residual connection."""
        return replace(layer, residual=True) if self._take("residual") else None

    def size(self, layer: Layer) -> Layer | None:
        """Take the size of a window."""
        return replace(layer, size=self._whole("a size", 31)) if self._take("size") else None

    def stride(self, layer: Layer) -> Layer | None:
        """Take how far a window moves."""
        return replace(layer, stride=self._whole("a stride", 16)) if self._take("stride") else None

    def valid(self, layer: Layer) -> Layer | None:
        """Take that windows stay inside."""
        return replace(layer, valid=True) if self._take("valid") else None

    def _share(self) -> float:
        word = self._next("a share")
        try:
            share = float(word)
        except ValueError:
            share = -1.0
        if not 0 <= share <= 0.95:
            raise self._wrong(f"{word!r} is no share", "give a number from 0 to 0.95")
        return share


#: What may stand behind a layer, by the name that its kind gives: as people write it, and how it is
#: read.
_ENDINGS: Mapping[str, tuple[str, Callable[[_Words, Layer], Layer | None]]] = {
    "activation": ("an activation", _Words.activation),
    "norm": ("batch norm, layer norm, no norm", _Words.norm),
    "drop": ("drop 0.2", _Words.drop),
    "residual": ("residual", _Words.residual),
    "size": ("size 5", _Words.size),
    "stride": ("stride 2", _Words.stride),
    "valid": ("valid", _Words.valid),
}


def funnel(width: int, depth: int) -> list[int]:
    """Return `depth` widths, each half of the one before, none below 1."""
    return [max(width >> i, 1) for i in range(depth)]


def place_of(text: str, number: int, depth: int) -> int:
    """Return the character at which the part begins that makes layer `number` (from 1) of a
    network of `depth`.
    """
    start = 0
    for piece in text.split(","):
        made = _Words(text, start, start + len(piece)).part()
        number -= depth if made == [HIDDEN] else len(made)
        if number <= 0:
            return start + len(piece) - len(piece.lstrip())
        start += len(piece) + 1
    return 0


def layers_of(values: Mapping[str, object]) -> tuple[Layer, ...]:
    """Return the hidden layers of a recipe's values, nothing left open but the dropout that the
    recipe says.
    """
    activation, norm = str(values["activation"]), str(values["normalisation"])
    residual = values["residual"] == "yes"
    depth, width = int(str(values["depth"])), int(str(values["width"]))
    widths = funnel(width, depth) if values["shape"] == "funnel" else [width] * depth
    layers: list[Layer] = []
    for part in parse_network(str(values["network"])):
        layers += [Layer("dense", w, residual=residual)
                   for w in widths] if part == HIDDEN else [part]
    return tuple(each if KINDS[each.kind].fan_in is
                 None else replace(each,
                                   activation=each.activation or activation,
                                   norm=each.norm or norm,
                                   residual=each.residual or residual) for each in layers)


def shapes_of(layers: tuple[Layer, ...], shape: Shape) -> tuple[Shape, ...]:
    """Return what goes out of each layer when `shape` comes in.

    Raises
    ------
    RecipeError
        With the layer that cannot be, and the sizes.
    """
    out: list[Shape] = []
    for i, layer in enumerate(layers, 1):
        try:
            shape = layer.after(shape, f"layer {i} of the network")
        except RecipeError as error:
            error.layer = i
            raise
        out.append(shape)
    return tuple(out)
