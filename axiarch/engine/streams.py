"""Random streams. Each run owns its own, one for each purpose, and all are pure functions of where the run stands.

A run is identified by the search seed, its repeat and its fold, so that runs of different recipes with
the same repeat see the same rows in the same order: their losses can be compared in pairs. Because
every epoch's stream starts afresh from the identity and the epoch's number, nothing needs saving to
go on after a pause.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

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

    def order(self, epoch: int, rows: int) -> NDArray[np.int64]:
        """Return the order (N,) in which `rows` N training rows are met in an epoch (from 1)."""
        return np.random.default_rng(self._sequence(_ORDER, epoch)).permutation(rows)

    def drawn(self, epoch: int, gains: NDArray[np.float64]) -> NDArray[np.int64]:
        """Return N rows drawn for an epoch, each as often on average as its gain (N,) says; their mean is 1."""
        rng = np.random.default_rng(self._sequence(_ORDER, epoch))
        return rng.choice(len(gains), len(gains), p=gains / gains.sum()).astype(np.int64)

    def dropout_key(self, epoch: int) -> np.uint64:
        """Return the key of an epoch's dropout masks."""
        return np.uint64(self._sequence(_DROPOUT, epoch).generate_state(1, np.uint64)[0])

    def noise_key(self, epoch: int) -> np.uint64:
        """Return the key of an epoch's input noise."""
        return np.uint64(self._sequence(_NOISE, epoch).generate_state(1, np.uint64)[0])

    def augmentation_key(self, epoch: int) -> np.uint64:
        """Return the key of an epoch's picture augmentation."""
        return np.uint64(self._sequence(_AUGMENTATION, epoch).generate_state(1, np.uint64)[0])

    def mixing(self, epoch: int) -> np.random.Generator:
        """Return the generator that draws how far rows of an epoch are mixed."""
        return np.random.default_rng(self._sequence(_MIXING, epoch))
