"""Save what can be read of a damaged journal into a new one, row by row."""

from __future__ import annotations

import contextlib
import sqlite3
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from axiarch.errors import AxiarchError, WorkspaceError
from axiarch.files import decode, load_json, typed
from axiarch.journal.epochs import epoch_of
from axiarch.journal.migrations import VERSION, version
from axiarch.journal.read import recipe_of_text, row_losses_of
from axiarch.journal.records import (
    EventRecord,
    NoteRecord,
    OpeningRecord,
    OverrideRecord,
    RunRecord,
    SearchRecord,
    StepRecord,
)
from axiarch.journal.write import JournalWriter
from axiarch.runs.epoch import COLUMNS
from axiarch.text import shown

#: Rows after a damaged one that are tried, each time twice as many further on, before a table is
#: left.
_DOUBLINGS = 40
#: Tables in the order in which they are saved, each with the columns that number its rows.
_TABLES = {"search": "number", "recipe": "search, number", "run": "id", "step": "search, number",
           "override": "seq", "epoch": "seq", "event": "seq", "opening": "seq",
           "row_loss": "run", "known": "search, number", "note": "number", "probe": "number"}


@dataclass(frozen=True)
class Saved:
    """What was saved of a journal: rows of each table, rows left out, and searches to be
    resumed.
    """

    rows: dict[str, int]
    lost: int
    unfinished: tuple[int, ...]


def save_journal(source: Path, target: Path) -> Saved:
    """Copy every row that can be read and makes sense from one journal into a new one.

    Runs that lost epochs are entered as waiting, so that resuming their search trains them again.

    Raises
    ------
    WorkspaceError
        If nothing of it can be read.
    """
    writer = JournalWriter(target)
    writer.close()
    new = sqlite3.connect(target, isolation_level=None)
    try:
        old = sqlite3.connect(f"file:{source}?mode=ro&immutable=1", uri=True, isolation_level=None)
        found = version(old)
    except sqlite3.Error as error:
        new.close()
        raise WorkspaceError(f"nothing of the journal can be read: {error}", shown(source),
                             "data sets and search files are saved all the same") from None
    with contextlib.closing(old), contextlib.closing(new):
        if found != VERSION:
            raise WorkspaceError(
                f"the journal has version {found}; only version {VERSION} can be saved",
                shown(source), "use the version of the program that wrote it")
        counts, lost = {}, 0
        new.execute("BEGIN")
        for table in _TABLES:
            good, bad = _save_table(table, old, new)
            counts[table] = good
            lost += bad
        lost += _leave_out_orphans(new)
        unfinished = _reopen(new, lost > 0)
        new.execute("COMMIT")
    return Saved(counts, lost, unfinished)


def _save_table(table: str, old: sqlite3.Connection, new: sqlite3.Connection) -> tuple[int, int]:
    """Copy the rows of one table; return how many were saved and how many were seen and left
    out.
    """
    columns = [row[1] for row in new.execute(f"PRAGMA table_info({table})")]
    listed = ", ".join(f'"{name}"' for name in columns)
    marks = ", ".join("?" * len(columns))
    good = bad = 0
    for row in _rows(table, listed, columns, old, new):
        try:
            _CHECKS.get(table, _anything)(dict(zip(columns, row, strict=True)))
            new.execute(f"INSERT INTO {table} ({listed}) VALUES ({marks})", row)
            good += 1
        except (sqlite3.Error, ValueError, TypeError, KeyError, OverflowError, AttributeError,
                RecursionError, AxiarchError):
            bad += 1
    return good, bad


def _rows(table: str, listed: str, columns: list[str], old: sqlite3.Connection,
          new: sqlite3.Connection) -> Iterator[tuple[Any, ...]]:
    """Yield the rows of a table that can be read, going past pages that cannot."""
    key = _TABLES[table].split(", ")
    if len(key) == 1:
        yield from _past_damage(old, f"SELECT {listed} FROM {table}", "", (), key[0], columns)
        return
    for (search,) in new.execute("SELECT number FROM search ORDER BY number").fetchall():
        yield from _past_damage(old, f"SELECT {listed} FROM {table}", f"{key[0]} = ? AND ",
                                (search, ), key[1], columns)


def _past_damage(old: sqlite3.Connection, select: str, where: str, values: tuple[Any, ...],
                 key: str, columns: list[str]) -> Iterator[tuple[Any, ...]]:
    last, ahead, at = -1, 0, columns.index(key)
    while ahead < _DOUBLINGS:
        start = last + (1 << ahead >> 1)
        try:
            for row in old.execute(f"{select} WHERE {where}{key} > ? ORDER BY {key}",
                                   (*values, start)):
                if isinstance(row[at], int):
                    last, ahead = row[at], 0
                yield row
            return
        except (sqlite3.Error, OverflowError):
            ahead += 1


def _anything(row: dict[str, Any]) -> None:
    """Accept a row."""


def _as(kind: type[Any]) -> Callable[[dict[str, Any]], None]:
    """Return a check that a row's columns are a record's fields, of their types."""

    def check(row: dict[str, Any]) -> None:
        typed(row, kind)

    return check


def _check_recipe(row: dict[str, Any]) -> None:
    recipe_of_text(row["values"])


def _check_epoch(row: dict[str, Any]) -> None:
    epoch_of(row[name] for name in COLUMNS)


def _check_row_losses(row: dict[str, Any]) -> None:
    row_losses_of(row["total"], row["losses"], row["predicted"])


def _check_known(row: dict[str, Any]) -> None:
    recipe_of_text(row["values"])
    decode(row["losses"], list[float | None])


def _check_probe(row: dict[str, Any]) -> None:
    recipe_of_text(row["values"])
    load_json(row["found"], finite=False)


_CHECKS: dict[str, Callable[[dict[str, Any]], None]] = {
    "search": _as(SearchRecord),
    "recipe": _check_recipe,
    "run": _as(RunRecord),
    "step": _as(StepRecord),
    "override": _as(OverrideRecord),
    "epoch": _check_epoch,
    "event": _as(EventRecord),
    "opening": _as(OpeningRecord),
    "row_loss": _check_row_losses,
    "known": _check_known,
    "note": _as(NoteRecord),
    "probe": _check_probe,
}


def _leave_out_orphans(new: sqlite3.Connection) -> int:
    """Remove rows that belong to nothing, and epochs behind one that is lost; return how many."""
    orphans = (
        "DELETE FROM run WHERE NOT EXISTS (SELECT 1 FROM recipe WHERE recipe.search = run.search "
        "AND recipe.number = run.recipe)",
        "DELETE FROM step WHERE NOT EXISTS (SELECT 1 FROM recipe WHERE recipe.search = step.search "
        "AND recipe.number = step.recipe)",
        "DELETE FROM epoch WHERE run NOT IN (SELECT id FROM run)",
        "DELETE FROM row_loss WHERE run NOT IN (SELECT id FROM run)",
        "DELETE FROM epoch WHERE epoch > (SELECT count(*) FROM epoch AS other WHERE other.run = "
        "epoch.run AND other.epoch <= epoch.epoch)",
    )
    return sum(new.execute(statement).rowcount for statement in orphans)


def _reopen(new: sqlite3.Connection, damaged: bool) -> tuple[int, ...]:
    """Let runs that lost epochs wait again, and searches with such runs be resumed; return
    those.
    """
    if not damaged:
        new.execute("UPDATE search SET state = 'stopped', why = 'saved from another workspace' "
                    "WHERE state NOT IN ('done', 'stopped', 'failed')")
        return ()
    new.execute(
        "UPDATE run SET state = 'waiting', reason = '', text = '', best_epoch = 0 WHERE state IN "
        "('ended', 'resting', 'training', 'cut') AND (SELECT count(*) FROM epoch WHERE epoch.run = "
        "run.id) < max(best_epoch, 1)")
    new.execute("UPDATE search SET state = 'stopped', why = 'saved from a damaged journal' WHERE "
                "state NOT IN ('done', 'failed') OR number IN (SELECT search FROM run WHERE state "
                "= 'waiting')")
    rows = new.execute(
        "SELECT number FROM search WHERE state = 'stopped' ORDER BY number").fetchall()
    return tuple(row[0] for row in rows)
