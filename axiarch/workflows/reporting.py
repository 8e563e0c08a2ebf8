"""Report on a search: what was tried, what won, by how much, and what to distrust."""

from __future__ import annotations

import platform
from collections.abc import Iterator, Sequence
from importlib.metadata import version
from pathlib import Path
from typing import Any

from axiarch import __version__
from axiarch.data.baseline import Baseline
from axiarch.data.findings import grave
from axiarch.errors import AxiarchError
from axiarch.export import figures
from axiarch.export.report import (
    Block,
    Chart,
    Grid,
    Heading,
    Listing,
    Paragraph,
    Points,
    Report,
    write_report,
)
from axiarch.journal.workspace import Workspace
from axiarch.ranking.rank import STANDING_WORDS
from axiarch.recipes.fields import FIELDS
from axiarch.recipes.recipe import short
from axiarch.recipes.searchfile import write_search
from axiarch.text import count, duration, loss, measured, memory, moment, number, share, span
from axiarch.workflows.confirming import Confirmation, confirmations
from axiarch.workflows.exporting import baselines_of
from axiarch.workflows.judging import judge_recipe, tail_words
from axiarch.workflows.leading import ranking_verdict
from axiarch.workflows.snapshot import Snapshot
from axiarch.workflows.unsealing import score_of, trust
from axiarch.workflows.verdicts import unknown_recipe, unranked

#: Recipes that a report lists, and curves that it draws.
LISTED, DRAWN = 20, 8
#: Findings about the data that it lists.
FINDINGS = 20
#: Packages whose versions change results.
_PACKAGES = ("numpy", "numba", "scipy", "polars")


def export_report(workspace: Workspace, snapshot: Snapshot, path: Path, recipe: int = 0,
                  force: bool = False) -> Path:
    """Write the report of a search as ``.html`` or ``.pdf`` and return the path.

    Parameters
    ----------
    recipe : int, optional
        Which recipe is looked at closely; by default the leader.

    Raises
    ------
    TrainingError
        If there is no ranking yet.
    InputError, WorkspaceReadOnly
    """
    return write_report(report_of(workspace, snapshot, recipe), path, force)


def report_of(workspace: Workspace, snapshot: Snapshot, recipe: int = 0) -> Report:
    """Return the report of a search."""
    if not snapshot.ranking.rows:
        raise unranked(snapshot)
    chosen = recipe or snapshot.ranking.rows[0].recipe
    if chosen not in snapshot.recipes:
        raise unknown_recipe(snapshot, chosen)
    found = _predictions(workspace, snapshot, chosen)
    again = confirmations(workspace, snapshot, chosen)
    blocks = [
        *_answer(snapshot), *_data(snapshot), *_searched(snapshot), *_ranking(snapshot),
        *_training(snapshot, chosen), *_predicted(snapshot, chosen, found), *_confirmed(again),
        *_test(snapshot, chosen), *_distrust(snapshot, bool(again)), *_settings(snapshot, chosen),
        *_again(snapshot)
    ]
    started = moment(snapshot.search.started)[:16] if snapshot.search.started else ""
    return Report(
        f"{snapshot.search.name} on {snapshot.dataset.name}",
        f"Search {snapshot.search.number}, {snapshot.search.state}, started {started} UTC. "
        f"Written by Axiarch {__version__}.", blocks)


def _predictions(workspace: Workspace, s: Snapshot, recipe: int) -> dict[str, Any] | None:
    """Return what a recipe predicts on its validation rows; None where it has left no
    checkpoint.
    """
    try:
        found: dict[str, Any] = judge_recipe(workspace, s, recipe)["summary"]
    except AxiarchError:
        return None
    return found


def _answer(s: Snapshot) -> Iterator[Block]:
    yield Heading("The answer")
    yield Paragraph(ranking_verdict(s))
    if s.openings:
        yield Paragraph(trust(s.openings))


def _data(s: Snapshot) -> Iterator[Block]:
    data, target, rows = s.dataset, s.dataset.target, s.dataset.rows
    yield Heading("The data")
    split = (f"{number(rows['train'])} rows train, {number(rows['validation'])} validate, "
             f"{number(rows['test'])} test rows are sealed")
    folds = f" {len(data.folds)} folds: each recipe trains on every one." if len(
        data.folds) > 1 else ""
    left = "".join(f" {count(rows.get(name, 0), 'row')} {words}."
                   for name, words in (("left out", "were left out for quick work"),
                                       ("without target", "without a target take no part"))
                   if rows.get(name))
    yield Paragraph(
        f"{data.name}: {target.task}, {target.name} predicted from {count(data.inputs, 'input')} "
        f"made of {count(len(data.encoding.codes), 'column')}. {split}.{folds}{left} Read as "
        f"{data.how}.")
    if target.classes:
        total = sum(data.class_counts)
        yield Grid(("class", "rows", "share"),
                   [(name, number(n), share(n / total))
                    for name, n in zip(target.classes, data.class_counts, strict=True)], (1, 2))
    yield Paragraph(f"What any recipe must beat ({target.loss_name}, on the validation rows):")
    yield Grid(("", target.loss_name, *target.metrics), [
        _floor_row(name, baseline, target.metrics)
        for name, baseline in (("baseline (targets alone)", data.baseline),
                               ("linear model", data.linear),
                               ("noise of the data (known)", data.noise_floor))
        if baseline is not None
    ], range(1, 2 + len(target.metrics)))
    if data.findings:
        yield Paragraph("Found before training:")
        yield Points([
            f"{f.name}{f' in {f.column}' if f.column else ''}: {f.evidence}. Remedy: {f.advice}."
            for f in data.findings[:FINDINGS]
        ])


def _floor_row(name: str, baseline: Baseline, metrics: tuple[str, ...]) -> tuple[str, ...]:
    return (name, loss(baseline.loss), *(measured(metric, value) for metric, value in zip(
        metrics, baseline.metrics, strict=True)))


def _searched(s: Snapshot) -> Iterator[Block]:
    yield Heading("What was searched")
    knobs = [(FIELDS[knob.name].label, str(knob)) for knob in s.file.space.knobs]
    if knobs:
        yield Grid(("value", "range"), knobs)
    forecast = f" The forecast was {span(s.forecast.low, s.forecast.high)}." if s.forecast else ""
    used = f" All workers together took {memory(s.memory)} of memory." if s.memory else ""
    seeds = count(s.file.repeats, "seed")
    partial = (f", {len(s.ranking.partial)} of them cut or waiting before their last "
               "epoch") if s.ranking.partial else ""
    broken = f", {len(s.ranking.broken)} without a result" if s.ranking.broken else ""
    yield Paragraph(
        f"Method {s.file.method.name}: {count(len(s.recipes), 'recipe')}{partial}{broken}; up to "
        f"{seeds} a recipe; {count(s.ended_runs, 'run')}, {number(s.epochs)} epochs in "
        f"{duration(s.taken)}.{forecast}{used}")


def _ranking(s: Snapshot) -> Iterator[Block]:
    yield Heading("Ranking")
    target, rows = s.dataset.target, s.ranking.rows[:LISTED]
    leader = s.recipes[s.ranking.rows[0].recipe].recipe
    told = [(r, f"recipe {r.recipe}") for r in rows]
    yield Chart(
        figures.ladder_figure(told, baselines_of(s.dataset), "Recipes on one axis",
                              target.loss_name),
        "Dot: steady validation loss; whisker: its 95 % interval, by seeds and folds alone and, "
        "thin, with the doubt about the rows; open dot: training loss. Orange recipes are tied.")
    yield Grid(("place", "recipe", "standing", target.loss_name, "±", "training", target.metrics[0],
                "runs", "differs from the leader in"),
               [(str(r.place), str(r.recipe), STANDING_WORDS[r.standing], loss(
                   r.loss), "–" if r.half_width is None else loss(r.half_width), loss(
                       r.training), measured(target.metrics[0], r.metrics[0]), str(
                           r.repeats), s.recipes[r.recipe].apart(leader) or "–")
                for r in rows], (0, 1, 3, 4, 5, 6, 7))
    more = len(s.ranking.rows) - len(rows)
    tail = f" {more} more are in the exported ranking." if more > 0 else ""
    yield Paragraph(
        "± is half the 95 % interval of the loss, with both doubts: seeds differ, and the "
        "validation rows are a sample. Differences are paired over rows and seeds and are surer: "
        "a recipe is apart where it is ruled out as the best (at most 5 in 100 searches rule out "
        "the best one). Tied recipes may be as good as the leader; those not ruled out have been "
        f"trained on fewer seeds.{tail}")


def _training(s: Snapshot, recipe: int) -> Iterator[Block]:
    yield Heading(f"How recipe {recipe} trained")
    lines = []
    for run in s.runs_of(recipe)[:DRAWN]:
        curve = s.curves.get(run.id)
        if curve:
            lines += [
                figures.Line(f"validation, {s.run_name(run)}", curve.validation, figures.ORANGE),
                figures.Line(f"training, {s.run_name(run)}", curve.train_loss_eval, figures.BLUE,
                             True)
            ]
    if lines:
        yield Chart(
            figures.curves_figure(lines, baselines_of(s.dataset), f"Recipe {recipe}",
                                  s.dataset.target.loss_name),
            "Both losses after each epoch, in inference mode; the training loss on a fixed sample "
            "of training rows.")
    reasons = [f"{s.run_name(run)}: {run.text}" for run in s.runs_of(recipe)[:DRAWN] if run.text]
    if reasons:
        yield Points(reasons)


def _predicted(s: Snapshot, recipe: int, found: dict[str, Any] | None) -> Iterator[Block]:
    if found is None:
        return
    target = s.dataset.target
    yield Heading(f"What recipe {recipe} predicts on the {s.dataset.validation_name} rows")
    draw = figures.classes_figure if target.classes else figures.amounts_figure
    yield Chart(
        draw(found, target.classes or target.columns,
             f"Recipe {recipe}, {found['rows']} validation rows"),
        f"Means over {count(found['runs'], 'run')}; 95 % intervals over the rows.")
    yield _metrics(s, found)
    yield from map(Paragraph, tail_words(found, target.columns))


def _metrics(s: Snapshot, found: dict[str, Any]) -> Grid:
    """Return metrics with their intervals as a table."""
    target = s.dataset.target

    def cells(values: list[float], form: Any) -> tuple[str, str]:
        return form(values[0]), f"{form(values[1])} to {form(values[2])}"

    if target.classes:
        rows = [("accuracy", "all", *cells(found["accuracy"], share)),
                ("balanced accuracy", "all", *cells(found["balanced_accuracy"], share)),
                ("log loss", "all", *cells(found["log_loss"], loss))]
        for i, name in enumerate(target.classes):
            rows += [(metric if metric != "f1" else "F1", name, *cells(found[metric][i], share))
                     for metric in ("precision", "recall", "f1")]
        return Grid(("metric", "class", "value", "95 % interval"), rows, (2, 3))
    names = {
        "rmse": "RMSE", "mae": "mean absolute error", "median_error": "median absolute error",
        "r2": "R²"
    }
    return Grid(("metric", "target", "value", "95 % interval"),
                [(words, name, *cells(found[metric][i], number))
                 for i, name in enumerate(target.columns)
                 for metric, words in names.items()], (2, 3))


def _confirmed(again: Sequence[Confirmation]) -> Iterator[Block]:
    if again:
        yield Heading("Confirmation on fresh seeds")
        yield Points([str(each) for each in again])


def _test(s: Snapshot, recipe: int) -> Iterator[Block]:
    yield Heading("The test rows")
    if not s.openings:
        yield Paragraph(
            f"The {number(s.dataset.rows['test'])} test rows are sealed: nothing here has seen "
            "them."
        )
        return
    yield Paragraph(trust(s.openings))
    yield Grid(("opened", "for", "reason", "its loss", "baseline", "linear model"),
               [(moment(o.at)[:16],
                 f"recipe {o.recipe} of search {o.search}" if o.recipe else "baselines alone",
                 o.reason, *_scores(score_of(o))) for o in s.openings], (3, 4, 5))
    for opening in reversed(s.openings):
        score = score_of(opening)
        if score and (opening.search, opening.recipe) == (s.search.number,
                                                          recipe) and score.summary:
            yield Paragraph(f"Recipe {recipe} on the {number(opening.rows)} test rows, mean of "
                            f"{count(len(score.runs), 'run')}:")
            yield _metrics(s, score.summary)
            yield from map(Paragraph, tail_words(score.summary, s.dataset.target.columns))
            return


def _scores(score: Any) -> tuple[str, str, str]:
    if score is None:
        return "–", "–", "–"
    return loss(score.loss), loss(
        score.baseline.loss), loss(score.linear.loss) if score.linear else "–"


def _distrust(s: Snapshot, confirmed: bool) -> Iterator[Block]:
    first, tied = s.ranking.rows[0], len(s.ranking.tied)
    points = []
    if tied > 1:
        points.append(f"{tied} recipes are tied: which of them leads may be luck.")
    if first.repeats < 3:
        points.append(
            f"The leader was measured on {count(first.repeats, 'run')}: its spread over seeds is "
            "hardly known.")
    if s.ranking.optimism:
        points.append(
            "The leader was chosen for a low loss: expect about "
            f"{number(s.ranking.optimism, 2)} more on new data.")
    for name, claim in s.skill.items():
        if claim.verdict != "better":
            points.append(f"The leader is not clearly better than the {name}: the difference is "
                          f"{number(claim.difference, 2)} ± {claim.half_width:.2g} over "
                          f"{count(claim.rows, 'row')}{', of one run' if claim.one_run else ''}.")
    if not confirmed and first.confirmed is None:
        points.append("The recipe has not been trained again on fresh seeds, which chose nothing.")
    if len(s.dataset.folds) == 1:
        rows = number(s.dataset.rows["validation"])
        how = "by an amount that is not known here" if first.rows_half is None else (
            f"by up to {first.rows_half:.2g} (95 %), which the intervals include")
        points.append(f"All validation losses are over the same {rows} rows of one split: with "
                      f"other rows they would differ {how}.")
    failed = sum(run.state == "failed" for run in s.runs.values())
    if failed:
        points.append(f"{count(failed, 'run')} failed and are not counted.")
    if s.search.state != "done":
        points.append(
            f"The search is {s.search.state}: recipes that were not trained to their end are not "
            "ranked."
        )
    points += [f"{f.name}{f' in {f.column}' if f.column else ''}: {f.evidence}."
               for f in s.dataset.findings[:FINDINGS] if grave(f)]
    yield Heading("What to distrust")
    yield Points(points)


def _settings(s: Snapshot, recipe: int) -> Iterator[Block]:
    yield Heading(f"Settings of recipe {recipe}")
    values = s.recipes[recipe].recipe
    yield Grid(("value", "setting"),
               [(FIELDS[name].label, short(value)) for name, value in values.items()])


def _again(s: Snapshot) -> Iterator[Block]:
    yield Heading("How to do it again")
    versions = ", ".join(f"{name} {version(name)}" for name in _PACKAGES)
    yield Paragraph(
        "Save the text below as search.toml, then: axiarch search search.toml. The same file on "
        "the same data gives the same results to the last bit with the same package versions. "
        f"Axiarch {__version__}, Python {platform.python_version()}, {versions}. Data fingerprint "
        f"{s.dataset.fingerprint}; split seed {s.dataset.seed}; search seed {s.file.seed}.")
    yield Listing(write_search(s.file))
