"""Write the journal: one process, short transactions, every number before it is acted upon."""

from __future__ import annotations

import contextlib
import itertools
import json
import math
import sqlite3
import time
from collections.abc import Iterable, Iterator
from pathlib import Path

from axiarch.errors import WorkspaceError
from axiarch.journal.migrations import migrate
from axiarch.journal.records import EpochRecord, RunState, SearchState
from axiarch.plain import shown
from axiarch.recipes.recipe import Recipe


class JournalWriter:
    """The only writer of a workspace's journal; the caller holds the workspace's lock.

    What a ``with writer.transaction()`` block wrote is on disk when the block ends, or not at all.
    """

    def __init__(self, path: Path) -> None:
        try:
            self._db = sqlite3.connect(path, isolation_level=None, timeout=10)
            self._db.execute("PRAGMA journal_mode = WAL")
            self._db.execute("PRAGMA synchronous = NORMAL")
            migrate(self._db, shown(path))
            row = self._db.execute("SELECT max(coalesce((SELECT max(changed) FROM search), 0), "
                                   "coalesce((SELECT max(changed) FROM run), 0), "
                                   "coalesce((SELECT max(changed) FROM recipe), 0))").fetchone()
            self._changes = int(row[0])
        except sqlite3.Error as error:
            raise WorkspaceError(f"the journal cannot be opened: {error}", shown(path),
                                 "restore the file from a copy; nothing was changed") from None

    def close(self) -> None:
        """Close the journal."""
        self._db.close()

    @contextlib.contextmanager
    def transaction(self) -> Iterator[None]:
        """Write several things, all or none."""
        self._db.execute("BEGIN IMMEDIATE")
        try:
            yield
        except BaseException:
            self._db.execute("ROLLBACK")
            raise
        self._db.execute("COMMIT")

    def _change(self) -> int:
        """Return a number above all that were given to a change before."""
        self._changes += 1
        return self._changes

    # -- searches and recipes --------------------------------------------------------------------

    def add_search(self, number: int, name: str, file: str, data: str, fingerprint: str) -> None:
        """Enter a new search."""
        self._db.execute("INSERT INTO search (number, name, file, data, data_fingerprint, state, started, changed) "
                         "VALUES (?, ?, ?, ?, ?, 'preparing', ?, ?)",
                         (number, name, file, data, fingerprint, time.time(), self._change()))

    def set_search(self, number: int, state: SearchState, why: str = "", busy: float | None = None) -> None:
        """Enter the state of a search; `busy` are the seconds it ran in all."""
        ended = time.time() if state in ("done", "stopped", "failed") else None
        since = time.time() if state == "running" else None
        self._db.execute("UPDATE search SET state = ?, why = ?, ended = ?, busy = coalesce(?, busy), "
                         "running_since = ?, changed = ? WHERE number = ?",
                         (state, why, ended, busy, since, self._change(), number))

    def add_recipe(self, search: int, number: int, recipe: Recipe, parameters: int, repeats: int,
                   folds: int = 1) -> list[tuple[int, int, int]]:
        """Enter a recipe and its runs, all waiting; return id, repeat and fold of each run."""
        change = self._change()
        self._db.execute("INSERT INTO recipe VALUES (?, ?, ?, ?, ?, ?)",
                         (search, number, recipe.fingerprint, json.dumps(dict(recipe)), parameters, change))
        runs = []
        for repeat, fold in itertools.product(range(repeats), range(folds)):
            cursor = self._db.execute(
                "INSERT INTO run (search, recipe, repeat, fold, state, changed) VALUES (?, ?, ?, ?, 'waiting', ?)",
                (search, number, repeat, fold, change))
            assert cursor.lastrowid is not None
            runs.append((cursor.lastrowid, repeat, fold))
        return runs

    # -- runs ------------------------------------------------------------------------------------

    def set_runs(self, ids: Iterable[int], state: RunState, lane: int | None = None) -> None:
        """Enter that runs wait or train."""
        change = self._change()
        self._db.executemany("UPDATE run SET state = ?, lane = ?, changed = ? WHERE id = ?",
                             [(state, lane, change, run) for run in ids])

    def blame(self, ids: Iterable[int]) -> None:
        """Count one more attempt of runs whose worker died."""
        self._db.executemany("UPDATE run SET attempts = attempts + 1 WHERE id = ?", [(run,) for run in ids])

    def end_run(self, run: int, state: RunState, reason: str, text: str, best_epoch: int = 0) -> None:
        """Enter that a run has ended or failed, and why."""
        self._db.execute("UPDATE run SET state = ?, reason = ?, text = ?, best_epoch = ?, lane = NULL, changed = ? "
                         "WHERE id = ?", (state, reason, text, best_epoch, self._change(), run))

    def add_epochs(self, epochs: Iterable[EpochRecord]) -> None:
        """Enter epochs; one that is there already (a run trained again from a checkpoint) is left as it is."""
        self._db.executemany(
            "INSERT OR IGNORE INTO epoch (run, epoch, train_loss, train_loss_still, validation_loss, learning_rate, "
            "gradient_norm, seconds, metrics, layers) VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?)",
            [(e.run, e.epoch, *map(_finite, (e.train_loss, e.train_loss_still, e.validation_loss, e.learning_rate,
                                             e.gradient_norm, e.seconds)), json.dumps([*map(_finite, e.metrics)]),
              json.dumps([[*map(_finite, layer)] for layer in e.layers]))
             for e in epochs])

    # -- around it -------------------------------------------------------------------------------

    def add_event(self, search: int, kind: str, text: str) -> None:
        """Enter something that happened, in words."""
        self._db.execute("INSERT INTO event (search, at, kind, text) VALUES (?, ?, ?, ?)",
                         (search, time.time(), kind, text))

    def set_lane(self, search: int, number: int, pid: int, state: str) -> None:
        """Enter what a worker does."""
        self._db.execute("INSERT OR REPLACE INTO lane VALUES (?, ?, ?, ?)", (search, number, pid, state))

    def clear_lanes(self, search: int) -> None:
        """Enter that no worker runs."""
        self._db.execute("DELETE FROM lane WHERE search = ?", (search,))

    def add_opening(self, data: str, fingerprint: str, rows: int, reason: str) -> None:
        """Enter that the sealed rows of a data set are opened, and why."""
        self._db.execute("INSERT INTO opening (at, data, data_fingerprint, rows, reason) VALUES (?, ?, ?, ?, ?)",
                         (time.time(), data, fingerprint, rows, reason))


def _finite(value: float) -> float | None:
    return value if math.isfinite(value) else None
