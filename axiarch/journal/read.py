"""Read the journal, from any process, while another writes it."""

from __future__ import annotations

import json
import math
import sqlite3
from dataclasses import dataclass
from pathlib import Path
from typing import Any
from urllib.parse import quote

from axiarch.errors import WorkspaceError
from axiarch.journal.migrations import VERSION, check_version
from axiarch.journal.records import (
    EpochRecord,
    EventRecord,
    ExampleRecord,
    LaneRecord,
    OpeningRecord,
    RecipeRecord,
    RulingRecord,
    RunRecord,
    SearchRecord,
    StepRecord,
)
from axiarch.plain import shown
from axiarch.recipes.recipe import Recipe


@dataclass(frozen=True)
class Changes:
    """What was written to one search since an earlier reading; `mark` continues from here."""

    recipes: tuple[RecipeRecord, ...]
    runs: tuple[RunRecord, ...]
    epochs: tuple[EpochRecord, ...]
    mark: tuple[int, int]


class JournalReader:
    """A read-only view of a journal. A workspace without one reads as empty.

    May be made in one thread and used in another, but by one at a time.
    """

    def __init__(self, path: Path) -> None:
        self._path = path
        self._db: sqlite3.Connection | None = None
        self._connect()

    def _connect(self) -> sqlite3.Connection | None:
        if self._db is None and self._path.exists():
            try:
                db = _open(self._path)
                found = check_version(db, shown(self._path))
            except sqlite3.Error as error:
                raise WorkspaceError(f"the journal cannot be read: {error}", shown(self._path),
                                     "restore the file from a copy; nothing was changed") from None
            if found < VERSION:  # a writer will bring it up to date
                db.close()
                return None
            self._db = db
        return self._db

    def close(self) -> None:
        """Close the journal."""
        if self._db is not None:
            self._db.close()
            self._db = None

    def version(self) -> int:
        """Return a number that changes whenever another process has written."""
        db = self._connect()
        return int(db.execute("PRAGMA data_version").fetchone()[0]) if db else -1

    def searches(self) -> tuple[SearchRecord, ...]:
        """Return all searches, oldest first."""
        db = self._connect()
        if db is None:
            return ()
        rows = db.execute("SELECT number, name, file, data, data_fingerprint, state, why, started, ended, "
                          "busy, running_since "
                          "FROM search ORDER BY number")
        return tuple(SearchRecord(*row) for row in rows)

    def search(self, number: int) -> SearchRecord | None:
        """Return one search."""
        return next((s for s in self.searches() if s.number == number), None)

    def holds(self, search: int, recipe: int) -> bool:
        """Say whether a search has a recipe."""
        db = self._connect()
        found = db and db.execute("SELECT 1 FROM recipe WHERE search = ? AND number = ?", (search, recipe)).fetchone()
        return bool(found)

    def changes(self, search: int, mark: tuple[int, int] = (0, 0)) -> Changes:
        """Return what was written to a search since `mark`: what changed, and the last epoch row seen."""
        db = self._connect()
        if db is None:
            return Changes((), (), (), mark)
        db.execute("BEGIN")
        try:
            changed, seq = mark
            recipes = db.execute('SELECT number, "values", parameters, changed FROM recipe '
                                 "WHERE search = ? AND changed > ? ORDER BY number", (search, changed)).fetchall()
            runs = db.execute("SELECT id, recipe, repeat, fold, state, reason, text, best_epoch, attempts, lane, "
                              "until, start, changed FROM run WHERE search = ? AND changed > ? ORDER BY id",
                              (search, changed)).fetchall()
            epochs = db.execute(
                "SELECT seq, run, epoch, train_loss, train_loss_still, validation_loss, learning_rate, gradient_norm, "
                "seconds, metrics, layers, waited FROM epoch WHERE seq > ? AND run IN "
                "(SELECT id FROM run WHERE search = ?) ORDER BY seq", (seq, search)).fetchall()
        finally:
            db.execute("COMMIT")
        top = max([changed, *(r[-1] for r in recipes), *(r[-1] for r in runs)])
        return Changes(
            tuple(RecipeRecord(n, Recipe(json.loads(v)), p) for n, v, p, _ in recipes),
            tuple(RunRecord(*row[:-1]) for row in runs),
            tuple(_epoch(row) for row in epochs),
            (top, max([seq, *(row[0] for row in epochs)])),
        )

    def steps(self, search: int) -> tuple[StepRecord, ...]:
        """Return the steps of a search, in their order."""
        db = self._connect()
        if db is None:
            return ()
        rows = db.execute("SELECT number, recipe, until, blocks, parent, told, why FROM step WHERE search = ? "
                          "ORDER BY number", (search,))
        return tuple(StepRecord(*row) for row in rows)

    def rulings(self, search: int) -> tuple[RulingRecord, ...]:
        """Return what a user decided while a search ran, in order."""
        db = self._connect()
        if db is None:
            return ()
        rows = db.execute("SELECT after, what, value FROM ruling WHERE search = ? ORDER BY seq", (search,))
        return tuple(RulingRecord(*row) for row in rows)

    def examples(self, search: int) -> tuple[ExampleRecord, ...]:
        """Return what the watched runs of a search say of some validation rows."""
        db = self._connect()
        if db is None:
            return ()
        rows = db.execute("SELECT example.run, epoch, outputs FROM example JOIN run ON run.id = example.run "
                          "WHERE run.search = ? ORDER BY example.run", (search,))
        return tuple(ExampleRecord(run, epoch, tuple(tuple(map(_number, row)) for row in json.loads(outputs)))
                     for run, epoch, outputs in rows)

    def events(self, search: int, last: int = 50) -> tuple[EventRecord, ...]:
        """Return the last things that happened to a search, oldest first."""
        db = self._connect()
        if db is None:
            return ()
        rows = db.execute("SELECT seq, at, kind, text FROM event WHERE search = ? ORDER BY seq DESC LIMIT ?",
                          (search, last)).fetchall()
        return tuple(EventRecord(*row) for row in reversed(rows))

    def lanes(self, search: int) -> tuple[LaneRecord, ...]:
        """Return the worker processes of a search."""
        db = self._connect()
        if db is None:
            return ()
        rows = db.execute("SELECT number, pid, state FROM lane WHERE search = ? ORDER BY number", (search,))
        return tuple(LaneRecord(*row) for row in rows)

    def openings(self, fingerprint: str = "") -> tuple[OpeningRecord, ...]:
        """Return when the seal on test rows was opened, oldest first: of one data set, or of all."""
        db = self._connect()
        if db is None:
            return ()
        rows = db.execute("SELECT at, data, data_fingerprint, rows, reason FROM opening "
                          "WHERE ? IN ('', data_fingerprint) ORDER BY seq", (fingerprint,))
        return tuple(OpeningRecord(*row) for row in rows)


def _epoch(row: tuple[Any, ...]) -> EpochRecord:
    *losses, rate, norm, seconds = (_number(x) for x in row[3:9])
    metrics = tuple(_number(x) for x in json.loads(row[9]))
    layers = tuple((_number(a), _number(b), _number(c), _number(more[0]) if more else 0.0)
                   for a, b, c, *more in json.loads(row[10]))
    return EpochRecord(row[1], row[2], losses[0], losses[1], losses[2], metrics, rate, norm, seconds, layers, row[11])


def _number(value: float | None) -> float:
    return math.inf if value is None else value


def _open(path: Path) -> sqlite3.Connection:
    """Open read-only; where even the reader's own side files cannot be written, as an unchanging file."""
    address = f"file:{quote(str(path.absolute()))}?mode=ro"
    db = sqlite3.connect(address, uri=True, isolation_level=None, timeout=10, check_same_thread=False)
    try:
        db.execute("SELECT count(*) FROM sqlite_master").fetchone()
    except sqlite3.OperationalError:
        db.close()
        db = sqlite3.connect(address + "&immutable=1", uri=True, isolation_level=None, check_same_thread=False)
        db.execute("SELECT count(*) FROM sqlite_master").fetchone()
    return db
