"""The shape of a stack's networks, and where each weight lies in the flat buffer."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property

import numpy as np
from numpy.typing import DTypeLike, NDArray

from axiarch.recipes.recipe import Recipe

Array = NDArray[np.floating]

#: Bytes that a stack's parameters, optimiser state and activations may take: about one core's second-level cache,
#: beyond which running side by side no longer pays.
WORKING_SET = 3 << 20
#: Most runs in one stack: beyond it nothing is gained even for tiny networks.
MOST_RUNS = 64


@dataclass(frozen=True)
class StackShape:
    """What the runs of one stack have in common.

    Attributes
    ----------
    inputs, outputs : int
        D, and one for each class or amount.
    widths : tuple of int
        Units H of each hidden layer.
    activation : str
    batch_size : int
        B.
    loss : str
        What the outputs are held against.
    fold : int
        The rows they train on.
    """

    inputs: int
    widths: tuple[int, ...]
    outputs: int
    activation: str
    batch_size: int
    loss: str = "softmax"
    fold: int = 0

    @classmethod
    def of(cls, recipe: Recipe, inputs: int, outputs: int, loss: str = "softmax", fold: int = 0) -> StackShape:
        """Return the shape that a recipe has on data with `inputs` D, and `outputs` for the `loss`."""
        return cls(inputs, recipe.widths(), outputs, recipe.word("activation"), recipe.whole("batch_size"), loss, fold)

    @property
    def sizes(self) -> tuple[int, ...]:
        """Units of every layer from the inputs to the outputs."""
        return (self.inputs, *self.widths, self.outputs)

    @property
    def pairs(self) -> tuple[tuple[int, int], ...]:
        """Units before and after each of the L weight matrices."""
        return tuple(zip(self.sizes, self.sizes[1:], strict=False))

    @cached_property
    def weight_offsets(self) -> tuple[int, ...]:
        """Where each weight matrix starts in the flat buffer: all weights first."""
        sizes = [a * b for a, b in self.pairs]
        return tuple(sum(sizes[:i]) for i in range(len(sizes)))

    @cached_property
    def bias_offsets(self) -> tuple[int, ...]:
        """Where each layer's biases start in the flat buffer: behind all weights."""
        sizes = [b for _, b in self.pairs]
        return tuple(self.weights + sum(sizes[:i]) for i in range(len(sizes)))

    @property
    def weights(self) -> int:
        """Number of weights, without the biases."""
        return sum(a * b for a, b in self.pairs)

    @property
    def parameters(self) -> int:
        """Number P of all parameters."""
        return self.weights + sum(b for _, b in self.pairs)

    @property
    def work(self) -> int:
        """Multiplications and additions of one training step of one run, forward and backward."""
        return 6 * self.batch_size * self.weights

    def weight_views(self, flat: Array) -> list[Array]:
        """Return each weight matrix (K, H, H') as a view of the flat buffer (K, P)."""
        return [flat[:, o : o + a * b].reshape(-1, a, b, copy=False)
                for o, (a, b) in zip(self.weight_offsets, self.pairs, strict=True)]

    def run_bytes(self, dtype: DTypeLike = np.float32) -> int:
        """Return the bytes that one run of a stack works in."""
        units = sum(self.sizes) + sum(self.widths)
        return int(np.dtype(dtype).itemsize) * (4 * self.parameters + units * self.batch_size)

    def capacity(self) -> int:
        """Return how many runs a stack of this shape should hold at most."""
        return max(1, min(MOST_RUNS, WORKING_SET // self.run_bytes()))
