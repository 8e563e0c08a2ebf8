"""The demo data of Marrowfen, third set: *hum*, short pictures of sound, 16 x 16, of four kinds.

Each picture is a patch of a spectrogram, time to the right and pitch upwards. The kinds differ in
shape, not in place or loudness, so that a network has to see shapes. One label in
:data:`MISLABELLED` or so is wrong, at random: no predictor can be right more often than that
leaves.
"""

from __future__ import annotations

import math
from dataclasses import dataclass
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

Floats = NDArray[np.float64]

#: The four kinds of hum.
KINDS = ("steady", "rising", "piping", "fanning")
#: The share of recordings that carry one of the three other names.
MISLABELLED = 0.06
#: Pixels to a side.
SIZE = 16


@dataclass(frozen=True)
class Hum:
    """The generated pictures and the truth behind them.

    Attributes
    ----------
    pictures : (N, 16, 16) array of bytes
    labels : (N,) array of text
        As written down, some wrongly.
    kinds : (N,) array of int
        What was really heard.
    """

    pictures: NDArray[np.uint8]
    labels: NDArray[np.str_]
    kinds: NDArray[np.int64]

    @property
    def best_accuracy(self) -> float:
        """The accuracy of always naming what was really heard."""
        return 1 - MISLABELLED

    @property
    def best_balanced(self) -> float:
        """The mean over the names of how often a recording of that name is what was heard."""
        right = self.labels == np.array(KINDS)[self.kinds]
        return float(np.mean([right[self.labels == kind].mean() for kind in KINDS]))

    @property
    def best_loss(self) -> float:
        """The cross-entropy of knowing what was heard and how often labels are wrong, in nats."""
        e = MISLABELLED
        return -(1 - e) * math.log(1 - e) - e * math.log(e / 3)

    def to_npz(self, path: Path) -> Path:
        """Write pictures and labels as a NumPy archive and return the path."""
        np.savez_compressed(path, pictures=self.pictures, labels=self.labels)
        return path


def hum(rows: int = 2400, seed: int = 22) -> Hum:
    """Generate N pictures."""
    rng = np.random.default_rng(seed)
    kinds = rng.choice(4, rows, p=(0.3, 0.25, 0.2, 0.25)).astype(np.int64)
    shapes = np.stack([_DRAWN[k](rng) for k in kinds])
    loud = rng.uniform(70, 150, (rows, 1, 1))
    haze = rng.uniform(15, 60, (rows, 1, 1)) + rng.normal(0, 20, (rows, SIZE, SIZE))
    pictures = np.clip(np.rint(haze + loud * shapes), 0, 255).astype(np.uint8)
    wrong = rng.random(rows) < MISLABELLED
    named = np.where(wrong, (kinds + rng.integers(1, 4, rows)) % 4, kinds)
    return Hum(pictures, np.array(KINDS)[named], kinds)


def _grid() -> tuple[Floats, Floats]:
    """Return pitch (from the top) and time of each pixel (16, 16)."""
    pitch, time = np.mgrid[0:SIZE, 0:SIZE].astype(np.float64)
    return pitch, time


def _band(pitch: Floats, centre: Floats | float, width: float) -> Floats:
    return np.exp(-(((pitch - centre) / width) ** 2))


def _steady(rng: np.random.Generator) -> Floats:
    """A level tone with its overtone."""
    pitch, time = _grid()
    low = rng.uniform(8, 14)
    wave = 0.4 * np.sin(time / rng.uniform(2, 4) + rng.uniform(0, 6))
    return _band(pitch, low + wave, 1.0) + 0.6 * _band(pitch, low - rng.uniform(4, 6) + wave, 1.0)


def _rising(rng: np.random.Generator) -> Floats:
    """A tone that climbs through the patch."""
    pitch, time = _grid()
    slope = rng.uniform(0.35, 0.9)
    return 1.2 * _band(pitch, rng.uniform(11, 15) - slope * time + rng.uniform(-2, 4), 1.2)


def _piping(rng: np.random.Generator) -> Floats:
    """Short pulses of one pitch, again and again."""
    pitch, time = _grid()
    period = rng.uniform(4, 6.5)
    on = ((time + rng.uniform(0, period)) % period) < 0.5 * period
    return 1.3 * on * _band(pitch, rng.uniform(3, 12), 1.3)


def _fanning(rng: np.random.Generator) -> Floats:
    """Noise over all pitches that comes and goes."""
    pitch, time = _grid()
    beat = 0.5 + 0.5 * np.sin(2 * np.pi * time / rng.uniform(4, 7) + rng.uniform(0, 6))
    return 0.75 * beat * (0.75 + 0.25 * np.cos(pitch / rng.uniform(4, 9)))


_DRAWN = (_steady, _rising, _piping, _fanning)
