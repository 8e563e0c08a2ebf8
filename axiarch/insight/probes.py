"""What probes of a recipe say: short trainings made to find in which band a rate works, where
larger batches stop paying, how deep a network can be, and how large a difference can be seen.

Each is a frozen value with what was measured, and reads from it what is proposed.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass
from functools import cached_property

from axiarch.insight.proposal import Change, Proposal, Sure
from axiarch.recipes.conditions import written
from axiarch.text import count, loss, memory, number, seconds_text, share

#: Kinds of probes, and what each answers.
KINDS: dict[str, str] = {
    "rate": "in which band of learning rates the loss falls, and where training breaks",
    "batch": "where larger batches stop being faster, where they get worse, and what fits memory",
    "depth": "how many layers still learn, plain, normalised and with skips",
    "noise": "how large a difference between two recipes can be seen, and with how many seeds",
}
#: Whose memory a batch is meant for where nothing else is said, and devices that ship, with theirs.
HERE = "this machine"
DEVICES: dict[str, str] = {
    "small device": "2 GiB", "medium device": "8 GiB", "large device": "24 GiB"}

#: Share of the fall at the best rate that another must reach to be in the band.
_BAND = 0.3
#: A loss this much above where it began has broken.
_BROKEN = 1.2
#: A size is fast enough if no other has this share more rows a second.
_FASTER = 0.1
#: Gradient of the first layer over that of the last below which it gets none, and the share of the
#: baseline above which a network learns nothing.
_NO_GRADIENT, _NO_LEARNING = 1e-3, 0.98
#: Standard normal quantiles: two-sided 5 %, and a power of 80 %.
_Z95, _Z80 = 1.959964, 0.841621


@dataclass(frozen=True)
class RatePoint:
    """One learning rate: the training loss after a short training, on each seed; infinite where it
    broke.
    """

    rate: float
    losses: tuple[float, ...]

    @property
    def loss(self) -> float:
        """The mean over seeds."""
        return math.fsum(self.losses) / len(self.losses)


@dataclass(frozen=True)
class RateProbe:
    """Learning rates, each trained afresh for as many steps (after Smith 2017, who raises one
    training's rate: here no rate inherits what a higher or lower one has done).

    Attributes
    ----------
    points : tuple of RatePoint
        Rising.
    start : float
        The training loss before any step, or the baseline if that is lower.
    steps : int
    optimiser : str
    rate : float
        Of the recipe.
    """

    points: tuple[RatePoint, ...]
    start: float
    steps: int
    optimiser: str
    rate: float

    @cached_property
    def smooth(self) -> tuple[float, ...]:
        """Mean losses over three neighbours, in the logarithm; infinite where any of them broke."""
        logs = [math.log(p.loss) if 0 < p.loss < math.inf else math.inf for p in self.points]
        found = []
        for i in range(len(logs)):
            near = logs[max(i - 1, 0):i + 2]
            found.append(math.exp(sum(near) / len(near)) if all(map(math.isfinite, near))
                         else math.inf)
        return tuple(found)

    @cached_property
    def best(self) -> int:
        """The place of the rate with the lowest smoothed loss."""
        return min(range(len(self.smooth)), key=lambda i: (self.smooth[i], i))

    @property
    def learns(self) -> bool:
        """Whether the loss falls at any rate."""
        return self.smooth[self.best] < 0.99 * self.start

    @cached_property
    def breaks(self) -> float | None:
        """The lowest rate above the best at which a seed breaks; None where none does."""
        for point in self.points[self.best + 1:]:
            if any(not math.isfinite(v) or v > _BROKEN * self.start for v in point.losses):
                return point.rate
        return None

    @cached_property
    def band(self) -> tuple[float, float]:
        """The rates between which the loss falls by a fair share of its fall at the best one."""
        wanted = self.start - _BAND * (self.start - self.smooth[self.best])
        inside = [i for i, v in enumerate(self.smooth) if v <= wanted]
        low = high = self.best
        while low - 1 in inside:
            low -= 1
        while high + 1 in inside:
            high += 1
        return self.points[low].rate, self.points[high].rate

    def verdict(self) -> str:
        """Say in which band the loss falls, and where it breaks."""
        seeds = count(len(self.points[0].losses), "seed")
        over = f"({count(self.steps, 'step')} from scratch at each rate, {seeds})"
        if not self.learns:
            return (f"At no learning rate does the training loss fall within "
                    f"{count(self.steps, 'step')} {over}: the fault lies elsewhere.")
        low, high = self.band
        broken = (f" From {number(self.breaks, 2)} on training breaks." if self.breaks else
                  " No rate that was tried breaks it.")
        here = "inside" if low <= self.rate <= high else "below" if self.rate < low else "above"
        return (f"The training loss falls between rates of {number(low, 2)} and {number(high, 2)}, "
                f"fastest at {number(self.points[self.best].rate, 2)} {over}.{broken} The recipe's "
                f"{number(self.rate)} is {here} that band. A short training favours high rates: a "
                "whole one often ends best somewhat below.")

    def proposal(self) -> Proposal | None:
        """Return the range that is proposed; None where nothing learns."""
        if not self.learns:
            return None
        best = self.points[self.best].rate
        low, high = best / 30, best * 1.5
        if self.breaks is not None:
            high = min(high, self.breaks / 2)
        ends = (written(float(f"{v:.1g}")) for v in (low, max(high, low * 3)))
        text = f"{' .. '.join(ends)} log"
        return Proposal("probe_rate", "a range for the learning rate", self.verdict(), Sure.LIKELY,
                        (Change("Vary the learning rate where it works", {},
                                {"learning_rate": text}),))


@dataclass(frozen=True)
class BatchPoint:
    """One batch size.

    Attributes
    ----------
    size, steps : int
        Rows of a batch, and steps of an epoch.
    step_seconds, epoch_seconds : float
    bytes : int
        Memory of a run, worked out; 0 where it was not trained.
    at_epochs, at_time : tuple of float
        Validation loss at equal epochs and at equal time, on each seed; empty where it was not
        trained.
    """

    size: int
    steps: int
    step_seconds: float
    epoch_seconds: float
    bytes: int
    at_epochs: tuple[float, ...]
    at_time: tuple[float, ...]


@dataclass(frozen=True)
class BatchProbe:
    """Batch sizes, doubled.

    Attributes
    ----------
    points : tuple of BatchPoint
    rows : int
        Training rows.
    room : float
        Bytes that a run may take.
    device : str
    epochs : int
        At which losses are compared.
    seconds : float
        At which losses are compared.
    size : int
        Of the recipe.
    """

    points: tuple[BatchPoint, ...]
    rows: int
    room: float
    device: str
    epochs: int
    seconds: float
    size: int

    @cached_property
    def fits(self) -> tuple[BatchPoint, ...]:
        """Those that fit the memory."""
        return tuple(p for p in self.points if p.bytes <= self.room)

    @cached_property
    def trained(self) -> tuple[BatchPoint, ...]:
        """Those that were trained."""
        return tuple(p for p in self.fits if p.at_time)

    def speed(self, point: BatchPoint) -> float:
        """Rows a second."""
        return self.rows / point.epoch_seconds if point.epoch_seconds > 0 else 0.0

    @cached_property
    def fast_enough(self) -> BatchPoint | None:
        """The smallest size that is within a tenth of the fastest."""
        most = max(map(self.speed, self.trained), default=0.0)
        return next((p for p in self.trained if (1 + _FASTER) * self.speed(p) >= most), None)

    @cached_property
    def best(self) -> BatchPoint | None:
        """The size with the lowest loss at equal time."""
        return min(self.trained, key=lambda p: _mean(p.at_time), default=None)

    @cached_property
    def alike(self) -> tuple[BatchPoint, ...]:
        """Sizes whose loss at equal time is within the spread of the best."""
        if self.best is None:
            return ()
        limit = _mean(self.best.at_time) + 2 * _error(self.best.at_time)
        return tuple(p for p in self.trained if _mean(p.at_time) <= limit)

    def verdict(self) -> str:
        """Say what is fast, what is good, and what fits."""
        if not self.trained or self.best is None or self.fast_enough is None:
            return f"No batch size fits {memory(self.room)} ({self.device})."
        largest = max(p.size for p in self.fits)
        more = len(self.fits) < len(self.points)
        room = (f"{f'Up to {largest} rows' if more else 'All sizes'} fit {memory(self.room)} "
                f"({self.device}).")
        speed = (f"Above {self.fast_enough.size} rows a batch is no longer faster: "
                 f"{number(self.speed(self.fast_enough), 3)} rows a second.")
        seeds = count(len(self.best.at_time), "seed")
        others = ", ".join(str(p.size) for p in self.alike if p is not self.best)
        alike = f"; {others} {'is' if len(self.alike) == 2 else 'are'} within its spread"
        worse = [p.size for p in self.trained if p.size > max(q.size for q in self.alike)]
        words = (f"At equal time ({seconds_text(self.seconds)}, {seeds}) the validation loss is "
                 f"lowest at {self.best.size} ({loss(_mean(self.best.at_time))})"
                 f"{alike if others else ''}.")
        bad = f" From {worse[0]} on it is worse." if worse else ""
        return f"{speed} {words}{bad} {room}"

    def proposal(self) -> Proposal | None:
        """Return the sizes that are proposed."""
        if not self.alike:
            return None
        text = " | ".join(str(p.size) for p in self.alike)
        return Proposal("probe_batch", "batch sizes worth trying", self.verdict(), Sure.LIKELY,
                        (Change("Vary the batch size where it is good", {}, {"batch_size": text}),))


@dataclass(frozen=True)
class DepthPoint:
    """One depth: by how a network is built, the gradient of its first layer over that of its last
    at the start, and the training loss after a short training.
    """

    depth: int
    build: str
    gradient: float
    loss: float


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
                and point.gradient >= _NO_GRADIENT)

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
        return (f"Networks that still learn ({count(self.epochs, 'epoch')} each; a gradient of the "
                f"first layer of at least {number(_NO_GRADIENT)} of the last layer's, a training "
                f"loss below {share(_NO_LEARNING)} of the baseline). {'; '.join(parts)}.")

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


@dataclass(frozen=True)
class NoiseProbe:
    """Seeds of one recipe.

    Attributes
    ----------
    losses : tuple of float
        Steady loss of each seed.
    rows : int
        Validation rows.
    row_error : float
        Standard error of a level by the rows alone.
    pair_error : float
        Standard error, by the rows alone, of the difference of two trainings on the same rows.
    """

    losses: tuple[float, ...]
    rows: int
    row_error: float
    pair_error: float

    @cached_property
    def spread(self) -> float:
        """The standard deviation over seeds."""
        return _error(self.losses) * math.sqrt(len(self.losses))

    def visible(self, seeds: int) -> float:
        """Return the difference that two recipes need for it to be seen at 95 % in four of five
        cases, each on so many seeds.
        """
        error = math.hypot(self.spread * math.sqrt(2 / seeds), self.pair_error)
        return (_Z95 + _Z80) * error

    def seeds_for(self, difference: float) -> int | None:
        """Return the seeds that a difference needs; None where no number of seeds shows it, for
        the rows hide it.
        """
        if difference <= (_Z95 + _Z80) * self.pair_error:
            return None
        left = (difference / (_Z95 + _Z80)) ** 2 - self.pair_error**2
        return max(math.ceil(2 * self.spread**2 / left), 1)

    def verdict(self) -> str:
        """Say how large a difference can be seen."""
        mean = _mean(self.losses)
        parts = ", ".join(f"{number(self.visible(k), 2)} with {k}" for k in (1, 3, 5, 10))
        least = (_Z95 + _Z80) * self.pair_error
        return (f"{count(len(self.losses), 'seed')} of this recipe come to {loss(mean)}, with a "
                f"standard deviation of {number(self.spread, 2)}; the {number(self.rows)} "
                f"validation rows add ± {number(_Z95 * self.row_error, 2)} to any level. Between "
                f"two recipes as alike as these, each on as many seeds, a difference is seen in "
                f"four of five cases from {parts}. Below {number(least, 2)} more seeds do not "
                "help: only more rows would.")

    def proposal(self) -> Proposal | None:
        """Return nothing: seeds are the search's, not the recipe's."""
        return None


Probe = RateProbe | BatchProbe | DepthProbe | NoiseProbe


def _mean(values: Sequence[float]) -> float:
    return math.fsum(values) / len(values) if values else math.inf


def _error(values: Sequence[float]) -> float:
    """Return the standard error of a mean; 0 for a single value."""
    if len(values) < 2 or not all(map(math.isfinite, values)):
        return 0.0
    mean = _mean(values)
    return math.sqrt(math.fsum((v - mean) ** 2 for v in values) / (len(values) - 1) / len(values))


def probe_lines(probe: Probe) -> list[str]:
    """Return what was measured as a table of text."""
    if isinstance(probe, RateProbe):
        return ["     rate  training loss"] + [
            f"{number(p.rate, 2):>9}  {loss(p.loss) if math.isfinite(p.loss) else 'broke':>13}"
            + ("  ◂ lowest" if i == probe.best and probe.learns else "")
            for i, p in enumerate(probe.points)]
    if isinstance(probe, BatchProbe):
        head = (f"{'size':>6}{'a step':>10}{'an epoch':>10}{'rows/s':>10}{'memory':>10}"
                f"{'equal epochs':>14}{'equal time':>12}")
        return [head] + [
            f"{p.size:>6}{seconds_text(p.step_seconds):>10}{seconds_text(p.epoch_seconds):>10}"
            f"{number(probe.speed(p), 3):>10}{memory(p.bytes):>10}"
            f"{loss(_mean(p.at_epochs)):>14}{loss(_mean(p.at_time)):>12}" if p.at_time else
            f"{p.size:>6}{'':>30}{memory(p.bytes):>10}  does not fit" for p in probe.points]
    if isinstance(probe, DepthProbe):
        lines = [f"{'depth':>5}  {'build':<24}{'first/last gradient':>20}{'training loss':>15}"]
        return lines + [
            f"{p.depth:>5}  {p.build:<24}{number(p.gradient, 2):>20}"
            f"{loss(p.loss) if math.isfinite(p.loss) else 'broke':>15}"
            + ("" if probe.learns(p) else "  does not learn") for p in probe.points]
    return [f"seed {i}  {loss(v)}" for i, v in enumerate(probe.losses, 1)]
