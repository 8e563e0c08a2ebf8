"""Small pictures in the terminal: two pixels a cell, one above the other."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

from axiarch.tui.plots.runs import Row, Rows

#: Most pixels of a side that are drawn; a larger picture is drawn smaller.
LARGEST = 32


def picture(pixels: NDArray[Any], low: float, high: float) -> Rows:
    """Return a picture (height, width, channels) as rows of half blocks.

    One channel is drawn in shades from `low` to `high`, three or four in their colours.
    """
    step = -(-max(pixels.shape[:2]) // LARGEST)
    small = pixels[::step, ::step].astype(np.float64)
    small = np.clip((small - low) / ((high - low) or 1.0), 0.0, 1.0)
    if len(small) % 2:
        small = np.concatenate([small, np.zeros_like(small[:1])])
    return [_row(small[y], small[y + 1]) for y in range(0, len(small), 2)]


def _row(above: NDArray[np.float64], below: NDArray[np.float64]) -> Row:
    return [("▀", f"~{_colour(a)}/{_colour(b)}") for a, b in zip(above, below, strict=True)]


def _colour(pixel: NDArray[np.float64]) -> str:
    """Return the name of a pixel's colour, as roles write it."""
    if len(pixel) < 3:
        return str(round(100 * float(pixel[0])))
    return "#" + "".join(f"{round(255 * float(c)):02x}" for c in pixel[:3])
