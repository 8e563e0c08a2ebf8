"""Finished trainings of other origin, read from a table: one row an epoch, with settings and
losses.
"""

from __future__ import annotations

import math
import re
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from pathlib import Path
from typing import TYPE_CHECKING, Any

from axiarch.data.reading import read_table
from axiarch.errors import DataError
from axiarch.text import shown

if TYPE_CHECKING:
    import polars

#: Columns that a table must have, as their names are compared: see :func:`_plain`.
EPOCH, TRAINING, VALIDATION = "epoch", "training_loss", "validation_loss"
#: Columns that tell runs apart and are no settings.
RUN, SEED = "run", "seed"
#: Columns that may change within a run.
RATE, SECONDS = "learning_rate", "seconds"
#: Epochs of all trainings of a table, and characters of a setting.
MOST_EPOCHS, MOST_SETTING = 2_000_000, 80


@dataclass(frozen=True)
class Training:
    """One finished training.

    Attributes
    ----------
    settings : mapping of str to str
        Text of each setting by the name of its column.
    training, validation : tuple of float
        Loss of each epoch (E,), as the table has it.
    metrics : mapping of str to tuple of float
        What else was measured, by the name of the metric.
    rates, seconds : tuple of float
        Learning rate and seconds of each epoch; NaN where they are not known.
    """

    settings: Mapping[str, str]
    training: tuple[float, ...]
    validation: tuple[float, ...]
    metrics: Mapping[str, tuple[float, ...]] = field(default_factory=dict)
    rates: tuple[float, ...] = ()
    seconds: tuple[float, ...] = ()


def read_trainings(path: Path, metrics: Sequence[str] = ()) -> tuple[list[Training], list[str]]:
    """Return the trainings of a table, in its order, and the columns that are left out.

    Columns ``epoch``, ``training loss`` and ``validation loss`` are needed. With a column ``run``,
    rows of one run belong together, and the columns that are constant in every run are settings;
    without, every other column is a setting, but for ``seed``, ``seconds`` and `metrics`.

    Raises
    ------
    DataError
        If the table cannot be read, a column or a loss is missing, or the epochs of a run are not
        1, 2, 3 …
    """
    table, _ = read_table(path)
    where = shown(path)
    if table.height > MOST_EPOCHS:
        raise DataError(f"{table.height} rows are too many", where,
                        f"give at most {MOST_EPOCHS} epochs")
    names = {_plain(name): name for name in reversed(table.columns)}
    for needed in (EPOCH, TRAINING, VALIDATION):
        if needed not in names:
            raise DataError(
                f"there is no column {needed.replace('_', ' ')!r}", where,
                "give one row an epoch with the columns epoch, training loss and validation loss")
    frame = table.rows(0, table.height)
    numbers = {plain: _numbers(frame[name], where) for plain, name in names.items()
               if plain in (EPOCH, TRAINING, VALIDATION, RATE, SECONDS) or name in metrics}
    _check_losses(numbers, where)
    special = {
        names[key] for key in (EPOCH, TRAINING, VALIDATION, RUN, SEED, SECONDS) if key in names
    }
    others = [name for name in table.columns if name not in special and name not in metrics]
    texts = {name: [_text(value) for value in frame[name].to_list()] for name in {*others, *(
        names[key] for key in (RUN, SEED) if key in names)}}
    keys = [names[RUN]] if RUN in names else others
    rows: dict[tuple[str, ...], list[int]] = {}
    for i in range(frame.height):
        seed = texts[names[SEED]][i] if SEED in names else ""
        rows.setdefault((seed, *(texts[name][i] for name in keys)), []).append(i)
    settings = [
        name for name in others if RUN not in names or all(
            len({texts[name][i] for i in own}) == 1 for own in rows.values())
    ]
    found = [
        _training(own, settings, texts, numbers, names, metrics, where) for own in rows.values()
    ]
    return found, [name for name in others if name not in settings and _plain(name) != RATE]


def _plain(name: str) -> str:
    """Return a column's name as names are compared: lower case, without unit, words joined by
    lines.
    """
    return re.sub(r"[^a-z0-9]+", "_", re.sub(r"\(.*?\)", "", name.lower())).strip("_")


def _numbers(series: polars.Series, where: str) -> list[float]:
    import polars

    cast = series.cast(polars.Float64, strict=False)
    lost = cast.is_null() & series.is_not_null()
    if lost.any():
        row = int(lost.arg_true()[0])
        raise DataError(f"{shown(str(series[row]), 40)!r} is not a number",
                        f"{where}, column {shown(series.name, 40)!r}, row {row + 1}",
                        "give numbers with a decimal point, nothing else in the cell")
    return [math.nan if value is None else float(value) for value in cast.to_list()]


def _check_losses(numbers: Mapping[str, list[float]], where: str) -> None:
    """Raise at a row without an epoch or a loss; a loss that is infinite is one that diverged."""
    for name in (EPOCH, TRAINING, VALIDATION):
        row = next((i for i, value in enumerate(numbers[name]) if math.isnan(value)), None)
        if row is not None:
            raise DataError(f"the {name.replace('_', ' ')} is missing", f"{where}, row {row + 1}",
                            "fill it in, leave the row out, or write inf where training diverged")


def _text(value: Any) -> str:
    return "" if value is None else f"{value:.12g}" if isinstance(
        value, float) else str(value)[:MOST_SETTING]


def _training(rows: list[int], settings: list[str], texts: Mapping[str, list[str]],
              numbers: Mapping[str, list[float]], names: Mapping[str, str], metrics: Sequence[str],
              where: str) -> Training:
    epochs = [numbers[EPOCH][i] for i in rows]
    order = sorted(range(len(rows)), key=lambda k: epochs[k])
    own = [rows[k] for k in order]
    found = [epochs[k] for k in order]
    if found != [found[0] + k for k in range(len(found))] or found[0] not in (0, 1):
        twice = len(set(found)) < len(found)
        raise DataError(
            "the same epoch appears twice for the same settings" if twice else
            f"the epochs of a training are not 1, 2, 3 …: {', '.join(f'{e:g}' for e in found[:4])} "
            "…",
            f"{where}, row {own[0] + 1}", "tell the trainings apart by a column run or seed"
            if twice else "give one row for every epoch, numbered from 1")

    def column(name: str) -> tuple[float, ...]:
        return tuple(numbers[name][i] if name in numbers else math.nan for i in own)

    return Training(
        {name: texts[name][own[0]] for name in settings}, column(TRAINING), column(VALIDATION),
        {plain_name: column(plain) for plain, plain_name in names.items() if plain_name in metrics},
        column(RATE), column(SECONDS))
