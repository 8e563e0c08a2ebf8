"""What probes measured, as charts."""

from __future__ import annotations

import math

import numpy as np

from axiarch.insight.probes import (
    BUILDS,
    BatchProbe,
    DepthProbe,
    NoiseProbe,
    Probe,
    RateProbe,
)
from axiarch.text import number
from axiarch.tui.plots.chart import Chart, Level, Series, draw_chart
from axiarch.tui.plots.runs import Rows
from axiarch.tui.plots.scale import Scale, span_of

#: The look of each build, and of curves.
_ROLES = ("lead", "train", "second")
#: Seeds up to which the visible difference is drawn.
_MOST_SEEDS = 20


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
                  f"training loss after {probe.steps} steps", [Level(probe.start, "learns")],
                  probe.rate, marks=marks)
    legend = [[("         ◆ ", "lead"), ("lowest   ", "faint"), ("▲ ", "train"),
               ("band in which it falls   ", "faint"), ("✕ ", "warn"), ("breaks   ", "faint"),
               ("│ the recipe's", "faint")]]
    return [*draw_chart(chart, width, height - 1), *legend]


def _batch(probe: BatchProbe, width: int, height: int) -> Rows:
    points = probe.trained
    if not points:
        return [[(" no size fits", "warn")]]
    sizes = np.array([float(p.size) for p in points])
    across = span_of(sizes, log=True)
    speed = np.array([probe.speed(p) for p in points])
    upper = height // 2
    fast = Chart([Series(sizes, speed, "second", 2)], across, span_of(speed, 0.0), "",
                 "rows a second", (), float(probe.size), ticks_below=False,
                 marks=[(each, s, "●", "second") for each, s in zip(sizes, speed, strict=True)])
    mean = np.array([math.fsum(p.at_time) / len(p.at_time) for p in points])
    whiskers = [Series(np.array([p.size, p.size]), np.array([min(p.at_time), max(p.at_time)]),
                       "faint", 1) for p in points]
    alike = {p.size for p in probe.alike}
    good = Chart([*whiskers, Series(sizes, mean, "lead", 2)], across,
                 span_of(np.concatenate([w.y for w in whiskers])), "batch size",
                 "validation loss at equal time", (), float(probe.size),
                 marks=[(each, v, "◆" if each in alike else "●",
                         "lead" if each in alike else "faint")
                        for each, v in zip(sizes, mean, strict=True)])
    return [*draw_chart(fast, width, upper), *draw_chart(good, width, height - upper - 1),
            [("         ◆ ", "lead"), ("within the spread of the best   ", "faint"),
             ("│ the recipe's", "faint")]]


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
                  f"training loss after {probe.epochs} epochs",
                  [Level(probe.baseline, "baseline")], float(max(probe.depth, 1)), marks=marks)
    legend = [[("         ", "ink"), *((f"━ {build}   ", role)
                                       for build, role in zip(BUILDS, _ROLES, strict=True)),
               ("✕ ", "warn"), ("does not learn", "faint")]]
    return [*draw_chart(chart, width, height - 1), *legend]


def _noise(probe: NoiseProbe, width: int, height: int) -> Rows:
    seeds = np.arange(1.0, _MOST_SEEDS + 1)
    y = np.array([probe.visible(int(k)) for k in seeds])
    least = probe.visible(10**9)
    chart = Chart([Series(seeds, y, "lead", 2)], Scale(1, _MOST_SEEDS),
                  span_of(y, 0.0, least), "seeds of each recipe",
                  "difference that is seen in four of five cases",
                  [Level(least, "rows")])
    return [*draw_chart(chart, width, height - 1),
            [(f"         rows: {number(least, 2)}, which no number of seeds goes below", "faint")]]
