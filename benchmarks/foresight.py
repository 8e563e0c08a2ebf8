"""How often a recipe comes to what was expected of it, on twelve made-up losses: ``python -m
benchmarks.foresight``.

From 12, 30 or 100 recipes drawn at random it is expected what 30 others come to. What is printed is
the share that comes to lie in the 95 % interval, over 12 seeds, and half the width of the interval,
as a share of the loss.
"""

from __future__ import annotations

import math

import numpy as np

from axiarch.search.method import steady_at
from axiarch.workflows.foreseeing import Foresight
from benchmarks.surfaces import SURFACES, Surface

_SEEDS, _OTHERS = 12, 30


def covered(surface: Surface, known: int, seed: int) -> list[tuple[bool, float]]:
    """Return for each of some recipes whether it lies in its interval, and the interval's reach."""
    rng = np.random.default_rng([seed, 7])
    drawn = [surface.space.at(rng.random(len(surface.space.knobs)).tolist())
             for _ in range(known + _OTHERS)]
    recipes = [recipe for recipe in drawn if recipe is not None]
    losses = np.array([steady_at(surface.curve(recipe, seed)) for recipe in recipes])
    used = [i for i in range(known) if np.isfinite(losses[i])]
    foresight = Foresight([recipes[i] for i in used], losses[used], np.ones(len(used)),
                          lambda recipe, epochs: 1.0)
    found = []
    for recipe, loss in zip(recipes[known:], losses[known:].tolist(), strict=True):
        if math.isfinite(loss):
            expected = foresight.of(recipe)
            found.append((expected.low <= loss <= expected.high,
                          math.log(expected.high / expected.low) / 2))
    return found


def main() -> None:
    """Print the table."""
    print("| loss | 12 recipes | 30 recipes | 100 recipes |\n|---|---|---|---|")
    for name, surface in SURFACES.items():
        cells = []
        for known in (12, 30, 100):
            found = [each for seed in range(_SEEDS) for each in covered(surface, known, seed)]
            share = sum(inside for inside, _ in found) / len(found)
            reach = float(np.median([each for _, each in found]))
            cells.append(f"{100 * share:.0f} % (± {100 * reach:.0f} %)")
        print(f"| {name} | " + " | ".join(cells) + " |", flush=True)


if __name__ == "__main__":
    main()
