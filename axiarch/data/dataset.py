"""A data set as it lies on disk: arrays that every worker maps without a copy, and what is known of
them.

    NAME/
      data.json                         columns, conversions, encodings, classes, parts, baselines,
                                        decisions, fingerprint, checksums of all files
      folds/0/train.inputs.npy          (N, D) float32
      folds/0/train.targets.npy         (N,) int32, or (N, T) float32 for amounts
      folds/0/validation.inputs.npy, folds/0/validation.targets.npy
      folds/1/ …                        where there are folds
      reference/0.npy                   (3, n) float32: losses of baseline and linear model, and
                                        which rows stand in the training part too
      examples.parquet                  some training rows to look at
      sealed/table/*.parquet            the table as it was read, for other decisions about it
      sealed/rows.npy                   which of its rows are sealed; read by nothing until the seal
      is opened
"""

from __future__ import annotations

import json
import math
from collections.abc import Iterator, Mapping
from dataclasses import asdict, dataclass, field, fields, make_dataclass, replace
from functools import cache, cached_property
from pathlib import Path
from typing import TYPE_CHECKING, Any, Literal, get_type_hints

import numpy as np
from numpy.typing import NDArray

from axiarch.data.baseline import Baseline, mean_baseline, rescored
from axiarch.data.checksums import row_hashes, verify
from axiarch.data.columns import Column
from axiarch.data.conversions import Conversion, as_changes
from axiarch.data.encoding import CODES, Code, Encoding
from axiarch.data.findings import Finding, read_finding
from axiarch.data.linear import LinearBaseline
from axiarch.data.pictures import PICTURE
from axiarch.data.pixels import with_pictures
from axiarch.data.plan import DataPlan
from axiarch.data.table import Table
from axiarch.data.target import Answers, Target
from axiarch.errors import DataError, WorkspaceError, WorkspaceMissing
from axiarch.files import read_json, typed
from axiarch.runs.lowered import APART
from axiarch.runs.rows import kept_rows
from axiarch.text import shown

if TYPE_CHECKING:
    import polars

PartName = Literal["train", "validation"]
#: The version of the description; an earlier one cannot be read.
FORMAT = 4
#: What to do about a data set that is not as it was written.
_RESTORE = "restore the folder from a copy, or add the data again under another name"


@dataclass(frozen=True)
class Part:
    """Inputs (N, D) float32 and targets (N,) int32 or (N, T) float32 of one part, mapped from
    disk.
    """

    inputs: NDArray[np.float32]
    targets: Answers


@dataclass(frozen=True)
class Fold:
    """One division of the open rows into training and validation.

    Attributes
    ----------
    encoding : Encoding
        Learnt from its own training rows alone.
    rows : dict
        Rows of its parts.
    baseline : Baseline
        What a predictor scores that knows only the targets of its training rows.
    linear : LinearBaseline or None
        What a linear model scores.
    """

    encoding: Encoding
    rows: dict[str, int]
    baseline: Baseline
    linear: LinearBaseline | None = None


@dataclass(frozen=True)
class Reference:
    """How simple predictors do on the validation rows that are kept of runs (n,).

    Attributes
    ----------
    baseline, linear : (n,) arrays
        Losses of the baseline, and of the linear model or None, as :meth:`Target.row_losses`.
    repeated : (n,) array
        Whether a row stands in the training part too, input for input: such rows say nothing of
        skill.
    """

    baseline: NDArray[np.float32]
    linear: NDArray[np.float32] | None
    repeated: NDArray[np.bool_]


@dataclass(frozen=True)
class Dataset:
    """What is known of a data set; the arrays are opened by :meth:`part`.

    Attributes
    ----------
    folder : Path
    name, source, how, fingerprint : str
        What it is called, where it came from, how that was read, and digits that only equal data
        share.
    seed : int
        Fixed the split.
    columns : tuple of Column
        As seen on the training and validation rows.
    folds : tuple of Fold
        One, unless it was split into folds.
    class_counts : tuple of int
        Training and validation rows of each class; none for a regression.
    rows : dict
        Rows in each part of the first fold: train, validation, test, and left out for quick work.
    plan : DataPlan
        The decisions that made it.
    findings : tuple of Finding
        What is suspicious about the table.
    noise_by_loss : Baseline or None
        For generated data, what the rule behind them scores: their noise. By the loss, whatever is
        lowered.
    conversions : tuple of Conversion
        How the cells of each column are read, here and in every later table.
    decimal : {".", ","}
        What stands before the decimals of numbers in the table that was read.
    checksums : dict
        Of every file, by its path from the folder.
    table : str
        Digits that data sets share whose rows have the same targets: however these are encoded or
        split, their test rows have been looked at when those of one have.
    rule : str
        For generated data, the name of the rule behind them in :mod:`axiarch.data.rules`.
    """

    folder: Path
    name: str
    source: str
    how: str
    fingerprint: str
    seed: int
    columns: tuple[Column, ...]
    folds: tuple[Fold, ...]
    class_counts: tuple[int, ...]
    rows: dict[str, int]
    findings: tuple[Finding, ...]
    plan: DataPlan = field(default_factory=DataPlan)
    noise_by_loss: Baseline | None = None
    conversions: tuple[Conversion, ...] = ()
    decimal: Literal[".", ","] = "."
    checksums: dict[str, str] = field(default_factory=dict)
    table: str = ""
    rule: str = ""

    @property
    def validation_name(self) -> str:
        """What the validation rows are called: where they train too, that is said."""
        return "validation (trained on)" if self.plan.split.all_open else "validation"

    @property
    def height(self) -> int:
        """The rows of the table."""
        twice = self.rows["validation"] if self.plan.split.all_open else 0
        return sum(self.rows.values()) - twice

    @property
    def encoding(self) -> Encoding:
        """The encoding of the first fold."""
        return self.folds[0].encoding

    @property
    def target(self) -> Target:
        """What is predicted."""
        return self.encoding.target

    @property
    def inputs(self) -> int:
        """The number D of inputs of a network, on the first fold."""
        return len(self.encoding.inputs)

    @property
    def shape(self) -> tuple[int, ...]:
        """The shape of one example, on the first fold: the number of inputs, or height, width
        and channels.
        """
        return self.encoding.shape

    @property
    def outputs(self) -> int:
        """The number of outputs of a network."""
        return self.target.outputs

    @property
    def classes(self) -> tuple[str, ...]:
        """The C classes in the order of their numbers; none for a regression."""
        return self.target.classes

    @cached_property
    def noise_floor(self) -> Baseline | None:
        """What the noise leaves, by what is lowered; None where that is not known."""
        measure = self.target.measure
        if self.noise_by_loss is None or measure in APART:
            return None
        return rescored(self.noise_by_loss, "loss", measure)

    @cached_property
    def baseline(self) -> Baseline:
        """The baseline, the mean over folds."""
        return mean_baseline([fold.baseline for fold in self.folds])

    @cached_property
    def linear(self) -> LinearBaseline | None:
        """What a linear model scores, the mean over folds, with the ridge of the first."""
        found = [fold.linear for fold in self.folds if fold.linear is not None]
        if len(found) < len(self.folds):
            return None
        mean = mean_baseline(found)
        weakest = float(np.mean([each.weakest for each in found]))
        return LinearBaseline(mean.loss, mean.metrics, found[0].ridge, weakest)

    def part(self, name: PartName, fold: int = 0) -> Part:
        """Map one part's arrays from disk. The test rows are sealed: there is no way to ask for
        them here.
        """
        if name not in ("train", "validation"):
            raise ValueError(f"no part {name!r} can be opened here")
        place = self.folder / "folds" / str(fold)
        try:
            return Part(map_array(place / f"{name}.inputs.npy"),
                        map_array(place / f"{name}.targets.npy"))
        except (OSError, ValueError, EOFError) as error:
            raise WorkspaceError(f"the {name} arrays cannot be read: {shown(error, 100)}",
                                 shown(place), _RESTORE) from None

    def reference(self, fold: int = 0) -> Reference | None:
        """Return how simple predictors do on the validation rows of a fold; None where the data
        set was written before that was kept.

        Raises
        ------
        WorkspaceError
            If the file is not what was written.
        """
        name = f"reference/{fold}.npy"
        place = self.folder / name
        if name not in self.checksums:
            return None
        verify(self.folder, self.checksums, name, _RESTORE)
        try:
            found = np.load(place, allow_pickle=False)
            if found.shape != (3, len(kept_rows(self.folds[fold].rows["validation"]))):
                raise ValueError("its rows do not fit")
        except (OSError, ValueError, EOFError) as error:
            raise WorkspaceError(f"the reference losses cannot be read: {shown(error, 100)}",
                                 shown(place), _RESTORE) from None
        return Reference(found[0], None if np.isnan(found[1]).any() else found[1], found[2] > 0)

    @cached_property
    def examples(self) -> polars.DataFrame:
        """Some training rows, spread over the whole part, all columns."""
        import polars

        return polars.read_parquet(self.folder / "examples.parquet")


def map_array(path: Path) -> NDArray[Any]:
    """Return an array mapped from a .npy file, read-only; one without rows is not mapped but
    made.
    """
    found: NDArray[Any] = np.load(path, mmap_mode="r", allow_pickle=False)
    return found


def kept_table(dataset: Dataset) -> Table:
    """Return the whole table that a data set was made from, sealed rows included: only to split it
    anew.

    Raises
    ------
    WorkspaceMissing
        If it is not there.
    """
    import polars

    try:
        return replace(Table.open(dataset.folder / "sealed" / "table"), decimal=dataset.decimal)
    except (OSError, polars.exceptions.PolarsError) as error:
        raise WorkspaceMissing(
            f"the table of {shown(dataset.name)!r} cannot be read: {shown(error, 100)}",
            shown(dataset.folder), "add the data again under another name") from None


def verify_kept(dataset: Dataset) -> None:
    """Raise unless the table that a data set was made from is the one that was written.

    Raises
    ------
    WorkspaceError
    """
    verify(dataset.folder, dataset.checksums, "sealed/", _RESTORE)


def sealed_part(dataset: Dataset, fold: int = 0) -> Part:
    """Return the sealed test rows, encoded as a fold is. Called only after the opening has been
    journalled.

    Raises
    ------
    WorkspaceError
        If they are not what was written.
    """
    verify_kept(dataset)
    inputs, targets = [], []
    for own, encoding in _sealed_rows(dataset, fold):
        inputs.append(encoding.encode(own))
        targets.append(encoding.labels(own))
    return Part(np.concatenate(inputs), np.concatenate(targets))


def sealed_hashes(dataset: Dataset, fold: int = 0) -> NDArray[np.uint64]:
    """Return a hash of the inputs of each sealed row, to know such a row again without opening the
    seal.

    Nothing else of the rows leaves this function, and their targets are not read.
    """
    return np.concatenate([row_hashes(encoding.encode(own))
                           for own, encoding in _sealed_rows(dataset, fold, False)])


def _sealed_rows(dataset: Dataset, fold: int, targets: bool = True
                 ) -> Iterator[tuple[polars.DataFrame, Encoding]]:
    """Walk the sealed rows as tables of the columns that a fold encodes."""
    rows = np.load(dataset.folder / "sealed" / "rows.npy", allow_pickle=False)
    table = kept_table(dataset)
    if dataset.plan.pictures:
        table = with_pictures(table, dataset.plan, dataset.target.columns)
    table = table.changed(as_changes({c.column: c for c in dataset.conversions}))
    encoding = dataset.folds[fold].encoding
    names = [*(code.name for code in encoding.codes), *(encoding.target.columns if targets else ())]
    for start, piece in table.pieces(names):
        low, high = np.searchsorted(rows, (start, start + piece.height))
        yield piece[rows[low:high] - start], encoding


def check_arrays(dataset: Dataset) -> None:
    """Raise unless the arrays of a data set are those that were written and fit its description.

    Costs one reading of them, some gigabytes a second where they are in memory.

    Raises
    ------
    WorkspaceError
        Naming the file.
    """
    verify(dataset.folder, dataset.checksums, "folds/", _RESTORE)
    names: tuple[PartName, ...] = ("train", "validation")
    for i in range(len(dataset.folds)):
        for name in names:
            check_part(dataset.part(name, i), dataset, name, i)


def check_part(part: Part, dataset: Dataset, name: str, number: int) -> None:
    """Raise unless the arrays of a part of a fold have the shapes, types and labels that are
    described.
    """
    fold = dataset.folds[number]
    target = fold.encoding.target
    rows, classes = fold.rows[name], len(target.classes)
    shape, kind = ((rows,), np.int32) if classes else ((rows, len(target.columns)), np.float32)
    where = shown(dataset.folder / "folds" / str(number))
    fits = (part.inputs.shape == (rows, len(fold.encoding.inputs))
            and part.inputs.dtype == np.float32 and part.targets.shape == shape
            and part.targets.dtype == kind)
    if not fits:
        raise WorkspaceError(f"the {name} arrays do not fit the description of the data set", where,
                             _RESTORE)
    if classes and rows and not 0 <= part.targets.min() <= part.targets.max() < classes:
        raise WorkspaceError(f"a {name} label is none of the {classes} classes", where, _RESTORE)


def as_json(dataset: Dataset) -> dict[str, Any]:
    """Return what is known of a data set, as its file holds it."""
    known = asdict(dataset)
    del known["folder"]
    known["best"] = known.pop("noise_by_loss")  # its name in the file
    for fold, written in zip(dataset.folds, known["folds"], strict=True):
        written["floor"] = written.pop("baseline")  # its name in the file
        if fold.encoding.target.measure == "loss":
            del written["encoding"]["target"]["measure"]  # as earlier versions wrote it
        written["encoding"]["codes"] = [
            {"kind": next(name for name, kind in CODES.items() if isinstance(c, kind)), **asdict(c)}
            for c in fold.encoding.codes]
    return {"format": FORMAT, **known}


def description(known: Mapping[str, Any]) -> str:
    """Return what is known of a data set as the text of its file, with a checksum of itself."""
    import xxhash

    text = json.dumps(known, ensure_ascii=False, sort_keys=True)
    # On one line: with line breaks Python writes thousands of columns ten times slower.
    return json.dumps({**known, "checksum": xxhash.xxh3_128(text.encode()).hexdigest()},
                      ensure_ascii=False)


def written_at(folder: Path) -> int:
    """Return when the data set in `folder` was written, in nanoseconds; 0 where there is none."""
    try:
        return (folder / "data.json").stat().st_mtime_ns
    except OSError:
        return 0


def read_dataset(folder: Path) -> Dataset:
    """Read what is known of the data set in `folder`.

    Raises
    ------
    WorkspaceMissing
        If there is none, or it was written by another version.
    WorkspaceError
        If its description is damaged.
    """
    try:
        known = read_json(folder / "data.json")
        if not isinstance(known, dict):
            raise ValueError("it does not describe a data set")
        if known.get("format") != FORMAT:
            raise WorkspaceMissing(
                f"the data set {shown(folder.name)!r} was written by another version",
                shown(folder), "add the data again under another name")
        digest = known.pop("checksum", "")
        if json.loads(description(known))["checksum"] != digest:
            raise ValueError("it is not what was written")
        return described(known, folder)
    except FileNotFoundError:
        raise WorkspaceMissing(f"there is no data set {shown(folder.name)!r}", shown(folder.parent),
                               "add one first") from None
    except (OSError, ValueError, KeyError, TypeError, AttributeError, DataError) as error:
        raise WorkspaceError(
            f"the description of the data set {shown(folder.name)!r} is damaged: "
            f"{shown(error, 120)}",
            shown(folder / "data.json"), _RESTORE) from None


def described(known: dict[str, Any], folder: Path = Path()) -> Dataset:
    """Return the data set that :func:`as_json` described; without a folder it has no arrays.

    Raises
    ------
    ValueError, KeyError, TypeError, AttributeError
        If the description is damaged.
    """
    known = {name: value for name, value in known.items() if name != "format"}
    folds = [_fold(fold) for fold in known.pop("folds")]
    if not folds:
        raise ValueError("it has no fold")
    known["noise_by_loss"] = _by_loss(known.pop("best"), folds[0].encoding.target)
    findings = tuple(map(read_finding, known.pop("findings")))
    rest: Any = typed(known, _rest())
    made = Dataset(folder=folder, folds=tuple(folds), findings=findings,
                   **{f.name: getattr(rest, f.name) for f in fields(_rest())})
    _check_description(made)
    return made


def _by_loss(noise: dict[str, Any] | None, target: Target) -> dict[str, Any] | None:
    """Return what is known of the noise by the loss, which earlier versions wrote by what is
    lowered.
    """
    if noise is None or target.measure == "loss" or len(noise["metrics"]) < len(target.metrics):
        return noise
    level, *metrics = noise["metrics"]
    return {"loss": level, "metrics": metrics}


#: Fields of a data set that are not read as they stand in its file.
_READ_APART = frozenset({"folder", "folds", "findings"})


@cache
def _rest() -> type:
    """Return a class with the fields of a data set that are read as they stand in its file, none of
    which a file may leave out.
    """
    kinds = get_type_hints(Dataset)
    return make_dataclass("_Rest", [(f.name, kinds[f.name]) for f in fields(Dataset)
                                    if f.name not in ("folder", "folds", "findings")], frozen=True)


def _code(known: Mapping[str, Any]) -> Code:
    values = {name: value for name, value in known.items() if name != "kind"}
    return typed(values, CODES[known["kind"]])


def _fold(known: Mapping[str, Any]) -> Fold:
    encoding, linear = known["encoding"], known["linear"]
    return Fold(Encoding(tuple(map(_code, encoding["codes"])), typed(encoding["target"], Target)),
                typed(known["rows"], dict[str, int]), typed(known["floor"], Baseline),
                typed(linear, LinearBaseline) if linear else None)


def _check_description(dataset: Dataset) -> None:
    """Raise where parts of a description do not fit each other."""
    if not {"train", "validation", "test"} <= set(dataset.rows) or min(dataset.rows.values()) < 0:
        raise ValueError("its rows are not counted")
    if not all(_fits(fold, dataset) for fold in dataset.folds):
        raise ValueError("its parts do not fit each other")
    if len(dataset.class_counts) != len(dataset.classes):
        raise ValueError("its classes are not counted")
    noise = dataset.noise_by_loss
    beside = len(dataset.target.metrics) - (dataset.target.measure != "loss")
    if noise is not None and len(noise.metrics) != beside:
        raise ValueError("the metrics of its noise do not fit its target")


def _fits(fold: Fold, dataset: Dataset) -> bool:
    """Whether a fold fits the columns of its data set and the target of the first fold."""
    names = {c.name for c in dataset.columns} | {PICTURE}
    own, first = fold.encoding.target, dataset.target
    scales = (*own.scale, *own.spread, *own.shift, *(abs(c) for c in own.centre))
    if own.task == "regression":
        target = len(own.scale) == len(own.centre) == len(
            own.columns) >= 1 and not own.classes and (len(own.spread) == len(own.shift)
                                                       and len(own.spread) in (0, len(own.columns)))
    else:
        target = len(own.classes) == len(set(own.classes)) >= 2 and len(own.columns) == 1
    same = (own.columns, own.task, own.classes) == (first.columns, first.task, first.classes)
    finite = all(map(math.isfinite, scales)) and all(s > 0 for s in (*own.scale, *own.spread))
    known = {*own.columns, *(code.name for code in fold.encoding.codes)} <= names
    measured = [fold.baseline, *([fold.linear] if fold.linear else [])]
    return (target and same and finite and known and bool(fold.encoding.codes)
            and all(fold.rows.get(part, 0) > 0 for part in ("train", "validation"))
            and all(len(each.metrics) == len(own.metrics) for each in measured))
