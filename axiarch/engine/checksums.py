"""A checksum of named arrays and a text, so that damage is noticed."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

import numpy as np
from numpy.typing import NDArray


def checksum(text: str, tensors: Mapping[str, NDArray[Any]]) -> str:
    """Return a checksum of all that a checkpoint or a model holds."""
    import xxhash

    digest = xxhash.xxh3_128(text.encode())
    for name in sorted(tensors):
        array = np.ascontiguousarray(tensors[name])
        digest.update(f"{name} {array.dtype} {array.shape}".encode())
        digest.update(array.tobytes() if array.ndim == 0 else array.data.cast("B"))
    return digest.hexdigest()
