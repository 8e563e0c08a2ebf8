"""Say what is wrong with a recipe of a search, and what to change."""

from __future__ import annotations

import itertools
import math
from dataclasses import asdict, replace
from functools import lru_cache
from pathlib import Path

import numpy as np

from axiarch.data.baseline import rescored
from axiarch.data.dataset import Dataset
from axiarch.data.describing import read_dataset
from axiarch.data.kept import labels_of
from axiarch.insight.diagnosis import diagnose_runs
from axiarch.insight.evidence import Evidence, target_share
from axiarch.insight.proposal import HARMLESS, Change, Proposal, Sure
from axiarch.journal.records import RunRecord
from axiarch.ranking.capacity import knee
from axiarch.runs.lowered import Lowered
from axiarch.text import count, number
from axiarch.workflows.snapshot import Snapshot
from axiarch.workflows.verdicts import unknown_recipe

#: A network is larger than it need be where one of this share of its size is tied with it.
_LARGER = 1 / 3
#: Values that make up the size of a network.
_SIZE = ("network", "width", "depth", "shape")


def diagnosis(s: Snapshot, recipe: int) -> tuple[Proposal, ...]:
    """Return what is found in the runs of a recipe, those in training included; causes first.

    Raises
    ------
    TrainingError
        If there is no such recipe.
    """
    if recipe not in s.recipes:
        raise unknown_recipe(s, recipe)
    if s.recipes[recipe].origin:
        return ()
    runs = [run for run in s.runs_of(recipe) if s.curves.get(run.id)]
    ended = [run for run in runs if run.state == "ended"]
    found = diagnose_runs([_evidence(s, run) for run in ended or runs])
    larger = beyond_the_knee(s, recipe)
    return (*found, *([larger] if larger else []))


def faults(found: tuple[Proposal, ...]) -> tuple[Proposal, ...]:
    """Return what is found without what is harmless."""
    return tuple(p for p in found if p.name not in HARMLESS)


def findings_by(dataset: Dataset) -> Lowered:
    """Return the measure that findings are by: of classes the loss, which their thresholds are for;
    of amounts what is lowered, as errors of amounts behave alike, and a few rows may rule the loss.
    """
    return "loss" if dataset.classes else dataset.target.measure


def _evidence(s: Snapshot, run: RunRecord) -> Evidence:
    """Return what is known of a run, by what findings are by."""
    dataset, fold = s.dataset, s.dataset.folds[run.fold]
    measure, curve = dataset.target.measure, s.curves[run.id]
    by_loss = measure != "loss" and findings_by(dataset) == "loss"
    if by_loss:
        curve = replace(curve, epochs=tuple(epoch.by_loss for epoch in curve.epochs))
    baseline = rescored(fold.baseline, measure, "loss").loss if by_loss else fold.baseline.loss
    linear = dataset.linear.loss if dataset.linear else None
    if dataset.linear and by_loss:  # beaten by neither of them
        beaten = s.curves[run.id].steady < dataset.linear.loss
        linear = None if beaten else rescored(dataset.linear, measure, "loss").loss
    levels = [row.metrics[0] if by_loss else row.loss for row in s.ranking.rows
              if row.recipe != run.recipe]
    others = [level for level in levels if math.isfinite(level)]  # brought in without a loss
    rows = s.rows.get(run.id)
    labels = None
    if rows is not None and dataset.classes:
        labels = labels_of(dataset, run.fold)
    return Evidence(
        s.recipes[run.recipe].recipe, curve,
        run.reason if run.state == "ended" else "", run.text, fold.rows["train"],
        baseline, linear,
        min(others, default=None), not dataset.classes, tuple(dataset.classes),
        fold.rows["validation"], None if rows is None else rows.values.astype(np.float64), labels,
        _target_share(dataset.folder, dataset.fingerprint, run.fold),
        None if rows is None or rows.classes is None else rows.classes.astype(np.int64),
        run.fold, s.run_name(run), dataset.target.root)


@lru_cache(maxsize=64)
def _target_share(folder: Path, fingerprint: str, fold: int) -> float:
    """Return the share of the target's variance that its farthest values have in the training rows
    of a fold; 0 where classes are predicted, or the logarithm is.
    """
    dataset = read_dataset(folder)
    if dataset.classes or dataset.target.spread:
        return 0.0
    return target_share(dataset.part("train", fold).targets)


def beyond_the_knee(s: Snapshot, recipe: int) -> Proposal | None:
    """Return that a much smaller network is tied with the best, if this recipe is tied too."""
    found = knee(s.ranking)
    row = next((r for r in s.ranking.tied if r.recipe == recipe), None)
    if found is None or row is None or found[0].parameters > _LARGER * row.parameters:
        return None
    small = s.recipes[found[0].recipe].recipe
    own = s.recipes[recipe].recipe
    values = {name: small[name] for name in _SIZE if small[name] != own[name]}
    apart = found[1]
    worse = (f", and at most {number(apart.most, 2)} worse (95 %)"
             if apart is not None else "")
    return Proposal(
        "beyond_knee", "a much smaller network is tied with it",
        f"It has {count(row.parameters, 'parameter')}; recipe {found[0].recipe} with "
        f"{number(found[0].parameters)} is tied with the best{worse}.", Sure.POSSIBLE,
        (Change(f"Use the network of recipe {found[0].recipe}", values),))


def diagnosis_json(found: tuple[Proposal, ...]) -> list[dict[str, object]]:
    """Return findings, for JSON; changes by the number that branching takes."""
    numbers = itertools.count(1)
    return [{
        "name": p.name, "title": p.title, "evidence": p.evidence, "sure": str(p.sure),
        "harmless": p.name in HARMLESS, "epoch": p.epoch or None, "layer": p.layer or None,
        "changes": [{"number": next(numbers), **asdict(change)} for change in p.changes],
    } for p in found]


def finding_lines(found: tuple[Proposal, ...]) -> list[str]:
    """Return findings as lines of text, their changes numbered throughout."""
    lines, number_ = [], 0
    for p in found:
        mark = "·" if p.name in HARMLESS else "!"
        lines.append(f"{mark} {p.title[0].upper()}{p.title[1:]} ({p.sure}). {p.evidence}")
        for change in p.changes:
            number_ += 1
            lines.append(f"    {number_}  {change.words}: {change_words(change)}")
    return lines or ["Nothing is wrong with it that shows in its numbers."]


def change_words(change: Change) -> str:
    """Return the values and ranges of a change in one line."""
    from axiarch.recipes.fields import FIELDS
    from axiarch.recipes.recipe import short

    values = [f"{FIELDS[n].label} {short(v)}" for n, v in change.values.items()]
    return ", ".join([*values, *(f"{FIELDS[n].label} {t}" for n, t in change.ranges.items())])


def changes_of(found: tuple[Proposal, ...]) -> list[tuple[Proposal, Change]]:
    """Return all changes in the order in which they are numbered."""
    return [(p, change) for p in found for change in p.changes]
