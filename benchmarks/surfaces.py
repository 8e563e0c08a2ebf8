"""Eighteen made-up losses of every kind that a search meets, each over knobs of real recipes.

Those of :data:`TUNED` were looked at while methods were chosen, those of :data:`HELD_OUT` before
the last choices alone, and those of :data:`FRESH` never.
"""

from __future__ import annotations

import math
from collections.abc import Callable, Mapping
from dataclasses import dataclass, field

import numpy as np

from axiarch.recipes.recipe import Recipe
from axiarch.recipes.space import Space, space
from axiarch.search.method import steady_at
from axiarch.search.points import position
from benchmarks.simulated import EPOCHS

Point = list[float]

#: Points of a space that are drawn to find its lowest loss.
_DRAWN = 40_000


@dataclass(frozen=True)
class Surface:
    """A made-up loss.

    Attributes
    ----------
    name : str
    kind : str
        What is hard about it.
    space : Space
    shape : callable
        Of a point of the unit cube, the noise-free validation loss of every epoch (E,); infinite
        from where it diverges.
    noise : callable
        Of a point: the standard deviation of a run's loss from seed to seed.
    """

    name: str
    kind: str
    space: Space
    shape: Callable[[Point], list[float]] = field(repr=False)
    noise: Callable[[Point], float] = field(default=lambda u: 0.01, repr=False)

    def point(self, recipe: Recipe) -> Point:
        """Return where a recipe stands in the unit cube."""
        return [position(k.range, recipe[k.name]) for k in self.space.knobs]

    def truth(self, recipe: Recipe) -> float:
        """Return the steady loss that a recipe comes to without noise."""
        return steady_at(tuple(self.shape(self.point(recipe))))

    def curve(self, recipe: Recipe, seed: int) -> tuple[float, ...]:
        """Return the validation loss of every epoch of a run."""
        u = self.point(recipe)
        rng = np.random.default_rng([seed, *(int(x * 1e9) for x in u)])
        spread = self.noise(u)
        run = spread * float(rng.normal())
        jitter = (0.5 * spread * rng.normal(size=EPOCHS)).tolist()
        return tuple(level + run + extra
                     for level, extra in zip(self.shape(u), jitter, strict=True))

    def lowest(self) -> float:
        """Return about the lowest loss there is: of many points, and some near the best of them."""
        rng = np.random.default_rng(0)
        count = len(self.space.knobs)
        points = rng.random((_DRAWN, count))
        losses = np.array([steady_at(tuple(self.shape(u))) for u in points.tolist()])
        best, reach = points[np.argmin(losses)], 0.1
        low = float(losses.min())
        for _ in range(30):
            near = np.clip(best + reach * rng.normal(size=(100, count)), 0, 1 - 1e-9)
            found = np.array([steady_at(tuple(self.shape(u))) for u in near.tolist()])
            if found.min() < low:
                low, best = float(found.min()), near[np.argmin(found)]
            reach *= 0.8
        return low


def _falling(end: float, pace: float, start: float = 1.6) -> list[float]:
    """Return a loss that falls towards `end`, nearer by a factor of e every `pace` epochs."""
    return [end + max(start - end, 0.0) * math.exp(-(e + 1) / max(pace, 0.3))
            for e in range(EPOCHS)]


def _diverging(after: int) -> list[float]:
    return [2.0 + e if e < after else math.inf for e in range(EPOCHS)]


def _vary(**ranges: str) -> Space:
    return space({"epochs": EPOCHS, "patience": 0}, ranges)


_RATE = {"learning_rate": "1e-5 .. 1e0 log"}
_THREE = {**_RATE, "dropout": "0 .. 0.7", "width": "8 .. 512 doubling"}
_FIVE = {**_THREE, "batch_size": "8 .. 256 doubling", "weight_decay": "1e-6 .. 1 log"}


def _plain(u: Point) -> list[float]:
    rate, dropout, width = u
    end = 0.4 + 1.5 * (rate - 0.6)**2 + 0.4 * (dropout - 0.35)**2 + 0.15 * (1 - width)**2
    return _falling(end, 2 + 1.5 * (1 - rate))


def _idle(u: Point) -> list[float]:
    """Two knobs of eight matter."""
    end = 0.35 + 1.8 * (u[0] - 0.55)**2 + 0.5 * (u[3] - 0.4)**2
    return _falling(end, 2 + 4 * (1 - u[0]))


def _valley(u: Point) -> list[float]:
    """A narrow valley: rate and batch size go together, within a twentieth of the range."""
    rate, dropout, _, batch, decay = u
    across = rate - 0.35 - 0.4 * batch
    end = (0.3 + 0.5 * (1 - math.exp(-(across / 0.07)**2)) + 0.15 * (batch - 0.7)**2
           + 0.1 * (dropout - 0.3)**2 + 0.05 * (decay - 0.5)**2)
    return _falling(end, 3 + 3 * (1 - rate))


def _cliff(u: Point) -> list[float]:
    """The higher the rate the better, up to where everything diverges."""
    rate, dropout, width = u
    edge = 0.72 - 0.12 * width
    if rate > edge:
        return _diverging(1 + int(20 * max(0.0, 0.2 - (rate - edge))))
    end = 0.35 + 0.9 * (edge - rate)**1.2 + 0.2 * (dropout - 0.25)**2 + 0.2 * (1 - width)**2
    return _falling(end, 2 + 8 * (edge - rate))


def _decoy(u: Point) -> list[float]:
    """A wide basin, and a smaller and deeper one elsewhere."""
    at = np.array(u)
    wide = float(((at - np.array([0.7, 0.3, 0.3, 0.6, 0.3]))**2).sum())
    deep = float(((at - np.array([0.3, 0.5, 0.8, 0.25, 0.6]))**2).sum())
    end = 1.0 - 0.5 * math.exp(-wide / 0.5) - 0.68 * math.exp(-deep / 0.08)
    return _falling(max(end, 0.2), 2 + 4 * (1 - u[0]))


def _slow(u: Point) -> list[float]:
    """The lower the rate, the slower, and the better in the end."""
    rate, dropout, width = u
    end = 0.3 + 0.9 * rate**2 + 0.25 * (dropout - 0.3)**2 + 0.08 * (1 - width)
    return _falling(end, 1 + 9 * (1 - rate))


_KINDS = {"optimiser": "sgd | momentum | adam", **_THREE}


def _families(u: Point) -> list[float]:
    """One optimiser leads for ten epochs and ends worse than another that starts slowly."""
    kind, rate, dropout, width = int(u[0] * 3), u[1], u[2], u[3]
    best = (0.85, 0.7, 0.5)[kind]
    off = 1.2 * (rate - best)**2 + 0.3 * (dropout - 0.3)**2 + 0.1 * (1 - width)**2
    if kind == 2:
        return _falling(0.5 + off, 1.5)
    plateau = [max(1.4 - 0.02 * e, 0.0) for e in range(EPOCHS)]
    late = (0.36, 0.33)[kind] + off
    turn = (13, 9)[kind]
    return [late + (p - late) / (1 + math.exp((e - turn) / 1.2)) if p > late else late
            for e, p in enumerate(plateau)]


def _overfitting(u: Point) -> list[float]:
    """Large networks learn fast and overfit: what leads after three epochs has seen its best."""
    rate, dropout, width, decay = u
    capacity = max(width - 0.7 * dropout - 0.4 * decay, 0.0)
    end = 0.35 + 0.5 * (rate - 0.55)**2 + 0.45 * max(0.35 - width, 0.0) + 0.25 * dropout * decay
    falling = _falling(end, 1 + 7 * (1 - width) + 2 * dropout)
    return [v + 0.03 * capacity * e * (0.5 + rate) for e, v in enumerate(falling)]


def _steps(u: Point) -> list[float]:
    """Losses fall when the schedule cuts the rate: before, they say little."""
    rate, dropout, width = u
    end = 0.3 + 1.4 * (rate - 0.65)**2 + 0.4 * (dropout - 0.3)**2 + 0.15 * (1 - width)**2
    high = 0.9 + 0.3 * rate - 0.1 * width
    return [high - 0.01 * e if e < 17 else end + (high - 0.17 - end) * math.exp(-(e - 16) / 2)
            for e in range(EPOCHS)]


def _conditional_space() -> Space:
    return _vary(optimiser="sgd | momentum | adam",
                 learning_rate="1e-5 .. 1e0 log",
                 momentum="0.5 .. 0.99 when optimiser = momentum",
                 dropout="0 .. 0.7",
                 depth="1 .. 4")


def _conditional(u: Point) -> list[float]:
    """A knob that exists for one choice alone, and moves its best rate."""
    kind, rate, momentum, dropout, depth = int(u[0] * 3), u[1], u[2], u[3], u[4]
    best = 0.85 if kind == 0 else 0.8 - 0.35 * momentum if kind == 1 else 0.5
    extra = 0.2 * (momentum - 0.8)**2 if kind == 1 else (0.08, 0, 0.04)[kind]
    end = (0.35 + 1.6 * (rate - best)**2 + extra + 0.3 * (dropout - 0.25)**2
           + 0.15 * (depth - 0.45)**2)
    return _falling(end, 2 + 5 * (1 - rate))


def _ratio(u: Point) -> list[float]:
    """What counts is the rate over the batch size, and how fast it learns is the batch size's."""
    rate, dropout, width, batch, decay = u
    off = rate - 0.5 * batch - 0.3
    end = 0.38 + 2.2 * off**2 + 0.3 * (dropout - 0.2)**2 + 0.12 * (1 - width) + 0.08 * abs(
        decay - 0.6)
    return _falling(end, 1.5 + 5 * batch)


def _bump(u: Point) -> list[float]:
    """The best rates are so high that the loss rises first and falls late."""
    rate, dropout, width = u
    end = 0.34 + 1.1 * (rate - 0.75)**2 + 0.3 * (dropout - 0.4)**2 + 0.1 * (1 - width)
    high = 1.2 * max(rate - 0.5, 0.0)
    return [v + high * math.exp(-((e - 4) / 4)**2)
            for e, v in enumerate(_falling(end, 4 + 4 * rate))]


def _powers(u: Point) -> list[float]:
    """Losses fall by powers of the epoch: the larger the network, the slower and the farther."""
    rate, dropout, width, batch, decay = u
    off = 0.9 * (rate - 0.6)**2 + 0.2 * (dropout - 0.2)**2 + 0.1 * (decay - 0.4)**2
    end, power = 0.25 + 0.25 * (1 - width) + off, 1.1 - 0.7 * width + 0.2 * (1 - batch)
    return [end + (1.6 - end) * (e + 1.0)**-power for e in range(EPOCHS)]


def _needle(u: Point) -> list[float]:
    """Flat but for a small region, which only one optimiser has."""
    kind, rate, dropout, width = int(u[0] * 3), u[1], u[2], u[3]
    near = ((rate - 0.45) / 0.12)**2 + ((dropout - 0.5) / 0.3)**2 + ((width - 0.8) / 0.4)**2
    end = 0.7 + 0.1 * (rate - 0.5)**2 - (0.35 * math.exp(-near) if kind == 1 else 0.0)
    return _falling(end, 3 + 2 * width)


def _choices(u: Point) -> list[float]:
    """Five knobs of which each has a few choices, three of them acting in pairs."""
    a, b, c, d, e = (int(x * n) for x, n in zip(u, (3, 9, 4, 3, 5), strict=True))
    end = (0.4 + 0.05 * ((a + b) % 3) + 0.04 * ((b * c) % 4) + 0.03 * abs(d - 1)
           + 0.02 * abs(e - 3) + 0.06 * (a == 2 and c < 2))
    return _falling(end, 2 + 0.7 * b)


def _whole(u: Point) -> list[float]:
    """Some of all: a cliff, an optimum that moves with the width, overfitting late, one knob idle.
    """
    rate, dropout, width, _, decay = u
    if rate > 0.9 - 0.15 * width:
        return _diverging(2)
    best = 0.62 - 0.2 * width
    end = 0.33 + 1.3 * (rate - best)**2 + 0.12 * (1 - width) + 0.2 * (dropout - 0.3)**2
    overfits = 0.012 * max(width - dropout - 0.3 * decay, 0.0)
    return [v + overfits * e for e, v in enumerate(_falling(end, 2 + 5 * (1 - rate)))]


SURFACES: Mapping[str, Surface] = {
    s.name: s for s in (
        Surface("plain", "easy", _vary(**_THREE), _plain),
        Surface("idle", "six of eight knobs do not matter",
                _vary(**_FIVE, label_smoothing="0 .. 0.3", final_fraction="0 .. 0.9",
                      l1="1e-7 .. 1e-2 log"), _idle),
        Surface("valley", "a narrow valley", _vary(**_FIVE), _valley),
        Surface("cliff", "everything diverges beyond a rate", _vary(**_THREE), _cliff),
        Surface("decoy", "a decoy optimum", _vary(**_FIVE), _decoy, lambda u: 0.015),
        Surface("slow", "curves cross: slow is better", _vary(**_THREE), _slow),
        Surface("families", "curves cross: one optimiser starts late", _vary(**_KINDS), _families),
        Surface("overfitting", "curves cross: what learns fast overfits",
                _vary(**_THREE, weight_decay="1e-6 .. 1 log"), _overfitting),
        Surface("noisy", "much noise", _vary(**_FIVE), lambda u: _plain(u[:3]), lambda u: 0.06),
        Surface("unequal", "noise grows with the rate", _vary(**_THREE), _plain,
                lambda u: 0.004 + 0.08 * u[0]**2),
        Surface("steps", "early losses say little", _vary(**_THREE), _steps),
        Surface("conditional", "conditional knobs", _conditional_space(), _conditional),
        Surface("ratio", "rate over batch size counts", _vary(**_FIVE), _ratio),
        Surface("bump", "the best rise first", _vary(**_THREE), _bump),
        Surface("powers", "large networks are slow", _vary(**_FIVE), _powers,
                lambda u: 0.015),
        Surface("needle", "flat but for one place", _vary(**_KINDS), _needle),
        Surface("choices", "choices that act in pairs",
                _vary(optimiser="sgd | momentum | adam", depth="1 .. 9",
                      batch_size="16 | 32 | 64 | 128", normalisation="none | batch | layer",
                      width="8 .. 128 doubling"), _choices, lambda u: 0.02),
        Surface("whole", "some of all", _vary(**_FIVE), _whole,
                lambda u: 0.005 + 0.03 * u[0]),
    )
}
#: Looked at while methods were chosen; and not.
TUNED = ("plain", "valley", "cliff", "slow", "noisy", "overfitting")
HELD_OUT = ("idle", "decoy", "families", "unequal", "steps", "conditional")
#: Made when all methods were settled, and run once: nothing was changed after that.
FRESH = ("ratio", "bump", "powers", "needle", "choices", "whole")
