"""Charts for paper and screen, drawn by matplotlib: the ranking, and losses against epochs."""

from __future__ import annotations

import contextlib
import math
import warnings
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING, Any

from axiarch.export.tables import check_place, write_export
from axiarch.ranking.rank import Ranked
from axiarch.text import shown

if TYPE_CHECKING:
    from matplotlib.figure import Figure

#: Colours of exported charts: told apart in print and by colour-blind eyes (Okabe & Ito 2008).
INK, BLUE, ORANGE, GREEN, GREY = "#26241f", "#0072b2", "#d55e00", "#009e73", "#8a8577"

#: Recipes drawn in one chart; a page holds no more.
MOST_ROWS = 60
#: Characters beside a recipe: the axis needs most of the width.
LABEL = 44
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
    """Draw as we mean it: settings that lie in the current folder or the user's home change
    nothing.
    """
    import matplotlib

    with matplotlib.rc_context():
        matplotlib.rcdefaults()
        matplotlib.rcParams.update({"svg.hashsalt": "axiarch", "svg.fonttype": "none"})
        yield


def new_figure(height: float) -> Figure:
    """Return an empty figure, 8 inches wide."""
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
        warnings.filterwarnings("ignore",
                                message="Glyph")  # a name may hold characters the font lacks
        return write_export(path, lambda draft: figure.savefig(draft, format=kind, metadata=known))


@own_style()
def ladder_figure(rows: Sequence[tuple[Ranked, str]], baselines: Sequence[tuple[str, float]],
                  title: str, loss: str) -> Figure:
    """Return the ranking as a drawing: dot and whisker for each recipe on one axis, the leader on
    top.

    Parameters
    ----------
    rows : sequence of (Ranked, str)
        Recipes, each with the text beside it.
    baselines : sequence of (str, float)
        What the losses are read against, by name.
    loss : str
        What the loss is, with its unit.
    """
    rows = rows[:MOST_ROWS]
    figure = new_figure(1.6 + 0.24 * len(rows))
    axes = figure.add_subplot()
    for y, (row, _) in enumerate(rows):
        colour = ORANGE if row.standing in ("leader", "tied") else INK
        whole = row.half_width or 0.0
        reach = row.spread or 0.0 if row.seeds_half is None else row.seeds_half
        axes.plot([row.loss - whole, row.loss + whole], [y, y], color=GREY, linewidth=0.8)
        axes.plot([row.loss - reach, row.loss + reach], [y, y], color=colour, linewidth=1.6)
        axes.plot(row.loss, y, "o", color=colour, markersize=5)
        axes.plot(row.training, y, "o", color=GREY, markersize=4, fillstyle="none")
    for _, baseline in baselines:
        axes.axvline(baseline, color=BLUE, linewidth=0.9, linestyle="--")
    axes.set_yticks(range(len(rows)), [safe(f"{row.place}  {text}", LABEL) for row, text in rows],
                    fontsize=7)
    axes.invert_yaxis()
    names = ", ".join(name for name, _ in sorted(baselines, key=lambda f: f[1]))
    axes.set_xlabel(safe(
        f"{loss}\n● steady loss, 95 %: seeds, and with rows   ○ training loss   ┆ {names}", 200),
                    fontsize=8)
    return dressed(figure, title)


@own_style()
def curves_figure(lines: Sequence[Line], baselines: Sequence[tuple[str, float]], title: str,
                  loss: str) -> Figure:
    """Return losses against epochs."""
    figure = new_figure(4.6)
    axes = figure.add_subplot()
    for line in lines:
        finite = [v if math.isfinite(v) else math.nan for v in line.values]
        axes.plot(range(1,
                        len(finite) + 1),
                  finite,
                  color=line.colour,
                  linewidth=1.1,
                  label=safe(line.label),
                  linestyle="--" if line.dashed else "-")
    for name, baseline in baselines:
        axes.axhline(baseline, color=GREY, linewidth=0.9, linestyle=":", label=name)
    axes.set_xlabel("epoch")
    axes.set_ylabel(safe(loss))
    if len(lines) <= 12:
        axes.legend(fontsize=8, frameon=False)
    return dressed(figure, title)


def dressed(figure: Figure, title: str) -> Figure:
    """Give a figure its title and its look."""
    if len(figure.axes) > 1:
        figure.suptitle(safe(title), fontsize=10, x=0.01, ha="left")
    else:
        figure.axes[0].set_title(safe(title), fontsize=10, loc="left")
    for axes in figure.axes:
        axes.spines[["top", "right"]].set_visible(False)
        axes.tick_params(labelsize=7 if len(figure.axes) > 1 else None)
        if not axes.images:
            axes.grid(alpha=0.2)
    return figure


def safe(text: str, most: int = 90) -> str:
    """Keep names from being read as mathematics, and from being long; line ends stay."""
    return "\n".join(shown(line, most) for line in text.split("\n")).replace("$", r"\$")


@own_style()
def classes_figure(found: Mapping[str, Any], names: Sequence[str], title: str) -> Figure:
    """Return confusion, metrics of each class with intervals, and calibration, of a summary of
    predictions.
    """
    import numpy as np

    figure = new_figure(max(4.2, 0.55 * len(names) + 2.6))
    left, middle, right = figure.subplots(1, 3, width_ratios=(1.2, 1.0, 1.0))
    labels = [safe(name)[:24] for name in names]
    counts = np.asarray(found["confusion"], np.float64)
    shares = counts / np.maximum(counts.sum(1, keepdims=True), 1)
    left.imshow(shares, cmap="Greys", vmin=0, vmax=1.3)
    for (i, j), value in np.ndenumerate(counts):
        if len(names) <= 12:
            left.text(j, i, f"{value:.0f}", ha="center", va="center", fontsize=7,
                      color="white" if shares[i, j] > 0.6 else INK)
    left.set_xticks(range(len(names)), labels, rotation=60, ha="right", fontsize=7)
    left.set_yticks(range(len(names)), labels, fontsize=7)
    left.set_xlabel(f"predicted; rows, summed over {found['runs']} runs", fontsize=8)
    left.set_ylabel("true", fontsize=8)
    for offset, (metric, colour) in enumerate(
        (("precision", BLUE), ("recall", ORANGE), ("f1", GREEN))):
        for i, (value, low, high) in enumerate(found[metric]):
            y = i + (offset - 1) * 0.22
            middle.plot([low, high], [y, y], color=colour, linewidth=1.1)
            middle.plot(value, y, "os^"[offset], color=colour, markersize=4,
                        label={"f1": "F1"}.get(metric, metric) if i == 0 else None)
    middle.set_yticks(range(len(names)), labels, fontsize=7)
    middle.invert_yaxis()
    middle.set_xlim(0, 1)
    middle.set_xlabel(f"95 % intervals over {found['rows']} rows", fontsize=8)
    middle.legend(fontsize=7, frameon=False)
    right.plot([0, 1], [0, 1], color=GREY, linewidth=0.8, linestyle=":")
    for sure, hits, rows in found["calibration"]:
        right.plot(sure, hits, "o", color=ORANGE if rows >= 10 else GREY, markersize=5)
    right.set_xlabel("predicted probability (grey: < 10 rows)", fontsize=8)
    right.set_ylabel("share that is right", fontsize=8)
    return dressed(figure, title)


@own_style()
def amounts_figure(found: Mapping[str, Any], names: Sequence[str], title: str) -> Figure:
    """Return predicted against true amounts and residuals, of a summary of predictions."""
    import numpy as np

    figure = new_figure(0.4 + 3.2 * len(names))
    axes = figure.subplots(len(names), 2, squeeze=False)
    for (left, right), name, pairs, (value, low, high) in zip(axes,
                                                              names,
                                                              found["points"],
                                                              found["rmse"],
                                                              strict=True):
        true, told = np.asarray(pairs).T
        ends = [min(true.min(), told.min()), max(true.max(), told.max())]
        left.plot(ends, ends, color=GREY, linewidth=0.8, linestyle=":")
        left.plot(true, told, ".", color=BLUE, markersize=3)
        left.set_xlabel(safe(f"true {name}"), fontsize=8)
        left.set_ylabel(safe(f"predicted; RMSE {value:.4g} [{low:.4g} to {high:.4g}]"), fontsize=8)
        right.axhline(0, color=GREY, linewidth=0.8, linestyle=":")
        right.plot(told, told - true, ".", color=ORANGE, markersize=3)
        right.set_xlabel(safe(f"predicted {name}"), fontsize=8)
        right.set_ylabel("predicted minus true", fontsize=8)
    return dressed(figure, title)
