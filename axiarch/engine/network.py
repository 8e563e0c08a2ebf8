"""The shape of a network, and where each of its numbers lies in the flat buffer."""

from __future__ import annotations

import math
from dataclasses import dataclass
from functools import cached_property
from typing import Any

import numpy as np
from numpy.typing import NDArray

from axiarch.recipes.layers import KINDS, Layer, Shape
from axiarch.recipes.network import shapes_of
from axiarch.recipes.recipe import Recipe

Array = NDArray[np.floating]

@dataclass(frozen=True)
class Placed:
    """One layer with weights, the output layer included, or a pool, and where its numbers lie.

    Attributes
    ----------
    layer : Layer
    before, after : Shape
        What comes in and goes out of one example.
    weights : int
        Offset of the weight matrix (I, H); I is the numbers that one sum is made of.
    biases, norm_scales, kept : int
        Offsets of biases (H,), of a normalisation's norm_scales (H,), and of its running mean and
        variance (2 H,).
    """

    layer: Layer
    before: Shape
    after: Shape
    weights: int = 0
    biases: int = 0
    norm_scales: int = 0
    kept: int = 0

    @property
    def units(self) -> int:
        """Units or channels H."""
        return self.after[-1]

    @property
    def fan_in(self) -> int:
        """The numbers I that one sum is made of; 0 where there are no weights."""
        fan_in = KINDS[self.layer.kind].fan_in
        return fan_in(self.layer, self.before) if fan_in is not None else 0

    @property
    def weighted(self) -> bool:
        """Whether the layer has weights."""
        return KINDS[self.layer.kind].fan_in is not None

    @property
    def positions(self) -> int:
        """How often the layer's weights are applied to one example."""
        return math.prod(self.after[:-1])

    @property
    def pictured(self) -> bool:
        """Whether pictures go out, which have the examples of a batch innermost."""
        return len(self.after) == 3

    @property
    def skips(self) -> bool:
        """Whether what comes in is added to what goes out."""
        return self.layer.residual and self.before == self.after


@dataclass(frozen=True)
class NetworkShape:
    """A network on data of one form, and the batches it is trained with.

    Attributes
    ----------
    inputs : Shape
        Of one example: (D,), or height, width and channels of a picture.
    layers : tuple of Layer
        The hidden layers.
    outputs : int
        One for each class or amount.
    batch_size : int
        B.
    loss : str
        What the outputs are compared by.
    drops_last : bool
        Whether a last batch that is not full is left out.
    precision : {"float32", "float64"}
    """

    inputs: Shape
    layers: tuple[Layer, ...]
    outputs: int
    batch_size: int
    loss: str = "softmax"
    drops_last: bool = False
    precision: str = "float32"

    @classmethod
    def of(cls,
           recipe: Recipe,
           inputs: int | Shape,
           outputs: int,
           loss: str = "softmax") -> NetworkShape:
        """Return the shape that a recipe has on data with `inputs`, and `outputs` for the `loss`.

        Raises
        ------
        RecipeError
            If the network cannot be built on such data, with the layer and the sizes.
        """
        shape = (inputs,) if isinstance(inputs, int) else inputs
        made = cls(shape, recipe.layers, outputs, recipe.whole("batch_size"), loss,
                   recipe.word("last_batch") == "drop", recipe.word("precision"))
        made.placed  # noqa: B018  (an impossible network is refused here)
        return made

    @cached_property
    def placed(self) -> tuple[Placed, ...]:
        """The layers, placed in the flat buffer: all weights, then all biases and norm_scales, then
        what is kept.
        """
        shapes = (self.inputs, *shapes_of(self.layers, self.inputs), (self.outputs,))
        output = Layer("dense", self.outputs, activation="identity", norm="none", drop=0.0)
        bare = [
            Placed(layer, a, b)
            for layer, a, b in zip((*self.layers, output), shapes, shapes[1:], strict=False)
        ]
        sizes = [p.fan_in * p.units if p.weighted else 0 for p in bare]
        biases = [p.units if p.weighted else 0 for p in bare]
        norm_scales = [p.units if p.layer.norm in ("batch", "layer") else 0 for p in bare]
        kept = [2 * p.units if p.layer.norm == "batch" else 0 for p in bare]
        starts = np.cumsum([0, *sizes, *biases, *norm_scales, *kept]).tolist()
        n = len(bare)
        return tuple(
            Placed(p.layer, p.before, p.after, *(starts[i + part * n]
                                                 for part in range(4)))
            for i, p in enumerate(bare))

    def steps(self, rows: int) -> int:
        """Return the steps of an epoch over `rows` N training rows."""
        if self.drops_last and rows >= self.batch_size:
            return rows // self.batch_size
        return -(-rows // self.batch_size)

    @cached_property
    def weights(self) -> int:
        """Number of weights, without biases and norm_scales: what decay pulls at."""
        return sum(p.fan_in * p.units for p in self.placed if p.weighted)

    @cached_property
    def trained(self) -> int:
        """Number of all trained parameters."""
        return self.parameters - sum(2 * p.units for p in self.placed if p.layer.norm == "batch")

    @cached_property
    def parameters(self) -> int:
        """Numbers P in a run's flat buffer: the trained parameters, then running means and
        variances.
        """
        last = self.placed[-1]
        return last.kept + (2 * last.units if last.layer.norm == "batch" else 0)

    @cached_property
    def work(self) -> int:
        """Multiplications and additions of one training step, forward and backward."""
        weighted = [p for p in self.placed if p.weighted]
        return 6 * self.batch_size * sum(p.fan_in * p.units * p.positions for p in weighted)

    @property
    def dtype(self) -> np.dtype[Any]:
        """The type of the numbers that it is trained in."""
        return np.dtype(self.precision)
