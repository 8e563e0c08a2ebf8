"""What is suspicious about a table, with the evidence and a remedy, found before any training.

Only training and validation rows are looked at. Thresholds are named constants with a reason.
"""

from __future__ import annotations

import math
import shlex
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field, replace
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray

from axiarch.data.conversions import Conversion
from axiarch.data.encoding import Encoding, NumberCode, PictureCode, as_floats
from axiarch.data.linear import LinearBaseline
from axiarch.data.table import Table
from axiarch.data.target import Answers, class_numbers
from axiarch.plain import count, loss, number, share, shown

if TYPE_CHECKING:
    import polars

#: A single column that leaves fewer than this share of the errors of guessing is a leak until shown otherwise:
#: honest single inputs of hard tasks leave most of them.
LEAK = 0.05
#: The same for amounts: the share of the variance that a leaking column leaves.
LEAK_AMOUNT = 0.02
#: A validation part that cannot show a difference of this share is too small to tell good recipes apart.
COARSE = 0.05
#: The same for errors of amounts, as a share of the error.
COARSE_AMOUNT = 0.08
#: A single column that reaches this share of what a linear model on all columns reaches is strong.
STRONG = 0.7
#: ... if it removes at least this share of the errors, or of the variance, of guessing, and there
#: are so many columns that one which does most of the work is remarkable.
STRONG_AT_ALL, MANY = 0.2, 5
#: Bits of surprise beyond those that number the rows, from which equal rows are no accident.
NO_ACCIDENT = 5.0
#: A number this many times as far from all others as these lie apart stands for a missing value.
LONE = 3.0
#: Skewness (third standardised moment) from which amounts to be predicted are pointed out.
SKEWED = 2.0
#: Rows that single columns are tried on, spread over all.
TRIED = 40_000
#: Findings that are proposals and facts rather than faults: many a healthy table has them.
NOTES = frozenset({"constant", "strong column", "time"})
#: Characters that a remedy asks people to type, at the most.
_TYPED = 60
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

    @property
    def grave(self) -> bool:
        """Whether it should be looked into before anything is trained."""
        return self.kind not in NOTES


@dataclass(frozen=True)
class Looked:
    """What the checks look at: never a sealed row.

    Attributes
    ----------
    table : Table
    rows : (N,) array
        The rows of training and validation.
    encoding : Encoding
    train, validation : arrays
        Row numbers of the two parts, of the first fold.
    inputs : dict
        By part, the inputs as encoded (N, D), mapped from disk.
    targets : dict
        By part, the encoded targets.
    linear : LinearBaseline or None
        What a linear model scores on the validation part.
    guess : float
        The loss of a predictor that learns nothing.
    constant : tuple of str
        Columns left out because they are the same in every row.
    split_by_chance : bool
        Whether rows came into their parts by chance, and not by groups, by order or as given.
    conversions : mapping
        How each column is read.
    """

    table: Table
    rows: NDArray[np.int64]
    encoding: Encoding
    train: NDArray[np.int64]
    validation: NDArray[np.int64]
    inputs: dict[str, NDArray[np.float32]]
    targets: dict[str, Answers]
    linear: LinearBaseline | None = None
    guess: float = 0.0
    constant: tuple[str, ...] = ()
    split_by_chance: bool = True
    conversions: Mapping[str, Conversion] = field(default_factory=dict)

    @property
    def classes(self) -> bool:
        """Whether classes are predicted."""
        return self.encoding.target.task != "regression"


def check(looked: Looked) -> tuple[Finding, ...]:
    """Return all findings, the gravest first."""
    always = (_leaks, _duplicates)
    classes = (_classes, _case, _imbalance, _resolution) if looked.classes else (
        _amount_resolution, _skewed)
    last = (_more_inputs, _lone_values, _far_values, _dates, _linear_overfits, _constants)
    return tuple(f for look in (*always, *classes, *last) for f in look(looked))


def _leaks(looked: Looked) -> list[Finding]:
    """Try each column alone: learnt on every other row, judged on the rest."""
    target = looked.encoding.target
    looked = replace(looked, rows=looked.rows[:: max(len(looked.rows) // TRIED, 1)])
    odd = np.arange(len(looked.rows)) % 2 == 1
    if odd.sum() < 20:
        return []
    answers = [_answers(looked, name) for name in target.columns]
    together, many = _together(looked), len(looked.encoding.codes) >= MANY
    found = []
    for code in looked.encoding.codes:
        if isinstance(code, PictureCode):
            continue
        cells = _cells(looked.table.column(code.name)[looked.rows])
        for name, answer in zip(target.columns, answers, strict=True):
            column = looked.table.column(code.name)[looked.rows]
            if looked.classes:
                alone, words = _tells_class(cells, answer.astype(np.int64), odd, name)
                limit = LEAK
            else:
                alone, words = _tells_amount(as_floats_or_none(column), cells, answer, odd, name)
                limit = LEAK_AMOUNT
            if 1 - alone < limit:
                found.append(Finding("leak", code.name, words,
                                     _ignored(code.name)))
            elif together is not None and many and alone >= max(STRONG * together, STRONG_AT_ALL):
                found.append(_strong(looked, code.name, column, answer, odd, alone / together))
    return found


def _strong(looked: Looked, name: str, column: polars.Series, answer: NDArray[Any],
            odd: NDArray[np.bool_], part: float) -> Finding:
    """Return the finding of a column that alone does much of what all columns do together."""
    gaps = column.is_null().to_numpy().astype(np.int64)
    what = "this column alone"
    if gaps.any() and looked.classes:
        by_gaps = _tells_class(gaps, answer.astype(np.int64), odd, "")[0]
        whole = _tells_class(_cells(column), answer.astype(np.int64), odd, "")[0]
        what = "whether it is missing alone" if by_gaps >= STRONG * whole else what
    reaches = f"reaches {share(part)} of" if part < 1 else "reaches more than"
    return Finding("strong column", name, f"{what} {reaches} what a linear model on all columns "
                   "reaches", _ignored(name))


def _ignored(name: str) -> str:
    return f"if it is not known before the answer is, ignore it: key i{_option('ignore', name)}"


def _option(flag: str, column: str, more: str = "") -> str:
    """Return an option for a column as a shell takes it, or nothing where it could not be typed."""
    given = f"{column}{more}"
    if shown(given) != given or len(given) > _TYPED:
        return ""
    return f", or --{flag} {shlex.quote(given)}"


def _together(looked: Looked) -> float | None:
    """Return the share of the errors of guessing, or of the variance, that a linear model removes."""
    target, linear = looked.encoding.target, looked.linear
    if linear is None or len(target.columns) > 1:
        return None
    if not looked.classes:
        return linear.metrics[1] if linear.metrics[1] > 0 else None
    train, validation = (looked.targets[p].astype(np.int64) for p in ("train", "validation"))
    guess = float((validation == np.bincount(train).argmax()).mean())
    removed = (linear.metrics[0] - guess) / max(1 - guess, 1e-9)
    return removed if removed > 0 else None


def _answers(looked: Looked, name: str) -> NDArray[Any]:
    """Return the class numbers or amounts (N,) of a target column on the rows looked at."""
    series = looked.table.column(name)[looked.rows]
    return class_numbers(series, looked.encoding.target.classes) if looked.classes else as_floats(series)


def _tells_class(cells: NDArray[np.int64], labels: NDArray[np.int64], odd: NDArray[np.bool_],
                 name: str) -> tuple[float, str]:
    """Return the share of the errors of guessing that a column alone removes, and that in words."""
    guess = float((labels[odd] == np.bincount(labels[~odd]).argmax()).mean())
    hits = _hits(cells, labels, odd)
    removed = (hits - guess) / max(1 - guess, 1e-9) if guess < 1 else 0.0
    return removed, (f"it alone tells {shown(name, 30)} in {share(hits)} of rows, where guessing is "
                     f"right in {share(guess)}")


def _tells_amount(values: NDArray[np.float64] | None, cells: NDArray[np.int64], answer: NDArray[np.float64],
                  odd: NDArray[np.bool_], name: str) -> tuple[float, str]:
    """Explain amounts by the mean of their cell, and by a straight line.

    Returns the share of the variance that the better of them explains, and that in words.
    """
    spread = float(answer[odd].var())
    counts = np.bincount(cells[~odd], minlength=int(cells.max()) + 1)
    sums = np.bincount(cells[~odd], answer[~odd], minlength=len(counts))
    mean = np.where(counts > 0, sums / np.maximum(counts, 1), answer[~odd].mean())
    left = float(((answer[odd] - mean[cells[odd]]) ** 2).mean())
    if values is not None and (known := ~np.isnan(values)).all() and (flat := float(values[~odd].std())) > 0:
        x = (values - values[~odd].mean()) / flat
        slope = float((x[~odd & known] * answer[~odd & known]).mean())
        left = min(left, float(((answer[odd] - answer[~odd].mean() - slope * x[odd]) ** 2).mean()))
    if spread == 0:
        return 0.0, ""
    return 1 - left / spread, f"it alone explains {share(1 - left / spread)} of the variance of {shown(name, 30)}"


def as_floats_or_none(series: polars.Series) -> NDArray[np.float64] | None:
    """Return a column of numbers as floats, None for any other."""
    return as_floats(series) if series.dtype.is_numeric() else None


def _cells(series: polars.Series) -> NDArray[np.int64]:
    """Return the category or quantile bin of each row (N,), gaps as one of their own."""
    import polars

    if series.dtype.is_temporal():
        series = series.cast(polars.Datetime).cast(polars.Int64)
    if series.dtype.is_numeric():
        values = as_floats(series)
        gap = np.isnan(values)
        present = values[~gap]
        if len(np.unique(present)) + bool(gap.any()) > _BINS:
            edges = np.unique(np.quantile(present, np.linspace(0, 1, _BINS + 1)[1:-1]))
            return np.where(gap, len(edges) + 1, np.searchsorted(edges, values)).astype(np.int64)
    return series.rank("dense").fill_null(0).to_numpy().astype(np.int64)


def _hits(cells: NDArray[np.int64], labels: NDArray[np.int64], judged: NDArray[np.bool_]) -> float:
    """Return the share of the judged rows whose label is the commonest of their cell among the others."""
    table = np.zeros((int(cells.max()) + 1, int(labels.max()) + 1))
    np.add.at(table, (cells[~judged], labels[~judged]), 1)
    answer = np.where(table.sum(1) > 0, table.argmax(1), np.bincount(labels[~judged]).argmax())
    return float((answer[cells[judged]] == labels[judged]).mean())


def _hashes(inputs: NDArray[np.float32]) -> NDArray[np.uint64]:
    """Return a 64-bit hash of each row (N,), worked out in pieces."""
    factors = np.random.default_rng(np.random.SeedSequence(64)).integers(0, 2**63, inputs.shape[1], np.uint64) * 2 + 1
    out = np.empty(len(inputs), np.uint64)
    step = max(2_000_000 // max(inputs.shape[1], 1), 1)
    for start in range(0, len(inputs), step):
        bits = np.ascontiguousarray(inputs[start : start + step]).view(np.uint32).astype(np.uint64)
        mixed = (bits + np.uint64(0x9E3779B9)) * factors
        out[start : start + step] = (mixed ^ (mixed >> np.uint64(29))).sum(1, dtype=np.uint64)
    return out


def _duplicates(looked: Looked) -> list[Finding]:
    """Count the validation rows whose inputs stand in the training part too, accidents left out."""
    again = np.isin(_hashes(looked.inputs["validation"]), _hashes(looked.inputs["train"]))
    if not again.any():
        return []
    rows = looked.validation[again]
    surprise = _surprise(looked, rows) if len(rows) else np.zeros(0)
    twice = int((surprise > math.log2(len(looked.train)) + NO_ACCIDENT).sum())
    if twice == 0:
        return []
    part = twice / len(looked.validation)
    cure = ("keep equal rows together in one part: key j, or --keep-equal-rows"
            if looked.split_by_chance else "look how the parts were chosen")
    return [Finding("duplicates", "", f"{count(twice, 'validation row')} ({share(part)}) have the same "
                    "inputs as a training row, and too many to be an accident", cure)]


def _surprise(looked: Looked, rows: NDArray[np.int64]) -> NDArray[np.float64]:
    """Return the bits of surprise of rows (M,): by how rare the value of each column is, summed.

    Columns that go together surprise less than that; where they do, accidents are counted as well.
    """
    total = np.zeros(len(rows))
    for code in looked.encoding.codes:
        series = looked.table.column(code.name)
        if isinstance(code, PictureCode):
            return np.full(len(rows), np.inf)
        counts = dict(series[looked.train].value_counts(name="rows").iter_rows())
        total += [-math.log2(max(counts.get(value, 1), 1) / len(looked.train))
                  for value in series[rows]]
    return total


def _validation_counts(looked: Looked) -> NDArray[np.int64]:
    return np.bincount(looked.targets["validation"].astype(np.int64), minlength=len(looked.encoding.target.classes))


def _classes(looked: Looked) -> list[Finding]:
    counts = _validation_counts(looked)
    few = [(name, int(n)) for name, n in zip(looked.encoding.target.classes, counts, strict=True) if n < FEW_ROWS]
    if not few:
        return []
    named = ", ".join(f"{shown(name, 20)} ({n})" for name, n in few[:5])
    more = f" and {len(few) - 5} more" if len(few) > 5 else ""
    return [Finding("few rows", "", f"{count(len(few), 'class', 'classes')} with fewer than {FEW_ROWS} validation "
                    f"rows: {named}{more}", "gather more, pool classes, or give validation a larger share")]


def _case(looked: Looked) -> list[Finding]:
    """Point out classes that differ only in the case of their letters."""
    found: dict[str, list[str]] = {}
    for name in looked.encoding.target.classes:
        found.setdefault(name.lower(), []).append(name)
    alike = [names for names in found.values() if len(names) > 1]
    if not alike:
        return []
    named = "; ".join(", ".join(repr(shown(n, 20)) for n in names) for names in alike[:4])
    target = looked.encoding.target.columns[0]
    return [Finding("letter case", target, f"classes that differ only in case: {named}",
                    "if they mean the same, merge them: key u" + _option("merge-case", target))]


def _skewed(looked: Looked) -> list[Finding]:
    """Point out amounts most of which are small beside a few large ones."""
    found = []
    for i, name in enumerate(looked.encoding.target.columns):
        if looked.encoding.target.spread:
            continue  # its logarithm is what is trained on
        values = looked.targets["train"][:, i].astype(np.float64)
        spread = float(values.std())
        skew = float((((values - values.mean()) / spread) ** 3).mean()) if spread else 0.0
        if abs(skew) > SKEWED:
            found.append(Finding("skewed target", name, f"its skewness is {number(skew, 2)}: a few rows "
                                 "decide the squared error", "train on its logarithm: key z on the target, or "
                                 "--target-scaling logarithm"))
    return found


def _lone_values(looked: Looked) -> list[Finding]:
    """Remark on a single extreme number far from all others, such as -999."""
    found = []
    for code in looked.encoding.codes:
        if not isinstance(code, NumberCode):
            continue
        values = as_floats(looked.table.column(code.name)[looked.train])
        distinct = np.unique(values[~np.isnan(values)])
        if len(distinct) < 4:
            continue
        for lone, rest in ((distinct[0], distinct[1:]), (distinct[-1], distinct[:-1])):
            rows, apart = int((values == lone).sum()), float(np.abs(rest - lone).min())
            digits = f"{abs(lone):g}"
            marks = rows > 1 or (set(digits) == {"9"} and len(digits) > 1)
            if marks and apart > LONE * max(float(rest[-1] - rest[0]), 1e-300):
                mark = f"{lone:g}"
                found.append(Finding(
                    "lone value", code.name, f"{mark} in {count(rows, 'row')} lies far from all others, "
                    f"which go from {number(float(rest[0]))} to {number(float(rest[-1]))}",
                    "if it means missing, say so: key w" + _option("missing", code.name, f"={mark}")))
    return found


def _dates(looked: Looked) -> list[Finding]:
    """Propose to split by time where rows carry dates and came into their parts by chance."""
    if not looked.split_by_chance:
        return []
    for name, kind in looked.table.schema.items():
        if kind.is_temporal():
            series = looked.table.column(name)[looked.rows].drop_nulls()
            if series.n_unique() > FEW_ROWS:
                return [Finding("time", name, f"rows are dated from {str(series.min())[:10]} to "
                                f"{str(series.max())[:10]}, and a random split lets networks learn "
                                "from later rows", "if they are to predict the future, put rows in "
                                "order: key l" + _option("order", name))]
    return []


def _linear_overfits(looked: Looked) -> list[Finding]:
    """Point out that a linear model needs a strong ridge: there are few rows for the inputs."""
    linear = looked.linear
    if linear is None or not linear.overfits or (
            linear.weakest - linear.loss < COARSE * (looked.guess - linear.loss)):
        return []
    return [Finding("overfitting", "", f"a linear model with hardly any ridge has a validation loss of "
                    f"{loss(linear.weakest)}; the one shown, with ridge "
                    f"{number(linear.ridge)}, {loss(linear.loss)}",
                    "expect to need regularisation")]


def _imbalance(looked: Looked) -> list[Finding]:
    counts = _validation_counts(looked) + np.bincount(looked.targets["train"].astype(np.int64),
                                                      minlength=len(looked.encoding.target.classes))
    low, high = int(counts.min()), int(counts.max())
    if low == 0 or high < IMBALANCE * low:
        return []
    names = looked.encoding.target.classes
    return [Finding("imbalance", "", f"{shown(names[int(counts.argmax())], 20)} is {number(high / low, 3)} times as "
                    f"common as {shown(names[int(counts.argmin())], 20)}", "read the loss rather than the accuracy")]


def _resolution(looked: Looked) -> list[Finding]:
    """Say how small a difference in accuracy the validation part can show (two standard errors, at the floor)."""
    n = len(looked.validation)
    p = float(_validation_counts(looked).max()) / n
    finest = 2 * math.sqrt(max(p * (1 - p), 0.02) / n)
    return _too_small(n, "accuracies", finest, COARSE)


def _amount_resolution(looked: Looked) -> list[Finding]:
    """The same for the root mean squared error: of normal errors its standard error is 1 / sqrt(2 n) of itself."""
    n = len(looked.validation)
    return _too_small(n, "errors", 2 / math.sqrt(2 * n), COARSE_AMOUNT)


def _too_small(n: int, what: str, finest: float, coarse: float) -> list[Finding]:
    if finest < coarse:
        return []
    return [Finding("small part", "", f"{count(n, 'validation row')} cannot tell {what} apart that differ by less "
                    f"than about {share(finest)}", "give validation a larger share, use folds, or gather more rows")]


def _more_inputs(looked: Looked) -> list[Finding]:
    rows, inputs = looked.inputs["train"].shape
    if inputs <= rows:
        return []
    return [Finding("more inputs than rows", "", f"{count(inputs, 'input')} and {count(rows, 'training row')}: any "
                    "network can memorise these rows", "ignore columns, or regularise strongly")]


def _far_values(looked: Looked) -> list[Finding]:
    found = []
    for code in looked.encoding.codes:
        if not isinstance(code, NumberCode):
            continue
        series = looked.table.column(code.name)
        own = code.encode(series[looked.train])[:, 0]
        spread = float(own.std()) or 1.0
        away = np.abs(code.encode(series[looked.validation])[:, 0] - own.mean()) / spread
        if float(away.max(initial=0.0)) > FAR:
            found.append((float(away.max()), int((away > FAR).sum()), code.name))
    return [Finding("far outside", name, f"{count(n, 'validation value')} up to {number(most, 3)} spreads away from "
                    "the training rows", "look for mistakes in the column")
            for most, n, name in sorted(found)[::-1][:3]]


def _constants(looked: Looked) -> list[Finding]:
    if not looked.constant:
        return []
    named = ", ".join(shown(name, 30) for name in looked.constant[:5])
    more = f" and {len(looked.constant) - 5} more" if len(looked.constant) > 5 else ""
    return [Finding("constant", looked.constant[0], f"the same in every row: {named}{more}",
                    "left out; nothing needs doing unless it should differ")]


def wrong_columns(findings: Sequence[Finding]) -> dict[str, str]:
    """Return the kind of the gravest finding of each column that has one; notes do not count."""
    out: dict[str, str] = {}
    for finding in findings:
        if finding.column and finding.grave:
            out.setdefault(finding.column, finding.kind)
    return out
