"""How kernels are compiled: cached on disk, without the interpreter's lock, fused multiply-adds
allowed.
"""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from numba import njit

_PLAIN: dict[str,
             Any] = {"cache": True, "error_model": "numpy", "boundscheck": False, "nogil": True}


def kernel(function: Callable[..., Any]) -> Any:
    """Return a function compiled when it is first called; sums keep the order that is written."""
    return njit(**_PLAIN, fastmath={"contract", "nsz"})(function)


def inlined(function: Callable[..., Any]) -> Any:
    """Return a function that is compiled into each that calls it."""
    return njit(**_PLAIN, fastmath={"contract", "nsz"}, inline="always")(function)
