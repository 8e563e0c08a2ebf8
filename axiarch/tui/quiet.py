"""Keeps what the interpreter does by itself from making a key wait.

A full garbage collection stops every thread for a tenth of a second where a search of 2,000 recipes
is shown, and it finds next to nothing: what is shown holds no cycles. So only young objects are
looked through by themselves, and all of them when nobody has touched a key for a while.
"""

from __future__ import annotations

import gc
import sys
import time
from collections.abc import Callable

#: Seconds without a key after which all objects are looked through, and between two looks at the
#: clock.
IDLE, LOOK = 30.0, 300.0


def be_quiet() -> None:
    """Let keys go first in this process."""
    sys.setswitchinterval(0.001)  # a key need not wait for the feed's thread to pause by itself
    young, middle, _ = gc.get_threshold()
    gc.set_threshold(young, middle, 10**9)


class Tidier:
    """Collects garbage when nobody is at the keyboard."""

    def __init__(self, clock: Callable[[], float] = time.monotonic) -> None:
        self._clock = clock
        self._touched = clock()

    def touch(self) -> None:
        """Take note that somebody is there."""
        self._touched = self._clock()

    def tidy(self) -> bool:
        """Collect all garbage if nobody has been there for a while; say whether that was done."""
        if self._clock() - self._touched < IDLE:
            return False
        gc.collect()
        return True
