"""Random bits that are a pure function of a key and a position, so that nothing needs storing or
restoring.

SplitMix64: Steele, Lea & Flood, "Fast splittable pseudorandom number generators", OOPSLA 2014.
"""

from __future__ import annotations

import numpy as np
from numba import uint64 as _u

from axiarch.engine.kernels.options import inlined, kernel

_GAMMA = np.uint64(0x9E3779B97F4A7C15)
_MIX1, _MIX2 = np.uint64(0xBF58476D1CE4E5B9), np.uint64(0x94D049BB133111EB)
_S30, _S27, _S31 = np.uint64(30), np.uint64(27), np.uint64(31)


@inlined
def random_word(key, index):
    """Return output number `index` for the seed `key`: sixty-four random bits."""
    z = key + (index + np.uint64(1)) * _GAMMA
    z = (z ^ (z >> _S30)) * _MIX1
    z = (z ^ (z >> _S27)) * _MIX2
    return z ^ (z >> _S31)


@kernel
def shuffle(order, key):
    """Put the numbers from 0 into `order` (N,) in an order that `key` says (Fisher & Yates 1938,
    Durstenfeld 1964).

    A place among the first i is the upper half of i times 32 random bits, so for N rows no place is
    likelier than another by more than N in 2^32.
    """
    rows = order.shape[0]
    for i in range(rows):
        order[i] = i
    for i in range(rows - 1, 0, -1):
        place = np.int64((
            (random_word(key, np.uint64(i)) >> np.uint64(32)) * np.uint64(i + 1)) >> np.uint64(32))
        order[i], order[place] = order[place], order[i]


@kernel
def drop(a, at, units, columns, key, first, threshold, scale, words, bits):
    """Apply inverted dropout to the block (H, N) at `at` of `a` in place (Srivastava et al. 2014).

    A number is silenced where its sixteen bits are below `threshold`; the others are multiplied by
    `scale`. A unit's bits are the words from ``first + h ceil(N / 4)`` on; `words` (N / 4,) and
    `bits` (N,) are the same memory.
    """
    zero = a.dtype.type(0)
    length = _u((columns + 3) // 4)
    for h in range(_u(units)):
        start = _u(first) + h * length
        for i in range(length):
            words[i] = random_word(key, start + i)
        row = _u(at) + h * _u(columns)
        for n in range(_u(columns)):
            a[row + n] *= scale if np.int32(bits[n]) >= threshold else zero
