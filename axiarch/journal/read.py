"""Read the journal, from any process, while another writes it."""

from __future__ import annotations

import contextlib
import functools
import sqlite3
from collections.abc import Callable, Container, Iterator
from dataclasses import dataclass, fields
from pathlib import Path
from typing import Any, TypeVar
from urllib.parse import quote

from axiarch.errors import InputError, WorkspaceError
from axiarch.files import decode, typed
from axiarch.journal.epochs import LISTED, epoch_of, real, whole
from axiarch.journal.migrations import VERSION, check_version, version
from axiarch.journal.records import (
    EarlierRun,
    EventRecord,
    ExampleRecord,
    KnownRecipe,
    NoteRecord,
    OpeningRecord,
    OverrideRecord,
    ProbeRecord,
    RecipeRecord,
    RunRecord,
    SearchRecord,
    StepRecord,
    WorkerRecord,
)
from axiarch.recipes.recipe import Recipe
from axiarch.runs.epoch import Epoch
from axiarch.runs.rows import MOST_ROWS, RowLosses
from axiarch.runs.states import RunState
from axiarch.text import shown


@dataclass(frozen=True)
class Changes:
    """What was written to one search since an earlier reading; `mark` continues from here."""

    recipes: tuple[RecipeRecord, ...]
    runs: tuple[RunRecord, ...]
    epochs: tuple[Epoch, ...]
    mark: tuple[int, int]


_RECIPE_OF_RUN = ("JOIN recipe ON recipe.search = run.search AND recipe.number = run.recipe "
                  "JOIN search")
#: SQLite's codes for a file that is well but cannot be used now.
_OUT_OF_REACH = {sqlite3.SQLITE_BUSY, sqlite3.SQLITE_LOCKED, sqlite3.SQLITE_CANTOPEN,
                 sqlite3.SQLITE_PERM, sqlite3.SQLITE_READONLY, sqlite3.SQLITE_NOMEM}
_Read = TypeVar("_Read", bound=Callable[..., Any])
_Record = TypeVar("_Record")


@contextlib.contextmanager
def guarded(path: Path, use: str = "") -> Iterator[None]:
    """Turn what a damaged or hostile journal makes of reading into one error with its place.

    Parameters
    ----------
    path : Path
    use : str, optional
        What is done with what was read, such as ``ranked``: an error there may be ours as well.

    Raises
    ------
    WorkspaceError
    """
    try:
        yield
    except sqlite3.Error as error:
        if getattr(error, "sqlite_errorcode", 0) & 0xFF in _OUT_OF_REACH:
            raise WorkspaceError(f"the journal cannot be read now: {error}", shown(path),
                                 "try again, or look at the permissions of the folder") from None
        raise damaged(path, error) from None
    except (ValueError, TypeError, KeyError, IndexError, ArithmeticError, AttributeError,
            RecursionError, InputError) as error:
        if not use:
            raise damaged(path, error) from None
        raise WorkspaceError(
            f"what the journal holds cannot be {use}: {shown(error, 120) or type(error).__name__}",
            shown(path), "if nobody has changed the journal, this is a fault of axiarch: report "
            "it; nothing is lost, and axiarch rescue NEW_FOLDER saves what can be read") from None


def damaged(path: Path, why: object) -> WorkspaceError:
    """Return the error of a journal that does not hold what was written."""
    return WorkspaceError(
        f"the journal is damaged: {shown(why, 120) or type(why).__name__}", shown(path),
        "restore it from a copy, or save what can be read: axiarch rescue NEW_FOLDER")


def _guard(method: _Read) -> _Read:
    @functools.wraps(method)
    def read(self: JournalReader, *args: Any, **kwargs: Any) -> Any:
        with guarded(self.path):
            return method(self, *args, **kwargs)

    return read  # type: ignore[return-value]


def is_older(path: Path) -> bool:
    """Say whether a journal is there that an earlier version of the program wrote.

    A damaged one is not: whoever reads it says so.
    """
    if not path.exists():
        return False
    try:
        db = _open(path)
        try:
            return 0 < version(db) < VERSION
        finally:
            db.close()
    except sqlite3.Error:
        return False


class JournalReader:
    """A read-only view of a journal. A workspace without one reads as empty.

    May be made in one thread and used in another, but by one at a time. Every value is checked for
    its type; what does not fit is a :class:`WorkspaceError` that says so.
    """

    def __init__(self, path: Path) -> None:
        self.path = path
        self._db: sqlite3.Connection | None = None
        self._connect()

    @_guard
    def _connect(self) -> sqlite3.Connection | None:
        if self._db is None and self.path.exists():
            db = _open(self.path)
            found = check_version(db, shown(self.path))
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

    def _records(self, kind: type[_Record], query: str, values: tuple[Any, ...] = ()
                 ) -> tuple[_Record, ...]:
        """Return rows as records of one kind, whose fields are named as the columns."""
        db = self._connect()
        if db is None:
            return ()
        cursor = db.execute(query, values)
        names = [column[0] for column in cursor.description]
        return tuple(typed(dict(zip(names, row, strict=True)), kind) for row in cursor)

    @_guard
    def version(self) -> int:
        """Return a number that changes whenever another process has written."""
        db = self._connect()
        return int(db.execute("PRAGMA data_version").fetchone()[0]) if db else -1

    @_guard
    def searches(self) -> tuple[SearchRecord, ...]:
        """Return all searches, oldest first."""
        return self._records(SearchRecord, (
            "SELECT number, name, file, data, data_fingerprint, state, why, started, ended, busy, "
            "running_since FROM search ORDER BY number"))

    def search(self, number: int) -> SearchRecord | None:
        """Return one search."""
        return next((s for s in self.searches() if s.number == number), None)

    @_guard
    def holds(self, search: int, recipe: int) -> bool:
        """Say whether a search has a recipe."""
        db = self._connect()
        found = db and db.execute("SELECT 1 FROM recipe WHERE search = ? AND number = ?",
                                  (search, recipe)).fetchone()
        return bool(found)

    @_guard
    def changes(self, search: int, mark: tuple[int, int] = (0, 0)) -> Changes:
        """Return what was written to a search since `mark`: what changed, and the last epoch row
        seen.
        """
        db = self._connect()
        if db is None:
            return Changes((), (), (), mark)
        db.execute("BEGIN")
        try:
            changed, seq = mark
            recipes = db.execute(
                'SELECT number, "values", parameters, origin, changed FROM recipe '
                "WHERE search = ? AND changed > ? ORDER BY number", (search, changed)).fetchall()
            runs = self._records(
                _ChangedRun,
                "SELECT id, recipe, repeat, fold, state, reason, text, best_epoch, attempts, "
                "worker, until, start, taken, changed FROM run WHERE search = ? AND changed > ? "
                "ORDER BY id",
                (search, changed))
            epochs = db.execute(
                f"SELECT seq, {LISTED} FROM epoch WHERE seq > ? AND run IN (SELECT id FROM run "
                "WHERE search = ?) ORDER BY seq", (seq, search)).fetchall()
        finally:
            db.execute("COMMIT")
        top = max([changed, *(r[-1] for r in recipes), *(r.changed for r in runs)])
        return Changes(
            tuple(
                RecipeRecord(whole(n), recipe_of_text(v), whole(p), str(o))
                for n, v, p, o, _ in recipes),
            tuple(run.record() for run in runs),
            tuple(epoch_of(row[1:]) for row in epochs),
            (whole(top), max([seq, *(row[0] for row in epochs)])),
        )

    @_guard
    def steps(self, search: int) -> tuple[StepRecord, ...]:
        """Return the steps of a search, in their order."""
        return self._records(
            StepRecord, "SELECT number, recipe, until, replicates, parent, observed, why FROM step "
            "WHERE search = ? ORDER BY number", (search, ))

    @_guard
    def earlier_runs(self, search: int, fingerprint: str, engine: str) -> tuple[EarlierRun, ...]:
        """Return the runs of searches before `search` that an engine trained on a data set, from
        their first epoch.
        """
        db = self._connect()
        if db is None:
            return ()
        chosen = ("run JOIN search ON search.number = run.search WHERE search.number < ? "
                  "AND data_fingerprint = ? AND engine = ? AND run.start = 0")
        values = (search, fingerprint, engine)
        losses: dict[int, list[float]] = {}
        for run, loss in db.execute(
                "SELECT run, validation_loss FROM epoch WHERE run IN (SELECT id FROM "
                f"{chosen}) ORDER BY run, epoch", values):
            losses.setdefault(whole(run), []).append(real(loss))
        found = db.execute(
            'SELECT run.id, run.search, "values", repeat, fold, run.state, reason, text, '
            f"best_epoch FROM {chosen.replace('JOIN search', _RECIPE_OF_RUN, 1)} AND origin = ''",
            values)
        return tuple(
            EarlierRun(whole(run), whole(number), recipe_of_text(text_), whole(repeat), whole(fold),
                       RunState(state), str(reason), str(text), whole(best), tuple(losses[run]))
            for run, number, text_, repeat, fold, state, reason, text, best in found
            if run in losses)

    @_guard
    def known_recipes(self, search: int, fingerprint: str) -> tuple[KnownRecipe, ...]:
        """Return what searches before `search` on a data set know of recipes: the losses of their
        first runs, those on other folds and seeds left out.
        """
        db = self._connect()
        if db is None:
            return ()
        rows = db.execute(
            'SELECT run.id, run.search, "values", run.state FROM run '
            f"{_RECIPE_OF_RUN} ON search.number = run.search WHERE search.number < ? "
            "AND data_fingerprint = ? AND repeat = 0 AND fold = 0 AND start = 0 AND origin = '' "
            "AND run.state IN ('ended', 'cut', 'resting') ORDER BY run.id",
            (search, fingerprint)).fetchall()
        found = []
        for run, number, text, state in rows:
            losses = tuple(real(loss) for loss, in db.execute(
                "SELECT validation_loss FROM epoch WHERE run = ? ORDER BY epoch", (run,)))
            if losses:
                found.append(KnownRecipe(whole(number), recipe_of_text(text), losses,
                                         state == "ended", whole(run)))
        return tuple(found)

    @_guard
    def run_seconds(self, fingerprint: str) -> dict[int, float]:
        """Return the seconds that each run on a data set was trained for."""
        db = self._connect()
        if db is None:
            return {}
        return {whole(run): real(seconds) for run, seconds in db.execute(
            "SELECT run, sum(seconds) FROM epoch JOIN run ON run.id = epoch.run "
            "JOIN search ON search.number = run.search WHERE data_fingerprint = ? GROUP BY run",
            (fingerprint,))}

    @_guard
    def known_to(self, search: int) -> tuple[KnownRecipe, ...]:
        """Return what the method of a search was given of earlier searches, in its order."""
        db = self._connect()
        if db is None:
            return ()
        return tuple(
            KnownRecipe(whole(source), recipe_of_text(text),
                        tuple(map(real, decode(losses, list[float | None]))), bool(whole(ended)))
            for source, text, losses, ended in db.execute(
                'SELECT source, "values", losses, ended FROM known WHERE search = ? '
                "ORDER BY number", (search,)))

    @_guard
    def overrides(self, search: int) -> tuple[OverrideRecord, ...]:
        """Return what a user decided while a search ran, in order."""
        return self._records(
            OverrideRecord, "SELECT after, what, value FROM override WHERE search = ? ORDER BY seq",
            (search, ))

    @_guard
    def examples(self, search: int) -> tuple[ExampleRecord, ...]:
        """Return what the watched runs of a search say of some validation rows."""
        db = self._connect()
        if db is None:
            return ()
        rows = db.execute(
            "SELECT example.run, epoch, outputs FROM example JOIN run ON run.id = example.run "
            "WHERE run.search = ? ORDER BY example.run", (search, ))
        found = []
        for run, epoch, outputs in rows:
            predicted = decode(outputs, list[list[float | None]])
            found.append(ExampleRecord(whole(run), whole(epoch), tuple(
                tuple(map(real, row)) for row in predicted)))
        return tuple(found)

    @_guard
    def row_losses(self, search: int, known: Container[int] = ()) -> dict[int, RowLosses]:
        """Return the losses of validation rows by run, of those runs that are not `known` yet."""
        db = self._connect()
        if db is None:
            return {}
        runs = [whole(run) for run, in db.execute(
            "SELECT row_loss.run FROM row_loss JOIN run ON run.id = row_loss.run "
            "WHERE run.search = ? ORDER BY 1", (search,))]
        found = {}
        for run in runs:
            if run in known:
                continue
            found[run] = row_losses_of(*db.execute(
                "SELECT total, losses, predicted FROM row_loss WHERE run = ?", (run,)).fetchone())
        return found

    @_guard
    def events(self, search: int, last: int = 50) -> tuple[EventRecord, ...]:
        """Return the last things that happened to a search, oldest first."""
        return self._records(EventRecord, "SELECT seq, at, kind, text FROM event WHERE search = ? "
                             "ORDER BY seq DESC LIMIT ?", (search, last))[::-1]

    @_guard
    def workers(self, search: int) -> tuple[WorkerRecord, ...]:
        """Return the workers of a running search."""
        return self._records(
            WorkerRecord, "SELECT number, machine, state, memory, busy FROM worker "
            "WHERE search = ? ORDER BY number", (search,))

    @_guard
    def notes(self, search: int = 0) -> tuple[NoteRecord, ...]:
        """Return notes, oldest first: of one search, or of all (0)."""
        return self._records(NoteRecord, "SELECT number, at, search, recipe, run, text FROM note "
                             "WHERE ? IN (0, search) ORDER BY number", (search,))

    @_guard
    def probes(self) -> tuple[ProbeRecord, ...]:
        """Return all probes, oldest first."""
        db = self._connect()
        if db is None:
            return ()
        return tuple(
            ProbeRecord(whole(number), real(at), str(data), str(fingerprint), str(kind),
                        recipe_of_text(values), str(found))
            for number, at, data, fingerprint, kind, values, found in db.execute(
                'SELECT number, at, data, data_fingerprint, kind, "values", found FROM probe '
                "ORDER BY number"))

    @_guard
    def openings(self, fingerprint: str = "") -> tuple[OpeningRecord, ...]:
        """Return when the seal on test rows was opened, oldest first: of one data set, or of
        all.
        """
        return self._records(
            OpeningRecord, "SELECT at, data, data_fingerprint, rows, reason, search, "
            "recipe, scores FROM opening "
            "WHERE ? IN ('', data_fingerprint) ORDER BY seq", (fingerprint, ))


@dataclass(frozen=True)
class _ChangedRun(RunRecord):
    """A run with the number of its last change."""

    changed: int = 0

    def record(self) -> RunRecord:
        """Return the run alone."""
        return RunRecord(**{f.name: getattr(self, f.name) for f in fields(RunRecord)})


def row_losses_of(total: Any, content: Any, predicted: Any = b"") -> RowLosses:
    """Return the losses of rows that a row of the journal holds.

    Raises
    ------
    ValueError
        If it does not make sense.
    """
    if not isinstance(content, bytes) or len(content) != 4 * min(whole(total), MOST_ROWS):
        raise ValueError("the losses of validation rows do not fit their number")
    if not isinstance(predicted, bytes) or len(predicted) not in (0, len(content) // 2):
        raise ValueError("the predicted classes of validation rows do not fit their number")
    return RowLosses(whole(total), content, predicted)


def recipe_of_text(text: str) -> Recipe:
    """Return the recipe that a row of the journal holds."""
    return Recipe(decode(text, dict[str, int | float | str]))


def _open(path: Path) -> sqlite3.Connection:
    """Open read-only; where even the reader's own side files cannot be written, as an unchanging
    file.
    """
    address = f"file:{quote(str(path.absolute()))}?mode=ro"
    db = sqlite3.connect(address,
                         uri=True,
                         isolation_level=None,
                         timeout=10,
                         check_same_thread=False)
    try:
        db.execute("SELECT count(*) FROM sqlite_master").fetchone()
    except sqlite3.OperationalError:
        db.close()
        db = sqlite3.connect(address + "&immutable=1",
                             uri=True,
                             isolation_level=None,
                             check_same_thread=False)
        db.execute("SELECT count(*) FROM sqlite_master").fetchone()
    return db
