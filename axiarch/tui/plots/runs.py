"""What every drawing is made of: rows of runs, a run being text and the role that colours it.

A role is a name of the palette, with ``*`` behind it for bold and ``!`` for the selected ground.
"""

from __future__ import annotations

from collections.abc import Sequence
from itertools import accumulate

from rich.cells import cell_len, set_cell_size

from axiarch.text import shown

Run = tuple[str, str]
Row = list[Run]
Rows = list[Row]


def fit(text: object, width: int) -> str:
    """Return untrusted text made harmless, in exactly `width` cells, cut with an ellipsis."""
    safe = shown(text)
    if cell_len(safe) <= width:
        return set_cell_size(safe, width)
    return set_cell_size(safe, max(width - 1, 0)) + ("…" if width > 0 else "")


def fit_name(text: object, width: int) -> str:
    """Return a name in exactly `width` cells, cut in the middle: long names often differ at
    their ends.
    """
    safe = shown(text)
    if cell_len(safe) <= width or width < 8:
        return fit(safe, width)
    tail = width * 2 // 5
    end = safe
    while cell_len(end) > tail:
        end = end[max(len(end) - tail, 1) :] if cell_len(end) > 2 * tail else end[1:]
    return set_cell_size(safe, width - 1 - cell_len(end)) + "…" + end


def right(text: object, width: int) -> str:
    """Return text at the right end of `width` cells."""
    safe = shown(text)
    return " " * (width - cell_len(safe)) + safe if cell_len(safe) < width else fit(safe, width)


def row_width(row: Row) -> int:
    """Return the cells a row takes."""
    return sum(cell_len(text) for text, _ in row)


def cut(row: Row, width: int) -> Row:
    """Return a row in at most `width` cells."""
    out: Row = []
    for text, role in row:
        if width <= 0:
            break
        piece = text if cell_len(text) <= width else fit(text, width)
        out.append((piece, role))
        width -= cell_len(piece)
    return out


def in_columns(lines: Sequence[Sequence[Row]], width: int) -> Rows:
    """Return lines of parts beneath each other in columns: as many of the first ones as fit as a
    whole, a little closer where one more fits then.
    """
    if not lines:
        return []
    columns = [[*column] for column in zip(*lines, strict=True)]
    sizes = [max(map(row_width, column)) for column in columns]
    gap, fits = max(((gap, _many(sizes, len(gap), width)) for gap in ("   ", "  ")),
                    key=lambda each: (each[1], each[0]))
    rows: Rows = []
    for line in lines:
        row: Row = []
        for place, part in enumerate(line[:fits]):
            room = " " * (sizes[place] - row_width(part)) + (gap if place < fits - 1 else "")
            row += [*part, (room, "ink")]
        rows.append(row)
    return rows


def _many(sizes: Sequence[int], gap: int, width: int) -> int:
    """Return how many columns fit beside each other."""
    return sum(total + gap * place <= width for place, total in enumerate(accumulate(sizes)))


def beside(left: Rows, others: Rows, width: int, gap: int = 2) -> Rows:
    """Return two drawings side by side, the left one in `width` cells."""
    rows: Rows = []
    for i in range(max(len(left), len(others))):
        first = cut(left[i], width) if i < len(left) else []
        pad = " " * (width - row_width(first) + gap)
        rows.append([*first, (pad, "ink"), *(others[i] if i < len(others) else [])])
    return rows


def wrap(text: str, width: int, role: str = "ink") -> Rows:
    """Return a sentence broken into rows of at most `width` cells."""
    import textwrap

    return [[(line, role)] for line in textwrap.wrap(shown(text), max(width, 10))]
