"""Watch a search: a snapshot of what is known of it, made from the journal alone."""

from __future__ import annotations

import time
from collections.abc import Mapping
from contextlib import closing
from dataclasses import dataclass, field, replace
from types import MappingProxyType

import numpy as np
from numpy.typing import NDArray

from axiarch.data.dataset import Dataset
from axiarch.errors import WorkspaceMissing
from axiarch.files import decode
from axiarch.insight.forecast import Forecast, Pending, seconds_left
from axiarch.journal.read import JournalReader, guarded
from axiarch.journal.records import (
    RecipeRecord,
    RunRecord,
    SearchRecord,
)
from axiarch.journal.workspace import Workspace
from axiarch.ranking.claims import Claim
from axiarch.ranking.rank import Ranking
from axiarch.recipes.searchfile import SearchFile, read_search
from axiarch.runner.material import shape_of
from axiarch.runs.curve import Curve
from axiarch.runs.epoch import Epoch
from axiarch.runs.rows import RowLosses
from axiarch.runs.states import OVER, SearchState
from axiarch.search.methods import make_method
from axiarch.text import shown
from axiarch.workflows.opening import data_set
from axiarch.workflows.ranked import ranking_of, results_of, skill
from axiarch.workflows.snapshot import Snapshot

Floats = NDArray[np.float64]

#: Seconds in which a worker loads what it needs, at its start.
_LOADING = 1.0
#: Share of a race's epochs to be seen before it is said how long it takes: the first ones are dear.
_SEEN = 0.02
#: Ranking thousands of recipes takes a while: that many times as long passes before it is done
#: again.
_RANKING_SHARE = 10.0
#: States of a search that is over.
_ENDED = ("done", "stopped", "failed")
#: Workers that wait longer than they train, if it is told by numbers, were fewer before.
_MOST_WAITING = 2.0


@dataclass
class Watcher:
    """Reads one search's journal again and again, each time only what is new."""

    workspace: Workspace
    number: int
    _mark: tuple[int, int] = (0, 0)
    _recipes: dict[int, RecipeRecord] = field(default_factory=dict)
    _runs: dict[int, RunRecord] = field(default_factory=dict)
    _curves: dict[int, Curve] = field(default_factory=dict)
    _ranking: Ranking = field(default_factory=lambda: Ranking((), ()))
    _last: Snapshot | None = None
    _spent: int = 0
    _rows: dict[int, RowLosses] = field(default_factory=dict)
    _skill: Mapping[str, Claim] = field(default_factory=dict)
    _works: dict[int, float] = field(default_factory=dict)
    _expected: tuple[int, float] = (0, 0.0)

    def __post_init__(self) -> None:
        self._reader = JournalReader(self.workspace.journal)
        self._version = -2
        self._stale = False
        self._ranked_at = self._rank_cost = 0.0
        self._alive_checked = 0.0
        self._alive = True

    def close(self) -> None:
        """Close the journal."""
        self._reader.close()

    def poll(self) -> Snapshot | None:
        """Return a new snapshot if anything has changed since the last call, else None.

        Raises
        ------
        WorkspaceMissing
            If there is no such search.
        """
        version = self._reader.version()
        alive = self._is_alive()
        unchanged = version == self._version and alive == self._alive and self._last is not None
        if unchanged and not (self._stale and self._rank_is_due()):
            return None
        self._version, self._alive = version, alive
        record = self._reader.search(self.number)
        if record is None:
            raise WorkspaceMissing(f"there is no search {self.number}",
                                   shown(self.workspace.folder), "see axiarch status")
        with guarded(self.workspace.journal):
            self._take_changes()
            file, dataset = self._opened(record)
            if self._stale and (self._rank_is_due() or record.state in _ENDED or not alive):
                self._rank_again(file, dataset)
            self._last = self._snapshot(record, alive)
            _check_sense(self._last)
        return self._last

    def _is_alive(self) -> bool:
        """Say whether a process runs this search (asked at most once a second)."""
        now = time.monotonic()
        if now - self._alive_checked < 1:
            return self._alive
        self._alive_checked = now
        owner = self.workspace.owner()
        return owner is not None and owner.what == f"search {self.number}"

    def _take_changes(self) -> None:
        changes = self._reader.changes(self.number, self._mark)
        self._mark = changes.mark
        self._recipes.update((r.number, r) for r in changes.recipes)
        self._runs.update((r.id, r) for r in changes.runs)
        more: dict[int, list[tuple[Epoch, int]]] = {}
        for epoch in changes.epochs:
            self._spent += epoch.epoch > self._runs[epoch.run].start
            more.setdefault(epoch.run, []).append((epoch, self._spent))
        for run, epochs in more.items():
            self._curves[run] = self._curves.get(run, Curve()).extended(epochs)
        if any(r.state in OVER or r.state == "resting" for r in changes.runs):
            self._stale = True

    def _rank_is_due(self) -> bool:
        """Whether ranking again now takes at most a tenth of the time."""
        return time.monotonic() - self._ranked_at >= _RANKING_SHARE * self._rank_cost

    def _opened(self, record: SearchRecord) -> tuple[SearchFile, Dataset]:
        """Return what is searched, and the data; read once."""
        if self._last is not None:
            return self._last.file, self._last.dataset
        return read_search(record.file, "search.toml"), data_set(self.workspace, record.data)

    def _rank_again(self, file: SearchFile, dataset: Dataset) -> None:
        started = time.monotonic()
        rows = self._reader.row_losses(self.number, self._rows)
        self._rows |= {run: each for run, each in rows.items() if self._fits(run, each, dataset)}
        runs = tuple(self._runs.values())
        results = results_of(runs, self._curves, self._recipes, self._rows, dataset)
        with guarded(self.workspace.journal, "ranked"):
            self._ranking = ranking_of(results, runs, self._curves, self._recipes, file, dataset)
            self._skill = skill(self._ranking, results, dataset)
            _ = self._ranking.advice  # worked out here, not where the interface first asks
        self._stale = False
        self._ranked_at = time.monotonic()
        self._rank_cost = self._ranked_at - started

    def _fits(self, run: int, rows: RowLosses, dataset: Dataset) -> bool:
        """Whether losses of rows are of the validation rows that a run was measured on."""
        known = self._runs.get(run)
        if known is None or not 0 <= known.fold < len(dataset.folds):
            return False
        total = dataset.folds[known.fold].rows["validation"]
        return rows.total == total and bool(np.isfinite(rows.values).all())

    def _snapshot(self, record: SearchRecord, alive: bool) -> Snapshot:
        if record.state in ("preparing", "running", "paused") and not alive:
            record = replace(record,
                             state=SearchState.INTERRUPTED,
                             why="the process that ran it is gone; you can resume it")
        file, dataset = self._opened(record)
        if self._last is None:
            replicates = 1 if file.start else file.repeats * len(dataset.folds)
            method = make_method(file.method, file.space, file.seed, replicates)
            self._expected = method.expected_runs, method.expected_epochs if method.learns else 0.0
        overrides = [r.value for r in self._reader.overrides(self.number) if r.what == "recipes"]
        if overrides:
            options = {**file.method.options, "recipes": overrides[-1]}
            method = make_method(replace(file.method, options=options), file.space, file.seed,
                                 file.repeats * len(dataset.folds))
            self._expected = method.expected_runs, method.expected_epochs if method.learns else 0.0
        expected_runs = max(self._expected[0], len(self._runs))
        if record.state == "done":
            expected_runs = len(self._runs)
        workers = self._reader.workers(self.number)
        return Snapshot(
            record,
            file,
            dataset,
            MappingProxyType(dict(self._recipes)),
            MappingProxyType(dict(self._runs)),
            MappingProxyType(dict(self._curves)),
            self._ranking,
            workers,
            tuple(e for e in self._reader.events(self.number) if e.kind != "memory"),
            expected_runs,
            self._seconds_left(dataset, expected_runs, len(workers), record.taken(time.time())),
            record.taken(time.time()),
            self._expected[1],
            {e.run: e for e in self._reader.examples(self.number)},
            self._last.forecast if self._last else self._forecast(),
            self._memory(record),
            self._reader.openings(dataset.table),
            self._skill,
            MappingProxyType(self._rows),
        )

    def _forecast(self) -> Forecast | None:
        """Return what the search was expected to take, if that was worked out before it started."""
        try:
            return decode((self.workspace.search(self.number) / "forecast.json").read_bytes(),
                          Forecast)
        except (OSError, ValueError):
            return None

    def _memory(self, record: SearchRecord) -> int:
        """Return the bytes that all workers together took at the most; 0 while that is not
        known.
        """
        if record.state not in ("done", "stopped", "failed"):
            return 0
        return max((int(e.text) for e in self._reader.events(self.number) if e.kind == "memory"),
                   default=0)

    def _seconds_left(self, dataset: Dataset, expected: int, workers: int,
                      taken: float) -> float | None:
        """Return the seconds still needed: by what training has cost so far, and the share of
        the time it was done.
        """
        spent, seconds = self._spent, sum(curve.total_seconds for curve in self._curves.values())
        if not (spent and workers and seconds):
            return None
        waits = min(max((taken - _LOADING) * workers / seconds, 1.0), _MOST_WAITING)
        if self._expected[1]:
            seen = spent >= _SEEN * self._expected[1]
            return max(self._expected[1] -
                       spent, 1) * seconds / spent / workers * waits if seen else None
        pending = []
        for run in self._runs.values():
            recipe = self._recipes[run.recipe].recipe
            curve = self._curves.get(run.id, Curve())
            pending.append(
                Pending(self._work(run.recipe, dataset), len(curve), recipe.whole("epochs"),
                        run.state in OVER, curve.total_seconds))
        left = seconds_left(pending, expected, workers)
        return None if left is None else left * waits

    def _work(self, number: int, dataset: Dataset) -> float:
        """Return the arithmetic of one epoch of a recipe."""
        if number not in self._works:
            shape = shape_of(self._recipes[number].recipe, dataset)
            # A step costs its arithmetic and a fixed toll, about that of a network of thirty units.
            self._works[number] = (shape.work + 2e5) * dataset.rows["train"] / shape.batch_size
        return self._works[number]


def _check_sense(s: Snapshot) -> None:
    """Raise ValueError where what a journal holds of a search does not fit its data set."""
    folds, metrics = len(s.dataset.folds), len(s.dataset.target.metrics)
    for run in s.runs.values():
        if run.recipe not in s.recipes or not (0 <= run.fold < folds and run.repeat >= 0):
            raise ValueError(f"run {run.id} belongs to no recipe, seed or fold of the search")
    for run_id, curve in s.curves.items():
        if len(curve) and len(curve.metrics[-1]) != metrics:
            raise ValueError(f"run {run_id} has other metrics than its data set")


def newest(reader: JournalReader, workspace: Workspace) -> int:
    """Return the number of the search started last, those that only answer a question about
    another left out.

    Raises
    ------
    WorkspaceMissing
        If there is none.
    """
    searches = reader.searches()
    if not searches:
        raise WorkspaceMissing("no search has been started here", shown(workspace.folder),
                               "start one: axiarch search FILE")
    return next((search.number for search in reversed(searches) if not _aside(search)),
                searches[-1].number)


def _aside(search: SearchRecord) -> bool:
    if "[branch]" not in search.file:  # most have none, and reading them takes time
        return False
    branch = read_search(search.file, "search.toml").branch
    return branch is not None and branch.aside


def snapshot_of(workspace: Workspace, number: int = 0) -> Snapshot:
    """Return a search as it stands now; 0 is the newest one.

    Raises
    ------
    WorkspaceMissing
        If there is no such search.
    """
    with closing(JournalReader(workspace.journal)) as reader:
        number = number or newest(reader, workspace)
    watcher = Watcher(workspace, number)
    try:
        snapshot = watcher.poll()
    finally:
        watcher.close()
    assert snapshot is not None
    return snapshot
