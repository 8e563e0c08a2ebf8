"""A report as one self-contained page (HTML, no scripts) or as a PDF of the same.

A report is a sequence of blocks: headings, paragraphs, lists, tables, charts, listings. Both files
are made from the same blocks, so neither says what the other leaves out. All text is escaped.
"""

from __future__ import annotations

import base64
import io
import textwrap
import warnings
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING

from axiarch.export.figures import INK, own_style
from axiarch.export.tables import check_place, write_export, write_text
from axiarch.text import shown

if TYPE_CHECKING:
    from matplotlib.backends.backend_pdf import PdfPages
    from matplotlib.figure import Figure

#: How the name of a report ends.
ENDINGS = (".html", ".pdf")
#: Characters of a line of text, of a table and of a listing, on a page of the PDF.
_LINE, _TABLE = 100, 112
#: Dots an inch of a chart in the PDF.
_DOTS = 220
#: Inches of a page (A4), and of its margins.
_PAGE, _MARGIN = (8.27, 11.69), 0.8


@dataclass(frozen=True)
class Heading:
    """The title of a section."""

    text: str
    kind: str = "heading"


@dataclass(frozen=True)
class Paragraph:
    """Some sentences."""

    text: str
    kind: str = "paragraph"


@dataclass(frozen=True)
class Points:
    """A list of sentences."""

    texts: Sequence[str]
    kind: str = "points"


@dataclass(frozen=True)
class Grid:
    """A table; columns named in `right` hold numbers."""

    header: Sequence[str]
    rows: Sequence[Sequence[str]]
    right: Sequence[int] = ()
    kind: str = "grid"


@dataclass(frozen=True)
class Chart:
    """A figure with a line below."""

    figure: Figure
    caption: str
    kind: str = "chart"


@dataclass(frozen=True)
class Listing:
    """Text as it is typed."""

    text: str
    kind: str = "listing"


Block = Heading | Paragraph | Points | Grid | Chart | Listing


@dataclass(frozen=True)
class Report:
    """A report.

    Attributes
    ----------
    title, subtitle : str
    blocks : sequence of Block
    """

    title: str
    subtitle: str
    blocks: Sequence[Block]


def write_report(report: Report, path: Path, force: bool = False) -> Path:
    """Write a report as ``.html`` or ``.pdf`` and return the path.

    Raises
    ------
    InputError, WorkspaceReadOnly
    """
    check_place(path, ENDINGS, force)
    if path.suffix.lower() == ".html":
        text = html(report)
        return write_export(path, lambda draft: write_text(draft, text))
    return write_export(path, lambda draft: _write_pdf(report, draft))


def html(report: Report) -> str:
    """Return a report as one HTML page with its pictures inside."""
    import jinja2

    environment = jinja2.Environment(
        loader=jinja2.FileSystemLoader(Path(__file__).parent / "templates"), autoescape=True,
        undefined=jinja2.StrictUndefined, trim_blocks=True, lstrip_blocks=True)
    environment.filters["shown"] = _lines
    environment.filters["picture"] = _picture
    return environment.get_template("report.html").render(report=report)


def _lines(text: str) -> str:
    """Return text whose control characters are shown; line ends stay."""
    return "\n".join(shown(line) for line in str(text).split("\n"))


@own_style()
def _picture(figure: Figure) -> str:
    """Return a figure as the address of a picture inside the page."""
    raw = io.BytesIO()
    with warnings.catch_warnings():
        warnings.filterwarnings("ignore", message="Glyph")
        figure.savefig(raw, format="svg", metadata={"Date": None})
    return "data:image/svg+xml;base64," + base64.b64encode(raw.getvalue()).decode()


# -- PDF -------------------------------------------------------------------------------------------


@own_style()
def _write_pdf(report: Report, path: Path) -> None:
    from matplotlib.backends.backend_pdf import PdfPages

    with warnings.catch_warnings():
        warnings.filterwarnings("ignore", message="Glyph")
        known = {"Title": shown(report.title, 200), "CreationDate": None, "Creator": "Axiarch"}
        with PdfPages(path, metadata=known) as pages:
            paper = _Paper(pages)
            paper.write([shown(report.title, 200)], 15, bold=True)
            paper.write(_wrapped(report.subtitle, _LINE), 9)
            for block in report.blocks:
                _put(paper, block)
            paper.end_page()


def _put(paper: _Paper, block: Block) -> None:
    match block:
        case Heading(text):
            paper.space(10)
            paper.write([shown(text)], 12, bold=True, keep=14)
        case Paragraph(text):
            paper.write(_wrapped(text, _LINE), 9)
        case Points(texts):
            for text in texts:
                first, *rest = _wrapped(text, _LINE - 3) or [""]
                paper.write([f"•  {first}", *(f"    {line}" for line in rest)], 9)
        case Grid():
            paper.write(list(_columns(block)), 7, mono=True)
        case Chart(figure, caption):
            paper.figure(figure)
            paper.write(_wrapped(caption, _LINE), 8)
        case Listing(text):
            paper.write(
                [line for each in _lines(text).split("\n") for line in _wrapped(each, _TABLE)],
                7,
                mono=True)


def _wrapped(text: str, width: int) -> list[str]:
    return textwrap.wrap(shown(text), width, replace_whitespace=False,
                         drop_whitespace=False) or [""]


def _columns(grid: Grid) -> Iterator[str]:
    """Return a table as lines of text; the last column takes what room is left and is wrapped."""
    table = [[shown(cell) for cell in row] for row in (grid.header, *grid.rows)]
    last = len(grid.header) - 1
    widths = [min(max(len(row[i]) for row in table), 30) for i in range(last)]
    room = max(_TABLE - sum(widths) - 2 * last, 20)
    for number, row in enumerate(table):
        cells = [cell[:width].rjust(width) if i in grid.right else cell[:width].ljust(width)
                 for i, (cell, width) in enumerate(zip(row, widths, strict=False))]
        head = "  ".join(cells)
        first, *rest = textwrap.wrap(row[last], room) or [""]
        if last in grid.right:
            first = first.rjust(min(room, max(len(r[last]) for r in table)))
        yield f"{head}  {first}" if last else first
        yield from (" " * (len(head) + 2) + line for line in rest)
        if number == 0:
            yield "─" * min(_TABLE, max(len(head) + 2 + len(first), 20))


class _Paper:
    """Pages that are filled from the top."""

    def __init__(self, pages: PdfPages) -> None:
        self._pages = pages
        self._page: Figure | None = None
        self._left = 0.0

    def write(self, lines: Sequence[str], size: float, bold: bool = False, mono: bool = False,
              keep: int = 1) -> None:
        """Write lines of text of `size` points; `keep` lines must fit, or a new page begins."""
        step = size * 1.35 / 72
        for i, line in enumerate(lines):
            if self._left < step * (keep if i == 0 else 1):
                self._begin()
            assert self._page is not None
            self._left -= step
            self._page.text(_MARGIN / _PAGE[0], (_MARGIN + self._left) / _PAGE[1],
                            line.replace("$", r"\$"),
                            fontsize=size,
                            color=INK,
                            family="monospace" if mono else "sans-serif",
                            weight="bold" if bold else "normal")
        self.space(size * 0.4)

    def space(self, points: float) -> None:
        """Leave some room."""
        self._left = max(self._left - points / 72, 0.0)

    def figure(self, figure: Figure) -> None:
        """Put a figure on the page, as wide as the text."""
        from matplotlib.image import imread

        raw = io.BytesIO()
        figure.savefig(raw, format="png", dpi=_DOTS)
        raw.seek(0)
        pixels = imread(raw)
        width = _PAGE[0] - 2 * _MARGIN
        height = min(width * pixels.shape[0] / pixels.shape[1], _PAGE[1] - 2 * _MARGIN - 0.5)
        if self._left < height:
            self._begin()
        assert self._page is not None
        self._left -= height
        axes = self._page.add_axes((_MARGIN / _PAGE[0], (_MARGIN + self._left) / _PAGE[1],
                                    width / _PAGE[0], height / _PAGE[1]))
        axes.imshow(pixels, interpolation="none")
        axes.set_axis_off()
        self.space(4)

    def _begin(self) -> None:
        from matplotlib.figure import Figure

        self.end_page()
        self._page = Figure(figsize=_PAGE)
        self._left = _PAGE[1] - 2 * _MARGIN

    def end_page(self) -> None:
        """Add the page to the file, if anything is on it."""
        if self._page is not None:
            self._pages.savefig(self._page)  # type: ignore[no-untyped-call]
        self._page, self._left = None, 0.0
