"""The network line: one short text that says which hidden layers a network has.

    line     = part { ", " part }                     the output layer follows from the data
    part     = "hidden"                               as many layers as depth says, as wide as width and shape say
             | [ N " of " ] WIDTH                     fully connected: one layer, or N alike
             | N " narrowing from " WIDTH             N layers, each half as wide as the one before
             | [ N " of " ] "conv " CHANNELS          convolution: 3 x 3, stride 1, the size kept
             | [ "mean " ] "pool " SIZE               the largest (or the mean) of each SIZE x SIZE square
    behind a layer, in any order:
               an activation, "batch norm" | "layer norm" | "no norm", "drop " SHARE, "residual";
               of a convolution also "size " N, "stride " N, "valid"

What a part leaves open is as the recipe says: ``conv 8, pool 2, conv 16 batch norm, pool 2, hidden``.
"""

from __future__ import annotations

import re
from collections.abc import Mapping
from dataclasses import dataclass, replace
from functools import lru_cache
from typing import Literal

from axiarch.errors import NotationError, RecipeError

Shape = tuple[int, ...]

#: What a hidden unit may do to its sum.
ACTIVATIONS = ("relu", "leaky_relu", "elu", "gelu", "silu", "tanh", "sigmoid", "softplus", "identity")
NORMS = ("none", "batch", "layer")
#: Layers that a line may have: deeper ones are mistakes.
MOST_LAYERS = 256
_WORD = re.compile(r"\s*(\S+)")


@dataclass(frozen=True)
class Layer:
    """One hidden layer.

    Attributes
    ----------
    kind : {"dense", "conv", "pool"}
    units : int
        Units H, or channels C of a convolution.
    size, stride : int
        Of a convolution's window or a pool's square.
    valid : bool
        Whether windows stay inside the picture, which then shrinks.
    mean : bool
        Whether a pool takes the mean.
    activation, norm : str
        Empty is as the recipe says.
    drop : float or None
        Share of units silenced; None is as the recipe says.
    residual : bool
        Whether what comes in is added to what goes out, where the shapes agree.
    """

    kind: Literal["dense", "conv", "pool"]
    units: int = 0
    size: int = 0
    stride: int = 1
    valid: bool = False
    mean: bool = False
    activation: str = ""
    norm: str = ""
    drop: float | None = None
    residual: bool = False

    @property
    def name(self) -> str:
        """The layer as people read it."""
        if self.kind == "pool":
            return f"{'mean ' if self.mean else ''}pool {self.size}"
        if self.kind == "conv":
            return f"conv {self.units} {self.size}x{self.size}" + (f" stride {self.stride}" if self.stride > 1 else "")
        return self.activation or "dense"

    def after(self, shape: Shape, place: str) -> Shape:
        """Return the shape (H, W, C) or (H,) that comes of `shape`.

        Raises
        ------
        RecipeError
            If the layer cannot take it.
        """
        if self.kind == "dense":
            return (self.units,)
        if len(shape) != 3:
            raise RecipeError(f"{self.name} needs a picture; what comes in is {said(shape)}", place,
                              "put it before the fully connected layers, on data of pictures")
        height, width, channels = shape
        if (self.kind == "pool" or self.valid) and min(height, width) < self.size:
            raise RecipeError(f"{self.name} does not fit into {said(shape)}", place,
                              "leave it out, or take a smaller size")
        if self.kind == "pool":
            return (height // self.size, width // self.size, channels)
        loss = self.size - 1 if self.valid else 0
        return (-(-(height - loss) // self.stride), -(-(width - loss) // self.stride), self.units)


def said(shape: Shape) -> str:
    """Return a shape as people read it."""
    if len(shape) == 1:
        return f"{shape[0]} numbers"
    return f"{shape[0]} x {shape[1]} in {shape[2]} channel{'s' if shape[2] != 1 else ''}"


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
    parts: list[Part] = []
    start = 0
    for piece in text.split(","):
        parts += _Words(text, start, start + len(piece)).part()
        start += len(piece) + 1
    if len(parts) > MOST_LAYERS:
        raise NotationError(text, 0, f"that makes {len(parts)} layers", f"at most {MOST_LAYERS}")
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
            raise NotationError(self._text, self._end, "the part ends too early", f"expected {wanted}")
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
        if not word.isdigit() or not 1 <= int(word) <= most:
            raise self._wrong(f"{word!r} is not {wanted}", f"give a whole number from 1 to {most}")
        return int(word)

    def part(self) -> list[Part]:
        if self._take("hidden"):
            if self._at < len(self._words):
                self._next("")
                raise self._wrong(f"{self._words[self._at - 1][0]!r} does not belong behind hidden",
                                  "hidden is as the recipe's own values say")
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
            return [Layer("dense", width) for width in funnel(self._whole("a width"), count)]
        return 1

    def _layer(self) -> Layer:
        if self._take("conv"):
            return Layer("conv", self._whole("a number of channels"), 3)
        mean = self._take("mean")
        if self._take("pool"):
            return Layer("pool", 0, self._whole("a size", 64), mean=mean)
        word = self._next("a layer")
        if word.isdigit() and 1 <= int(word) <= 16384:
            return Layer("dense", int(word))
        raise self._wrong(f"{word!r} is no layer", "such as 64, 3 of 64, 2 narrowing from 128, conv 16, pool 2, hidden")

    def _modified(self, layer: Layer) -> Layer:
        while self._at < len(self._words):
            layer = self._modify(layer)
        return layer

    def _modify(self, layer: Layer) -> Layer:
        for norm in NORMS[1:]:
            if layer.kind != "pool" and self._take(norm, "norm"):
                return replace(layer, norm=norm)
        if layer.kind != "pool" and self._take("no", "norm"):
            return replace(layer, norm="none")
        if layer.kind == "conv":
            if self._take("size"):
                return replace(layer, size=self._whole("a size", 31))
            if self._take("stride"):
                return replace(layer, stride=self._whole("a stride", 16))
            if self._take("valid"):
                return replace(layer, valid=True)
        word = self._next("")
        if layer.kind != "pool" and word == "residual":
            return replace(layer, residual=True)
        if layer.kind != "pool" and word in ACTIVATIONS:
            return replace(layer, activation=word)
        if layer.kind != "pool" and word == "drop":
            return replace(layer, drop=self._share())
        fits = "nothing" if layer.kind == "pool" else (
            "an activation, batch norm, layer norm, no norm, drop 0.2, residual")
        raise self._wrong(f"{word!r} does not belong behind a {layer.kind} layer",
                          fits + (", size 5, stride 2, valid" if layer.kind == "conv" else ""))

    def _share(self) -> float:
        word = self._next("a share")
        try:
            share = float(word)
        except ValueError:
            share = -1.0
        if not 0 <= share <= 0.95:
            raise self._wrong(f"{word!r} is no share", "give a number from 0 to 0.95")
        return share


def funnel(width: int, depth: int) -> list[int]:
    """Return `depth` widths, each half of the one before, none below 1."""
    return [max(width >> i, 1) for i in range(depth)]


def layers_of(values: Mapping[str, object]) -> tuple[Layer, ...]:
    """Return the hidden layers of a recipe's values, nothing left open but the dropout that the recipe says."""
    activation, norm = str(values["activation"]), str(values["normalisation"])
    residual = values["residual"] == "yes"
    depth, width = int(str(values["depth"])), int(str(values["width"]))
    widths = funnel(width, depth) if values["shape"] == "funnel" else [width] * depth
    layers: list[Layer] = []
    for part in parse_network(str(values["network"])):
        layers += [Layer("dense", w, residual=residual) for w in widths] if part == HIDDEN else [part]
    return tuple(each if each.kind == "pool" else replace(
        each, activation=each.activation or activation, norm=each.norm or norm, residual=each.residual or residual)
        for each in layers)


def shapes_of(layers: tuple[Layer, ...], shape: Shape) -> tuple[Shape, ...]:
    """Return what goes out of each layer when `shape` comes in.

    Raises
    ------
    RecipeError
        With the layer that cannot be, and the sizes.
    """
    out: list[Shape] = []
    for i, layer in enumerate(layers, 1):
        shape = layer.after(shape, f"layer {i} of the network")
        out.append(shape)
    return tuple(out)
