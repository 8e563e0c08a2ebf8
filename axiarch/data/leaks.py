"""How much single columns say about what is predicted: each tried alone, many at a time.

Learnt on every other row and judged on the rest. Numbers are tried in quantile bins, text by its
categories, and amounts by a straight line as well. Axes: N rows, K columns tried together, B bins.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray

from axiarch.data.decisions import ignore_column
from axiarch.data.encoding import NumberCode, PictureCode, as_floats
from axiarch.data.findings import CheckInput, Finding, finding, option
from axiarch.data.target import class_numbers
from axiarch.text import share, shown

if TYPE_CHECKING:
    import polars

#: A single column that leaves fewer than this share of the errors of guessing is a leak until shown
#: otherwise: honest single inputs of hard tasks leave most of them.
LEAK = 0.05
#: The same for amounts: the share of the variance that a leaking column leaves.
LEAK_AMOUNT = 0.02
#: A single column that reaches this share of what a linear model on all columns reaches is strong.
STRONG = 0.7
#: ... if it removes at least this share of the errors, or of the variance, of guessing, and there
#: are so many columns that one which does most of the work is remarkable.
STRONG_AT_ALL, MANY = 0.2, 5
#: Rows that single columns are tried on, spread over all.
TRIED = 40_000
#: Fewer judged rows than this say nothing about a column.
_FEWEST = 20
#: Quantile bins in which a number is tried.
BINS = 24
#: Columns, and numbers in them, that are tried together.
_BLOCK, _NUMBERS = 256, 4_000_000


@dataclass(frozen=True)
class _Trial:
    """The rows that columns are tried on: `rows` of the table, those judged `odd`, their
    `answers`.
    """

    rows: NDArray[np.int64]
    odd: NDArray[np.bool_]
    answers: dict[str, NDArray[Any]]
    classes: bool

    def removed(self, block: _Block, name: str) -> NDArray[np.float64]:
        """Return the share of the errors or variance of guessing (K,) that each column removes."""
        if self.classes:
            guess = self.guess(name)
            hits = self.hits(block, name)
            return (hits - guess) / max(1 - guess, 1e-9) if guess < 1 else np.zeros(len(hits))
        return self._explained(block, self.answers[name])

    def guess(self, name: str) -> float:
        """Return how often the commonest class is right."""
        labels = self.answers[name]
        return float((labels[self.odd] == np.bincount(labels[~self.odd]).argmax()).mean())

    def hits(self, block: _Block, name: str) -> NDArray[np.float64]:
        """Return how often (K,) the commonest class of a row's cell is right."""
        labels = self.answers[name]
        learnt = labels[~self.odd]
        counts = block.summed(~self.odd, learnt, int(labels.max()) + 1)
        answer = np.where(counts.sum(2) > 0, counts.argmax(2), np.bincount(learnt).argmax())
        given = np.take_along_axis(answer.T, block.cells[self.odd], axis=0)
        right: NDArray[np.float64] = (given == labels[self.odd, None]).mean(0)
        return right

    def _explained(self, block: _Block, answer: NDArray[np.float64]) -> NDArray[np.float64]:
        """Return the share of the variance (K,) that the mean of a cell or a line explains."""
        judged, learnt = answer[self.odd, None], answer[~self.odd]
        spread = float(judged.var())
        if spread == 0:
            return np.zeros(block.cells.shape[1])
        counts = block.summed(~self.odd)
        sums = block.summed(~self.odd, weights=learnt)
        means = np.where(counts > 0, sums / np.maximum(counts, 1), learnt.mean())[..., 0]
        given = np.take_along_axis(means.T, block.cells[self.odd], axis=0)
        left = ((judged - given) ** 2).mean(0)
        if block.values is not None:
            left = np.fmin(left, self._left_by_line(block.values, learnt, judged))
        explained: NDArray[np.float64] = 1 - left / spread
        return explained

    def _left_by_line(self, values: NDArray[np.float64], learnt: NDArray[np.float64],
                      judged: NDArray[np.float64]) -> NDArray[np.float64]:
        """Return the variance (K,) that a straight line leaves; NaN for a column with gaps."""
        own = values[~self.odd]
        flat = own.std(0)
        flat[~(flat > 0)] = np.nan
        x = (values - own.mean(0)) / flat
        slope = (x[~self.odd] * learnt[:, None]).mean(0)
        left: NDArray[np.float64] = (
            (judged - learnt.mean() - slope * x[self.odd]) ** 2).mean(0)
        return left


@dataclass(frozen=True)
class _Block:
    """Columns tried together: their names, cells (N, K), and where they are numbers their
    values.
    """

    names: tuple[str, ...]
    cells: NDArray[np.int64]
    values: NDArray[np.float64] | None = None

    def summed(self, rows: NDArray[np.bool_], groups: NDArray[np.int64] | None = None,
               many: int = 1, weights: NDArray[np.float64] | None = None) -> NDArray[np.float64]:
        """Return the rows, or the sum of their weights, by column, cell and group (K, B, G)."""
        cells = self.cells[rows]
        columns, bins = cells.shape[1], int(self.cells.max(initial=0)) + 1
        place = cells + bins * np.arange(columns)
        if groups is not None:
            place = place * many + groups[:, None]
        repeated = None if weights is None else np.repeat(weights, columns)
        found = np.bincount(place.ravel(), repeated, columns * bins * many)
        return found.reshape(columns, bins, many).astype(np.float64, copy=False)


def leaks(given: CheckInput) -> list[Finding]:
    """Return the columns that alone say nearly all, or much, of what is predicted."""
    target = given.encoding.target
    rows = given.rows[:: max(len(given.rows) // TRIED, 1)]
    odd = np.arange(len(rows)) % 2 == 1
    if odd.sum() < _FEWEST:
        return []
    trial = _Trial(rows, odd, {n: _answers(given, n, rows) for n in target.columns}, given.classes)
    together, many = _together(given), len(given.encoding.codes) >= MANY
    limit = LEAK if given.classes else LEAK_AMOUNT
    found = []
    for block in _blocks(given, rows):
        for answer in target.columns:
            removed = trial.removed(block, answer)
            for i in np.flatnonzero(1 - removed < limit):
                found.append(finding(
                    "leak", _leak_words(trial, block, answer, int(i), float(removed[i])),
                    _ignored(block.names[i]), block.names[i], (ignore_column(block.names[i]),)))
            if together is None or not many:
                continue
            strong = (removed >= max(STRONG * together, STRONG_AT_ALL)) & (1 - removed >= limit)
            found += [_strong(given, trial, block.names[i], answer, removed[i], together)
                      for i in np.flatnonzero(strong)]
    return found


def _leak_words(trial: _Trial, block: _Block, answer: str, i: int, removed: float) -> str:
    name = shown(answer, 30)
    if trial.classes:
        return (
            f"it alone predicts {name} correctly in {share(trial.hits(block, answer)[i])} of rows, "
            f"where guessing is right in {share(trial.guess(answer))}")
    return f"it alone explains {share(removed)} of the variance of {name}"


def _strong(given: CheckInput, trial: _Trial, name: str, answer: str, removed: float,
            together: float) -> Finding:
    """Return the finding of a column that alone does much of what all columns do together."""
    what = "this column alone"
    gaps = given.table.column(name)[trial.rows].is_null().to_numpy().astype(np.int64)
    if gaps.any() and given.classes:
        by_gaps = trial.removed(_Block((name,), gaps[:, None]), answer)[0]
        what = "whether it is missing alone" if by_gaps >= STRONG * removed else what
    part = removed / together
    reaches = f"reaches {share(part)} of" if part < 1 else "reaches more than"
    return finding("strong column", f"{what} {reaches} what a linear model on all columns reaches",
                   _ignored(name), name, (ignore_column(name),))


def _ignored(name: str) -> str:
    return f"if it is not known before the answer is, ignore it: key i{option('ignore', name)}"


def _together(given: CheckInput) -> float | None:
    """Return the share of the errors of guessing, or of the variance, that a linear model
    removes.
    """
    target, linear = given.encoding.target, given.linear
    if linear is None or len(target.columns) > 1:
        return None
    if not given.classes:
        return linear.metrics[1] if linear.metrics[1] > 0 else None
    train, validation = (given.targets[p].astype(np.int64) for p in ("train", "validation"))
    guess = float((validation == np.bincount(train).argmax()).mean())
    removed = (linear.metrics[0] - guess) / max(1 - guess, 1e-9)
    return removed if removed > 0 else None


def _answers(given: CheckInput, name: str, rows: NDArray[np.int64]) -> NDArray[Any]:
    """Return the class numbers or amounts (N,) of a target column."""
    series = given.table.column(name)[rows]
    if given.classes:
        return class_numbers(series, given.encoding.target.classes).astype(np.int64)
    return as_floats(series)


def _blocks(given: CheckInput, rows: NDArray[np.int64]) -> Iterator[_Block]:
    """Walk the input columns: numbers many at a time, others one by one, pictures not at all."""
    held: dict[str, NDArray[np.float64]] = {}
    column = given.table.taken(rows)
    most = max(min(_BLOCK, _NUMBERS // len(rows)), 1)
    for code in given.encoding.codes:
        if isinstance(code, PictureCode):
            continue
        series = column(code.name)
        if isinstance(code, NumberCode):
            held[code.name] = as_floats(series)
            if len(held) < most:
                continue
        else:
            yield _single(series)
            continue
        yield _numbers(held)
        held = {}
    if held:
        yield _numbers(held)


def _numbers(held: dict[str, NDArray[np.float64]]) -> _Block:
    values = np.stack(list(held.values()), axis=1)
    return _Block(tuple(held), bins(values), values)


def _single(series: polars.Series) -> _Block:
    """Return the block of a column of text or dates; a gap is a cell of its own."""
    import polars

    if series.dtype.is_temporal():
        moments = as_floats(series.cast(polars.Datetime).cast(polars.Int64))[:, None]
        return _Block((series.name,), bins(moments))
    places = series.rank("dense").fill_null(0).to_numpy().astype(np.int64)
    return _Block((series.name,), places[:, None])


def bins(values: NDArray[np.float64]) -> NDArray[np.int64]:
    """Return the cell (N, K) of each number: its quantile bin, or its value where there are few.

    A gap (NaN) is a cell of its own.
    """
    gap = np.isnan(values)
    ordered = np.sort(values, axis=0)
    present = (~gap).sum(0)
    cells = np.zeros(values.shape, np.int64)
    for part in range(1, BINS):
        place = np.maximum(present - 1, 0) * (part / BINS)
        low = np.floor(place).astype(np.int64)
        columns = np.arange(values.shape[1])
        below, above = ordered[low, columns], ordered[np.minimum(low + 1,
                                                                 len(ordered) - 1), columns]
        rest = place - low
        edge = np.where(rest > 0, below + rest * (above - below), below)
        cells += values > edge
    distinct = (np.diff(ordered, axis=0) > 0).sum(0) + 1 + gap.any(0)
    for i in np.flatnonzero(distinct <= BINS):
        cells[:, i] = np.unique(values[:, i], return_inverse=True)[1]
    cells[gap] = BINS
    return cells
