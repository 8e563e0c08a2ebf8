"""Write what was learnt: trade-offs and effects, as charts and tables."""

from __future__ import annotations

from pathlib import Path

from axiarch.errors import InputError
from axiarch.export.tables import Cell, check_place, csv_text, write_export, write_text
from axiarch.recipes.fields import FIELDS
from axiarch.text import shown
from axiarch.workflows.explaining import explain
from axiarch.workflows.exporting import baselines_of
from axiarch.workflows.snapshot import Snapshot
from axiarch.workflows.trading import COST_WORDS, COSTS, TradeOffs, rung_name
from axiarch.workflows.verdicts import unranked

#: Endings of charts, and of tables.
ENDINGS = (".svg", ".pdf", ".csv")


def export_tradeoffs(s: Snapshot, path: Path, cost: str = "parameters", force: bool = False
                     ) -> Path:
    """Write loss against cost as ``.svg`` or ``.pdf``, or all that is known of each recipe's size
    as ``.csv``; return the path.

    Raises
    ------
    InputError, WorkspaceReadOnly, TrainingError
    """
    check_place(path, ENDINGS, force)
    if cost not in COSTS:
        raise InputError(f"{shown(cost, 40)!r} is no cost", "cost",
                         f"give one of {', '.join(COSTS)}")
    found = TradeOffs(s, cost)
    if not found.rows:
        raise unranked(s)
    if path.suffix == ".csv":
        best = {row.recipe for _, row in found.unbeaten}
        knee = found.knee[0].recipe if found.knee else 0
        costs = {name: dict((row.recipe, of(s, row)) for _, row in found.rows)
                 for name, of in COSTS.items()}
        rows: list[list[Cell]] = [[
            each.row.recipe, rung_name(s, each.row), *(c.get(each.row.recipe, "") for c in
                                                       costs.values()),
            each.row.loss, each.row.half_width if each.row.half_width is not None else "",
            each.row.training, each.row.repeats, each.row.standing, each.roughness,
            each.memorises, each.fails, each.row.recipe in best, each.row.recipe == knee]
            for each in found.rungs]
        text = csv_text(("recipe", "network", *COST_WORDS.values(), "loss", "half_width",
                         "training_loss", "seeds", "standing", "roughness", "memorises",
                         "fails_to_train", "unbeaten", "knee"), rows)
        return write_export(path, lambda draft: write_text(draft, text))
    from axiarch.export.figures import save_figure
    from axiarch.export.learnt import tradeoffs_figure

    at = {row.recipe: each for each, row in found.rows}
    row = found.knee[0] if found.knee else None
    knee_at = (at[row.recipe], row) if row is not None and row.recipe in at else None
    title = f"{s.search.name} on {s.dataset.name}: loss against {COST_WORDS[cost]}"
    return save_figure(
        tradeoffs_figure(found.rows, found.unbeaten, knee_at, baselines_of(s.dataset), title,
                         COST_WORDS[cost], s.dataset.target.loss_name), path)


def export_effects(s: Snapshot, path: Path, force: bool = False) -> Path:
    """Write which knobs matter as ``.svg`` or ``.pdf``, or their curves as ``.csv``; return the
    path.

    Raises
    ------
    InputError, WorkspaceReadOnly, TrainingError
    """
    check_place(path, ENDINGS, force)
    known = explain(s)
    if path.suffix == ".csv":
        rows: list[list[Cell]] = []
        for k, axis in enumerate(known.axes):
            each, curve = known.found.shares[k], known.found.curves[k]
            rows += [[axis.name, each.value, each.low, each.high, value, float(curve[0][i]),
                      float(curve[1][i]), float(curve[2][i])]
                     for i, value in enumerate(axis.values)]
        text = csv_text(("knob", "share", "share_low", "share_high", "value", "mean_loss",
                         "mean_loss_low", "mean_loss_high"), rows)
        return write_export(path, lambda draft: write_text(draft, text))
    from axiarch.export.figures import save_figure
    from axiarch.export.learnt import KnobCurve, effects_figure

    knobs = [KnobCurve(FIELDS[a.name].label, a.values, a.log) for a in known.axes]
    title = f"{s.search.name} on {s.dataset.name}: which knobs matter"
    return save_figure(effects_figure(knobs, known.order, known.found, title,
                                      f"mean {s.dataset.target.loss_name}"), path)
