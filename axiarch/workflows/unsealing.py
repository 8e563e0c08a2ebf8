"""Open the seal on the test rows: deliberately, with a reason, recorded before anything is read."""

from __future__ import annotations

import json
import math
from collections.abc import Sequence
from dataclasses import dataclass, field
from typing import Any

from axiarch.data.baseline import Baseline
from axiarch.data.dataset import Dataset
from axiarch.errors import InputError
from axiarch.files import load_json
from axiarch.journal.read import JournalReader
from axiarch.journal.records import OpeningRecord
from axiarch.journal.workspace import Workspace
from axiarch.journal.write import JournalWriter
from axiarch.text import count, loss, moment, shown
from axiarch.workflows.asking import TRAINED, ask
from axiarch.workflows.judging import runs_request
from axiarch.workflows.snapshot import Snapshot


@dataclass(frozen=True)
class TestScore:
    """What is found on the test rows.

    Attributes
    ----------
    baseline : Baseline
        A predictor that knows only the training targets.
    linear : Baseline or None
        A linear model fitted on the training rows.
    loss : float or None
        Of the recipe, the mean over its runs; None where no recipe is scored.
    runs : tuple of float
        The loss of each run.
    summary : dict
        Metrics with intervals, see :func:`axiarch.insight.predicted.summary`.
    """

    __test__ = False

    baseline: Baseline
    linear: Baseline | None = None
    loss: float | None = None
    runs: tuple[float, ...] = ()
    summary: dict[str, Any] = field(default_factory=dict)


@dataclass(frozen=True)
class Opened:
    """The seal, opened.

    Attributes
    ----------
    score : TestScore
    rows : int
        Test rows.
    times : int
        How often the seal of these data has been opened by now.
    """

    score: TestScore
    rows: int
    times: int


def open_seal(workspace: Workspace, data: Dataset, reason: str, snapshot: Snapshot | None = None,
              recipe: int = 0) -> Opened:
    """Record that the test rows are opened, then score the baselines and a recipe on them.

    Parameters
    ----------
    snapshot, recipe : optional
        The search and the recipe in it that is scored: all its runs, each by the weights of its
        best epoch.

    Raises
    ------
    InputError
        If no reason is given, or the search is on other data.
    WorkspaceLocked
        If a search runs: only one process writes the record at a time. Nothing is opened then.
    TrainingError
        If the recipe has left no checkpoint; the seal stays closed.
    """
    reason = " ".join(reason.split())
    if not reason:
        raise InputError("a reason is required to open the seal", "reason",
                         "say in a few words what the test score will decide")
    request: dict[str, Any] = {"data": str(data.folder.absolute()), "runs": []}
    if snapshot is not None and recipe:
        if snapshot.dataset.fingerprint != data.fingerprint:
            raise InputError(
                f"search {snapshot.search.number} was run on other data", shown(data.name),
                f"open the seal of {shown(snapshot.dataset.name)!r}, or name another search")
        request, _ = runs_request(workspace, snapshot, recipe)
        ask("ready", module=TRAINED, request=request)
    number = snapshot.search.number if snapshot is not None and recipe else 0
    with workspace.locked("opening a seal"):
        journal = JournalWriter(workspace.journal)
        try:
            with journal.transaction():
                opening = journal.add_opening(data.folder.name, data.table, data.rows["test"],
                                              reason[:500], number, recipe if number else 0)
            answer = ask("test", module=TRAINED, request=request)
            with journal.transaction():
                journal.set_scores(opening, json.dumps(answer))
        finally:
            journal.close()
    return Opened(_score(answer), data.rows["test"], len(openings(workspace, data)))


def score_of(opening: OpeningRecord) -> TestScore | None:
    """Return what an opening found; None where that is not known."""
    try:
        return _score(load_json(opening.scores, finite=False))
    except (ValueError, KeyError, TypeError):
        return None


def _score(found: dict[str, Any]) -> TestScore:
    def baseline(known: dict[str, Any]) -> Baseline:
        return Baseline(float(known["loss"]), tuple(map(float, known["metrics"])))

    runs = tuple(float(each["loss"]) for each in found["judged"])
    return TestScore(baseline(found["baseline"]),
                     baseline(found["linear"]) if found["linear"] else None,
                     math.fsum(runs) / len(runs) if runs else None, runs, dict(found["summary"]))


def openings(workspace: Workspace, data: Dataset | None = None) -> tuple[OpeningRecord, ...]:
    """Return when seals were opened and why, oldest first: of one data set, or of all."""
    reader = JournalReader(workspace.journal)
    try:
        return reader.openings(data.table if data else "")
    finally:
        reader.close()


def trust(known: Sequence[OpeningRecord]) -> str:
    """Return what openings of a data set's seal mean for its test score; empty where there are
    none.
    """
    if not known:
        return ""
    first = known[0]
    recipe = f", for recipe {first.recipe} of search {first.search}" if first.recipe else ""
    if len(known) == 1:
        return (
            f"The test rows were opened once, on {moment(first.at)[:10]}{recipe}. A choice made "
            "after that has no untouched rows left to check it.")
    return (
        f"The test rows have been opened {count(len(known), 'time')}, first on "
        f"{moment(first.at)[:10]}{recipe}. Each further look lets them guide a choice, so later "
        "test scores are too good by an unknown amount.")


def score_words(score: TestScore) -> str:
    """Return a test score in a sentence, the baselines beside it."""
    linear = f", a linear model {loss(score.linear.loss)}" if score.linear else ""
    beside = f"the baseline {loss(score.baseline.loss)}{linear}"
    if score.loss is None:
        return f"Loss on the test rows: {beside}."
    many = len(score.runs)
    spread = (f", mean of {count(many, 'run')} from {loss(min(score.runs))} to "
              f"{loss(max(score.runs))}") if (
        many > 1) else ""
    return f"Loss on the test rows: the recipe {loss(score.loss)}{spread}; {beside}."
