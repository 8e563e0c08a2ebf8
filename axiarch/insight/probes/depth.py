"""How many layers still learn, plain, normalised and with skips."""

from __future__ import annotations

import math
from dataclasses import dataclass

from axiarch.insight.proposal import Change, Proposal, Sure
from axiarch.text import count, loss, number, share

#: Gradient of the first layer over that of the last below which it gets none, and the share of the
#: baseline above which a network learns nothing.
_NO_GRADIENT, _NO_LEARNING = 1e-3, 0.98
#: Of each layer with weights (L,): the norm of its gradient, and the root mean square of its
#: activations, skips added.
LayerSizes = tuple[tuple[float, float], ...]


@dataclass(frozen=True)
class DepthPoint:
    """One depth, by how a network is built.

    Attributes
    ----------
    depth : int
        Hidden layers.
    build : str
    loss : float
        The training loss after a short training.
    at_start, at_end : LayerSizes
        At the first step, and at the end of the short training.
    """

    depth: int
    build: str
    loss: float
    at_start: LayerSizes = ()
    at_end: LayerSizes = ()


def gradient_ratio(sizes: LayerSizes) -> float:
    """Return the gradient of the first layer over that of the last; nan where it is not known."""
    return sizes[0][0] / sizes[-1][0] if sizes and sizes[-1][0] > 0 else math.nan


def activation_ratio(sizes: LayerSizes) -> float:
    """Return the activations of the last hidden layer over those of the first; nan where they are
    not known.
    """
    return sizes[-2][1] / sizes[0][1] if len(sizes) > 1 and sizes[0][1] > 0 else math.nan


#: How networks of the probe are built: their values.
BUILDS: dict[str, dict[str, object]] = {
    "plain": {"normalisation": "none", "residual": "no"},
    "layer normalisation": {"normalisation": "layer", "residual": "no"},
    "normalised, with skips": {"normalisation": "layer", "residual": "yes"},
}


@dataclass(frozen=True)
class DepthProbe:
    """Depths.

    Attributes
    ----------
    points : tuple of DepthPoint
    baseline : float
        The loss on training rows of a predictor that learns nothing.
    epochs, depth : int
        Of the short trainings, and of the recipe.
    """

    points: tuple[DepthPoint, ...]
    baseline: float
    epochs: int
    depth: int

    def of(self, build: str) -> tuple[DepthPoint, ...]:
        """Return the points of a build, by depth."""
        return tuple(p for p in self.points if p.build == build)

    def learns(self, point: DepthPoint) -> bool:
        """Whether a network of this depth and build learns."""
        return (math.isfinite(point.loss) and point.loss < _NO_LEARNING * self.baseline
                and not gradient_ratio(point.at_end) < _NO_GRADIENT)

    def deepest(self, build: str) -> int:
        """Return the deepest network that learns, all shallower ones learning too; 0 for none."""
        last = 0
        for point in self.of(build):
            if not self.learns(point):
                break
            last = point.depth
        return last

    def verdict(self) -> str:
        """Say up to which depth each build learns."""
        tried = max(p.depth for p in self.points)
        parts = []
        for build in BUILDS:
            deepest = self.deepest(build)
            parts.append(f"{build}: all {tried} layers learn" if deepest == tried else
                         f"{build}: up to {count(deepest, 'layer')}" if deepest else
                         f"{build}: none learns")
        best = min((p for p in self.points if self.learns(p)), key=lambda p: p.loss, default=None)
        if best is not None:
            parts.append(f"the lowest training loss: {count(best.depth, 'layer')}, {best.build}")
        return (f"Networks that still learn ({count(self.epochs, 'epoch')} each; at the end a "
                f"gradient of the first layer of at least {number(_NO_GRADIENT)} of the last "
                f"layer's, and a training loss below {share(_NO_LEARNING)} of the baseline). "
                f"{'; '.join(parts)}.{self._initialised()}")

    def _initialised(self) -> str:
        """Say what becomes of activations and gradients in the deepest network, before any step."""
        tried = max(p.depth for p in self.points)
        parts = [f"{_ratio(activation_ratio(p.at_start))} and {_ratio(gradient_ratio(p.at_start))} "
                 f"({p.build})" for p in self.points if p.depth == tried and p.at_start]
        return (f" Before the first step of {count(tried, 'layer')}, the activations of the last "
                "hidden layer over those of the first, and the gradient of the first layer over "
                f"that of the last: {', '.join(parts)}." if parts else "")

    @property
    def shown(self) -> int:
        """The depth whose layers are drawn: the first at which plain networks do not learn, or
        the deepest.
        """
        plain = self.of("plain")
        return next((p.depth for p in plain if not self.learns(p) and p.depth > 1),
                    max(p.depth for p in self.points))

    def proposal(self) -> Proposal | None:
        """Return a range of depths."""
        best = max(BUILDS, key=self.deepest)
        deepest = self.deepest(best)
        if not deepest:
            return None
        plain = self.deepest("plain")
        text = f"1 .. {min(max(plain, 1), 6)}" if plain > 1 else "1"
        changes = [Change("Vary the depth where plain networks learn", {}, {"depth": text})]
        if best != "plain":
            values = {k: v for k, v in BUILDS[best].items() if isinstance(v, str)}
            changes.append(Change(f"Build it with {best}", values))
        return Proposal("probe_depth", "depths that learn", self.verdict(), Sure.LIKELY,
                        tuple(changes))

    def lines(self) -> list[str]:
        """Return what was measured as a table of text."""
        head = (f"{'':>5}  {'':<22}{'gradient first/last':>21}{'activation last/first':>23}"
                f"{'training':>11}",
                f"{'depth':>5}  {'build':<22}{'at start':>12}{'at end':>9}{'at start':>13}"
                f"{'at end':>10}{'loss':>11}")
        return [*head, *map(self._line, self.points)]

    def _line(self, p: DepthPoint) -> str:
        gradients, activations = ([_ratio(of(sizes)) for sizes in (p.at_start, p.at_end)]
                                  for of in (gradient_ratio, activation_ratio))
        level = loss(p.loss) if math.isfinite(p.loss) else "broke"
        return (f"{p.depth:>5}  {p.build:<22}{gradients[0]:>12}{gradients[1]:>9}"
                f"{activations[0]:>13}{activations[1]:>10}{level:>11}"
                + ("" if self.learns(p) else "  does not learn"))


def _ratio(ratio: float) -> str:
    return number(ratio, 2) if math.isfinite(ratio) else "?"
