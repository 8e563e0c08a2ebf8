"""A network drawn from inputs to classes: each layer a bar as wide as it has units, connections
between.
"""

from __future__ import annotations

import math
from collections.abc import Sequence

from axiarch.text import number
from axiarch.tui.plots.runs import Row, Rows, cut, right


def draw_network(sizes: Sequence[int], names: Sequence[str], width: int, height: int) -> Rows:
    """Return a drawing in `width` by `height` cells.

    Parameters
    ----------
    sizes : sequence of int
        Units of each layer, inputs first.
    names : sequence of str
        What stands beside each layer.
    """
    label = min(max((len(n) for n in names), default=6) + 8, width // 2)
    room = max(width - label - 1, 6)
    top = math.sqrt(max(sizes))
    shown = _fold(sizes, names, max((height + 1) // 2, 3))
    rows: Rows = []
    for i, (size, name) in enumerate(shown):
        if i:
            rows.append(_between(shown[i - 1][0], size, top, room, label))
        if size == 0:
            rows.append([(" " * label + " ", "ink"), (f"⋮ {name}".center(room), "faint")])
            continue
        role = "train" if i == 0 else "lead" if i == len(shown) - 1 else "second"
        bar = "▇" * _cells(size, top, room)
        rows.append([(right(f"{name} {number(size)}", label) + " ", "ink"),
                     (bar.center(room).rstrip(), role)])
    return [cut(row, width) for row in rows]


def _cells(size: int, top: float, room: int) -> int:
    """Return the cells of a layer's bar: by the root of its units, so that narrow and wide are
    both seen.
    """
    return max(1, round(math.sqrt(size) / top * room))


def _fold(sizes: Sequence[int], names: Sequence[str], most: int) -> list[tuple[int, str]]:
    """Return layers and names; where there are too many, the middle ones become one line (size
    0).
    """
    layers = list(zip(sizes, names, strict=True))
    if len(layers) <= most:
        return layers
    head, tail = most - 2, 1
    hidden = len(layers) - head - tail
    return [*layers[:head], (0, f"{hidden} more layers"), *layers[-tail:]]


def _between(above: int, below: int, top: float, room: int, label: int) -> Row:
    """Return the row between two layers: slanting edges from one width to the next."""
    if above == 0 or below == 0:
        return [(" " * (label + 1), "ink"), ("·".center(room), "grid")]
    a, b = _cells(above, top, room), _cells(below, top, room)
    middle = max((a + b) // 2, 1)
    left, far = ("╲", "╱") if a > b + 1 else ("╱", "╲") if b > a + 1 else ("│", "│")
    inner = "" if middle < 2 else left + ("╳" * (middle - 2) if middle > 2 else "") + far
    return [(" " * (label + 1), "ink"), ((inner or "│").center(room).rstrip(), "grid")]
