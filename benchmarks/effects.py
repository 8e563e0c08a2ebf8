"""How often the stated intervals of effects hold the true shares of the variance: ``python -m
benchmarks.effects [SEEDS]``.

Functions whose shares are known in closed form, over knobs drawn evenly, with noise of a fifth of
their spread: Ishigami & Homma's (1990); Sobol's g (1993); a line and a step; a choice of words and
a line; a knob that has an effect for one word alone. A share is held where the interval contains
it, or misses it by less than 0.01, finer than any screen shows.
"""

from __future__ import annotations

import sys
from collections.abc import Callable, Mapping
from concurrent.futures import ProcessPoolExecutor
from dataclasses import dataclass
from itertools import repeat
from multiprocessing import get_context

import numpy as np
from numpy.typing import NDArray

from axiarch.ranking.effects import CELLS, effects

Floats = NDArray[np.float64]
Pair = tuple[int, int]

#: Recipes that effects are learnt from, noise as a share of the spread, and what counts as held.
RECIPES, NOISE, FINEST = (40, 80, 160), 0.2, 0.01
_WORDS = np.array([1.0, 0.5, 0.2])
_G = (0.0, 1.0, 4.5, 9.0)


@dataclass(frozen=True)
class Known:
    """A function with its shares.

    Attributes
    ----------
    cells : tuple of int
        Cells of each knob; words are those of fewer than :data:`CELLS`.
    loss : callable
        From places in the unit cube (N, K), words in steps, to losses (N,).
    shares : tuple of float
        Of each knob alone.
    pairs : mapping
        Of pairs beyond each alone; 0 for others.
    idle : callable
        Which knobs have no effect in a recipe (N, K).
    """

    cells: tuple[int, ...]
    loss: Callable[[Floats], Floats]
    shares: tuple[float, ...]
    pairs: Mapping[Pair, float]
    idle: Callable[[Floats], NDArray[np.bool_]] = lambda u: np.zeros(u.shape, bool)


def _ishigami(u: Floats) -> Floats:
    x = (2 * u - 1) * np.pi
    return np.asarray(np.sin(x[:, 0]) + 7 * np.sin(x[:, 1]) ** 2
                      + 0.1 * x[:, 2] ** 4 * np.sin(x[:, 0]))


def _g(u: Floats) -> Floats:
    return np.asarray(np.prod([(np.abs(4 * u[:, i] - 2) + a) / (1 + a)
                               for i, a in enumerate(_G)], axis=0))


def _g_shares() -> tuple[tuple[float, ...], dict[Pair, float]]:
    own = [1 / 3 / (1 + a) ** 2 for a in _G]
    total = float(np.prod([1 + v for v in own])) - 1
    pairs = {(i, j): own[i] * own[j] / total
             for i in range(len(own)) for j in range(i + 1, len(own))}
    return tuple(v / total for v in own), pairs


def _word(u: Floats) -> NDArray[np.int64]:
    return np.minimum((u[:, 0] * 3).astype(np.int64), 2)


def _conditional_shares() -> tuple[tuple[float, ...], dict[Pair, float]]:
    """Words w with levels a_w, and x where w = 2: means a_w + [w = 2] / 2, and 1/12 x's variance;
    alone x explains the variance of x / 3, the rest is theirs together.
    """
    levels = _WORDS + np.array([0.0, 0.0, 0.5])
    word, alone = float(levels.var()), 1 / 12 / 9
    both = 1 / 12 / 3 - alone
    total = word + alone + both
    return (word / total, alone / total), {(0, 1): both / total}


_WORD_AND_LINE = float(_WORDS.var()), 1 / 12
KNOWN: Mapping[str, Known] = {
    "Ishigami": Known((CELLS,) * 5, _ishigami, (0.314, 0.442, 0.0, 0.0, 0.0), {(0, 2): 0.244}),
    "Sobol's g": Known((CELLS,) * 4, _g, *_g_shares()),
    "line and step": Known((CELLS,) * 5, lambda u: 3 * u[:, 0] + (u[:, 1] > 0.5),
                           (0.75, 0.25, 0.0, 0.0, 0.0), {}),
    "words and a line": Known(
        (3, CELLS, CELLS), lambda u: _WORDS[_word(u)] + u[:, 1],
        (_WORD_AND_LINE[0] / sum(_WORD_AND_LINE), _WORD_AND_LINE[1] / sum(_WORD_AND_LINE), 0.0),
        {}),
    "for one word alone": Known(
        (3, CELLS), lambda u: _WORDS[_word(u)] + np.where(_word(u) == 2, u[:, 1], 0.0),
        *_conditional_shares(),
        lambda u: np.stack([np.zeros(len(u), bool), _word(u) != 2], axis=1)),
}


def held(name: str, recipes: int, seed: int) -> tuple[int, int, int, int, float, bool]:
    """Return how many shares of knobs are held, of how many; of pairs, likewise; the mean width of
    the intervals; and whether the shares are said to be known.
    """
    known = KNOWN[name]
    rng = np.random.default_rng([seed, recipes, *name.encode()])
    u = rng.random((recipes, len(known.cells)))
    losses = known.loss(u)
    losses = losses + NOISE * losses.std() * rng.normal(size=recipes)
    places = np.minimum((u * known.cells).astype(np.int64), np.array(known.cells) - 1)
    places[known.idle(u)] = -1
    found = effects(known.cells, [c == CELLS for c in known.cells], places, losses, seed)
    own = [each.low - FINEST <= true <= each.high + FINEST
           for each, true in zip(found.shares, known.shares, strict=True)]
    both = [each.low - FINEST <= known.pairs.get(pair, 0.0) <= each.high + FINEST
            for pair, each in found.pairs.items()]
    width = float(np.mean([each.high - each.low for each in found.shares]))
    return sum(own), len(own), sum(both), len(both), width, found.known


def main(seeds: int) -> None:
    """Print a table."""
    print("| function | recipes | shares of knobs held | of pairs | mean width | called known |")
    print("|---|---|---|---|---|---|")
    with ProcessPoolExecutor(2, get_context("spawn")) as pool:
        for name in KNOWN:
            for recipes in RECIPES:
                each = list(pool.map(held, repeat(name), repeat(recipes), range(seeds)))
                sums = [sum(row[i] for row in each) for i in range(4)]
                print(f"| {name} | {recipes} | {100 * sums[0] / sums[1]:.0f} % | "
                      f"{100 * sums[2] / sums[3]:.0f} % | "
                      f"{np.mean([row[4] for row in each]):.2f} | "
                      f"{100 * np.mean([row[5] for row in each]):.0f} % |", flush=True)


if __name__ == "__main__":
    main(int(sys.argv[1]) if len(sys.argv) > 1 else 50)
