"""What is suspicious about a table, with the evidence and a remedy, found before any training.

Only training and validation rows are looked at. Thresholds are named constants with a reason.
"""

from __future__ import annotations

import math
from collections.abc import Sequence

import numpy as np
from numpy.typing import NDArray

from axiarch.data.checksums import row_hashes
from axiarch.data.decisions import Decision, ignore_column
from axiarch.data.encoding import NumberCode, PictureCode, as_floats
from axiarch.data.findings import CheckInput, Finding, finding, grave, option
from axiarch.data.leaks import leaks
from axiarch.text import count, loss, number, share, shown

Floats = NDArray[np.float64]

#: A validation part that cannot show a difference of this share is too small to tell good recipes
#: apart.
COARSE = 0.05
#: The same for errors of amounts, as a share of the error.
COARSE_AMOUNT = 0.08
#: Parts that rows are dealt out to.
_MOST_PARTS = 3
#: Bits of surprise beyond those that number the rows, from which equal rows are no accident.
NO_ACCIDENT = 5.0
#: A number this many times as far from all others as these lie apart stands for a missing value.
LONE = 3.0
#: Skewness (third standardised moment) from which amounts to be predicted are pointed out.
SKEWED = 2.0
#: The commonest class so many times as common as the rarest is imbalanced: plain accuracy then says
#: little.
IMBALANCE = 10.0
#: Fewer validation rows of a class than this tell nothing about it.
FEW_ROWS = 10
#: Folds that are proposed, and rows more than just enough.
_FOLDS, _SPARE = 5, 1.1
#: Validation and test together take at most this share of the rows: the rest must train.
_MOST_SHARE = 0.5
#: Numbers of the encoded inputs looked at together.
_NUMBERS = 4_000_000
#: A validation value so many training spreads from the training mean is far outside what was learnt
#: from.
FAR = 8.0
#: Inputs whose usual size is so many times that of scaled ones saturate units, or throw weights
#: about.
LARGE = 20.0


def check(given: CheckInput) -> tuple[Finding, ...]:
    """Return all findings, the gravest first."""
    always = (leaks, _duplicates)
    classes = (_classes, _case, _imbalance, _resolution) if given.classes else (
        _amount_resolution, _skewed)
    last = (_more_inputs, _lone_values, _unscaled, _far_values, _dates, _linear_overfits,
            _constants)
    return tuple(f for look in (*always, *classes, *last) for f in look(given))


def _duplicates(given: CheckInput) -> list[Finding]:
    """Count the validation rows whose inputs stand in the training part too, accidents left out."""
    known, seen = (row_hashes(given.inputs[part]) for part in ("train", "validation"))
    again = np.isin(seen, known)
    if not again.any():
        return []
    rows = given.validation[again]
    surprise = _surprise(given, rows) if len(rows) else np.zeros(0)
    twice = int((surprise > math.log2(len(given.train)) + NO_ACCIDENT).sum())
    if twice == 0:
        return []
    part = twice / len(given.validation)
    different = len(np.unique(np.concatenate((known, seen))))
    cure = "check how the parts were chosen"
    changes: tuple[Decision, ...] = ()
    if different < max(given.split.folds, 1) + _MOST_PARTS:
        held = count(different, "different input")
        cure = f"the rows hold only {held}: check how the table was made"
    elif given.split_by_chance:
        cure = "keep equal rows together in one part: key j, or --keep-equal-rows"
        changes = (Decision("Keep rows with the same inputs in one part", "equal rows"),)
    return [
        finding("duplicates", f"{count(twice, 'validation row')} ({share(part)}) have the same "
                "inputs as a training row, and too many to be an accident", cure, "", changes)
    ]


def _surprise(given: CheckInput, rows: NDArray[np.int64]) -> NDArray[np.float64]:
    """Return the bits of surprise of rows (M,): by how rare the value of each column is, summed.

    Columns that go together surprise less than that; where they do, accidents are counted as well.
    """
    total = np.zeros(len(rows))
    for code in given.encoding.codes:
        series = given.table.column(code.name)
        if isinstance(code, PictureCode):
            return np.full(len(rows), np.inf)
        counts = dict(series[given.train].value_counts(name="rows").iter_rows())
        total += [-math.log2(max(counts.get(value, 1), 1) / len(given.train))
                  for value in series[rows]]
    return total


def _validation_counts(given: CheckInput) -> NDArray[np.int64]:
    """Count the validation rows of each class (C,), of all folds where there are several."""
    labels = given.targets["validation"]
    if given.validated:
        labels = np.concatenate([labels, given.targets["train"]])
    return np.bincount(labels.astype(np.int64), minlength=len(given.encoding.target.classes))


def _more_validation(given: CheckInput, times: float, folds_do: bool) -> tuple[Decision, ...]:
    """Return the decisions that make the validation part `times` larger: a larger share, where
    enough rows are left to train on, and folds, where `folds_do`.
    """
    split = given.split
    wanted = math.ceil(100 * split.validation * times) / 100
    larger = Decision(f"Raise the validation share to {wanted:g}", "validation",
                      value=f"{wanted:g}")
    folded = Decision(f"Use {_FOLDS} folds: every row outside the test part validates once",
                      "folds", value=str(_FOLDS))
    fits = not split.part and not split.folds and wanted + split.test <= _MOST_SHARE
    folds = not split.part and not split.folds and folds_do
    return ((larger,) if fits else ()) + ((folded,) if folds else ())


def _classes(given: CheckInput) -> list[Finding]:
    counts = _validation_counts(given)
    few = [(name, int(n))
           for name, n in zip(given.encoding.target.classes, counts, strict=True)
           if n < FEW_ROWS]
    if not few:
        return []
    named = ", ".join(f"{shown(name, 20)} ({n})" for name, n in few[:5])
    more = f" and {len(few) - 5} more" if len(few) > 5 else ""
    train = np.bincount(given.targets["train"].astype(np.int64), minlength=len(counts))
    rarest = max(int(counts.min()), 1)
    changes = _more_validation(given, _SPARE * FEW_ROWS / rarest,
                               int((counts + train).min()) >= FEW_ROWS)
    return [
        finding("few rows", f"{count(len(few), 'class', 'classes')} with fewer than {FEW_ROWS} "
                f"validation rows: {named}{more}",
                "gather more, pool classes, or give validation a larger share", "", changes)
    ]


def _case(given: CheckInput) -> list[Finding]:
    """Point out classes that differ only in the case of their letters."""
    found: dict[str, list[str]] = {}
    for name in given.encoding.target.classes:
        found.setdefault(name.lower(), []).append(name)
    alike = [names for names in found.values() if len(names) > 1]
    if not alike:
        return []
    named = "; ".join(", ".join(repr(shown(n, 20)) for n in names) for names in alike[:4])
    target = given.encoding.target.columns[0]
    return [finding("letter case", f"classes that differ only in case: {named}",
                    "if they mean the same, merge them: key u" + option("merge-case", target),
                    target, (Decision("Merge classes that differ only in case", "merge case",
                                      target),))]


def _skewed(given: CheckInput) -> list[Finding]:
    """Point out amounts of which a few far ones decide the squared error."""
    target = given.encoding.target
    if target.spread or target.measure != "loss":
        return []  # its logarithm is what is trained on, or another measure is what counts
    train, validation = (np.asarray(target.decode(given.targets[part]))
                         for part in ("train", "validation"))
    logarithms = min(train.min(), validation.min(initial=np.inf)) >= 0
    found = []
    for name, values in zip(target.columns, train.T, strict=True):
        skew = _skewness(values)
        if abs(skew) > SKEWED:
            helps = logarithms and abs(_skewness(_logarithm(values))) < abs(skew)
            advice, change = _straightened(helps, len(target.columns))
            found.append(finding(
                "skewed target", f"its skewness is {number(skew, 2)}: a few rows decide the "
                "squared error", advice, name, change))
    return found


def _straightened(logarithm: bool, targets: int) -> tuple[str, tuple[Decision, ...]]:
    """Return what to do about skewed amounts: in words, and as a decision where it is one."""
    if logarithm:
        return ("train on its logarithm: key z on the target, or --target-scaling logarithm",
                (Decision("Train on the logarithm of the target", "target scaling",
                          value="logarithm"),))
    if targets == 1:
        return ("rank by the mean absolute error: key B, or --ranked-by 'mean absolute error'",
                (Decision("Rank recipes by the mean absolute error", "ranked by",
                          value="mean absolute error"),))
    return "set loss to huber on the sheet: far rows then count less", ()


def _skewness(values: Floats) -> float:
    spread = float(values.std())
    return float((((values - values.mean()) / spread) ** 3).mean()) if spread else 0.0


def _logarithm(values: Floats) -> Floats:
    """Return the logarithms of amounts (N,) of 0 and above, as targets are trained on."""
    above = values[values > 0]
    return np.log(values + (0.0 if above.size == values.size else above.min(initial=1.0)))


def _lone_values(given: CheckInput) -> list[Finding]:
    """Remark on a single extreme number far from all others, such as -999."""
    found, train = [], given.table.taken(given.train)
    for code in given.encoding.codes:
        if not isinstance(code, NumberCode):
            continue
        values = as_floats(train(code.name))
        distinct = np.unique(values[~np.isnan(values)])
        if len(distinct) < 4:
            continue
        for lone, rest in ((distinct[0], distinct[1:]), (distinct[-1], distinct[:-1])):
            rows, apart = int((values == lone).sum()), float(np.abs(rest - lone).min())
            digits = f"{abs(lone):g}"
            marks = rows > 1 or (set(digits) == {"9"} and len(digits) > 1)
            if marks and apart > LONE * max(float(rest[-1] - rest[0]), 1e-300):
                mark = f"{lone:g}"
                found.append(finding(
                    "lone value",
                    f"{mark} in {count(rows, 'row')} lies far from all others, which go from "
                    f"{number(float(rest[0]))} to {number(float(rest[-1]))}",
                    "if it means missing, say so: key w" +
                    option("missing", code.name, f"={mark}"), code.name,
                    (Decision(f"Read {mark} in {shown(code.name, 30)} as missing", "missing",
                              code.name, mark),)))
    return found


def _dates(given: CheckInput) -> list[Finding]:
    """Propose to split by time where rows carry dates and came into their parts by chance."""
    if not given.split_by_chance:
        return []
    for name, kind in given.table.schema.items():
        if kind.is_temporal():
            series = given.table.column(name)[given.rows].drop_nulls()
            if series.n_unique() > FEW_ROWS:
                return [finding("time", f"rows are dated from {str(series.min())[:10]} to "
                                f"{str(series.max())[:10]}, and a random split lets networks learn "
                                "from later rows", "if they are to predict the future, put rows in "
                                "order: key l" + option("order", name), name,
                                (Decision(f"Split by the order of {shown(name, 30)}: the latest "
                                          "rows are for the test", "order", name),))]
    return []


def _linear_overfits(given: CheckInput) -> list[Finding]:
    """Point out that a linear model needs a strong ridge: there are few rows for the inputs."""
    linear = given.linear
    if linear is None or not linear.overfits or (
            linear.weakest - linear.loss < COARSE * (given.guess - linear.loss)):
        return []
    return [
        finding(
            "overfitting", f"a linear model with hardly any ridge has a validation loss of "
            f"{loss(linear.weakest)}; the one shown, with ridge {number(linear.ridge)}, "
            f"{loss(linear.loss)}", "expect to need regularisation")
    ]


def _imbalance(given: CheckInput) -> list[Finding]:
    counts = _validation_counts(given) + np.bincount(given.targets["train"].astype(np.int64),
                                                      minlength=len(given.encoding.target.classes))
    low, high = int(counts.min()), int(counts.max())
    if low == 0 or high < IMBALANCE * low:
        return []
    names = given.encoding.target.classes
    return [
        finding(
            "imbalance",
            f"{shown(names[int(counts.argmax())], 20)} is {number(high / low, 3)} times as "
            f"common as {shown(names[int(counts.argmin())], 20)}",
            "read the loss rather than the accuracy")
    ]


def _resolution(given: CheckInput) -> list[Finding]:
    """Say how uncertain the validation part leaves an accuracy (two standard errors, at the
    baseline); differences between recipes, on the same rows, may be less so.
    """
    n = given.validated or len(given.validation)
    counts = _validation_counts(given)
    p = float(counts.max() / counts.sum())
    finest = 2 * math.sqrt(max(p * (1 - p), 0.02) / n)
    return _too_small(given, n, f"accuracy uncertain by about ± {100 * finest:.2g} points", finest,
                      COARSE)


def _amount_resolution(given: CheckInput) -> list[Finding]:
    """The same for the root mean squared error: of normal errors its standard error is 1 /
    sqrt(2 n) of itself.
    """
    n = given.validated or len(given.validation)
    finest = 2 / math.sqrt(2 * n)
    return _too_small(given, n, f"error uncertain by about ± {share(finest)} of itself", finest,
                      COARSE_AMOUNT)


def _too_small(given: CheckInput, n: int, what: str, finest: float, coarse: float) -> list[Finding]:
    if finest < coarse:
        return []
    times = _SPARE * (finest / coarse) ** 2
    return [
        finding("small part", f"{count(n, 'validation row')} "
                f"{'leaves' if n == 1 else 'leave'} any {what}",
                "give validation a larger share, use folds, or gather more rows", "",
                _more_validation(given, times, len(given.rows) >= times * n))
    ]


def _more_inputs(given: CheckInput) -> list[Finding]:
    rows, inputs = given.inputs["train"].shape
    if inputs <= rows:
        return []
    return [
        finding(
            "more inputs than rows",
            f"{count(inputs, 'input')} and {count(rows, 'training row')}: any network can memorise "
            "these rows", "ignore columns, or regularise strongly")
    ]


def _unscaled(given: CheckInput) -> list[Finding]:
    """Point out columns of numbers that are usually far larger than scaled ones."""
    numbers = _number_inputs(given)
    places = np.array(list(numbers.values()), np.int64)
    sizes = np.zeros(len(places))
    step = max(_NUMBERS // len(given.train), 1)
    for start in range(0, len(places), step):
        block = slice(start, start + step)
        sizes[block] = np.median(np.abs(given.inputs["train"][:, places[block]]), axis=0)
    names = [name for name, size in zip(numbers, sizes, strict=True) if size > LARGE]
    if not names:
        return []
    more = f" and of {count(len(names) - 1, 'other column')}" if len(names) > 1 else ""
    return [finding(
        "not scaled", f"half of the values of {shown(names[0], 30)}{more} are beyond "
        f"±{number(LARGE)}, up to ±{number(float(sizes.max()), 3)}, where a network takes in "
        "numbers near 1", "scale them: key z on each column, or --scaling z-score", names[0],
        (Decision("Scale the numbers that are not scaled", "scaling", "", "z-score"),))]


def _far_values(given: CheckInput) -> list[Finding]:
    """Point out the three columns whose validation values lie farthest from the training rows."""
    numbers = _number_inputs(given)
    places = np.array(list(numbers.values()), np.int64)
    most, many = np.zeros(len(places)), np.zeros(len(places), np.int64)
    step = max(_NUMBERS // len(given.train), 1)
    for start in range(0, len(places), step):
        block = slice(start, start + step)
        own, other = (np.asarray(given.inputs[part][:, places[block]], np.float64)
                      for part in ("train", "validation"))
        spread = own.std(0)
        away = np.abs(other - own.mean(0)) / np.where(spread > 0, spread, 1.0)
        most[block], many[block] = away.max(0, initial=0.0), (away > FAR).sum(0)
    names = list(numbers)
    worst = sorted(((most[i], int(many[i]), names[i]) for i in np.flatnonzero(most > FAR)),
                   reverse=True)
    return [
        finding(
            "far outside", f"{count(n, 'validation value')} up to "
            f"{number(float(far), 3)} standard deviations from the mean of the training rows",
            "look for mistakes in the column, or ignore it", name,
            (ignore_column(name),)) for far, n, name in worst[:3]
    ]


def _number_inputs(given: CheckInput) -> dict[str, int]:
    """Return by name the place among the inputs of each column of numbers."""
    found, place = {}, 0
    for code in given.encoding.codes:
        if isinstance(code, NumberCode):
            found[code.name] = place
        place += len(code.inputs)
    return found


def _constants(given: CheckInput) -> list[Finding]:
    if not given.constant:
        return []
    named = ", ".join(shown(name, 30) for name in given.constant[:5])
    more = f" and {len(given.constant) - 5} more" if len(given.constant) > 5 else ""
    return [finding("constant", f"the same in every row: {named}{more}",
                    "left out; nothing needs doing unless it should differ", given.constant[0])]


#: What is said where validation rows train too: nothing else that is measured on them means
#: anything.
ALL_OPEN = finding(
    "trained on",
    "the validation rows are training rows too, so their loss does not measure how good a network "
    "is", "score it once on the test rows: axiarch data open-seal")


def wrong_columns(findings: Sequence[Finding]) -> dict[str, str]:
    """Return the kind of the gravest finding of each column that has one; notes do not count."""
    out: dict[str, str] = {}
    for found in findings:
        if found.column and grave(found):
            out.setdefault(found.column, found.name)
    return out
