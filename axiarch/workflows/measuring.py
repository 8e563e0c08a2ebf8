"""Rank the recipes of a search by a measure of one's choice, with the same intervals and groups."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from axiarch.data.kept import labels_of
from axiarch.errors import InputError
from axiarch.ranking.rank import STANDING_WORDS, Ranking, RunResult, rank
from axiarch.runs.lowered import name_of
from axiarch.runs.measures import MEASURES, Measure, Rows, cautious_rows, lowered_rows
from axiarch.runs.rows import RowLosses
from axiarch.search.methods import make_method
from axiarch.text import loss, number, shown
from axiarch.workflows.leading import groups
from axiarch.workflows.ranked import design_of
from axiarch.workflows.snapshot import Snapshot

#: The measure that a recipe's own loss is for amounts.
OWN = {"squared": "mean squared error", "absolute": "mean absolute error", "huber": "Huber loss"}


@dataclass(frozen=True)
class ByMeasure:
    """Recipes ranked by a measure; levels are of what is to be lowered.

    Attributes
    ----------
    snapshot : Snapshot
    name : str
    measure : Measure
    ranking : Ranking
    """

    snapshot: Snapshot
    name: str
    measure: Measure
    ranking: Ranking

    def value(self, level: float) -> float:
        """Return a level as the measure itself."""
        return 1 - level if self.measure.higher else level

    def verdict(self) -> str:
        """Say which recipe leads by the measure, and where the leader by loss stands."""
        rows = self.ranking.rows
        if not rows:
            return f"No recipe has a result by {self.name}."
        first = rows[0]
        half = f" ± {first.half_width:.2g} (95 %)" if first.half_width is not None else ""
        others = (" With one seed per recipe the uncertainty is unknown."
                  if self.ranking.evidence is None else f" {groups(self.ranking)}"
                  if len(rows) > 1 else "")
        by_loss = self.snapshot.ranking.rows[0].recipe if self.snapshot.ranking.rows else 0
        other = next((r for r in rows if r.recipe == by_loss), None)
        word = name_of(self.snapshot.dataset.target.measure)
        also = f" It leads by {word} as well." if by_loss == first.recipe else ""
        if other is not None and not also:
            also = (f" Recipe {by_loss}, which leads by {word}, is in place {other.place} here: "
                    f"{STANDING_WORDS[other.standing]}.")
        return (f"By {self.name} recipe {first.recipe} leads at "
                f"{number(self.value(first.loss), 4)}{half}.{others}{also}")


def by_measure(s: Snapshot, name: str) -> ByMeasure:
    """Return the recipes of a search ranked by a measure.

    The weights are those that each run kept, at its best epoch by validation loss. Runs without
    losses of rows (trained by earlier versions, or elsewhere) are left out.

    Parameters
    ----------
    name : str
        One of :data:`axiarch.runs.measures.MEASURES`; ``own loss`` is what the base recipe is
        trained on.

    Raises
    ------
    InputError
        If there is no such measure, or it does not fit the task.
    """
    target = s.dataset.target
    fits = {n: m for n, m in MEASURES.items() if m.amounts == (target.task == "regression")
            and not (n == "AUC" and len(s.dataset.classes) != 2)}
    name = " ".join(name.split())
    name = next((n for n in (*MEASURES, "own loss") if n.casefold() == name.casefold()), name)
    if name == "own loss":
        name = "loss" if s.dataset.classes else OWN.get(s.file.space.base.word("loss"), name)
    if name not in fits or (MEASURES[name].amounts and len(target.columns) > 1):
        known = ", ".join(fits) if len(target.columns) == 1 else "none for several targets"
        raise InputError(f"recipes on {shown(s.dataset.name, 60)} are not ranked by "
                         f"{shown(name, 40)!r}", "measure", f"give one of: {known}")
    results = []
    for run in s.runs.values():
        rows = s.rows.get(run.id)
        if run.state != "ended" or rows is None or not len(rows.values):
            continue
        own = _rows(s, run.recipe, run.fold, rows)
        value = float(lowered_rows(name, own).mean())
        if not np.isfinite(value):
            continue
        curve = s.curves[run.id]
        results.append(RunResult(run.recipe, (value,), (value,), ((),), curve.total_seconds, True,
                                 (run.repeat, run.fold), RowLosses.of(
                                     rows.total, cautious_rows(name, own))))
    learns = make_method(s.file.method, s.file.space, s.file.seed).learns
    ranking = rank(results, {n: r.parameters for n, r in s.recipes.items()}, (),
                   design_of(s.dataset, learns, s.file.repeats))
    return ByMeasure(s, name, fits[name], ranking)


def _rows(s: Snapshot, recipe: int, fold: int, rows: RowLosses) -> Rows:
    losses = rows.values.astype(np.float64)
    if not s.dataset.classes:
        nothing = np.zeros(0, np.int64)
        values = s.recipes[recipe].recipe
        unit = s.dataset.folds[fold].encoding.target.units[0]
        return Rows(losses, nothing, nothing, 0, unit, values.real("huber_width"))
    predicted = rows.classes
    labels = labels_of(s.dataset, fold)
    if predicted is None:
        raise InputError("the runs of this search were trained by an earlier version, which kept "
                         "no predicted classes", f"search {s.search.number}",
                         "train them again: axiarch search FILE --earlier ignore")
    return Rows(losses, labels, predicted.astype(np.int64), len(s.dataset.classes))


def measure_lines(found: ByMeasure, most: int = 15) -> list[str]:
    """Return the ranking as lines of text, the loss beside the measure."""
    by_loss = {row.recipe: row for row in found.snapshot.ranking.rows}
    if not found.ranking.rows:
        return []
    word = name_of(found.snapshot.dataset.target.measure)
    wide = max(len(word) + 2, 10)
    lines = [f"{'place':>5}{'recipe':>8}{found.name:>20}{'±':>9}{'seeds':>6}{word:>{wide}}"
             "  standing"]
    for row in found.ranking.rows[:most]:
        half = "" if row.half_width is None else f"{row.half_width:.2g}"
        other = by_loss.get(row.recipe)
        lines.append(f"{row.place:>5}{'#' + str(row.recipe):>8}"
                     f"{number(found.value(row.loss), 4):>20}{half:>9}{row.repeats:>6}"
                     f"{loss(other.loss) if other else '':>{wide}}  {STANDING_WORDS[row.standing]}")
    left = len(found.ranking.rows) - most
    if left > 0:
        lines.append(f"      … and {left} more; --most {len(found.ranking.rows)} prints all")
    return lines


def measure_json(found: ByMeasure) -> dict[str, object]:
    """Return the ranking, for JSON."""
    return {"by": found.name, "verdict": found.verdict(), "ranking": [
        {"place": row.place, "recipe": row.recipe, "value": found.value(row.loss),
         "half_width": row.half_width, "half_width_seeds": row.seeds_half,
         "half_width_rows": row.rows_half, "runs": row.repeats, "standing": row.standing}
        for row in found.ranking.rows]}
