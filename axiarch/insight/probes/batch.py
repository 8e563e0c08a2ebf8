"""Where larger batches stop being faster, where they get worse, and what fits memory."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property

from axiarch.insight.probes.means import mean, standard_error
from axiarch.insight.proposal import Change, Proposal, Sure
from axiarch.text import count, loss, memory, number, seconds_text

#: A size is fast enough if no other has this share more rows a second.
_FASTER = 0.1


@dataclass(frozen=True)
class BatchPoint:
    """One batch size.

    Attributes
    ----------
    size, steps : int
        Rows of a batch, and steps of an epoch.
    step_seconds, epoch_seconds : float
    bytes : int
        Memory of a run, forecast from the shapes.
    at_epochs, at_time : tuple of float
        Validation loss at equal epochs and at equal time, on each seed; empty where it was not
        trained.
    measured : int
        The most bytes that arrays of a run took at any time; 0 where it was not trained.
    """

    size: int
    steps: int
    step_seconds: float
    epoch_seconds: float
    bytes: int
    at_epochs: tuple[float, ...]
    at_time: tuple[float, ...]
    measured: int = 0

    @property
    def takes(self) -> int:
        """Bytes of a run: as measured, or as forecast where it was not trained."""
        return self.measured or self.bytes


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
        return tuple(p for p in self.points if p.takes <= self.room)

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
        return min(self.trained, key=lambda p: mean(p.at_time), default=None)

    @cached_property
    def alike(self) -> tuple[BatchPoint, ...]:
        """Sizes whose loss at equal time is within the spread of the best."""
        if self.best is None:
            return ()
        limit = mean(self.best.at_time) + 2 * standard_error(self.best.at_time)
        return tuple(p for p in self.trained if mean(p.at_time) <= limit)

    def verdict(self) -> str:
        """Say what is fast, what is good, and what fits."""
        if not self.trained or self.best is None or self.fast_enough is None:
            return f"No batch size fits {memory(self.room)} ({self.device})."
        fits = len(self.fits)  # small sizes may not: more steps are worked out ahead
        which = ("All sizes" if fits == len(self.points) else
                 f"Up to {self.fits[-1].size} rows" if self.fits == self.points[:fits] else
                 f"Sizes {', '.join(str(p.size) for p in self.fits)}")
        room = f"{which} fit {memory(self.room)} ({self.device})."
        speed = (f"Above {self.fast_enough.size} rows a batch is no longer faster: "
                 f"{number(self.speed(self.fast_enough), 3)} rows a second.")
        seeds = count(len(self.best.at_time), "seed")
        others = ", ".join(str(p.size) for p in self.alike if p is not self.best)
        alike = f"; {others} {'is' if len(self.alike) == 2 else 'are'} within its spread"
        worse = [p.size for p in self.trained if p.size > max(q.size for q in self.alike)]
        words = (f"At equal time ({seconds_text(self.seconds)}, {seeds}) the validation loss is "
                 f"lowest at {self.best.size} ({loss(mean(self.best.at_time))})"
                 f"{alike if others else ''}.")
        bad = f" From {worse[0]} on it is worse." if worse else ""
        return f"{speed} {words}{bad} {room}{self._memory()}"

    def _memory(self) -> str:
        """Say how far the memory that was measured lies from the forecast."""
        ratios = [p.measured / p.bytes for p in self.points if p.measured and p.bytes]
        if not ratios:
            return ""
        low, high = (f"{ratio:.2f}" for ratio in (min(ratios), max(ratios)))
        return (f" Measured, a run takes {low if low == high else f'{low} to {high}'} times the "
                "memory that was forecast.")

    def proposal(self) -> Proposal | None:
        """Return the sizes that are proposed."""
        if not self.alike:
            return None
        text = " | ".join(str(p.size) for p in self.alike)
        return Proposal("probe_batch", "batch sizes worth trying", self.verdict(), Sure.LIKELY,
                        (Change("Vary the batch size where it is good", {}, {"batch_size": text}),))

    def lines(self) -> list[str]:
        """Return what was measured as a table of text."""
        head = (f"{'size':>6}{'a step':>10}{'an epoch':>10}{'rows/s':>10}{'forecast':>10}"
                f"{'measured':>10}{'equal epochs':>14}{'equal time':>12}")
        return [head, *map(self._line, self.points)]

    def _line(self, p: BatchPoint) -> str:
        if not p.at_time:
            return f"{p.size:>6}{'':>30}{memory(p.bytes):>10}  does not fit"
        return (f"{p.size:>6}{seconds_text(p.step_seconds):>10}{seconds_text(p.epoch_seconds):>10}"
                f"{number(self.speed(p), 3):>10}{memory(p.bytes):>10}"
                f"{memory(p.measured) if p.measured else '':>10}"
                f"{loss(mean(p.at_epochs)):>14}{loss(mean(p.at_time)):>12}")
