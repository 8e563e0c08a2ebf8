"""From what is journalled of a search to its ranking, and to how its leader compares with the
baseline and the linear model.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import replace

from axiarch.data.dataset import Dataset
from axiarch.data.kept import lowered_rows
from axiarch.journal.records import RecipeRecord, RunRecord
from axiarch.ranking.claims import Claim, claim
from axiarch.ranking.evidence import Design
from axiarch.ranking.rank import Ranking, RunResult, partials, rank
from axiarch.recipes.searchfile import SearchFile
from axiarch.runs.curve import Curve
from axiarch.runs.rows import RowLosses
from axiarch.search.methods import make_method


def results_of(runs: Iterable[RunRecord], curves: Mapping[int, Curve],
               recipes: Mapping[int, RecipeRecord], rows: Mapping[int, RowLosses],
               dataset: Dataset) -> list[RunResult]:
    """Return what ended runs came to; curves and losses of rows are by run."""
    ended = ((run, curves.get(run.id, Curve())) for run in runs if run.state == "ended")
    return [RunResult(run.recipe, curve.validation, curve.train_loss_eval, curve.metrics,
                      curve.total_seconds, run.reason != "diverged",
                      None if recipes[run.recipe].origin else (run.repeat, run.fold),
                      lowered_rows(dataset, run.fold, rows.get(run.id)))
            for run, curve in ended]


def ranking_of(results: list[RunResult], runs: Sequence[RunRecord], curves: Mapping[int, Curve],
               recipes: Mapping[int, RecipeRecord], file: SearchFile, dataset: Dataset) -> Ranking:
    """Return the ranking of the recipes of a search, with those that were cut or still rest."""
    method = make_method(file.method, file.space, file.seed)
    broken = [run.recipe for run in runs if run.state == "failed"]
    ranking = rank(results, {r.number: r.parameters for r in recipes.values()}, broken,
                   design_of(dataset, method.learns, file.repeats), dataset.target.root)
    first = {r.recipe: curves[r.id].validation
             for r in sorted(runs, key=lambda r: (r.repeat, r.fold), reverse=True)
             if r.id in curves and r.state in ("resting", "cut")}
    known = [*(r.recipe for r in ranking.rows), *ranking.broken]
    return replace(ranking, partial=partials(first, known))


def design_of(dataset: Dataset, learns: bool, repeats: int) -> Design:
    """Return how the rows of a data set are divided; a method that `learns` chooses by the first
    seed and fold.
    """
    split, rows = dataset.plan.split, dataset.folds[0].rows
    return Design(max(split.folds, 1), split.fold_repeats if split.folds else 1,
                  rows["validation"] / rows["train"], (0, 0) if learns else None, repeats)


def skill(ranking: Ranking, results: list[RunResult], dataset: Dataset) -> dict[str, Claim]:
    """Return how the leader compares with the baseline and the linear model."""
    if not ranking.rows or dataset.plan.split.all_open:
        return {}
    references = {}
    for fold in range(len(dataset.folds)):
        reference = dataset.reference(fold)
        if reference is None:
            return {}
        references[fold] = reference
    runs = [run for run in results if run.recipe == ranking.rows[0].recipe]
    repeated = {fold: each.repeated for fold, each in references.items()}
    root, found = dataset.target.root, {}
    lines = {"baseline": {fold: each.baseline for fold, each in references.items()},
             "linear model": {fold: each.linear for fold, each in references.items()
                              if each.linear is not None}}
    for name, others in lines.items():
        made = claim(ranking, 0, runs, others, repeated, root)
        if made is not None:
            found[name] = made
    return found
