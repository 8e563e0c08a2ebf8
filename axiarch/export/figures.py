"""Charts for paper and screen, drawn by matplotlib: the ranking, and losses against epochs."""

from __future__ import annotations

import contextlib
import math
import warnings
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING

from axiarch.export.tables import check_place, write_export
from axiarch.plain import shown
from axiarch.ranking.rank import Ranked

if TYPE_CHECKING:
    from matplotlib.figure import Figure

#: Colours of exported charts: told apart in print and by colour-blind eyes (Okabe & Ito 2008).
INK, BLUE, ORANGE, GREEN, GREY = "#26241f", "#0072b2", "#d55e00", "#009e73", "#8a8577"

#: Recipes drawn in one chart; a page holds no more.
MOST_ROWS = 60
#: How the names of charts end.
CHARTS = (".svg", ".pdf")


@dataclass(frozen=True)
class Line:
    """One curve: losses by epoch from 1, its label and its look."""

    label: str
    values: Sequence[float]
    colour: str = BLUE
    dashed: bool = False


@contextlib.contextmanager
def own_style() -> Iterator[None]:
    """Draw as we mean it: settings that lie in the current folder or the user's home change nothing."""
    import matplotlib

    with matplotlib.rc_context():
        matplotlib.rcdefaults()
        matplotlib.rcParams.update({"svg.hashsalt": "axiarch", "svg.fonttype": "none"})
        yield


def _figure(height: float) -> Figure:
    from matplotlib.figure import Figure

    figure = Figure(figsize=(8.0, height), layout="constrained")
    return figure


@own_style()
def save_figure(figure: Figure, path: Path) -> Path:
    """Write a figure as SVG or PDF, by the path's ending."""
    check_place(path, CHARTS, force=True)
    kind = path.suffix.lower().lstrip(".")
    known = {"Date": None} if kind == "svg" else {"CreationDate": None}
    with warnings.catch_warnings():
        warnings.filterwarnings("ignore", message="Glyph")  # a name may hold characters the font lacks
        return write_export(path, lambda draft: figure.savefig(draft, format=kind, metadata=known))


@own_style()
def ladder_figure(rows: Sequence[tuple[Ranked, str]], floors: Sequence[tuple[str, float]], title: str,
                  loss: str) -> Figure:
    """Return the ranking as a drawing: dot and whisker for each recipe on one axis, the leader on top.

    Parameters
    ----------
    rows : sequence of (Ranked, str)
        Recipes, each with the text beside it.
    floors : sequence of (str, float)
        What the losses are read against, by name.
    loss : str
        What the loss is, with its unit.
    """
    rows = rows[:MOST_ROWS]
    figure = _figure(1.6 + 0.24 * len(rows))
    axes = figure.add_subplot()
    for y, (row, _) in enumerate(rows):
        colour = ORANGE if row.standing in ("leader", "tied") else INK
        reach = row.half_width or row.spread or 0.0
        axes.plot([row.loss - reach, row.loss + reach], [y, y], color=colour, linewidth=1.2)
        axes.plot(row.loss, y, "o", color=colour, markersize=5)
        axes.plot(row.training, y, "o", color=GREY, markersize=4, fillstyle="none")
    for _, floor in floors:
        axes.axvline(floor, color=BLUE, linewidth=0.9, linestyle="--")
    axes.set_yticks(range(len(rows)), [_safe(f"{row.place}  {text}") for row, text in rows], fontsize=7)
    axes.invert_yaxis()
    names = ", ".join(name for name, _ in sorted(floors, key=lambda f: f[1]))
    axes.set_xlabel(_safe(f"{loss}: ● steady validation loss with 95 % interval   ○ training loss   ┆ {names}"),
                    fontsize=8)
    return _dressed(figure, title)


@own_style()
def curves_figure(lines: Sequence[Line], floors: Sequence[tuple[str, float]], title: str, loss: str) -> Figure:
    """Return losses against epochs."""
    figure = _figure(4.6)
    axes = figure.add_subplot()
    for line in lines:
        finite = [v if math.isfinite(v) else math.nan for v in line.values]
        axes.plot(range(1, len(finite) + 1), finite, color=line.colour, linewidth=1.1, label=_safe(line.label),
                  linestyle="--" if line.dashed else "-")
    for name, floor in floors:
        axes.axhline(floor, color=GREY, linewidth=0.9, linestyle=":", label=name)
    axes.set_xlabel("epoch")
    axes.set_ylabel(_safe(loss))
    if len(lines) <= 12:
        axes.legend(fontsize=8, frameon=False)
    return _dressed(figure, title)


def _dressed(figure: Figure, title: str) -> Figure:
    axes = figure.axes[0]
    axes.set_title(_safe(title), fontsize=10, loc="left")
    axes.spines[["top", "right"]].set_visible(False)
    axes.grid(alpha=0.2)
    return figure


def _safe(text: str) -> str:
    """Keep names from being read as mathematics, and from being long."""
    return shown(text, 90).replace("$", r"\$")
