"""Export what a search found: tables as CSV, charts as SVG or PDF with their data beside them."""

from __future__ import annotations

from collections.abc import Mapping
from pathlib import Path
from typing import Any

from axiarch.data.dataset import Dataset
from axiarch.errors import WorkspaceMissing
from axiarch.export.tables import (
    Cell,
    check_place,
    csv_text,
    ranking_rows,
    unique,
    values_of,
    write_csv,
    write_export,
    write_table,
    write_text,
)
from axiarch.files import regular_file
from axiarch.recipes.fields import FIELDS
from axiarch.recipes.searchfile import SearchFile, write_search
from axiarch.runs.curve import Curve
from axiarch.runs.lowered import name_of
from axiarch.runs.steady import steady
from axiarch.text import count, loss
from axiarch.workflows.snapshot import Snapshot
from axiarch.workflows.verdicts import unknown_recipe, unranked

#: Curves drawn in the chart of a whole search.
_LINES = 12


def export_ranking(snapshot: Snapshot, path: Path, force: bool = False) -> Path:
    """Write the ranking as CSV, every value of every recipe included, and return the path.

    Parameters
    ----------
    force : bool
        Whether a file that is there is replaced.

    Raises
    ------
    InputError, WorkspaceReadOnly
    """
    check_place(path, (".csv",), force)
    return write_csv(
        path,
        *ranking_rows(snapshot.ranking, {n: r.recipe for n, r in snapshot.recipes.items()},
                      snapshot.dataset.target.unit, snapshot.dataset.target.metrics,
                      len(snapshot.openings), {n: r.origin for n, r in snapshot.recipes.items()},
                      name_of(snapshot.dataset.target.measure)))


def baselines_of(dataset: Dataset) -> list[tuple[str, float]]:
    """Return what every loss is read against, by name."""
    return [(name, known.loss)
            for name, known in (("baseline", dataset.baseline), ("linear", dataset.linear),
                                ("noise", dataset.noise_floor))
            if known is not None]


def export_runs(snapshot: Snapshot, path: Path, force: bool = False) -> Path:
    """Write one row a run, with every value of its recipe: ``.csv``, ``.parquet`` or ``.jsonl``;
    return the path.

    Raises
    ------
    InputError, WorkspaceReadOnly
    """
    target = snapshot.dataset.target
    word = name_of(target.measure)
    header = [
        "search", "run", "recipe", "seed", "fold", "state", "reason", "epochs trained",
        "best epoch", f"steady validation {word} ({target.unit})",
        f"lowest validation {word} ({target.unit})",
        f"training {word} at the best epoch ({target.unit})",
        *(f"{name} at the best epoch" for name in target.metrics), "seconds", "parameters",
        "trained elsewhere", *FIELDS
    ]
    rows: list[list[Cell]] = []
    for run in sorted(snapshot.runs.values(), key=lambda run: run.id):
        curve, record = snapshot.curves.get(run.id, Curve()), snapshot.recipes[run.recipe]
        kept, level = steady(curve.validation) if curve else (0, None)
        own = curve.metrics[kept - 1] if kept else [None] * len(target.metrics)
        rows.append([
            snapshot.search.number, run.id, run.recipe, run.repeat + 1, run.fold + 1, run.state,
            run.reason,
            len(curve), kept or None, level,
            min(curve.validation, default=None), curve.train_loss_eval[kept - 1] if kept else None,
            *own, curve.total_seconds, record.parameters, record.origin, *values_of(record.recipe)
        ])
    return write_table(path, unique(header), rows, force)


def export_epochs(snapshot: Snapshot, path: Path, force: bool = False) -> Path:
    """Write one row an epoch of every run: ``.csv``, ``.parquet`` or ``.jsonl``; return the path.

    Raises
    ------
    InputError, WorkspaceReadOnly
    """
    target = snapshot.dataset.target
    unit, word = target.unit, name_of(target.measure)
    header = [
        "search", "run", "recipe", "seed", "fold", "epoch",
        f"training loss while training ({target.trained_unit})", f"training {word} ({unit})",
        f"validation {word} ({unit})", *target.metrics, "learning rate",
        "gradient norm", "gradient norm before clipping", "seconds"
    ]
    rows: list[list[Cell]] = []
    for run in sorted(snapshot.runs.values(), key=lambda run: run.id):
        curve = snapshot.curves.get(run.id, Curve())
        for i in range(len(curve)):
            rows.append([
                snapshot.search.number, run.id, run.recipe, run.repeat + 1, run.fold + 1, i + 1,
                curve.train_loss[i], curve.train_loss_eval[i], curve.validation[i],
                *curve.metrics[i], curve.learning_rate[i], curve.gradient_norm[i],
                curve.loss_gradient[i], curve.seconds[i]
            ])
    return write_table(path, unique(header), rows, force)


def export_predictions(snapshot: Snapshot,
                       recipe: int,
                       part: str,
                       found: Mapping[str, Any],
                       path: Path,
                       force: bool = False) -> tuple[Path, Path]:
    """Write what a recipe predicts, drawn, with the numbers as ``NAME-data.csv`` beside it; return
    both paths.

    Parameters
    ----------
    part : str
        Which rows: validation, train or test.
    found : mapping
        The ``summary`` of :func:`judge_recipe`.

    Raises
    ------
    InputError, WorkspaceReadOnly
    """
    from axiarch.export.figures import CHARTS, amounts_figure, classes_figure, save_figure

    target = snapshot.dataset.target
    names = target.classes or target.columns
    rows: list[list[Cell]] = []
    if target.classes:
        for metric in ("accuracy", "balanced_accuracy", "log_loss"):
            rows.append([metric.replace("_", " "), "", *found[metric]])
        for metric in ("precision", "recall", "f1"):
            rows += [[metric, name, *values]
                     for name, values in zip(names, found[metric], strict=True)]
        rows += [[f"predicted as {told}", name, count_, None, None]
                 for name, counts in zip(names, found["confusion"], strict=True)
                 for told, count_ in zip(names, counts, strict=True)]
    else:
        for metric in ("rmse", "mae", "median_error", "r2"):
            rows += [[metric.replace("_", " "), name, *values]
                     for name, values in zip(names, found[metric], strict=True)]
    text = csv_text(
        ("what", "class" if target.classes else "target", "value", "low 95 %", "high 95 %"), rows)
    check_place(path, CHARTS, force)
    beside = path.with_name(f"{path.stem}-data.csv")
    same = regular_file(beside) and beside.read_text(encoding="utf-8", errors="replace") == text
    check_place(beside, (".csv",), force or same)
    part_name = "training" if part == "train" else part
    title = (f"recipe {recipe} of search {snapshot.search.number} on {found['rows']} {part_name} "
             f"rows{_opened(snapshot)}")
    draw = classes_figure if target.classes else amounts_figure
    chart = save_figure(draw(found, names, title), path)
    return chart, write_export(beside, lambda draft: write_text(draft, text))


def _opened(snapshot: Snapshot) -> str:
    """Return how often the test rows were opened, for the title of a chart."""
    times = len(snapshot.openings)
    return f"; test rows opened {count(times, 'time')}" if times else ""


def export_search(search: SearchFile, path: Path, force: bool = False) -> Path:
    """Write a search as a search file, ``.toml``, and return the path.

    Raises
    ------
    InputError, WorkspaceReadOnly
    """
    check_place(path, (".toml",), force)
    return write_export(path, lambda draft: write_text(draft, write_search(search)))


def export_chart(snapshot: Snapshot, path: Path, force: bool = False) -> Path:
    """Write the ranking as a drawing, ``.svg`` or ``.pdf``, and return the path.

    Raises
    ------
    InputError, WorkspaceReadOnly, TrainingError
    """
    from axiarch.export.figures import CHARTS, ladder_figure, save_figure

    check_place(path, CHARTS, force)
    if not snapshot.ranking.rows:
        raise unranked(snapshot)
    leader = snapshot.recipes[snapshot.ranking.rows[0].recipe].recipe
    rows = [(r, f"recipe {r.recipe}: " + (snapshot.recipes[r.recipe].apart(leader) or "leader"))
            for r in snapshot.ranking.rows]
    title = (f"{snapshot.search.name} on {snapshot.dataset.name}: {snapshot.ended_runs} "
             f"runs{_opened(snapshot)}")
    return save_figure(
        ladder_figure(rows, baselines_of(snapshot.dataset), title,
                      snapshot.dataset.target.loss_name), path)


def export_curves(snapshot: Snapshot,
                  path: Path,
                  recipe: int = 0,
                  force: bool = False) -> tuple[Path, Path]:
    """Write loss curves as ``.svg`` or ``.pdf`` with the same data as ``NAME-data.csv`` beside it;
    return both paths.

    Parameters
    ----------
    recipe : int, optional
        Training and validation curves of all repeats of one recipe; 0 for the first runs of the
        leading recipes.

    Raises
    ------
    InputError, WorkspaceReadOnly, WorkspaceMissing, TrainingError
    """
    from axiarch.export.figures import BLUE, CHARTS, GREEN, ORANGE, Line, curves_figure, save_figure

    lines: list[Line] = []
    if recipe:
        if recipe not in snapshot.recipes:
            raise unknown_recipe(snapshot, recipe)
        for run in snapshot.runs_of(recipe):
            curve = snapshot.curves.get(run.id)
            if curve:
                lines.append(Line(f"validation, {snapshot.run_name(run)}", curve.validation,
                                  ORANGE))
                lines.append(
                    Line(f"training, {snapshot.run_name(run)}", curve.train_loss_eval, BLUE, True))
        title = f"recipe {recipe}: {snapshot.recipes[recipe].apart(snapshot.file.space.base)}"
    else:
        for row in snapshot.ranking.rows[:_LINES]:
            run = snapshot.runs_of(row.recipe)[0]
            colour = ORANGE if row.standing in ("leader", "tied") else GREEN
            if run.id in snapshot.curves:
                lines.append(Line(f"{row.place}. recipe {row.recipe}, {loss(row.loss)}",
                                  snapshot.curves[run.id].validation, colour))
        title = f"{snapshot.search.name}: validation loss of the leading recipes"
    if not lines:
        raise WorkspaceMissing("no epoch has been trained yet", f"search {snapshot.search.number}",
                               "wait a moment")
    title += _opened(snapshot)
    name = snapshot.dataset.target.loss_name
    rows: list[list[Cell]] = [[line.label, epoch, value] for line in lines
                              for epoch, value in enumerate(line.values, 1)]
    text = csv_text(("curve", "epoch", name), rows)
    check_place(path, CHARTS, force)
    beside = path.with_name(f"{path.stem}-data.csv")
    # The same data beside a chart of another kind may stay.
    same = regular_file(beside) and beside.read_text(encoding="utf-8", errors="replace") == text
    check_place(beside, (".csv",), force or same)
    chart = save_figure(curves_figure(lines, baselines_of(snapshot.dataset), title, name), path)
    return chart, write_export(beside, lambda draft: write_text(draft, text))
