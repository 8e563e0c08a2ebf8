"""The kinds of hidden layers: how each is written, what goes out of it, and what it takes.

One entry of :data:`KINDS` makes a kind known to the network line, to shapes, weights, memory and
drawings; the engine finds its formula under the same name in ``engine/layers.py``.
"""

from __future__ import annotations

import math
from collections.abc import Callable, Mapping
from dataclasses import dataclass

from axiarch.errors import RecipeError

Shape = tuple[int, ...]
#: What may stand behind a layer with weights.
_WEIGHTED = ("activation", "norm", "drop", "residual")


@dataclass(frozen=True)
class Layer:
    """One hidden layer.

    Attributes
    ----------
    kind : str
        A name of :data:`KINDS`.
    units : int
        Units H, or channels C of a convolution.
    size, stride : int
        Of a convolution's window or a pool's square.
    valid : bool
        Whether windows stay inside the picture, which then shrinks.
    activation, norm : str
        Empty is as the recipe says.
    drop : float or None
        Share of units silenced; None is as the recipe says.
    residual : bool
        Whether what comes in is added to what goes out, where the shapes agree.
    """

    kind: str
    units: int = 0
    size: int = 0
    stride: int = 1
    valid: bool = False
    activation: str = ""
    norm: str = ""
    drop: float | None = None
    residual: bool = False

    @property
    def name(self) -> str:
        """The layer as people read it."""
        return KINDS[self.kind].said(self)

    def after(self, shape: Shape, place: str) -> Shape:
        """Return the shape (H, W, C) or (H,) that comes of `shape`.

        Raises
        ------
        RecipeError
            If the layer cannot take it.
        """
        kind = KINDS[self.kind]
        if kind.window is not None:
            if len(shape) != 3:
                raise RecipeError(f"{self.name} needs a picture; what comes in is {said(shape)}",
                                  place,
                                  "put it before the fully connected layers, on data of pictures")
            if min(shape[:2]) < kind.window(self):
                raise RecipeError(f"{self.name} does not fit into {said(shape)}", place,
                                  "leave it out, or take a smaller size")
        return kind.after(self, shape)


def said(shape: Shape) -> str:
    """Return a shape as people read it."""
    if len(shape) == 1:
        return f"{shape[0]} numbers"
    return f"{shape[0]} x {shape[1]} in {shape[2]} channel{'s' if shape[2] != 1 else ''}"


@dataclass(frozen=True)
class Kind:
    """One kind of layer.

    Attributes
    ----------
    words : tuple of str
        What opens it in a network line, before its number; none where the number stands alone.
    number, most : str, int
        What the number says, and the largest one.
    made : callable
        From the number to the layer.
    said : callable
        The layer as people read it.
    after : callable
        From the layer and the shape that comes in to the one that goes out.
    fan_in : callable or None
        From the layer and the shape that comes in to the numbers that one of its sums is made of;
        None where it has no weights.
    scratch : callable
        From the layer and the shapes before and after to the numbers that one example takes beside
        what goes out: always, and in training too.
    window : callable or None
        The smallest side of a picture that it fits into; None where it takes any shape.
    behind : tuple of str
        What may stand behind it in a line: names of the network line's endings.
    """

    words: tuple[str, ...]
    number: str
    most: int
    made: Callable[[int], Layer]
    said: Callable[[Layer], str]
    after: Callable[[Layer, Shape], Shape]
    fan_in: Callable[[Layer, Shape], int] | None = None
    scratch: Callable[[Layer, Shape, Shape], tuple[int, int]] = lambda layer, before, after: (0, 0)
    window: Callable[[Layer], int] | None = None
    behind: tuple[str, ...] = ()


def _convolved(layer: Layer, shape: Shape) -> Shape:
    """Return the places of a window that slides over a picture (H, W, C)."""
    lost = layer.size - 1 if layer.valid else 0
    return (-(-(shape[0] - lost) // layer.stride), -(-(shape[1] - lost) // layer.stride),
            layer.units)


def _unfolded(layer: Layer, before: Shape, after: Shape) -> tuple[int, int]:
    """Return the numbers of all windows laid out, and of the picture that gradients are added up
    in.
    """
    return math.prod(after[:-1]) * layer.size**2 * before[-1], math.prod(before)


def _pool(name: str) -> Kind:
    return Kind(tuple(name.split()), "a size", 64, lambda size: Layer(name, size=size),
                lambda layer: f"{name} {layer.size}",
                lambda layer, shape: (shape[0] // layer.size, shape[1] // layer.size, shape[2]),
                scratch=lambda layer, before, after: (math.prod(after), math.prod(before)),
                window=lambda layer: layer.size)


#: By name.
KINDS: Mapping[str, Kind] = {
    "dense": Kind((),
                  "a width",
                  16384,
                  lambda units: Layer("dense", units),
                  lambda layer: layer.activation or "dense",
                  lambda layer, shape: (layer.units, ),
                  lambda layer, shape: math.prod(shape),
                  behind=_WEIGHTED),
    "conv": Kind(("conv", ), "a number of channels", 16384, lambda units: Layer("conv", units, 3),
                 lambda layer: f"conv {layer.units} {layer.size}x{layer.size}" +
                 (f" stride {layer.stride}" if layer.stride > 1 else ""), _convolved,
                 lambda layer, shape: layer.size**2 * shape[-1], _unfolded, lambda layer: layer.size
                 if layer.valid else 1, (*_WEIGHTED, "size", "stride", "valid")),
    "pool": _pool("pool"),
    "mean pool": _pool("mean pool"),
}
