"""Made-up losses with a known truth, and a driver that runs a method on one: no training, only its
numbers.

Two published functions get learning curves (Branin; Hartmann in six dimensions); four losses over
the knobs of real recipes are shaped as practitioners meet them, one of them with curves that cross:
what is fast at first ends worse.
"""

from __future__ import annotations

import math
from collections.abc import Callable, Mapping
from dataclasses import dataclass

import numpy as np

from axiarch.recipes.recipe import Recipe
from axiarch.recipes.space import Space, space
from axiarch.search.method import Method, Observation, Step
from axiarch.search.points import position
from axiarch.search.sequence import StepSequence, TakenStep

Floats = np.ndarray

#: Epochs of a whole training.
EPOCHS = 27


@dataclass(frozen=True)
class Problem:
    """A made-up loss.

    Attributes
    ----------
    name : str
    space : Space
    final, start, speed : callable
        Of a point of the unit cube, one coordinate a knob: the loss a training comes to, the loss
        it starts from, and how many epochs it takes to come a factor of e nearer.
    noise : float
        Standard deviation of a run's loss from seed to seed.
    replicates : int
        Seeds that a practitioner would train the best on.
    """

    name: str
    space: Space
    final: Callable[[list[float]], float]
    speed: Callable[[list[float]], float]
    start: float
    noise: float
    replicates: int = 1

    def truth(self, recipe: Recipe) -> float:
        """Return the loss that a recipe comes to without noise."""
        return self.curve(recipe, 0, 0.0)[-1]

    def curve(self, recipe: Recipe, seed: int, noise: float | None = None) -> tuple[float, ...]:
        """Return the validation loss of every epoch."""
        u = [position(k.range, recipe[k.name]) for k in self.space.knobs]
        end, pace = self.final(u), max(self.speed(u), 1e-3)
        spread = self.noise if noise is None else noise
        rng = np.random.default_rng([seed, *(int(x * 1e9) for x in u)])
        run = spread * float(rng.normal())
        jitter = 0.3 * spread * rng.normal(size=EPOCHS)
        return tuple(
            end + run + float(jitter[e]) + max(self.start - end, 0.0) * math.exp(-(e + 1) / pace)
            for e in range(EPOCHS))


def _plain(count: int) -> Space:
    """Return a space of `count` even continua: names are those of recipes, what they mean does
    not matter here.
    """
    names = ("dropout", "label_smoothing", "cutout", "crop", "contrast", "final_fraction")[:count]
    return space({"epochs": EPOCHS, "schedule": "cosine", "patience": 0},
                 {name: "0 .. 0.9" for name in names})


def _branin(u: list[float]) -> float:
    """Branin (Dixon & Szegoe 1978), brought near 0 to 3; three equal minima."""
    x, y = 15 * u[0] - 5, 15 * u[1]
    value = ((y - 5.1 / (4 * math.pi**2) * x**2 + 5 / math.pi * x - 6) ** 2
             + 10 * (1 - 1 / (8 * math.pi)) * math.cos(x) + 10)
    return 0.1 + value / 100


_A = np.array([[10, 3, 17, 3.5, 1.7, 8], [0.05, 10, 17, 0.1, 8, 14], [3, 3.5, 1.7, 10, 17, 8],
               [17, 8, 0.05, 10, 0.1, 14]])
_P = 1e-4 * np.array([[1312, 1696, 5569, 124, 8283, 5886], [2329, 4135, 8307, 3736, 1004, 9991],
                      [2348, 1451, 3522, 2883, 3047, 6650], [4047, 8828, 8732, 5743, 1091, 381]])


def _hartmann(u: list[float]) -> float:
    """Hartmann in six dimensions (Dixon & Szegoe 1978), its lowest value -3.322 brought to 0.1."""
    inner = (_A * (np.array(u) - _P) ** 2).sum(1)
    return float(0.1 + (3.32237 - (np.array([1.0, 1.2, 3.0, 3.2]) * np.exp(-inner)).sum()) / 3)


def _dip(u: float, at: float, steep: float) -> float:
    return steep * (u - at) ** 2


def _network(u: list[float]) -> float:
    """A loss over rate, batch, decay, dropout, width, depth and optimiser; the best rate goes
    with the others.
    """
    rate, batch, decay, dropout, width, depth, optimiser = u
    kind = int(optimiser * 3)
    best_rate = (0.75, 0.6, 0.45)[kind] + 0.15 * (batch - 0.5) - 0.1 * (depth - 0.5)
    off = rate - best_rate
    return (0.35 + (4.0 if off > 0 else 1.5) * off**2 + _dip(decay, 0.4, 0.15) +
            _dip(dropout, 0.2 + 0.4 * width, 0.25) + 0.15 * (1 - width)**2 + _dip(depth, 0.5, 0.1) +
            (0.04, 0.02, 0.0)[kind] + 0.05 * batch)


def _network_space() -> Space:
    return space({"epochs": EPOCHS, "patience": 0}, {
        "learning_rate": "1e-5 .. 1e0 log", "batch_size": "16 .. 256 doubling",
        "weight_decay": "1e-5 .. 1 log", "dropout": "0 .. 0.7", "width": "8 .. 512 doubling",
        "depth": "1 .. 4", "optimiser": "sgd | momentum | adam"
    })


def _rate_space() -> Space:
    return space(
        {"epochs": EPOCHS, "patience": 0},
        {"learning_rate": "1e-5 .. 1e0 log", "dropout": "0 .. 0.7", "width": "8 .. 512 doubling"})


PROBLEMS: Mapping[str, Problem] = {
    p.name: p for p in (
        Problem("branin", _plain(2), _branin, lambda u: 3.0 + 3 * u[0], 4.0, 0.01),
        Problem("hartmann", _plain(6), _hartmann, lambda u: 2.0 + 4 * u[2], 1.6, 0.01),
        Problem("network", _network_space(), _network, lambda u: 2.0 + 6 * (1 - u[0]), 1.6, 0.01),
        Problem("network, noisy", _network_space(), _network, lambda u: 2.0 + 6 * (1 - u[0]), 1.6,
                0.04, 3),
        Problem("rate", _rate_space(), lambda u: 0.3 + _dip(u[0], 0.55, 2.0) + _dip(u[1], 0.3, 0.3)
                + 0.1 * (1 - u[2])**2, lambda u: 2 + 5 * (1 - u[0]), 1.6, 0.01),
        # The lower the rate the slower, and the better in the end: early leaders end worst.
        Problem("crossing", _rate_space(), lambda u: 0.3 + 0.8 * u[0]**2 + _dip(u[1], 0.3, 0.2) +
                0.05 * (1 - u[2]), lambda u: 1.0 + 9 * (1 - u[0]), 1.6, 0.01),
    )
}


@dataclass
class Driven:
    """What a driven method did: for each outcome, epochs spent by then and the true loss of the
    best known in full.
    """

    spent: list[int]
    best: list[float]
    recipes: dict[int, Recipe]
    steps: list[Step]

    def cost_of(self, loss: float) -> float:
        """Return the epochs spent when the best known in full was first at most `loss`; infinite
        if it never was.
        """
        return next((float(s) for s, b in zip(self.spent, self.best, strict=True) if b <= loss),
                    math.inf)


def drive(method: Method,
          curve: Callable[[Recipe, int], tuple[float, ...]],
          truth: Callable[[Recipe], float],
          replicates: int = 1,
          most_epochs: float = math.inf,
          max_steps: int = 100_000,
          enough: float = -math.inf) -> Driven:
    """Run a method to its end, every step's outcome being known at once (its window still holds it
    back).

    It ends early once the best known in full is at most `enough`.
    """
    trained: dict[tuple[int, int], int] = {}
    done = Driven([], [], {}, [])
    known: dict[int, tuple[int, float]] = {}  # those trained on more replicates are believed first

    def outcome(taken: TakenStep) -> Observation:
        step = taken.step
        until = step.until or EPOCHS
        whole = [curve(step.recipe, b) for b in range(step.replicates or replicates)]
        until = step.until or len(whole[0])
        return Observation(taken.number, step.recipe, tuple(c[:until] for c in whole), until
                           >= len(whole[0]))

    sequence = StepSequence(method, outcome)
    spent = 0
    while spent < most_epochs and len(sequence.steps) < max_steps:
        step = sequence.decide()
        if step is None:
            break
        number = step.number or len(done.recipes) + 1
        done.recipes[number] = step.recipe
        taken = sequence.take(step, number)
        done.steps.append(step)
        found = outcome(taken)
        for replicate, part in enumerate(found.curves):
            before = trained.get((number, replicate), trained.get((step.parent, replicate), 0))
            spent += max(len(part) - before, 0)
            trained[number, replicate] = max(before, len(part))
        if found.ended:
            known[number] = (-len(found.curves), found.loss)
        best = min(known, key=lambda n: (known[n], n), default=0)
        done.spent.append(spent)
        done.best.append(truth(done.recipes[best]) if best else math.inf)
        if done.best[-1] <= enough:
            break
    return done
