"""Tables as CSV files that are safe to open in a spreadsheet, written whole or not at all."""

from __future__ import annotations

import csv
import io
import os
from collections.abc import Callable, Iterable, Mapping, Sequence
from pathlib import Path
from types import MappingProxyType

from axiarch.data.records import ENDINGS, write_records
from axiarch.errors import InputError, not_written
from axiarch.files import draft_of, regular_file
from axiarch.ranking.rank import STANDING_WORDS, Ranking
from axiarch.recipes.conditions import written
from axiarch.recipes.fields import FIELDS
from axiarch.recipes.recipe import Recipe
from axiarch.text import cell, shown

Cell = str | int | float | None


def check_place(path: Path, endings: Sequence[str], force: bool = False) -> None:
    """Raise unless a file may be written to `path`.

    Parameters
    ----------
    endings : sequence of str
        How its name must end, in lower case.
    force : bool
        Whether a file that is there is replaced. Anything but a regular file never is.

    Raises
    ------
    InputError
    """
    where = shown(path)
    listed = " or ".join(endings)
    if not path.name or str(path) in (".", ".."):
        raise InputError("a file needs a name", where or "file",
                         f"give a name that ends in {listed}")
    if path.suffix.lower() not in endings:
        ending = shown(path.suffix, 20) or "without an ending"
        raise InputError(f"this is written as {listed}, not {ending}", where,
                         f"end the name in {listed}")
    try:
        if path.is_dir():
            raise InputError("this is a folder", where,
                             f"name a file in it, such as results{endings[0]}")
        if os.path.lexists(path) and not regular_file(path):
            raise InputError("this is a link, a device or a pipe, not a file", where,
                             "choose another name")
        if path.exists() and not force:
            raise InputError("the file is there already", where,
                             "choose another name, or replace it with --force")
    except (OSError, ValueError) as error:
        raise InputError(f"a file cannot be written there: {shown(error, 100)}", where,
                         "choose another name") from None


def write_export(path: Path, write: Callable[[Path], None]) -> Path:
    """Let `write` make a file beside `path`, then put it in its place.

    Raises
    ------
    WorkspaceReadOnly
        If that fails; a file that was there before is left as it was.
    """
    try:
        path.parent.mkdir(parents=True, exist_ok=True)
        with draft_of(path) as draft:
            write(draft)
    except OSError as error:
        raise not_written("the file cannot be written", shown(path), error,
                          "choose another place; nothing was changed") from None
    return path


def csv_text(header: Sequence[str], rows: Iterable[Sequence[Cell]]) -> str:
    """Return a table as CSV text; numbers keep all their digits, text cannot become a formula."""
    out = io.StringIO()
    writer = csv.writer(out, lineterminator="\n")
    writer.writerow([cell(name) for name in header])
    writer.writerows([_cell(value) for value in row] for row in rows)
    return out.getvalue()


def _cell(value: Cell) -> str | int | float:
    if value is None:
        return ""
    return cell(value) if isinstance(value, str) else value


def write_csv(path: Path, header: Sequence[str], rows: Iterable[Sequence[Cell]]) -> Path:
    """Write a table as CSV."""
    text = csv_text(header, rows)
    return write_export(path, lambda draft: write_text(draft, text))


def write_table(path: Path,
                header: Sequence[str],
                rows: Sequence[Sequence[Cell]],
                force: bool = False) -> Path:
    """Write a table as CSV, Parquet or JSON lines, by its ending, and return the path.

    Only CSV is guarded against spreadsheets that run text as formulas: the other formats hold the
    text as it is.

    Raises
    ------
    InputError, WorkspaceReadOnly
    """
    check_place(path, ENDINGS, force)
    kind = path.suffix.lower()
    if kind == ".csv":
        return write_csv(path, header, rows)
    columns = {name: [row[i] for row in rows] for i, name in enumerate(header)}
    return write_export(path, lambda draft: write_records(draft, kind, columns))


def write_text(path: Path, text: str) -> None:
    """Write a text as UTF-8."""
    path.write_text(text, encoding="utf-8")


def ranking_header(unit: str, metrics: Sequence[str], lowered: str = "loss") -> list[str]:
    """Return what the exported ranking says of each recipe before its values, with units."""
    return [
        "place", "recipe", "standing", f"steady validation {lowered} ({unit})",
        f"spread over runs ({unit})", f"interval half-width 95 % ({unit})",
        f"the same by seeds and folds alone ({unit})", f"the same by rows alone ({unit})",
        f"training {lowered} ({unit})", f"gap ({unit})", *metrics,
        f"lowest validation {lowered} ({unit})",
        "chosen epoch", "runs", "failed or diverged runs", "parameters", "seconds per run",
        "times the test rows were opened", "trained elsewhere"
    ]


def ranking_rows(
    ranking: Ranking,
    recipes: Mapping[int, Recipe],
    unit: str = "nats",
    metrics: Sequence[str] = ("accuracy", ),
    openings: int = 0,
    origins: Mapping[int, str] = MappingProxyType({}),
    lowered: str = "loss"
) -> tuple[list[str], list[list[Cell]]]:
    """Return header and rows of a ranking, with every value of each recipe; recipes without a
    result come last.

    Parameters
    ----------
    unit : str
        Of the losses.
    metrics : sequence of str
        The names of what else was measured.
    openings : int
        How often the seal on the test rows was opened.
    origins : mapping of int to str
        Where recipes were trained that were not trained here.
    lowered : str
        What is lowered, by name.
    """
    first = ranking_header(unit, metrics, lowered)
    rows: list[list[Cell]] = []
    for r in ranking.rows:
        rows.append([
            r.place, r.recipe, STANDING_WORDS[r.standing], r.loss, r.spread, r.half_width,
            r.seeds_half, r.rows_half, r.training, r.gap,
            *r.metrics, r.raw_best, r.epoch, r.repeats, r.failed, r.parameters, r.seconds, openings,
            origins.get(r.recipe, ""), *values_of(recipes[r.recipe])
        ])
    for number in ranking.broken:
        blank: list[Cell] = [None] * (len(first) - 3)
        rows.append([None, number, "no result", *blank, *values_of(recipes[number])])
    return [*first, *FIELDS], rows


def values_of(recipe: Recipe) -> list[Cell]:
    """Return the values of a recipe as cells, in the order of the fields."""
    return [written(value) if isinstance(value, float) else value for value in recipe.values()]


def unique(names: Sequence[str]) -> list[str]:
    """Return names of columns without repeats: a later one that was there gets a number."""
    found: list[str] = []
    for name in names:
        again, free = 2, name
        while free in found:
            free, again = f"{name} {again}", again + 1
        found.append(free)
    return found
