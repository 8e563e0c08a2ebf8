"""What probes measured, as charts."""

from __future__ import annotations

import math

import numpy as np

from axiarch.insight.probes import (
    BUILDS,
    BatchProbe,
    DepthPoint,
    DepthProbe,
    NoiseProbe,
    Probe,
    RateProbe,
)
from axiarch.text import count, number, seconds_text
from axiarch.tui.plots.chart import Chart, Level, Series, draw_chart
from axiarch.tui.plots.runs import Rows, beside, cut
from axiarch.tui.plots.scale import Scale, span_of

#: The look of each build, and of curves.
_ROLES = ("lead", "train", "second")
#: Seeds up to which the visible difference is drawn.
_MOST_SEEDS = 20
#: Rows from which layers are drawn too, and the share of the largest below which sizes are cut off.
_TALL, _LEAST = 20, 1e-8


def draw_probe(probe: Probe, width: int, height: int) -> Rows:
    """Return the charts of a probe."""
    if isinstance(probe, RateProbe):
        return _rate(probe, width, height)
    if isinstance(probe, BatchProbe):
        return _batch(probe, width, height)
    if isinstance(probe, DepthProbe):
        return _depth(probe, width, height)
    return _noise(probe, width, height)


def _rate(probe: RateProbe, width: int, height: int) -> Rows:
    rates = np.array([p.rate for p in probe.points])
    seeds = [np.array([p.losses[k] for p in probe.points])
             for k in range(len(probe.points[0].losses))]
    smooth = np.array(probe.smooth)
    top = 1.3 * probe.start
    known = np.concatenate([smooth, *seeds])
    low = float(known[np.isfinite(known)].min())
    series = [*(Series(rates, np.where(s > top, np.nan, s), "second", 1, dots=True)
                for s in seeds),
              Series(rates, np.where(smooth > top, np.nan, smooth), "lead", 2)]
    marks = []
    if probe.learns:
        marks = [(rate, low, "▲", "train") for rate in probe.band]
        marks.append((probe.points[probe.best].rate, probe.smooth[probe.best], "◆", "lead"))
    if probe.breaks is not None:
        marks.append((probe.breaks, low, "✕", "warn"))
    chart = Chart(series, Scale(float(rates[0]), float(rates[-1]), True),
                  span_of(np.array([low, top])), "learning rate",
                  f"training loss after {count(probe.steps, 'step')}",
                  [Level(probe.start, "learns")], probe.rate, marks=marks)
    legend = [[("         ◆ ", "lead"), ("lowest   ", "faint"), ("▲ ", "train"),
               ("band in which it falls   ", "faint"), ("✕ ", "warn"), ("breaks   ", "faint"),
               ("│ the recipe's", "faint")]]
    return [*draw_chart(chart, width, height - 1), *legend]


def _batch(probe: BatchProbe, width: int, height: int) -> Rows:
    points = probe.trained
    if not points:
        return [[(" no size fits", "warn")]]
    table: Rows = [[(line, "faint" if i else "second")]
                   for i, line in enumerate(probe.lines())]
    if height < _TALL + len(table) + 1:
        table = []
    height -= len(table) + bool(table)
    sizes = np.array([float(p.size) for p in points])
    across = span_of(sizes, log=True)
    speed = np.array([probe.speed(p) for p in points])
    upper = height // 2
    fast = Chart([Series(sizes, speed, "second", 2)], across, span_of(speed, 0.0), "",
                 "rows per second", (), float(probe.size), ticks_below=False,
                 marks=[(each, s, "●", "second") for each, s in zip(sizes, speed, strict=True)])
    mean = np.array([math.fsum(p.at_time) / len(p.at_time) for p in points])
    level = np.array([math.fsum(p.at_epochs) / len(p.at_epochs) for p in points])
    whiskers = [Series(np.array([p.size, p.size]), np.array([min(p.at_time), max(p.at_time)]),
                       "faint", 1) for p in points]
    alike = {p.size for p in probe.alike}
    good = Chart([*whiskers, Series(sizes, level, "train", 1), Series(sizes, mean, "lead", 2)],
                 across, span_of(np.concatenate([level, *(w.y for w in whiskers)])), "batch size",
                 "validation loss", (), float(probe.size),
                 marks=[(each, v, "◆" if each in alike else "●",
                         "lead" if each in alike else "faint")
                        for each, v in zip(sizes, mean, strict=True)])
    legend = [("         ━ ", "lead"), (f"after {seconds_text(probe.seconds)}   ", "faint"),
              ("━ ", "train"), (f"after {count(probe.epochs, 'epoch')}   ", "faint"),
              ("◆ ", "lead"), ("within the spread of the best   ", "faint"),
              ("│ the recipe's", "faint")]
    return [*draw_chart(fast, width, upper), *draw_chart(good, width, height - upper - 1),
            cut(legend, width), *([[], *(cut(row, width) for row in table)] if table else [])]


def _depth(probe: DepthProbe, width: int, height: int) -> Rows:
    series, marks = [], []
    for build, role in zip(BUILDS, _ROLES, strict=True):
        points = probe.of(build)
        x = np.array([float(p.depth) for p in points])
        y = np.array([p.loss if math.isfinite(p.loss) else np.nan for p in points])
        series.append(Series(x, y, role, 2))
        marks += [(float(p.depth), p.loss, "✕", "warn") for p in points if not probe.learns(p)]
    values = np.concatenate([s.y for s in series])
    chart = Chart(series, span_of(np.concatenate([s.x for s in series]), log=True),
                  span_of(values[np.isfinite(values)], probe.baseline), "hidden layers",
                  f"training loss after {count(probe.epochs, 'epoch')}",
                  [Level(probe.baseline, "baseline")], float(max(probe.depth, 1)), marks=marks)
    layers = [p for p in probe.points if p.depth == probe.shown and p.at_start]
    lower = height // 2 if layers and height >= _TALL else 0
    legend = [("         ", "ink"), *((f"━ {build}   ", role)
                                      for build, role in zip(BUILDS, _ROLES, strict=True)),
              ("✕ ", "warn"), ("does not learn", "faint"),
              *([("   ● at the first step", "faint")] if lower else [])]
    rows = draw_chart(chart, width, height - lower - 1)
    if lower:
        half = (width - 2) // 2
        rows += beside(_sizes(layers, 0, "gradient norm of each layer", half, lower),
                       _sizes(layers, 1, "activations (root mean square)", width - half - 2, lower),
                       half)
    return [*rows, cut(legend, width)]


def _sizes(points: list[DepthPoint], column: int, name: str, width: int, height: int) -> Rows:
    """Return a chart of the sizes in each layer: curves at the end, marks at the first step."""
    known = np.array([size[column] for p in points for size in (*p.at_start, *p.at_end)])
    known = known[np.isfinite(known) & (known > 0)]
    known = known[known > _LEAST * known.max()] if len(known) else np.ones(1)
    last = max(len(p.at_start) for p in points)
    series, marks = [], []
    for point, role in zip(points, _ROLES, strict=False):
        y = np.maximum([size[column] for size in point.at_end], known.min())
        series.append(Series(np.arange(1.0, len(y) + 1), y, role, 2))
        marks += [(float(i), max(size[column], float(known.min())), "●", role)
                  for i, size in enumerate(point.at_start, 1)]
    chart = Chart(series, Scale(1, last, whole=True), span_of(known, log=True),
                  f"layer of {last}", name, marks=marks)
    return draw_chart(chart, width, height)


def _noise(probe: NoiseProbe, width: int, height: int) -> Rows:
    if not all(map(math.isfinite, probe.losses)):
        return [[(f" {line}", "warn")] for line in probe.lines()]
    seeds = np.arange(1.0, _MOST_SEEDS + 1)
    y = np.array([probe.visible(int(k)) for k in seeds])
    least = probe.visible(10**9)
    chart = Chart([Series(seeds, y, "lead", 2)], Scale(1, _MOST_SEEDS, whole=True),
                  span_of(y, 0.0, least), "seeds of each recipe",
                  "difference that is seen in four of five cases",
                  [Level(least, "rows")])
    return [*draw_chart(chart, width, height - 1),
            [(f"         rows: {number(least, 2)}, which no number of seeds goes below", "faint")]]
