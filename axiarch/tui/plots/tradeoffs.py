"""Trade-offs: loss against cost, what nobody beats joined by a line, the knee marked."""

from __future__ import annotations

import numpy as np

from axiarch.ranking.rank import Ranked
from axiarch.text import count, loss, number, shown
from axiarch.tui.plots.chart import Chart, Level, Series, draw_chart
from axiarch.tui.plots.runs import Row, Rows, fit, right
from axiarch.tui.plots.scale import Scale, span_of
from axiarch.workflows.trading import COST_WORDS, TradeOffs, rung_marks, rung_name

#: Recipes up to which every whisker is drawn; of more, those of recipes that nobody beats.
_FEW = 40
#: Lines of the list below the chart, at the most and as a share of the height.
_LISTED, _SHARE = 12, 0.35


def draw_tradeoffs(found: TradeOffs, width: int, height: int) -> Rows:
    """Return the chart, and the recipes that nobody beats below it."""
    if not found.rows:
        return [[], [(" No recipe is ranked yet.", "faint")]]
    lines, room = _listed(found, width), max(min(_LISTED, int(height * _SHARE)), 2)
    if len(lines) > room:
        left = len(lines) - room + 1
        lines = [*lines[: room - 1], [(f"    … and {left} more: axiarch capacity", "faint")]]
    chart = draw_chart(_chart(found), width, max(height - len(lines) - 2, 5))
    return [*chart, _legend(found), *lines]


def _chart(found: TradeOffs) -> Chart:
    cost = np.array([each for each, _ in found.rows])
    rows = [row for _, row in found.rows]
    losses = np.array([row.loss for row in rows])
    training = np.array([row.training for row in rows])
    series = [Series(cost, training, "ghost", 0, dots=True),
              Series(cost, losses, "second", 1, dots=True)]
    best = [(each, row) for each, row in found.unbeaten]
    series.append(Series(np.array([each for each, _ in best]),
                         np.array([row.loss for _, row in best]), "lead", 3))
    whiskers = found.rows if len(rows) <= _FEW else best
    for each, row in whiskers:
        if row.half_width is not None:
            y = np.array([row.loss - row.half_width, row.loss + row.half_width])
            series.append(Series(np.array([each, each]), y, "faint", 1))
    marks = [(each, row.loss, "○", "lead") for each, row in best]
    if found.knee is not None:
        at = {row.recipe: each for each, row in found.rows}
        row = found.knee[0]
        if row.recipe in at:
            marks.append((at[row.recipe], row.loss, "◆", "glow"))
    s = found.snapshot
    top = min(float(losses.max()), s.dataset.baseline.loss * 1.05)
    low = min(float(losses.min()), float(np.quantile(training, 0.1)))
    levels = [Level(s.dataset.baseline.loss, "baseline")]
    if s.dataset.linear is not None:
        levels.append(Level(s.dataset.linear.loss, "linear"))
    positive = bool((cost > 0).all()) and float(cost.max() / cost.min()) > 4
    across = span_of(cost, log=positive)
    return Chart(series, across, Scale(low - 0.04 * (top - low) - 1e-9, top + 1e-9),
                 COST_WORDS[found.cost], f"validation {s.dataset.target.loss_name}", levels,
                 marks=marks)


def _legend(found: TradeOffs) -> Row:
    return [("         ◆ ", "glow"), ("knee   ", "faint"), ("○━ ", "lead"),
            ("beaten by none in both   ", "faint"), ("⠂ ", "second"), ("validation   ", "faint"),
            ("⠂ ", "ghost"), ("training   ", "faint"), ("space: another cost", "faint")]


def _listed(found: TradeOffs, width: int) -> Rows:
    """Return one line for each recipe that nobody beats, and for rungs with something to say: the
    knee and the leader, then the cheapest first.
    """
    costs = {row.recipe: each for each, row in found.rows}
    best = {row.recipe for _, row in found.unbeaten}
    knee = found.knee[0].recipe if found.knee else 0
    wanted = [found.rung(row) for _, row in found.rows
              if row.recipe in best or row.recipe == knee]
    wanted.sort(key=lambda each: (each.row.recipe != knee, each.row.place != 1,
                                  costs.get(each.row.recipe, 0.0)))
    rows = [_line(found, each.row, costs, knee, rung_marks(each), width) for each in wanted]
    if found.is_ladder:
        bad = [each for each in found.rungs if rung_marks(each) and each not in wanted]
        rows += [_line(found, each.row, costs, knee, rung_marks(each), width) for each in bad]
    return rows


def _line(found: TradeOffs, row: Ranked, costs: dict[int, float], knee: int, note: str, width: int
          ) -> Row:
    s = found.snapshot
    unit = {"parameters": "parameter", "time": "second", "prediction": "multiplication"}[found.cost]
    cost = costs.get(row.recipe, 0.0)
    amount = count(row.parameters, unit) if found.cost == "parameters" else (
        f"{number(cost, 3)} {unit}s")
    half = f" ± {row.half_width:.2g}" if row.half_width is not None else ""
    name = rung_name(s, row) if found.is_ladder else (
        s.recipes[row.recipe].apart(s.recipes[s.ranking.rows[0].recipe].recipe) or "as the leader")
    mark, role = ("◆", "glow") if row.recipe == knee else ("○", "lead")
    return [(f" {mark} ", role), (right(f"#{row.recipe}", 5), "ink"), (right(amount, 24), "ink"),
            (fit(f"  {loss(row.loss)}{half}", 19), role),
            (fit(shown(name) + (f" ({note})" if note else ""), max(width - 52, 0)), "faint")]
