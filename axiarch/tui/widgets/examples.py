"""Examples, a page at a time, beside what is to be predicted of them."""

from __future__ import annotations

import math

from rich.cells import cell_len
from textual.app import ComposeResult
from textual.screen import ModalScreen

from axiarch.data.dataset import Dataset
from axiarch.text import shown
from axiarch.tui.plots.picture import LARGEST, picture
from axiarch.tui.plots.runs import Row, Rows, beside, fit, fit_name, right
from axiarch.tui.widgets.drawing import Drawing

#: Cells of one example's values.
_COLUMN = 14


class Page(Drawing):
    """One page of examples: pictures with their labels, or rows of a table side by side."""

    DEFAULT_CSS = "Page { height: 1fr; }"

    def __init__(self, dataset: Dataset) -> None:
        super().__init__()
        self._dataset = dataset
        self.first = 0
        self.scrolled = 0

    def per_page(self, width: int, height: int) -> int:
        """Return how many examples fit."""
        shape = self._dataset.encoding.picture
        if shape is None:
            return max((width - self._name_width(width) - 2) // _COLUMN, 1)
        across, down = self._grid(width, height)
        return max(across * down, 1)

    def draw(self, width: int, height: int) -> Rows:
        """Return the page."""
        total = self._dataset.examples.height
        fits = self.per_page(width, height)
        self.first = max(0, min(self.first, (total - 1) // fits * fits))
        last = min(self.first + fits, total)
        rows = self._pictures(width, height - 2) if self._dataset.encoding.picture else self._table(
            width, height - 2)
        rows = rows[: height - 2] + [[]] * max(height - 2 - len(rows), 0)
        where = (f"training rows {self.first + 1} to {last} of {total} shown here, of "
                 f"{self._dataset.rows['train']}")
        return [
            *rows, [],
            [(f" {where}", "faint"), ("   page up, page down turn", "faint"),
             ("" if self._dataset.encoding.picture else ", arrows scroll the columns", "faint"),
             (", esc goes back", "faint")]
        ]

    def _name_width(self, width: int) -> int:
        longest = max(cell_len(shown(name)) for name in self._dataset.examples.columns)
        return max(min(longest, width // 3), 10)

    def _table(self, width: int, height: int) -> Rows:
        d = self._dataset
        rows = d.examples[self.first : self.first + self.per_page(width, height)]
        own = self._name_width(width)
        others = [n for n in rows.columns if n not in d.target.columns]
        self.scrolled = max(
            0, min(self.scrolled,
                   len(others) - max(height - len(d.target.columns) - 1, 1)))
        lines: Rows = [
            _values(f" ◆ {name}", rows[name].to_list(), own, "lead*") for name in d.target.columns
        ]
        lines.append([(" " + "─" * (own + 2 + _COLUMN * rows.height - 2), "rule")])
        roles = {c.name: c.role for c in d.columns}
        for name in others[self.scrolled :]:
            ignored = roles.get(name) == "ignored"
            lines.append(_values(f" {'×' if ignored else '·'} {name}", rows[name].to_list(), own,
                                 "faint" if ignored else "ink"))
        return lines

    def _grid(self, width: int, height: int) -> tuple[int, int]:
        shape = self._dataset.encoding.picture or (1, 1, 1)
        step = math.ceil(max(shape[:2]) / LARGEST)
        across, down = math.ceil(shape[1] / step), math.ceil(shape[0] / step / 2)
        return (width - 1) // (across + 2), (height - 2) // (down + 2)

    def _pictures(self, width: int, height: int) -> Rows:
        d = self._dataset
        code = d.encoding.codes[0]
        column = next(c for c in d.columns if c.name == code.name)
        across, _ = self._grid(width, height)
        shown_now = d.examples[self.first : self.first + self.per_page(width, height + 2)]
        pixels = shown_now[code.name].to_numpy()
        labels = [
            ", ".join(shown(v)
                      for v in row)
            for row in shown_now.select(list(d.target.columns)).iter_rows()
        ]
        rows: Rows = []
        for start in range(0, len(pixels), max(across, 1)):
            line: Rows = []
            for i in range(start, min(start + across, len(pixels))):
                drawn = picture(pixels[i], column.low or 0.0, column.high or 1.0)
                wide = len(drawn[0])
                drawn = [*drawn, [(fit(labels[i], wide), "lead")]]
                line = drawn if not line else beside(line, drawn, (wide + 2) * (i - start) - 2)
            rows += [[(" ", "ink"), *row] for row in line] + [[]]
        return rows


def _values(name: str, values: list[object], own: int, role: str) -> Row:
    return [(fit_name(name, own + 3), role),
            *((right("(gap)" if v is None else _short(v), _COLUMN), "ghost" if v is None else role)
              for v in values)]


def _short(value: object) -> str:
    text = f"{value:.5g}" if isinstance(value, float) else str(value)
    return fit(text, _COLUMN - 1).rstrip()


class Examples(ModalScreen[str]):
    """Pages through examples of the training rows."""

    DEFAULT_CSS = "Examples { background: $background; padding: 1 1; }"

    BINDINGS = [("escape,e,q", "dismiss('')", "close"),
                ("pagedown,right,space,n", "turn(1)", "next page"),
                ("pageup,left,p", "turn(-1)", "page before"), ("down", "scroll(1)", "scroll on"),
                ("up", "scroll(-1)", "scroll back"), ("home", "turn(-100000)", "first page"),
                ("end", "turn(100000)", "last page")]

    def __init__(self, dataset: Dataset) -> None:
        super().__init__()
        self._dataset = dataset

    def compose(self) -> ComposeResult:
        """Lay out the page."""
        yield Page(self._dataset)

    def action_turn(self, by: int) -> None:
        """Turn pages."""
        page = self.query_one(Page)
        page.first += by * page.per_page(page.size.width, page.size.height)
        page.redraw()

    def action_scroll(self, by: int) -> None:
        """Scroll the columns."""
        page = self.query_one(Page)
        page.scrolled += by
        page.redraw()
