"""The decisions that turn a table into arrays; each has a default that is right for most tables."""

from __future__ import annotations

import math
import re
from dataclasses import dataclass, field, replace
from typing import Literal, get_args

from axiarch.errors import DataError
from axiarch.runs.lowered import Lowered
from axiarch.text import shown

Scaling = Literal["z-score", "0-1", "robust", "logarithm", "none"]
Task = Literal["classification", "binary", "regression"]

#: Ways to fill a gap; ``constant N`` fills it with the number N.
FILLS: tuple[str, ...] = ("median", "mean", "most frequent", "constant 0")
SCALINGS: tuple[Scaling, ...] = ("z-score", "0-1", "robust", "logarithm", "none")
#: Scalings of a regression target: those that losses can be taken back from.
TARGET_SCALINGS: tuple[Scaling, ...] = ("z-score", "0-1", "robust", "logarithm", "none")
TASKS: tuple[Task, ...] = ("classification", "binary", "regression")

_CONSTANT = re.compile(r"constant\s+([+-]?(\d+\.?\d*|\.\d+)([eE][+-]?\d+)?)")
#: Most folds, repeats counted: each is a copy of the arrays.
MOST_FOLDS = 100
#: Most times that pictures are shrunk.
MOST_SHRUNK = 16


def constant(gaps: str) -> float | None:
    """Return the number that gaps are filled with, or None where it is learnt from the training
    rows.
    """
    found = _CONSTANT.fullmatch(gaps)
    return float(found[1]) if found else None


def check_gaps(gaps: str, where: str = "gaps") -> str:
    """Return a way to fill gaps, or raise where there is none of that name."""
    if gaps not in FILLS and constant(gaps) is None:
        raise DataError(f"gaps cannot be filled by {shown(gaps, 40)!r}", where,
                        "give median, mean, most frequent, or constant N")
    return gaps


def check_marks(marks: tuple[str, ...]) -> None:
    """Raise where texts that mean "missing" are too many or too long."""
    if len(marks) > MOST_MARKS or any(len(mark) > MOST_MARK for mark in marks):
        raise DataError("too many or too long texts mean missing", "missing",
                        f"give at most {MOST_MARKS} of at most {MOST_MARK} characters")


@dataclass(frozen=True)
class FormatOverrides:
    """What the user says of a file's form; None is found out."""

    separator: str | None = None
    encoding: str | None = None
    decimal: str | None = None
    header: bool | None = None

    def __str__(self) -> str:
        names = {mark: name for name, mark in SEPARATOR_NAMES.items()}
        said = {
            "separator": names.get(self.separator or "", self.separator), "encoding": self.encoding,
            "decimal": {",": "comma", ".": "point"}.get(self.decimal or ""),
            "header": None if self.header is None else "yes" if self.header else "no"
        }
        return ", ".join(f"{name} {value}" for name, value in said.items() if value is not None)

    @classmethod
    def parse(cls, text: str) -> FormatOverrides:
        """Return what is said in words, such as ``separator semicolon, decimal comma, header no``.

        Raises
        ------
        DataError
            With what was read and what would be right.
        """
        said: dict[str, str | bool] = {}
        for part in filter(None, (each.strip() for each in text.split(", "))):
            name, _, value = part.partition(" ")
            said[name] = _said(name, value.strip())
        return cls(**said)  # type: ignore[arg-type]


#: Words for separators that are hard to see or to type.
SEPARATOR_NAMES = {"comma": ",", "semicolon": ";", "tab": "\t", "bar": "|", "space": " "}


def _said(name: str, value: str) -> str | bool:
    """Return one thing that is said of a file's form, or raise where it makes no sense."""
    if name == "separator":
        mark = SEPARATOR_NAMES.get(value, value)
        if len(mark) == 1:
            return mark
    elif name == "encoding" and value:
        return value
    elif name == "decimal" and value in ("comma", "point", ",", "."):
        return {"comma": ",", "point": "."}.get(value, value)
    elif name == "header" and value in ("yes", "no"):
        return value == "yes"
    raise DataError(f"{shown(f'{name} {value}'.strip(), 40)!r} is an unknown format option", "",
                    "such as: separator semicolon, encoding windows-1252, decimal comma, header no")


#: In which order dates are written, where they are not written by a pattern of their own.
DATE_ORDERS = ("day first", "month first", "year first")
#: Texts that mean "missing" for a column, at the most, and characters of each.
MOST_MARKS, MOST_MARK = 50, 100
_PATTERN = re.compile(r"[-%YmdyHMSjbB:./ T,]{2,40}")


@dataclass(frozen=True)
class Treatment:
    """What is decided otherwise for one column than for all; None is as for all.

    Attributes
    ----------
    gaps, scaling : str or None
        As in :class:`DataPlan`.
    order : tuple of str or None
        Text becomes one number, its place in this order (ordinal), instead of an input per
        category; an empty tuple orders the categories as they sort.
    missing : tuple of str or None
        Texts (or numbers) that mean "no value" in this column.
    dates : str or None
        The order of day and month, one of :data:`DATE_ORDERS`, or a pattern such as ``%d.%m.%Y``.
    merge_case : bool
        Whether texts that differ only in case are one category.
    """

    gaps: str | None = None
    scaling: Scaling | None = None
    order: tuple[str, ...] | None = None
    missing: tuple[str, ...] | None = None
    dates: str | None = None
    merge_case: bool = False

    def __post_init__(self) -> None:
        check_marks(self.missing or ())
        dates = self.dates
        if dates is not None and dates not in DATE_ORDERS and not (
                _PATTERN.fullmatch(dates) and "%" in dates):
            raise DataError(f"dates cannot be written {shown(dates, 40)!r}", "dates",
                            "give day first, month first, year first, or a pattern like %d.%m.%Y")
        if self.gaps is not None:
            check_gaps(self.gaps)
        if self.scaling is not None and self.scaling not in SCALINGS:
            raise DataError(f"no scaling is called {shown(self.scaling, 40)!r}", "scaling",
                            "give one of " + ", ".join(SCALINGS))


@dataclass(frozen=True)
class SplitPlan:
    """How rows are divided.

    Attributes
    ----------
    validation, test : float
        Shares of the rows; the rest is for training.
    group : str
        A column whose equal values stay together in one part; empty for none.
    order : str
        A column by which rows are put in order: the last are for the test, those before for
        validation.
    part : str
        A column that says which part a row belongs to: train, validation or test.
    folds : int
        0 keeps one validation part. From 2: the rows that are not sealed are cut into so many
        parts, each validated on once by a network trained on the others (in order of time: on those
        before it).
    fold_repeats : int
        How often that is done, each time cut differently.
    seed : int
        Fixes the split.
    equal_rows : bool
        Whether rows with the same inputs stay together in one part.
    all_open : bool
        Whether the validation rows train too, for a last training before the test: their loss then
        says nothing.
    """

    validation: float = 0.2
    test: float = 0.2
    group: str = ""
    order: str = ""
    part: str = ""
    folds: int = 0
    fold_repeats: int = 1
    seed: int = 1
    equal_rows: bool = False
    all_open: bool = False

    def __post_init__(self) -> None:
        for name, share in (("validation", self.validation), ("test", self.test)):
            if not 0.01 <= share <= 0.9:
                raise DataError(f"a {name} part of {share:g} does not fit", "split",
                                "give a share from 0.01 to 0.9")
        if self.validation + self.test > 0.9:
            raise DataError("less than a tenth of the rows is left for training", "split",
                            "give smaller shares")
        if not 0 <= self.seed < 1 << 63:
            raise DataError("the seed of a split is a whole number from 0 to 2**63 - 1", "seed",
                            "give a smaller one")
        if sum(map(bool, (self.group, self.order, self.part, self.equal_rows))) > 1:
            raise DataError("rows are split in one way: by groups, by equal rows, by order, or as "
                            "given", "split", "choose one of these")
        if self.folds == 1 or not 0 <= self.folds <= MOST_FOLDS or self.fold_repeats < 1:
            raise DataError(f"{self.folds} folds do not fit", "split",
                            "give 2 or more, or 0 for one validation part")
        if self.folds * self.fold_repeats > MOST_FOLDS:
            raise DataError(f"{self.folds * self.fold_repeats} folds are too many", "split",
                            f"give at most {MOST_FOLDS}, repeats counted")
        if self.folds and self.all_open:
            raise DataError("folds and training on all open rows exclude each other", "split",
                            "leave one out")
        if self.folds and self.part:
            raise DataError("given parts and folds exclude each other", "split", "leave one out")
        if self.order and self.fold_repeats > 1:
            raise DataError("folds in order of time come out the same every time", "split",
                            "leave the repeats out")


#: What of a split can be said in words, and the name it has.
_SPLIT_WORDS = {"validation": "validation", "test": "test", "seed": "seed", "folds": "folds",
                "repeats": "fold_repeats"}


def parse_split(text: str, split: SplitPlan) -> SplitPlan:
    """Return a split with the options in a text applied.

    Such as ``validation 0.2, test 0.2, folds 5, repeats 2, seed 1``.

    ``equal rows together`` and ``equal rows apart`` decide whether rows with the same inputs stay
    in one part.

    Raises
    ------
    DataError
        With what was read and what would be right.
    """
    said: dict[str, float | int] = {}
    for part in filter(None, (each.strip() for each in text.split(","))):
        name, _, value = part.partition(" ")
        if part in ("equal rows together", "equal rows apart"):
            said["equal_rows"] = part.endswith("together")
            continue
        try:
            number = float(value)
        except ValueError:
            number = -1.0
        whole = name in ("seed", "folds", "repeats")
        fits = math.isfinite(number) and 0 <= number < 2**63
        if name not in _SPLIT_WORDS or not fits or (whole and number != int(number)):
            raise DataError(f"{shown(part, 40)!r} is an unknown split option", "split",
                            "such as: validation 0.2, test 0.2, folds 5, repeats 2, seed 1")
        said[_SPLIT_WORDS[name]] = int(number) if whole else number
    if not said.get("folds", split.folds):
        said["fold_repeats"] = 1
    return replace(split, **said)  # type: ignore[arg-type]


def split_words(split: SplitPlan) -> str:
    """Return a split as :func:`parse_split` reads it."""
    folds = f"folds {split.folds}, repeats {split.fold_repeats}, " if split.folds else ""
    together = ", equal rows together" if split.equal_rows else ""
    return (f"validation {split.validation:g}, test {split.test:g}, {folds}seed "
            f"{split.seed}{together}")


@dataclass(frozen=True)
class DataPlan:
    """All decisions about a table.

    Attributes
    ----------
    targets : tuple of str
        The columns to be predicted; empty is proposed.
    task : str
        ``classification``, ``binary`` or ``regression``; empty is proposed.
    ignore : tuple of str
        Columns left out, besides those that look like identifiers.
    use : tuple of str
        Columns taken in although they would be left out.
    text : tuple of str
        Columns that stay text although they could be read as numbers or dates.
    numbers : tuple of str
        Columns that are numbers although leading zeros make them look like codes.
    missing : tuple of str or None
        Texts that mean "no value" in all columns; None for the usual ones and those found.
    pictures : str
        ``28x28`` or ``28x28x3``: the columns of numbers are the pixels of one picture a row, row by
        row, the channel changing fastest; empty if they are not.
    skip_bad : bool
        Whether pictures that cannot be read are left out instead of refusing them all.
    gaps : str
        What fills a gap in a number: median, mean or most frequent value of the training rows, or
        constant N.
    scaling : str
        How a number is brought near zero; all of it learnt from the training rows. Long tails are
        taken to their logarithm first, unless it is none.
    target_scaling : str
        The same for the targets of a regression; losses are reported in the target's own units.
    ranked_by : str
        What recipes are ranked by, trainings end by and searches lower on the validation rows: the
        loss, or one of :data:`axiarch.runs.lowered.Lowered`.
    columns : tuple of (str, Treatment)
        What is decided otherwise for single columns.
    rows : int
        Training rows used at the most, every class by the same share, for quick work; 0 uses all.
        Validation and test rows stay as they are.
    shrink : int
        So many times so many pixels of a picture become one, their mean, for quick work; 1 leaves
        pictures as they are.
    split : SplitPlan
    said : Said
        How a delimited text is written, where it is not to be found out.
    """

    targets: tuple[str, ...] = ()
    task: Task | Literal[""] = ""
    ignore: tuple[str, ...] = ()
    use: tuple[str, ...] = ()
    text: tuple[str, ...] = ()
    numbers: tuple[str, ...] = ()
    missing: tuple[str, ...] | None = None
    pictures: str = ""
    skip_bad: bool = False
    gaps: str = "median"
    scaling: Scaling = "z-score"
    target_scaling: Scaling = "z-score"
    ranked_by: Lowered = "loss"
    columns: tuple[tuple[str, Treatment], ...] = ()
    rows: int = 0
    shrink: int = 1
    split: SplitPlan = field(default_factory=SplitPlan)
    said: FormatOverrides = field(default_factory=FormatOverrides)

    def __post_init__(self) -> None:
        check_gaps(self.gaps)
        check_marks(self.missing or ())
        if self.pictures:
            self.pixels()
        if self.scaling not in SCALINGS:
            raise DataError(f"no scaling is called {shown(self.scaling, 40)!r}", "scaling",
                            "give one of " + ", ".join(SCALINGS))
        if self.rows < 0:
            raise DataError(f"{self.rows} rows cannot be used", "rows",
                            "give a number above 0, or 0 for all")
        if not 1 <= self.shrink <= MOST_SHRUNK:
            raise DataError(f"pictures cannot be shrunk {self.shrink} times", "shrink",
                            f"give a whole number from 1 (full size) to {MOST_SHRUNK}")
        if self.target_scaling not in TARGET_SCALINGS:
            raise DataError(f"a target cannot be scaled by {shown(self.target_scaling, 40)!r}",
                            "target scaling", "give one of " + ", ".join(TARGET_SCALINGS))
        if self.ranked_by not in get_args(Lowered):
            raise DataError(f"recipes cannot be ranked by {shown(self.ranked_by, 40)!r}",
                            "ranked by", "give one of " + ", ".join(get_args(Lowered)))
        if self.task and self.task not in TASKS:
            raise DataError(f"no task is called {shown(self.task, 40)!r}", "task",
                            "give one of " + ", ".join(TASKS))

    def pixels(self) -> tuple[int, int, int]:
        """Return height, width and channels of the pictures that columns of numbers make.

        Raises
        ------
        DataError
            If `pictures` does not say.
        """
        found = re.fullmatch(r"(\d{1,4})\s*[x×]\s*(\d{1,4})(?:\s*[x×]\s*([1-4]))?", self.pictures)
        if not found or "0" in (found[1], found[2]):
            raise DataError(f"{shown(self.pictures, 40)!r} is not the size of a picture",
                            "pictures",
                            "give height x width, or height x width x channels, such as 28x28")
        return int(found[1]), int(found[2]), int(found[3] or 1)

    def treatment(self, name: str) -> Treatment:
        """Return what is decided otherwise for a column."""
        return dict(self.columns).get(name, Treatment())

    def treated(self, name: str, **changes: object) -> DataPlan:
        """Return the plan with some of a column's own decisions changed."""
        own = {**dict(self.columns), name: replace(self.treatment(name),
                                                   **changes)}  # type: ignore[arg-type]
        return replace(self, columns=tuple((n, t) for n, t in own.items() if t != Treatment()))
