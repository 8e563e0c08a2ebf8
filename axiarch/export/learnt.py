"""Charts of what was learnt: loss against cost, and the effects of knobs."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import TYPE_CHECKING

from axiarch.export.figures import (
    BLUE,
    GREEN,
    GREY,
    ORANGE,
    dressed,
    new_figure,
    own_style,
    safe,
)
from axiarch.ranking.effects import Effects
from axiarch.ranking.rank import Ranked
from axiarch.text import share

if TYPE_CHECKING:
    from matplotlib.axes import Axes
    from matplotlib.figure import Figure

#: Recipes up to which every whisker is drawn, and knobs that are drawn.
_FEW, _KNOBS = 40, 12
#: Values of a knob up to which each has its tick.
_LISTED = 8


@own_style()
def tradeoffs_figure(rows: Sequence[tuple[float, Ranked]],
                     unbeaten: Sequence[tuple[float, Ranked]], knee: tuple[float, Ranked] | None,
                     baselines: Sequence[tuple[str, float]], title: str, cost: str, loss: str
                     ) -> Figure:
    """Return loss against cost: every recipe, those that none beats in both joined, the knee.

    Parameters
    ----------
    rows, unbeaten : sequence of (float, Ranked)
        Cost and recipe, the cheapest first.
    knee : (float, Ranked) or None
    """
    figure = new_figure(4.8)
    axes = figure.add_subplot()
    x = [each for each, _ in rows]
    axes.plot(x, [row.training for _, row in rows], "o", color=GREY, markersize=3,
              fillstyle="none", label="training loss")
    axes.plot(x, [row.loss for _, row in rows], "o", color=GREEN, markersize=4,
              label="steady validation loss")
    for each, row in rows if len(rows) <= _FEW else unbeaten:
        if row.half_width is not None:
            axes.plot([each, each], [row.loss - row.half_width, row.loss + row.half_width],
                      color=GREY, linewidth=0.8)
    axes.plot([each for each, _ in unbeaten], [row.loss for _, row in unbeaten], "o-",
              color=ORANGE, markersize=5, linewidth=1.2, label="beaten by none in both")
    if knee is not None:
        axes.plot(knee[0], knee[1].loss, "D", color=BLUE, markersize=8,
                  label=safe(f"knee: recipe {knee[1].recipe}"))
    for name, level in baselines:
        axes.axhline(level, color=GREY, linewidth=0.9, linestyle=":", label=name)
    if min(x, default=0) > 0 and max(x) / min(x) > 4:
        axes.set_xscale("log")
    axes.set_xlabel(safe(cost))
    axes.set_ylabel(safe(loss))
    axes.legend(fontsize=7, frameon=False)
    return dressed(figure, title)


@dataclass(frozen=True)
class KnobCurve:
    """A knob's axis: its name, the value in the middle of each cell, and whether they are words."""

    name: str
    values: Sequence[object]
    log: bool


@own_style()
def effects_figure(knobs: Sequence[KnobCurve], order: Sequence[int], found: Effects, title: str,
                   loss: str) -> Figure:
    """Return one small chart a knob: the loss by its values, averaged over the others, with its
    band.
    """
    shown = list(order)[:_KNOBS]
    columns = min(len(shown), 3)
    lines = -(-len(shown) // columns)
    figure = new_figure(1.0 + 2.3 * lines)
    grid = figure.subplots(lines, columns, sharey=True, squeeze=False)
    for place, axes in enumerate(grid.flat):
        if place >= len(shown):
            axes.set_axis_off()
            continue
        _knob(axes, knobs[shown[place]], found, shown[place])
        if place % columns == 0:
            axes.set_ylabel(safe(loss, 30), fontsize=8)
    return dressed(figure, title)


def _knob(axes: Axes, knob: KnobCurve, found: Effects, k: int) -> None:
    mean, low, high = found.curves[k]
    words = any(isinstance(value, str) for value in knob.values)
    if words:
        x = list(range(len(knob.values)))
        axes.errorbar(x, mean, yerr=[mean - low, high - mean], fmt="o", color=ORANGE,
                      ecolor=GREY, markersize=4)
        axes.set_xticks(x, [safe(str(value), 12) for value in knob.values], fontsize=6,
                        rotation=30)
    else:
        numbers = [float(str(value)) for value in knob.values]
        axes.fill_between(numbers, low, high, color=GREY, alpha=0.3, linewidth=0)
        axes.plot(numbers, mean, color=ORANGE)
        if knob.log and numbers[0] > 0:
            axes.set_xscale("log")
        if len(numbers) <= _LISTED:
            axes.set_xticks(numbers, [f"{value:g}" for value in numbers])
            axes.minorticks_off()
    each = found.shares[k]
    axes.set_title(safe(f"{knob.name}: {share(each.value)} ({share(each.low)} to "
                         f"{share(each.high)})", 60), fontsize=7, loc="left")
