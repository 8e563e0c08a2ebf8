"""A braille canvas: two by four dots a cell, one role a cell, the highest rank drawn winning the
cell's colour.
"""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from axiarch.tui.plots.runs import Row, Rows

Floats = NDArray[np.float64]

#: The bit of each dot of a braille cell, by row and column of the dot.
_BITS = np.array([[0x01, 0x08], [0x02, 0x10], [0x04, 0x20], [0x40, 0x80]], dtype=np.uint8)
_BLANK = 0x2800


class Canvas:
    """Draws points, lines and marks on `cols` by `rows` cells; places are fractions, y upwards."""

    def __init__(self, cols: int, rows: int) -> None:
        self.cols, self.rows = max(cols, 1), max(rows, 1)
        self._bits = np.zeros((self.rows, self.cols), np.uint8)
        self._rank = np.full((self.rows, self.cols), -1, np.int16)
        self._role = np.zeros((self.rows, self.cols), np.int16)
        self._roles: list[str] = []
        self._marks: dict[tuple[int, int], tuple[str, str]] = {}

    def _number(self, role: str) -> int:
        if role not in self._roles:
            self._roles.append(role)
        return self._roles.index(role)

    def points(self, x: Floats, y: Floats, role: str, rank: int = 0) -> None:
        """Set a dot at each place (M,) within the canvas; others are left out."""
        inside = np.isfinite(x) & np.isfinite(y) & (x >= 0) & (x <= 1) & (y >= 0) & (y <= 1)
        column = np.minimum((x[inside] * self.cols * 2).astype(np.int64), self.cols * 2 - 1)
        line = np.minimum(((1 - y[inside]) * self.rows * 4).astype(np.int64), self.rows * 4 - 1)
        cells = (line >> 2, column >> 1)
        np.bitwise_or.at(self._bits, cells, _BITS[line & 3, column & 1])
        wins = rank >= self._rank[cells]
        winners = (cells[0][wins], cells[1][wins])
        self._rank[winners] = rank
        self._role[winners] = self._number(role)

    def line(self, x: Floats, y: Floats, role: str, rank: int = 0) -> None:
        """Join places (M,) by straight lines; a place that is not finite breaks the line."""
        if len(x) < 2:
            self.points(x, y, role, rank)
            return
        y = np.clip(y, -1.0,
                    2.0)  # a runaway value leaves the picture; it need not be drawn dot by dot
        x0, y0, x1, y1 = x[:-1], y[:-1], x[1:], y[1:]
        whole = np.isfinite(x0) & np.isfinite(y0) & np.isfinite(x1) & np.isfinite(y1)
        x0, y0, x1, y1 = x0[whole], y0[whole], x1[whole], y1[whole]
        length = np.maximum(np.abs(x1 - x0) * self.cols * 2, np.abs(y1 - y0) * self.rows * 4)
        steps = np.maximum(np.ceil(length).astype(np.int64), 1) + 1
        which = np.repeat(np.arange(len(steps)), steps)
        part = (np.arange(len(which)) -
                np.repeat(np.cumsum(steps) - steps, steps)) / (steps[which] - 1)
        self.points(x0[which] + part * (x1 - x0)[which], y0[which] + part * (y1 - y0)[which], role,
                    rank)

    def mark(self, x: float, y: float, symbol: str, role: str) -> None:
        """Put a character over the cell at a place within the canvas."""
        if 0 <= x <= 1 and 0 <= y <= 1:
            cell = (min(int((1 - y) * self.rows),
                        self.rows - 1), min(int(x * self.cols), self.cols - 1))
            self._marks[cell] = (symbol, role)

    def level(self, y: float, symbol: str, role: str) -> None:
        """Draw a level line of characters behind everything."""
        if 0 <= y <= 1:
            line = min(int((1 - y) * self.rows), self.rows - 1)
            for column in range(self.cols):
                if self._bits[line, column] == 0 and (line, column) not in self._marks:
                    self._marks[line, column] = (symbol, role)

    def upright(self, x: float, symbol: str, role: str) -> None:
        """Draw an upright line of characters behind everything."""
        if 0 <= x <= 1:
            column = min(int(x * self.cols), self.cols - 1)
            for line in range(self.rows):
                if self._bits[line, column] == 0:
                    self._marks[line, column] = (symbol, role)

    def drawn(self) -> Rows:
        """Return the canvas as rows of runs."""
        rows: Rows = []
        for line in range(self.rows):
            row: Row = []
            for column in range(self.cols):
                symbol, role = self._cell(line, column)
                if row and row[-1][1] == role:
                    row[-1] = (row[-1][0] + symbol, role)
                else:
                    row.append((symbol, role))
            rows.append(row)
        return rows

    def _cell(self, line: int, column: int) -> tuple[str, str]:
        if (line, column) in self._marks:
            return self._marks[line, column]
        bits = int(self._bits[line, column])
        if bits == 0:
            return " ", "ink"
        return chr(_BLANK + bits), self._roles[self._role[line, column]]
