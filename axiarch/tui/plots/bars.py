"""Bars: small distributions inside a table, and larger ones with names."""

from __future__ import annotations

from collections.abc import Sequence

from axiarch.text import number
from axiarch.tui.plots.runs import Rows, fit, right

_UP = " ▁▂▃▄▅▆▇█"
#: Bars along a row leave a little room to the row above.
_ALONG = "▇"


def spark(counts: Sequence[int]) -> str:
    """Return one row of upright bars, one cell a count, a little lower than the row; any above
    zero is seen.
    """
    top = max(counts, default=0)
    if top == 0:
        return " " * len(counts)
    return "".join(_UP[max(round(c / top * 7), 1 if c else 0)] for c in counts)


def along(value: float, top: float, width: int) -> str:
    """Return a bar to the right, `width` cells for `top`; any value above zero is seen."""
    cells = round(max(value, 0) / top * width) if top > 0 else 0
    return (_ALONG * min(max(cells, 1 if value > 0 else 0), width)).ljust(width)


def named_bars(names: Sequence[str], counts: Sequence[int], width: int, role: str = "bar") -> Rows:
    """Return one bar a row with its name, count and share."""
    total, top = sum(counts) or 1, max(counts, default=1)
    label = min(max((len(n) for n in names), default=4), max(width // 3, 6))
    room = max(width - label - 17, 4)
    return [[(fit(name, label) + " ", "ink"), (along(count, top, room), role),
             (right(number(count), 7) + right(f"{100 * count / total:.1f} %", 8), "faint")]
            for name, count in zip(names, counts, strict=True)]


def histogram(counts: Sequence[int],
              low: float,
              high: float,
              width: int,
              height: int,
              role: str = "bar") -> Rows:
    """Return upright bars over a range, with its ends written below."""
    top = max(counts, default=0) or 1
    each = max(width // max(len(counts), 1), 1)
    rows: Rows = []
    for line in range(height - 1, -1, -1):
        cells = [min(max(round(c / top * height * 8) - line * 8, 0), 8) for c in counts]
        if line == 0:
            cells = [max(n, 1) if c else 0 for n, c in zip(cells, counts, strict=True)]
        rows.append([("".join(_UP[n] * each for n in cells), role)])
    left, far = number(low), number(high)
    rows.append([(left + right(far, each * len(counts) - len(left)), "faint")])
    return rows
