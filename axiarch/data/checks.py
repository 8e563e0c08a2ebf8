"""What is suspicious about a table, with the evidence and a remedy, found before any training.

Only training and validation rows are looked at. Thresholds are named constants with a reason.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass
from typing import TYPE_CHECKING

import numpy as np
from numpy.typing import NDArray

from axiarch.data.encoding import Encoding, NumberCode
from axiarch.plain import count, number, share, shown

if TYPE_CHECKING:
    import polars

#: A single column that leaves fewer than this share of the errors of guessing is a leak until shown otherwise:
#: honest single inputs of hard tasks leave most of them.
LEAK = 0.05
#: Quantile bins in which a number is tried as a predictor.
_BINS = 24
#: The commonest class so many times as common as the rarest is imbalanced: plain accuracy then says little.
IMBALANCE = 10.0
#: Fewer validation rows of a class than this tell nothing about it.
FEW_ROWS = 10
#: A validation value so many training spreads from the training mean is far outside what was learnt from.
FAR = 8.0


@dataclass(frozen=True)
class Finding:
    """Something to know before training.

    Attributes
    ----------
    kind : str
        One or two words.
    column : str
        The column it is about, or empty.
    evidence, remedy : str
        What was seen, with numbers, and what to do.
    """

    kind: str
    column: str
    evidence: str
    remedy: str


@dataclass(frozen=True)
class Looked:
    """What the checks look at: rows as encoded (N, D) and class numbers (N,) of both open parts, and the table."""

    encoding: Encoding
    train: NDArray[np.float32]
    validation: NDArray[np.float32]
    validation_labels: NDArray[np.int32]
    frame: polars.DataFrame
    labels: NDArray[np.int32]


def check(looked: Looked) -> tuple[Finding, ...]:
    """Return all findings, the gravest first."""
    return tuple(f for look in (_leaks, _duplicates, _classes, _imbalance, _resolution, _more_inputs, _far_values)
                 for f in look(looked))


def _leaks(looked: Looked) -> list[Finding]:
    """Try each column alone: learnt on every other row, judged on the rest."""
    labels = looked.labels
    odd = np.arange(len(labels)) % 2 == 1
    if odd.sum() < 20:
        return []
    guess = float((labels[odd] == np.bincount(labels[~odd]).argmax()).mean())
    found = []
    for code in looked.encoding.codes:
        cells = _cells(looked.frame[code.name])
        hits = _hits(cells, labels, odd)
        if 1 - hits < LEAK * (1 - guess):
            found.append(Finding(
                "leak", code.name, f"it alone tells {shown(looked.encoding.target, 30)} in {share(hits)} of rows, "
                f"where guessing is right in {share(guess)}", "if it is not known before the answer is, ignore it"))
    return found


def _cells(series: polars.Series) -> NDArray[np.int64]:
    """Return the category or quantile bin of each row (N,), gaps as one of their own."""
    import polars

    if series.dtype.is_temporal():
        series = series.cast(polars.Datetime).cast(polars.Int64)
    if series.dtype.is_numeric() and series.n_unique() > _BINS:
        values = series.cast(polars.Float64).fill_null(float("nan")).to_numpy()
        edges = np.unique(np.nanquantile(values, np.linspace(0, 1, _BINS + 1)[1:-1]))
        return np.where(np.isnan(values), len(edges) + 1, np.searchsorted(edges, values)).astype(np.int64)
    texts = np.array([str(v) for v in series])
    return np.unique(texts, return_inverse=True)[1].astype(np.int64)


def _hits(cells: NDArray[np.int64], labels: NDArray[np.int32], judged: NDArray[np.bool_]) -> float:
    """Return the share of the judged rows whose label is the commonest of their cell among the others."""
    table = np.zeros((int(cells.max()) + 1, int(labels.max()) + 1))
    np.add.at(table, (cells[~judged], labels[~judged]), 1)
    answer = np.where(table.sum(1) > 0, table.argmax(1), np.bincount(labels[~judged]).argmax())
    return float((answer[cells[judged]] == labels[judged]).mean())


def _duplicates(looked: Looked) -> list[Finding]:
    known = {row.tobytes() for row in looked.train}
    twice = sum(row.tobytes() in known for row in looked.validation)
    if twice == 0:
        return []
    part = twice / len(looked.validation)
    return [Finding("duplicates", "", f"{count(twice, 'validation row')} ({share(part)}) stand among the training "
                    "rows too, input for input", "split by a group column, so that related rows stay together")]


def _classes(looked: Looked) -> list[Finding]:
    counts = np.bincount(looked.validation_labels, minlength=len(looked.encoding.classes))
    few = [(name, int(n)) for name, n in zip(looked.encoding.classes, counts, strict=True) if n < FEW_ROWS]
    if not few:
        return []
    named = ", ".join(f"{shown(name, 20)} ({n})" for name, n in few[:5])
    more = f" and {len(few) - 5} more" if len(few) > 5 else ""
    return [Finding("few rows", "", f"{count(len(few), 'class', 'classes')} with fewer than {FEW_ROWS} validation "
                    f"rows: {named}{more}", "gather more, pool classes, or give validation a larger share")]


def _imbalance(looked: Looked) -> list[Finding]:
    counts = np.bincount(looked.labels, minlength=len(looked.encoding.classes))
    low, high = int(counts.min()), int(counts.max())
    if low == 0 or high < IMBALANCE * low:
        return []
    names = looked.encoding.classes
    return [Finding("imbalance", "", f"{shown(names[int(counts.argmax())], 20)} is {number(high / low, 3)} times as "
                    f"common as {shown(names[int(counts.argmin())], 20)}", "read the loss rather than the accuracy")]


def _resolution(looked: Looked) -> list[Finding]:
    """Say how small a difference in accuracy the validation part can show (two standard errors, at the floor)."""
    n = len(looked.validation_labels)
    p = float(np.bincount(looked.validation_labels).max()) / n
    finest = 2 * math.sqrt(max(p * (1 - p), 0.02) / n)
    if finest < 0.05:
        return []
    return [Finding("small part", "", f"{count(n, 'validation row')} cannot tell accuracies apart that differ by less "
                    f"than about {share(finest)}", "give validation a larger share, or gather more rows")]


def _more_inputs(looked: Looked) -> list[Finding]:
    rows, inputs = looked.train.shape
    if inputs <= rows:
        return []
    return [Finding("more inputs than rows", "", f"{count(inputs, 'input')} and {count(rows, 'training row')}: any "
                    "network can learn these rows by heart", "ignore columns, or regularise strongly")]


def _far_values(looked: Looked) -> list[Finding]:
    found, column = [], 0
    for code in looked.encoding.codes:
        if isinstance(code, NumberCode):
            own = looked.train[:, column].astype(np.float64)
            spread = float(own.std()) or 1.0
            away = np.abs(looked.validation[:, column] - own.mean()) / spread
            if float(away.max(initial=0.0)) > FAR:
                found.append((float(away.max()), int((away > FAR).sum()), code.name))
        column += len(code.inputs)
    return [Finding("far outside", name, f"{count(n, 'validation value')} lie up to {number(most, 3)} spreads from the "
                    "training rows", "look for mistakes in the column") for most, n, name in sorted(found)[::-1][:3]]


def wrong_columns(findings: Sequence[Finding]) -> dict[str, str]:
    """Return the kind of the gravest finding of each column that has one."""
    out: dict[str, str] = {}
    for finding in findings:
        if finding.column:
            out.setdefault(finding.column, finding.kind)
    return out
