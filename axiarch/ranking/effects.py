"""Which knobs matter, and how: a functional analysis of variance over a surrogate (Hutter, Hoos &
Leyton-Brown 2014; for Gaussian processes Oakley & O'Hagan 2004).

The surrogate is a Gaussian process whose covariance is a product over knobs, so that the mean of
its prediction over some of them is a sum, and exact. A knob's *share* is the variance of that mean
over the knob's own range, divided by the variance of the prediction over the whole space. A pair's
share is what both together explain beyond each alone. The measure is uniform over the space of the
search.

Knobs are cut into cells: a choice has one a value, a continuous range some of equal width in the
knob's own scale. A knob without effect in a recipe is drawn at random there, sample by sample: what
it explains is then its effect where it has one, over the whole space. The interval is that of
samples of the recipes, with replacement (Efron 1979).
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

Floats = NDArray[np.float64]
Cells = NDArray[np.int64]

#: Cells that a continuous range is cut into.
CELLS = 24
#: Samples of the recipes.
SAMPLES = 40
#: Recipes that lengths are fitted to, and that shares are learnt from, at the most: spread evenly
#: over all losses, for the best alone would hide what makes the others worse.
_FITTED, _MOST = 160, 500
#: Bounds of the logarithms of lengths and of the noise's share, and where they start.
_LENGTHS, _NOISES = (math.log(0.08), math.log(20.0)), (math.log(1e-4), math.log(1.0))
_START = (math.log(0.7), math.log(0.05))
#: How strongly lengths are drawn to the longest: a knob matters if the losses say so.
_PULL = 0.2
#: Quantiles of the samples that make an interval of 95 %.
_BAND = (0.025, 0.975)
#: Recipes per knob from which shares are worth a look, and the variance of recipes left out, one
#: by one, that the surrogate explains.
FEWEST, EXPLAINED = 5, 0.3


@dataclass(frozen=True)
class Interval:
    """An estimate with its 95 % interval."""

    value: float
    low: float
    high: float


@dataclass(frozen=True)
class Effects:
    """What matters, over K knobs.

    Attributes
    ----------
    shares : tuple of Interval
        Of each knob, from 0 to 1.
    pairs : dict
        Of each two knobs, what both explain together beyond each alone.
    curves : tuple of (3, C) arrays
        Of each knob: the loss by its cells, averaged over all others, and its band.
    maps : dict
        Of each two knobs: the loss by the cells of both, (C, C).
    explained : float
        Share of the variance of recipes left out, one by one, that the surrogate explains.
    recipes, among : int
        How many they were learnt from, and of how many.
    """

    shares: tuple[Interval, ...]
    pairs: dict[tuple[int, int], Interval]
    curves: tuple[Floats, ...]
    maps: dict[tuple[int, int], Floats]
    explained: float
    recipes: int
    among: int

    def together(self, knob: int) -> float:
        """Return what a knob explains in pairs with others beyond each alone."""
        return math.fsum(each.value for pair, each in self.pairs.items() if knob in pair)

    @property
    def known(self) -> bool:
        """Whether the recipes say enough for the shares to be read."""
        return self.explained >= EXPLAINED and self.recipes >= FEWEST * len(self.shares)


def effects(cells: Sequence[int], ordered: Sequence[bool], places: Cells, losses: Floats,
            seed: int = 0) -> Effects:
    """Return which knobs matter.

    Parameters
    ----------
    cells : sequence of int
        The number of cells of each of K knobs.
    ordered : sequence of bool
        Whether a knob's cells have an order.
    places : (N, K) array
        The cell of each recipe in each knob; -1 where the knob has no effect.
    losses : (N,) array
    """
    rng = np.random.default_rng(seed)
    among = len(losses)
    some = np.linspace(0, among - 1, min(among, _MOST)).round().astype(int)
    kept = np.argsort(losses, kind="stable")[some]
    places, losses = places[kept], losses[kept]
    knobs, count = len(cells), len(losses)
    level, spread = float(losses.mean()), float(losses.std()) or 1.0
    scaled = (losses - level) / spread
    fitted = np.sort(rng.permutation(count)[:_FITTED])
    grids = [_grid(c, o) for c, o in zip(cells, ordered, strict=True)]
    parameters = _fit(grids, _drawn(places, cells, rng)[fitted], scaled[fitted])
    kernels = [_kernel(grid, length) for grid, length in zip(grids, parameters[:-1], strict=True)]
    noise = math.exp(parameters[-1])
    single: list[list[float]] = []
    double: dict[tuple[int, int], list[float]] = {}
    curves: list[list[Floats]] = [[] for _ in cells]
    maps: dict[tuple[int, int], Floats] = {}
    for sample in range(SAMPLES):
        bag = rng.integers(0, count, count) if sample else np.arange(count)
        surface = _Surface.of(kernels, _drawn(places, cells, rng)[bag], scaled[bag], noise)
        own = [surface.marginal(k) for k in range(knobs)]
        variance = max(surface.variance, 1e-12)
        single.append([float(curve.var()) / variance for curve in own])
        for k in range(knobs):
            curves[k].append(level + spread * own[k])
        for a in range(knobs):
            for b in range(a + 1, knobs):
                both = surface.joint(a, b)
                maps[a, b] = maps.get((a, b), 0.0) + (level + spread * both) / SAMPLES
                rest = float(both.var()) - float(own[a].var()) - float(own[b].var())
                double.setdefault((a, b), []).append(max(rest, 0.0) / variance)
    explained = _explained(kernels, _drawn(places, cells, rng), scaled, noise)
    return Effects(tuple(_interval([each[k] for each in single], explained, knobs, 0.5)
                         for k in range(knobs)),
                   {pair: _interval(found, explained, len(double), 1.0)
                    for pair, found in double.items()},
                   tuple(np.array([np.mean(c, axis=0), *np.quantile(c, _BAND, axis=0)])
                         for c in curves), maps, explained, count, among)


def _interval(found: Sequence[float], explained: float, many: int, most: float) -> Interval:
    """Return a share with its interval. What the surrogate does not explain may be its too, up to
    `most` of it, and an even part of it, among `many`, may have been given to it without reason:
    `python -m benchmarks.effects` counts how often true shares are held.
    """
    low, high = np.quantile(found, _BAND)
    known = min(max(explained, 0.0), 1.0)
    return Interval(float(np.mean(found)), max(float(low) * known - (1 - known) / many, 0.0),
                    min(float(high) + (1 - known) * most, 1.0))


def _drawn(places: Cells, cells: Sequence[int], rng: np.random.Generator) -> Cells:
    """Return places with a cell drawn where a knob has no effect."""
    random = np.stack([rng.integers(0, c, len(places)) for c in cells], axis=1) if cells else places
    return np.where(places < 0, random, places)


def _grid(cells: int, ordered: bool) -> Floats:
    """Return how far cells lie apart (C, C): in shares of the range, or 1 for other words."""
    if not ordered:
        return 1.0 - np.eye(cells)
    at = (np.arange(cells) + 0.5) / cells
    return np.asarray(np.abs(at[:, None] - at))


def _kernel(grid: Floats, length: float) -> Floats:
    """Return the Matern 5/2 correlation of cells (C, C) for the logarithm of a length."""
    z = math.sqrt(5) * grid / math.exp(length)
    return np.asarray((1 + z + z**2 / 3) * np.exp(-z))


def _covariance(kernels: Sequence[Floats], places: Cells, noise: float) -> Floats:
    """Return the covariance of recipes (N, N), noise on the diagonal."""
    found = np.ones((len(places), len(places)))
    for k, kernel in enumerate(kernels):
        found *= kernel[np.ix_(places[:, k], places[:, k])]
    return found + (noise + 1e-8) * np.eye(len(places))


def _fit(grids: Sequence[Floats], places: Cells, losses: Floats) -> Floats:
    """Return the logarithms of the lengths (K,) and of the noise that make the losses likeliest."""
    from scipy.linalg import cho_factor, cho_solve
    from scipy.optimize import minimize

    def unlikely(parameters: Floats) -> float:
        kernels = [_kernel(g, x) for g, x in zip(grids, parameters[:-1], strict=True)]
        factor = cho_factor(_covariance(kernels, places, math.exp(parameters[-1])), lower=True)
        alpha = cho_solve(factor, losses)
        scale = max(float(losses @ alpha) / len(losses), 1e-12)
        fit = 0.5 * len(losses) * math.log(scale) + float(np.log(np.diag(factor[0])).sum())
        return fit + _PULL * float((_LENGTHS[1] - parameters[:-1]).sum())

    start = np.array([_START[0]] * len(grids) + [_START[1]])
    bounds = [_LENGTHS] * len(grids) + [_NOISES]
    found = minimize(unlikely, start, method="L-BFGS-B", bounds=bounds,
                     options={"maxiter": 60, "ftol": 1e-6})
    return np.asarray(found.x)


@dataclass(frozen=True)
class _Surface:
    """The mean of a Gaussian process over cells: a sum over recipes of products over knobs.

    Attributes
    ----------
    weights : (N,) array
    rows : sequence of (C, N) arrays
        For each knob, the correlation of each cell with each recipe.
    """

    weights: Floats
    rows: tuple[Floats, ...]

    @classmethod
    def of(cls, kernels: Sequence[Floats], places: Cells, losses: Floats, noise: float
           ) -> _Surface:
        """Return the surface that losses (N,) at places (N, K) make likeliest."""
        weights = np.asarray(np.linalg.solve(_covariance(kernels, places, noise), losses),
                             np.float64)
        return cls(weights, tuple(kernel[:, places[:, k]] for k, kernel in enumerate(kernels)))

    def _rest(self, *but: int) -> Floats:
        """Return the weights (N,) with all knobs averaged out but some."""
        found = self.weights
        for k, rows in enumerate(self.rows):
            if k not in but:
                found = found * rows.mean(0)
        return found

    def marginal(self, knob: int) -> Floats:
        """Return the mean by the cells of a knob (C,)."""
        return np.asarray(self.rows[knob] @ self._rest(knob))

    def joint(self, one: int, other: int) -> Floats:
        """Return the mean by the cells of two knobs (C, C)."""
        return np.asarray((self.rows[one] * self._rest(one, other)) @ self.rows[other].T)

    @property
    def variance(self) -> float:
        """The variance over the whole space."""
        squares = np.outer(self.weights, self.weights)
        for rows in self.rows:
            squares = squares * (rows.T @ rows / len(rows))
        return float(squares.sum()) - float(self._rest().sum()) ** 2


def _explained(kernels: Sequence[Floats], places: Cells, losses: Floats, noise: float) -> float:
    """Return the share of the variance that is explained of recipes left out one by one (Dubrule
    1983).
    """
    inverse = np.linalg.inv(_covariance(kernels, places, noise))
    errors = (inverse @ losses) / np.diag(inverse)
    spread = float(losses.var())
    return 1 - float((errors**2).mean()) / spread if spread > 0 else 0.0
