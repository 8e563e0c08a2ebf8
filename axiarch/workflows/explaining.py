"""Which knobs of a search matter, and how: from all its recipes, cut ones included."""

from __future__ import annotations

import math
from collections.abc import Mapping
from dataclasses import dataclass
from typing import Literal

import numpy as np
from numpy.typing import NDArray

from axiarch.errors import TrainingError
from axiarch.insight.proposal import Change, Proposal, Sure
from axiarch.insight.widening import can_widen, widened
from axiarch.ranking.effects import CELLS, Effects, effects
from axiarch.recipes.conditions import Value
from axiarch.recipes.fields import FIELDS
from axiarch.recipes.ranges import Ladder, OneOf
from axiarch.recipes.recipe import short
from axiarch.recipes.space import Knob
from axiarch.runs.steady import steady
from axiarch.search.points import is_words, position
from axiarch.text import loss, number, share, shown
from axiarch.workflows.snapshot import Snapshot

Floats = NDArray[np.float64]

#: Recipes from which anything can be learnt.
FEWEST = 8
#: Share of a range at each end that counts as its edge.
EDGE = 0.12
#: Share of recipes that are no better than the baseline from which that is said.
_MANY = 0.1
#: Share of the variance from which an effect is worth a word.
_WORTH = 0.05
#: Recipes that were trained in full from which it is known how much a loss still falls.
_KNOWN = 3


@dataclass(frozen=True)
class Point:
    """A recipe on a knob's axis: its number, its cell (-1 without effect), its loss, and whether
    that is known from its whole training.
    """

    recipe: int
    cell: int
    loss: float
    whole: bool


@dataclass(frozen=True)
class Axis:
    """A knob as effects see it.

    Attributes
    ----------
    name : str
    values : tuple
        The value in the middle of each cell.
    points : tuple of Point
    log : bool
        Whether its scale is logarithmic.
    edge : {"", "low", "high"}
        Where the recipes that may be the best all stand at an end of its range that can be widened.
    """

    name: str
    values: tuple[Value, ...]
    points: tuple[Point, ...]
    log: bool = False
    edge: Literal["", "low", "high"] = ""

    @property
    def words(self) -> str:
        """What to do about an edge; empty where there is none."""
        if not self.edge:
            return ""
        end = self.values[0] if self.edge == "low" else self.values[-1]
        way = "lower" if self.edge == "low" else "higher"
        label = FIELDS[self.name].label
        return (f"the best recipes have {label} near the {self.edge} end of its range "
                f"({_written(end)}): widen the range to {way} values")


@dataclass(frozen=True)
class KnobEffects:
    """What was learnt from a search: the axes of its knobs, and effects in their order; and how
    many recipes are no better than the baseline, and count as it.
    """

    axes: tuple[Axis, ...]
    found: Effects
    failing: int = 0

    @property
    def order(self) -> list[int]:
        """The knobs, those that matter most first, alone and together with others."""
        return sorted(range(len(self.axes)),
                      key=lambda k: -self.found.shares[k].value - self.found.together(k))

    def verdict(self) -> str:
        """Say what matters, and how much of it is known."""
        found, first = self.found, self.order[0]
        of = f" of {number(found.among)}, over all losses" if found.among > found.recipes else ""
        explained = share(max(found.explained, 0))
        base = (f"Learnt from {number(found.recipes)} recipes{of}; {explained} of the variance of "
                "recipes left out is explained.")
        if self.failing >= _MANY * found.among:
            base += (f" {share(self.failing / found.among)} of the recipes are no better than the "
                     "baseline, and count as it.")
        if not found.known:
            return (f"{base} That is too little to say which knobs matter: train more recipes "
                    "(g).")
        best = found.shares[first]
        label = FIELDS[self.axes[first].name].label
        pairs = found.together(first)
        more = f", and {share(pairs)} more together with others" if pairs >= _WORTH else ""
        lead = (f"{label[0].upper()}{label[1:]} matters most: it explains "
                f"{share(best.value)} of the variance ({share(best.low)} to {share(best.high)})"
                f"{' by itself' if more else ''}{more}.")
        little = [FIELDS[self.axes[k].name].label for k in self.order
                  if found.shares[k].high < _WORTH and found.together(k) < _WORTH]
        rest = (f" Of little effect: {', '.join(little)}.") if little else ""
        return f"{lead}{rest} {base} Losses are means over all other knobs, good and bad."

    def widening(self, snapshot: Snapshot) -> Proposal | None:
        """Return the proposal to widen the ranges at whose end the best recipes stand; None where
        there is none.
        """
        edges = [axis for axis in self.axes if axis.edge]
        ranges = {}
        for axis in edges:
            knob = snapshot.file.space.varied(axis.name)
            if knob is not None and axis.edge:
                ranges[axis.name] = widened(knob, axis.edge)
        if not ranges:
            return None
        names = ", ".join(FIELDS[name].label for name in ranges)
        return Proposal("edge", f"best at the end of a range: {names}",
                        "; ".join(axis.words for axis in edges) + ".", Sure.LIKELY,
                        (Change(f"Widen the range of {names}", {}, ranges),))


def explain(snapshot: Snapshot) -> KnobEffects:
    """Return which knobs of a search matter.

    Losses above the baseline count as the baseline: how badly a recipe fails tells nothing about
    good ones. Recipes that were cut count with the loss that those trained in full had come to
    from where these stood.

    Raises
    ------
    TrainingError
        If too few recipes are known, or nothing varies.
    """
    knobs = snapshot.file.space.knobs
    where = f"search {snapshot.search.number}"
    if not knobs:
        raise TrainingError("nothing varies in this search", where, "vary a knob on the sheet")
    losses = _losses(snapshot)
    if len(losses) < FEWEST:
        raise TrainingError(f"too few recipes to learn from: {len(losses)}", where,
                            f"train at least {FEWEST}")
    numbers = sorted(losses)
    cells = [_cells(knob) for knob in knobs]
    places = np.array([[_place(snapshot.recipes[n].recipe, knob, c)
                        for knob, c in zip(knobs, cells, strict=True)] for n in numbers])
    found = effects(cells, [not is_words(knob.range) for knob in knobs], places,
                    np.array([losses[n][0] for n in numbers]), snapshot.file.seed)
    axes = tuple(_axis(snapshot, knob, cells[k], places[:, k], numbers, losses)
                 for k, knob in enumerate(knobs))
    failing = sum(level >= snapshot.dataset.baseline.loss for level, _ in losses.values())
    return KnobEffects(axes, found, failing)


def _losses(s: Snapshot) -> dict[int, tuple[float, bool]]:
    """Return the loss of each recipe, none above the baseline, and whether it is known in full."""
    most = s.dataset.baseline.loss
    found = {row.recipe: (min(row.loss, most), True) for row in s.ranking.rows}
    full = [s.curves[runs[0].id].validation for row in s.ranking.rows
            if (runs := s.runs_of(row.recipe)) and runs[0].id in s.curves]
    for partial in s.ranking.partial:
        falls = [steady(curve)[1] - steady(curve[:partial.epochs])[1] for curve in full
                 if len(curve) >= partial.epochs]
        if len(falls) >= _KNOWN:
            level = partial.loss + float(np.median(falls))
            found[partial.recipe] = (min(max(level, s.ranking.rows[0].loss), most), False)
    found |= {recipe: (most, True) for recipe in s.ranking.broken}
    return {recipe: each for recipe, each in found.items()
            if math.isfinite(each[0]) and not s.recipes[recipe].origin}


def _cells(knob: Knob) -> int:
    size = knob.range.size
    return size if size is not None and (is_words(knob.range) or size <= CELLS) else CELLS


def _place(recipe: Mapping[str, Value], knob: Knob, cells: int) -> int:
    """Return the cell of a recipe, -1 where the knob has no effect in it."""
    needs = FIELDS[knob.name].needs
    if (knob.when and not knob.when.holds(recipe)) or (needs and not needs.holds(recipe)):
        return -1
    return min(int(position(knob.range, recipe[knob.name]) * cells), cells - 1)


def _axis(s: Snapshot, knob: Knob, cells: int, places: NDArray[np.int64], numbers: list[int],
          losses: dict[int, tuple[float, bool]]) -> Axis:
    values = tuple(knob.range.at((i + 0.5) / cells) for i in range(cells))
    points = tuple(Point(n, int(place), *losses[n])
                   for n, place in zip(numbers, places, strict=True))
    best = {row.recipe for row in (*s.ranking.tied, *s.ranking.open)}
    own = [point.cell for point in points if point.recipe in best and point.cell >= 0]
    edge: Literal["", "low", "high"] = ""
    if own and cells > 2 and not is_words(knob.range):
        reach = max(1, round(EDGE * cells))
        edge = "low" if max(own) < reach else "high" if min(own) >= cells - reach else ""
        if edge and not can_widen(knob, edge):
            edge = ""
    return Axis(knob.name, values, points, _is_log(knob), edge)


def _is_log(knob: Knob) -> bool:
    """Whether a knob's values are spread evenly in the logarithm."""
    if is_words(knob.range):
        return False
    if isinstance(knob.range, OneOf | Ladder):
        values = [float(v) for v in knob.range.grid(0) if not isinstance(v, str)]
        return len(values) > 2 and min(values) > 0 and (
            max(values) / min(values) > (len(values) - 1) * 1.9)
    return bool(getattr(knob.range, "log", False))


def _written(value: Value) -> str:
    """Return a value for people."""
    return shown(short(value))


def effects_json(found: KnobEffects) -> dict[str, object]:
    """Return effects, for JSON."""
    effects_ = found.found

    def triple(each: object) -> dict[str, float]:
        return {name: float(getattr(each, name)) for name in ("value", "low", "high")}

    return {
        "recipes": effects_.recipes, "explained": effects_.explained, "known": effects_.known,
        "knobs": [{
            "name": axis.name, "share": triple(effects_.shares[k]), "edge": axis.edge or None,
            "values": list(axis.values), "mean_loss": effects_.curves[k][0].tolist(),
            "low": effects_.curves[k][1].tolist(), "high": effects_.curves[k][2].tolist(),
        } for k, axis in enumerate(found.axes)],
        "pairs": [{"names": [found.axes[a].name, found.axes[b].name], "share": triple(each)}
                  for (a, b), each in sorted(effects_.pairs.items())],
    }


def effect_lines(found: KnobEffects, width: int = 72) -> list[str]:
    """Return effects as lines of text: bars of shares, then where each knob is best."""
    lines, room = [], max(width - 52, 10)
    for k in found.order:
        axis, each = found.axes[k], found.found.shares[k]
        bar = "█" * round(each.value * room)
        curve = found.found.curves[k][0]
        best = axis.values[int(curve.argmin())]
        lines.append(f"{shown(FIELDS[axis.name].label, 18):<18} {share(each.value):>7} "
                     f"({share(each.low)} to {share(each.high)})".ljust(46) + f" {bar}")
        lines.append(f"{'':<18} lowest mean loss {loss(float(curve.min()))} near "
                     f"{_written(best)}, highest {loss(float(curve.max()))}")
    pairs = sorted(found.found.pairs.items(), key=lambda pair: -pair[1].value)
    for (a, b), each in pairs[:3]:
        if each.value >= 0.03:
            names = " with ".join(FIELDS[found.axes[i].name].label for i in (a, b))
            lines.append(f"{names}: {share(each.value)} more together ({share(each.low)} to "
                         f"{share(each.high)})")
    return [*lines, *(axis.words for axis in found.axes if axis.words)]
