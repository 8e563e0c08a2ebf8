"""Random streams. Each run owns its own, one for each purpose, and all are pure functions of where
the run stands.

A run is identified by the search seed, its repeat and its fold, so that runs of different recipes
with the same repeat see the same rows in the same order: their losses can be compared in pairs.
Because every epoch's stream starts afresh from the identity and the epoch's number, nothing needs
saving to go on after a pause.
"""

from __future__ import annotations

from dataclasses import dataclass
from functools import lru_cache

import numpy as np
from numpy.typing import NDArray

_ALL64 = (1 << 64) - 1
_INITIALISATION, _ORDER, _DROPOUT, _NOISE, _AUGMENTATION, _MIXING = 0, 1, 2, 3, 4, 5


@dataclass(frozen=True)
class Streams:
    """The random streams of one run.

    Attributes
    ----------
    seed, repeat, fold : int
        The search seed and which repeat and fold of it this is.
    """

    seed: int
    repeat: int = 0
    fold: int = 0

    def _sequence(self, purpose: int, epoch: int = 0) -> np.random.SeedSequence:
        return np.random.SeedSequence(self.seed, spawn_key=(self.repeat, self.fold, purpose, epoch))

    def initialisation(self) -> np.random.Generator:
        """Return the generator that draws the first weights."""
        return np.random.default_rng(self._sequence(_INITIALISATION))

    def _key(self, purpose: int, epoch: int) -> np.uint64:
        return np.uint64(_scrambled(_first_key(self.seed, self.repeat, self.fold, purpose) + epoch))

    def order_key(self, epoch: int) -> np.uint64:
        """Return the key of the order in which rows are met in an epoch (from 1), for
        :func:`kernels.shuffle`.
        """
        return self._key(_ORDER, epoch)

    def drawn(self, epoch: int, weights: NDArray[np.float64]) -> NDArray[np.int64]:
        """Return N rows drawn for an epoch, each as often on average as its gain (N,) says;
        their mean is 1.
        """
        rng = np.random.default_rng(self._sequence(_ORDER, epoch))
        return rng.choice(len(weights), len(weights), p=weights / weights.sum()).astype(np.int64)

    def dropout_key(self, epoch: int) -> np.uint64:
        """Return the key of an epoch's dropout masks."""
        return self._key(_DROPOUT, epoch)

    def noise_key(self, epoch: int) -> np.uint64:
        """Return the key of an epoch's input noise."""
        return self._key(_NOISE, epoch)

    def augmentation_key(self, epoch: int) -> np.uint64:
        """Return the key of an epoch's picture augmentation."""
        return self._key(_AUGMENTATION, epoch)

    def mixing(self, epoch: int) -> np.random.Generator:
        """Return the generator that draws how far rows of an epoch are mixed."""
        return np.random.default_rng(self._sequence(_MIXING, epoch))


@lru_cache(maxsize=1024)
def _first_key(*identity: int) -> int:
    """Return sixty-four bits that belong to a run's purpose alone; an epoch's key is made from
    them in no time.
    """
    seed, *rest = identity
    return int(np.random.SeedSequence(seed, spawn_key=tuple(rest)).generate_state(1, np.uint64)[0])


def _scrambled(number: int) -> int:
    """Return SplitMix64's output for a state (Steele, Lea & Flood 2014)."""
    z = (number * 0x9E3779B97F4A7C15) & _ALL64
    z = ((z ^ (z >> 30)) * 0xBF58476D1CE4E5B9) & _ALL64
    z = ((z ^ (z >> 27)) * 0x94D049BB133111EB) & _ALL64
    return z ^ (z >> 31)
