"""The shape of a stack's networks, and where each number lies in the flat buffer."""

from __future__ import annotations

import math
from dataclasses import dataclass
from functools import cached_property

import numpy as np
from numpy.typing import DTypeLike, NDArray

from axiarch.recipes.layers import KINDS, Layer, Shape
from axiarch.recipes.members import ACTIVATIONS
from axiarch.recipes.network import shapes_of
from axiarch.recipes.recipe import Recipe

Array = NDArray[np.floating]

#: Bytes that a stack's parameters, optimiser state and activations may take: about one core's second-level cache,
#: beyond which running side by side no longer pays.
WORKING_SET = 3 << 20
#: Most runs in one stack: beyond it nothing is gained even for tiny networks.
MOST_RUNS = 64
#: Most steps whose rows are gathered at once, and most bytes of them: a share of the cache.
GATHERED_STEPS, GATHERED = 16, 1 << 19
#: Weights from which on a product takes them transposed as fast as laid out.
_TURNED = 1 << 14
#: Bytes of a line of the cache.
_LINE = 64
#: Rows evaluated at once. Fixed, because the bits of a matrix product may depend on its number of rows.
EVALUATED = 256


def zeros(shape: tuple[int, ...], dtype: DTypeLike) -> Array:
    """Return zeros that begin where a line of the cache does: kernels read and write them in whole lines."""
    made = np.dtype(dtype)
    size = math.prod(shape) * made.itemsize
    raw = np.zeros(size + _LINE, np.uint8)
    start = -raw.ctypes.data % _LINE
    return raw[start : start + size].view(made).reshape(shape)


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
    biases, gains, kept : int
        Offsets of biases (H,), of a normalisation's gains (H,), and of its running mean and variance (2 H,).
    """

    layer: Layer
    before: Shape
    after: Shape
    weights: int = 0
    biases: int = 0
    gains: int = 0
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
    def scratch(self) -> tuple[int, int]:
        """Numbers that one example takes beside what goes out: always, and in training too."""
        return KINDS[self.layer.kind].scratch(self.layer, self.before, self.after)

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


def turned(placed: Placed) -> bool:
    """Say whether a layer's weights are laid out transposed for the way back: small products are slow else."""
    return placed.fan_in * placed.units < _TURNED


@dataclass(frozen=True)
class StackShape:
    """What the runs of one stack have in common.

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
        What the outputs are held against.
    rows : tuple of int
        Training and validation rows. Runs on different folds train side by side where these are as many.
    folds : int
        Among how many folds the runs may differ.
    drops_last : bool
        Whether a last batch that is not full is left out.
    """

    inputs: Shape
    layers: tuple[Layer, ...]
    outputs: int
    batch_size: int
    loss: str = "softmax"
    rows: tuple[int, int] = (0, 0)
    folds: int = 1
    drops_last: bool = False

    @classmethod
    def of(cls, recipe: Recipe, inputs: int | Shape, outputs: int, loss: str = "softmax",
           rows: tuple[int, int] = (0, 0), folds: int = 1) -> StackShape:
        """Return the shape that a recipe has on data with `inputs`, and `outputs` for the `loss`.

        Raises
        ------
        RecipeError
            If the network cannot be built on such data, with the layer and the sizes.
        """
        shape = (inputs,) if isinstance(inputs, int) else inputs
        made = cls(shape, recipe.layers, outputs, recipe.whole("batch_size"), loss, rows, folds,
                   recipe.word("last_batch") == "drop")
        made.placed  # noqa: B018  (an impossible network is refused here)
        return made

    @cached_property
    def placed(self) -> tuple[Placed, ...]:
        """The layers, placed in the flat buffer: all weights, then all biases and gains, then what is kept."""
        shapes = (self.inputs, *shapes_of(self.layers, self.inputs), (self.outputs,))
        output = Layer("dense", self.outputs, activation="identity", norm="none", drop=0.0)
        bare = [Placed(layer, a, b) for layer, a, b in zip((*self.layers, output), shapes, shapes[1:], strict=False)]
        sizes = [p.fan_in * p.units if p.weighted else 0 for p in bare]
        biases = [p.units if p.weighted else 0 for p in bare]
        gains = [p.units if p.layer.norm in ("batch", "layer") else 0 for p in bare]
        kept = [2 * p.units if p.layer.norm == "batch" else 0 for p in bare]
        starts = np.cumsum([0, *sizes, *biases, *gains, *kept]).tolist()
        n = len(bare)
        return tuple(Placed(p.layer, p.before, p.after, *(starts[i + part * n] for part in range(4)))
                     for i, p in enumerate(bare))

    def steps(self, rows: int) -> int:
        """Return the steps of an epoch over `rows` N training rows."""
        if self.drops_last and rows >= self.batch_size:
            return rows // self.batch_size
        return -(-rows // self.batch_size)

    @cached_property
    def weights(self) -> int:
        """Number of weights, without biases and gains: what decay pulls at."""
        return sum(p.fan_in * p.units for p in self.placed if p.weighted)

    @cached_property
    def trained(self) -> int:
        """Number of all trained parameters."""
        return self.parameters - sum(2 * p.units for p in self.placed if p.layer.norm == "batch")

    @cached_property
    def parameters(self) -> int:
        """Numbers P in a run's flat buffer: the trained parameters, then running means and variances."""
        last = self.placed[-1]
        return last.kept + (2 * last.units if last.layer.norm == "batch" else 0)

    @cached_property
    def work(self) -> int:
        """Multiplications and additions of one training step of one run, forward and backward."""
        weighted = [p for p in self.placed if p.weighted]
        return 6 * self.batch_size * sum(p.fan_in * p.units * p.positions for p in weighted)

    @cached_property
    def numbers(self) -> int:
        """Numbers that one example takes in training: what goes out of each layer, twice, and unfolded windows."""
        return math.prod(self.inputs) + sum(
            2 * math.prod(p.after) + (2 * p.scratch[0] if p.weighted else 0)
            + (math.prod(p.after) if p.layer.norm != "none" else 0) for p in self.placed)

    def run_bytes(self, dtype: DTypeLike = np.float32) -> int:
        """Return the bytes that one run of a stack works in while it trains."""
        return int(np.dtype(dtype).itemsize) * (4 * self.parameters + self.numbers * self.batch_size)

    def pass_numbers(self, rows: int, trains: bool) -> int:
        """Return the numbers that one run's pass over `rows` rows at once is allocated: outputs, sums, gradients."""
        total = 0
        for p in self.placed:
            out = rows * math.prod(p.after)
            total += rows * (p.scratch[0] + (p.scratch[1] if trains else 0))
            if not p.weighted:
                total += out
                continue
            windows = rows * p.positions * p.fan_in
            total += out * (1 + (not ACTIVATIONS[p.layer.activation].sumless and trains) + (p.layer.norm != "none"))
            total += max(p.units, rows * p.positions) if p.layer.norm != "none" else 0
            total += windows + (p.units * p.fan_in if turned(p) and not p.pictured else 0) if trains else 0
            total += 2 * out if p.skips else 0
        return total

    def feed_steps(self, runs: int, rows: int, dtype: DTypeLike = np.float32) -> int:
        """Return for how many steps the rows of `runs` runs' batches are gathered at once, of `rows` N."""
        step = int(np.dtype(dtype).itemsize) * runs * self.batch_size * math.prod(self.inputs)
        return max(1, min(GATHERED_STEPS, GATHERED // step, self.steps(rows)))

    def memory(self, runs: int, rows: int, dtype: DTypeLike = np.float32) -> int:
        """Return the bytes that a stack of so many runs takes while it trains on `rows` N training rows.

        The data themselves are mapped from disk and not counted.
        """
        steps, kept = self.steps(rows), 5 * self.parameters
        own = (8 * self.parameters + kept + self.weights + self.pass_numbers(self.batch_size, True)
               + self.pass_numbers(EVALUATED, False) + 11 * steps
               + math.prod(self.inputs) * (self.batch_size * self.feed_steps(runs, rows, dtype)
                                           + EVALUATED * (self.folds > 1)))
        ahead = max(1, min(8, 4096 // steps)) * steps
        return int(np.dtype(dtype).itemsize) * own * runs + 8 * runs * (rows + 6 * ahead)

    def saving(self, dtype: DTypeLike = np.float32) -> int:
        """Return the bytes that writing a checkpoint takes meanwhile: all of one run, three times over."""
        return int(np.dtype(dtype).itemsize) * 3 * 11 * self.parameters

    def capacity(self, room: int = 0, rows: int = 0) -> int:
        """Return how many runs a stack of this shape should hold at most.

        As many as fit in the cache, and (where they are given) with `rows` training rows in `room` bytes; one at least.
        """
        most = min(MOST_RUNS, WORKING_SET // self.run_bytes())
        if room:
            most = min(most, (room - self.saving()) // self.memory(1, rows))
        return max(1, most)
