"""Write the journal: one process, short transactions, every number before it is acted upon."""

from __future__ import annotations

import contextlib
import json
import math
import sqlite3
import time
from collections.abc import Iterable, Iterator
from pathlib import Path

from axiarch.errors import NoSpace
from axiarch.journal.epochs import LISTED, MARKS, values
from axiarch.journal.migrations import migrate
from axiarch.journal.read import damaged
from axiarch.journal.records import (
    ExampleRecord,
    KnownRecipe,
    OverrideRecord,
    StepRecord,
    WorkerRecord,
)
from axiarch.recipes.recipe import Recipe
from axiarch.runs.epoch import COLUMNS, Epoch
from axiarch.runs.rows import RowLosses
from axiarch.runs.states import RunState, SearchState
from axiarch.text import shown


class JournalWriter:
    """The only writer of a workspace's journal; the caller holds the workspace's lock.

    What a ``with writer.transaction()`` block wrote is on disk when the block ends, or not at all.
    """

    def __init__(self, path: Path) -> None:
        self._path = path
        try:
            self._db = sqlite3.connect(path, isolation_level=None, timeout=10)
            self._db.execute("PRAGMA journal_mode = WAL")
            self._db.execute("PRAGMA synchronous = NORMAL")
            migrate(self._db, shown(path))
            row = self._db.execute("SELECT max(coalesce((SELECT max(changed) FROM search), 0), "
                                   "coalesce((SELECT max(changed) FROM run), 0), coalesce((SELECT "
                                   "max(changed) FROM recipe), 0))").fetchone()
            self._changes = int(row[0])
        except (sqlite3.Error, ValueError, TypeError) as error:
            if getattr(error, "sqlite_errorcode", 0) & 0xFF in (sqlite3.SQLITE_FULL,
                                                                sqlite3.SQLITE_IOERR):
                raise NoSpace("the journal cannot be opened for writing: the disk is full",
                              shown(path),
                              "free some space, then try again; nothing was changed") from None
            raise damaged(path, error) from None

    def close(self) -> None:
        """Close the journal."""
        self._db.close()

    @contextlib.contextmanager
    def transaction(self) -> Iterator[None]:
        """Write several things, all or none.

        Raises
        ------
        NoSpace
            If the disk is full; nothing of it was written then.
        """
        try:
            self._db.execute("BEGIN IMMEDIATE")
            yield
            self._db.execute("COMMIT")
        except BaseException as error:
            with contextlib.suppress(sqlite3.Error):  # a full disk has taken it back already
                self._db.execute("ROLLBACK")
            if getattr(error, "sqlite_errorcode", 0) & 0xFF in (sqlite3.SQLITE_FULL,
                                                                sqlite3.SQLITE_IOERR):
                raise NoSpace("the journal could not be written: the disk is full", "",
                              "free some space, then resume; nothing is lost") from None
            if isinstance(error, sqlite3.DatabaseError):
                raise damaged(self._path, error) from None
            raise

    def _change(self) -> int:
        """Return a number above all that were given to a change before."""
        self._changes += 1
        return self._changes

    # -- searches and recipes --------------------------------------------------------------------

    def add_search(self, number: int, name: str, file: str, data: str, fingerprint: str,
                   engine: str = "") -> None:
        """Enter a new search, and a digest of what its bits depend on."""
        self._db.execute(
            "INSERT INTO search (number, name, file, data, data_fingerprint, state, started, "
            "changed, engine) VALUES (?, ?, ?, ?, ?, 'preparing', ?, ?, ?)",
            (number, name, file, data, fingerprint, time.time(), self._change(), engine))

    def mix_engines(self, number: int, engine: str) -> None:
        """Enter that a search is trained further by an engine, which may be another than before."""
        self._db.execute("UPDATE search SET engine = '' WHERE number = ? AND engine != ?",
                         (number, engine))

    def add_known(self, search: int, known: Iterable[KnownRecipe]) -> None:
        """Enter what a method is given of earlier searches."""
        self._db.executemany(
            "INSERT INTO known VALUES (?, ?, ?, ?, ?, ?)",
            [(search, number, each.source, json.dumps(dict(each.recipe)),
              json.dumps([*map(_finite, each.losses)]), each.ended)
             for number, each in enumerate(known, 1)])

    def set_search(self,
                   number: int,
                   state: SearchState,
                   why: str = "",
                   busy: float | None = None) -> None:
        """Enter the state of a search; `busy` are the seconds it ran in all."""
        ended = time.time() if state in ("done", "stopped", "failed") else None
        since = time.time() if state == "running" else None
        self._db.execute(
            "UPDATE search SET state = ?, why = ?, ended = ?, busy = coalesce(?, busy), "
            "running_since = ?, changed = ? WHERE number = ?",
            (state, why, ended, busy, since, self._change(), number))

    def add_recipe(self,
                   search: int,
                   number: int,
                   recipe: Recipe,
                   parameters: int,
                   origin: str = "") -> None:
        """Enter a recipe, and where it was trained if not here."""
        fingerprint = f"{recipe.fingerprint} {number} elsewhere" if origin else recipe.fingerprint
        self._db.execute(
            'INSERT INTO recipe (search, number, fingerprint, "values", parameters, changed, '
            'origin) '
            "VALUES (?, ?, ?, ?, ?, ?, ?)", (search, number, fingerprint, json.dumps(
                dict(recipe)), parameters, self._change(), origin))

    def add_run(self, search: int, recipe: int, repeat: int, fold: int, start: int = 0) -> int:
        """Enter a run that waits, with `start` epochs taken over from another one; return its
        id.
        """
        cursor = self._db.execute(
            "INSERT INTO run (search, recipe, repeat, fold, state, start, changed) VALUES (?, ?, "
            "?, ?, 'waiting', ?, ?)",
            (search, recipe, repeat, fold, start, self._change()))
        assert cursor.lastrowid is not None
        return cursor.lastrowid

    def add_step(self, search: int, step: StepRecord) -> None:
        """Enter a step that is taken."""
        self._db.execute("INSERT INTO step VALUES (?, ?, ?, ?, ?, ?, ?, ?)",
                         (search, step.number, step.recipe, step.until, step.replicates,
                          step.parent, step.observed, step.why))

    def add_override(self, search: int, override: OverrideRecord) -> None:
        """Enter what a user decided."""
        self._db.execute("INSERT INTO override (search, after, what, value) VALUES (?, ?, ?, ?)",
                         (search, override.after, override.what, override.value))

    # -- runs ------------------------------------------------------------------------------------

    def set_runs(self, ids: Iterable[int], state: RunState, worker: int | None = None) -> None:
        """Enter that runs wait or train."""
        change = self._change()
        self._db.executemany("UPDATE run SET state = ?, worker = ?, changed = ? WHERE id = ?",
                             [(state, worker, change, run) for run in ids])

    def set_until(self, ids: Iterable[int], until: int) -> None:
        """Enter up to which epoch runs may train; 0 is to their end."""
        change = self._change()
        self._db.executemany("UPDATE run SET until = ?, changed = ? WHERE id = ?",
                             [(until, change, run) for run in ids])

    def copy_epochs(self, run: int, to: int, last: int) -> None:
        """Copy the epochs of a run up to the `last` to another, which continues from there.
        """
        columns = ", ".join(COLUMNS[1:])
        self._db.execute(
            f"INSERT OR IGNORE INTO epoch (run, {columns}) SELECT ?, {columns} FROM epoch "
            "WHERE run = ? AND epoch <= ? ORDER BY epoch", (to, run, last))

    def set_taken(self, run: int, epochs: int, source: int) -> None:
        """Enter that the first epochs of a run are those of a run of an earlier search."""
        self._db.execute("UPDATE run SET taken = ?, source = ?, changed = ? WHERE id = ?",
                         (epochs, source, self._change(), run))

    def copy_findings(self, run: int, to: int) -> None:
        """Copy what was measured at the end of a run to another of the same bits."""
        for table, columns in (("row_loss", "total, losses, predicted"),
                               ("example", "epoch, outputs")):
            self._db.execute(f"INSERT OR IGNORE INTO {table} SELECT ?, {columns} FROM {table} "
                             "WHERE run = ?", (to, run))

    def set_example(self, example: ExampleRecord) -> None:
        """Enter what a watched run says of some validation rows, in place of what it said
        before.
        """
        self._db.execute("INSERT OR REPLACE INTO example VALUES (?, ?, ?)",
                         (example.run, example.epoch,
                          json.dumps([[*map(_finite, row)] for row in example.outputs])))

    def add_attempt(self, ids: Iterable[int]) -> None:
        """Count one more attempt of runs whose worker died."""
        self._db.executemany("UPDATE run SET attempts = attempts + 1 WHERE id = ?",
                             [(run, ) for run in ids])

    def reset_attempts(self, ids: Iterable[int]) -> None:
        """Forget the attempts of runs that have come further since."""
        self._db.executemany("UPDATE run SET attempts = 0 WHERE id = ?", [(run,) for run in ids])

    def end_run(self,
                run: int,
                state: RunState,
                reason: str,
                text: str,
                best_epoch: int = 0) -> None:
        """Enter that a run has ended or failed, and why."""
        self._db.execute(
            "UPDATE run SET state = ?, reason = ?, text = ?, best_epoch = ?, worker = NULL, "
            "changed "
            "= ? WHERE id = ?", (state, reason, text, best_epoch, self._change(), run))

    def set_rows(self, run: int, rows: RowLosses) -> None:
        """Enter the losses of validation rows by the weights that a run kept."""
        self._db.execute("INSERT OR REPLACE INTO row_loss VALUES (?, ?, ?, ?)",
                         (run, rows.total, rows.content, rows.predicted))

    def reopen_runs(self, ids: Iterable[int]) -> None:
        """Enter that runs which were cut at the end of their search rest again."""
        change = self._change()
        self._db.executemany(
            "UPDATE run SET state = 'resting', reason = '', text = '', changed = ? WHERE id = ?",
            [(change, run) for run in ids])

    def add_epochs(self, epochs: Iterable[Epoch]) -> None:
        """Enter epochs; one that is there already (a run trained again from a checkpoint) is
        left as it is.
        """
        self._db.executemany(f"INSERT OR IGNORE INTO epoch ({LISTED}) VALUES ({MARKS})",
                             map(values, epochs))

    # -- around it -------------------------------------------------------------------------------

    def add_event(self, search: int, kind: str, text: str) -> None:
        """Enter something that happened, in words."""
        self._db.execute("INSERT INTO event (search, at, kind, text) VALUES (?, ?, ?, ?)",
                         (search, time.time(), kind, text))

    def set_worker(self, search: int, worker: WorkerRecord) -> None:
        """Enter what a worker does."""
        self._db.execute("INSERT OR REPLACE INTO worker VALUES (?, ?, ?, ?, ?, ?)",
                         (search, worker.number, worker.machine, worker.state, worker.memory,
                          worker.busy))

    def drop_worker(self, search: int, number: int) -> None:
        """Enter that a worker has left."""
        self._db.execute("DELETE FROM worker WHERE search = ? AND number = ?", (search, number))

    def clear_workers(self, search: int) -> None:
        """Enter that no worker is left."""
        self._db.execute("DELETE FROM worker WHERE search = ?", (search,))

    def add_opening(self, data: str, fingerprint: str, rows: int, reason: str, search: int = 0,
                    recipe: int = 0) -> int:
        """Record that the sealed rows of a data set are opened, why, and for which recipe;
        return its number.
        """
        done = self._db.execute(
            "INSERT INTO opening (at, data, data_fingerprint, rows, reason, search, recipe) "
            "VALUES (?, ?, ?, ?, ?, ?, ?)",
            (time.time(), data, fingerprint, rows, reason, search, recipe))
        return int(done.lastrowid or 0)

    def add_note(self, search: int, recipe: int, run: int, text: str) -> int:
        """Keep words of a user; return the number of the note."""
        done = self._db.execute(
            "INSERT INTO note (at, search, recipe, run, text) VALUES (?, ?, ?, ?, ?)",
            (time.time(), search, recipe, run, text))
        return int(done.lastrowid or 0)

    def add_probe(self, data: str, fingerprint: str, kind: str, recipe: Recipe, found: str) -> int:
        """Enter what a probe measured, as JSON; return its number."""
        done = self._db.execute(
            'INSERT INTO probe (at, data, data_fingerprint, kind, "values", found) '
            "VALUES (?, ?, ?, ?, ?, ?)",
            (time.time(), data, fingerprint, kind, json.dumps(dict(recipe)), found))
        return int(done.lastrowid or 0)

    def set_scores(self, opening: int, scores: str) -> None:
        """Record what an opening found, as JSON."""
        self._db.execute("UPDATE opening SET scores = ? WHERE seq = ?", (scores, opening))


def _finite(value: float) -> float | None:
    return value if math.isfinite(value) else None
