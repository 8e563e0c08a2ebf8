"""One rung of the ladder: a recipe's loss as a dot with its whisker on the axis that all share."""

from __future__ import annotations

from collections.abc import Sequence

from axiarch.tui.plots.runs import Row, Rows
from axiarch.tui.plots.scale import Scale


def rung(scale: Scale,
         width: int,
         loss: float,
         reach: float | None,
         whole: float | None,
         training: float,
         baselines: Sequence[float],
         role: str,
         ghost: bool = False) -> Row:
    """Return the track of one recipe.

    A whisker of `reach` to each side of the dot at `loss`, a faint one of `whole` beneath it, a
    fainter dot at `training`, the baselines as lines. What lies beyond the axis is pointed to.
    """
    cells: list[tuple[str, str]] = [(" ", "ink")] * width

    def put(value: float, symbol: str, own: str) -> None:
        place = float(scale.at(value))
        if 0 <= place <= 1:
            cells[min(int(place * width), width - 1)] = (symbol, own)

    for baseline in baselines:
        put(baseline, "┊", "faint")
    for half, symbol, own in ((whole, "╌", "faint"), (reach, "─", "ghost" if ghost else role)):
        if half is not None:
            low, high = (min(max(float(scale.at(v)), 0.0), 1.0)
                         for v in (loss - half, loss + half))
            for column in range(int(low * width), min(int(high * width), width - 1) + 1):
                cells[column] = (symbol, own)
    put(training, "○", "train")
    if float(scale.at(loss)) > 1:
        cells[-1] = ("▸", role)
    put(loss, "●", role)
    return _joined(cells)


def axis(scale: Scale, width: int) -> Rows:
    """Return the ticks of the shared axis, labels above their marks."""
    line = ["─"] * width
    text = [" "] * width
    free = 0
    for tick, label in scale.labels(max(width // 9, 3)):
        column = min(int(float(scale.at(tick)) * width), width - 1)
        start = min(max(column - len(label) // 2, 0), width - len(label))
        if start < free:
            continue
        line[column] = "┬"
        text[start : start + len(label)] = label
        free = start + len(label) + 2
    return [[("".join(text), "faint")], [("".join(line), "grid")]]


def _joined(cells: list[tuple[str, str]]) -> Row:
    row: Row = []
    for symbol, role in cells:
        if row and row[-1][1] == role:
            row[-1] = (row[-1][0] + symbol, role)
        else:
            row.append((symbol, role))
    return row
