"""A data set as it lies on disk: arrays that every worker maps without a copy, and what is known of them.

    NAME/
      data.json                         columns, encodings, classes, parts, floors, decisions, fingerprint
      folds/0/train.inputs.npy          (N, D) float32
      folds/0/train.targets.npy         (N,) int32, or (N, T) float32 for amounts
      folds/0/validation.inputs.npy, folds/0/validation.targets.npy
      folds/1/ …                        where there are folds
      examples.parquet                  some training rows to look at
      linear.json                       what a linear model scores on each fold, once it has been trained
      sealed/table/*.parquet            the table as it was read, for other decisions about it
      sealed/rows.npy                   which of its rows are sealed; read by nothing until the seal is opened
"""

from __future__ import annotations

import json
import os
from collections.abc import Sequence
from dataclasses import asdict, dataclass, field, replace
from functools import cached_property
from pathlib import Path
from typing import TYPE_CHECKING, Any, Literal

import numpy as np
from numpy.typing import NDArray

from axiarch.data.checks import Finding
from axiarch.data.columns import Column
from axiarch.data.encoding import CODES, Code, Encoding
from axiarch.data.floor import Floor, mean_floor
from axiarch.data.plan import DataPlan, Said, SplitPlan, Treatment
from axiarch.data.table import Table
from axiarch.data.target import Answers, Target
from axiarch.errors import DataError, WorkspaceMissing
from axiarch.plain import shown

if TYPE_CHECKING:
    import polars

PartName = Literal["train", "validation"]
#: The version of the description; an earlier one cannot be read.
FORMAT = 2


@dataclass(frozen=True)
class Part:
    """Inputs (N, D) float32 and targets (N,) int32 or (N, T) float32 of one part, mapped from disk."""

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
    floor : Floor
        What a predictor scores that knows only the targets of its training rows.
    linear : Floor or None
        What a linear model scores; None while it has not been trained.
    """

    encoding: Encoding
    rows: dict[str, int]
    floor: Floor
    linear: Floor | None = None


@dataclass(frozen=True)
class Dataset:
    """What is known of a data set; the arrays are opened by :meth:`part`.

    Attributes
    ----------
    folder : Path
    name, source, how, fingerprint : str
        What it is called, where it came from, how that was read, and digits that only equal data share.
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
    best : Floor or None
        For generated data, what the rule behind them scores: their noise.
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
    best: Floor | None = None

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
        """The shape of one example, on the first fold: the number of inputs, or height, width and channels."""
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
    def floor(self) -> Floor:
        """The floor, the mean over folds."""
        return mean_floor([fold.floor for fold in self.folds])

    @cached_property
    def linear(self) -> Floor | None:
        """What a linear model scores, the mean over folds; None while it has not been trained."""
        found = [fold.linear for fold in self.folds if fold.linear is not None]
        return mean_floor(found) if len(found) == len(self.folds) else None

    def part(self, name: PartName, fold: int = 0) -> Part:
        """Map one part's arrays from disk. The test rows are sealed: there is no way to ask for them here."""
        if name not in ("train", "validation"):
            raise ValueError(f"no part {name!r} can be opened here")
        place = self.folder / "folds" / str(fold)
        return Part(map_array(place / f"{name}.inputs.npy"), map_array(place / f"{name}.targets.npy"))

    @cached_property
    def examples(self) -> polars.DataFrame:
        """Some training rows, spread over the whole part, all columns."""
        import polars

        return polars.read_parquet(self.folder / "examples.parquet")


def map_array(path: Path) -> NDArray[Any]:
    """Return an array mapped from a .npy file, read-only; one without rows is not mapped but made."""
    found: NDArray[Any] = np.load(path, mmap_mode="r", allow_pickle=False)
    return found


def kept_table(dataset: Dataset) -> Table:
    """Return the whole table that a data set was made from, sealed rows included: only to split it anew.

    Raises
    ------
    WorkspaceMissing
        If it is not there.
    """
    import polars

    try:
        return Table.open(dataset.folder / "sealed" / "table")
    except (OSError, polars.exceptions.PolarsError) as error:
        raise WorkspaceMissing(f"the table of {shown(dataset.name)!r} cannot be read: {shown(error, 100)}",
                               shown(dataset.folder), "add the data again under another name") from None


def sealed_part(dataset: Dataset, fold: int = 0) -> Part:
    """Return the sealed test rows, encoded as a fold is. Called only after the opening has been journalled."""
    from axiarch.data.repair import repairs

    rows = np.load(dataset.folder / "sealed" / "rows.npy", allow_pickle=False)
    table = kept_table(dataset)
    changes, _ = repairs(table, dataset.plan.text)
    encoding = dataset.folds[fold].encoding
    names = [*(code.name for code in encoding.codes), *encoding.target.columns]
    inputs, targets = [], []
    for start, piece in table.changed(changes).pieces(names):
        low, high = np.searchsorted(rows, (start, start + piece.height))
        own = piece[rows[low:high] - start]
        inputs.append(encoding.encode(own))
        targets.append(encoding.labels(own))
    return Part(np.concatenate(inputs), np.concatenate(targets))


def as_json(dataset: Dataset) -> dict[str, Any]:
    """Return what is known of a data set, as its file holds it."""
    known = asdict(dataset)
    del known["folder"]
    for fold, written in zip(dataset.folds, known["folds"], strict=True):
        del written["linear"]
        written["encoding"]["codes"] = [
            {"kind": next(name for name, kind in CODES.items() if isinstance(c, kind)), **asdict(c)}
            for c in fold.encoding.codes]
    return {"format": FORMAT, **known}


def read_dataset(folder: Path) -> Dataset:
    """Read what is known of the data set in `folder`.

    Raises
    ------
    WorkspaceMissing
        If there is none, or it cannot be read.
    """
    try:
        known = json.loads((folder / "data.json").read_text(encoding="utf-8"))
        if known.get("format") != FORMAT:
            raise WorkspaceMissing(f"the data set {shown(folder.name)!r} was written by another version",
                                   shown(folder), "add the data again under another name")
        linear = _read_linear(folder, len(known["folds"]))
        folds = tuple(Fold(_encoding(f["encoding"]), f["rows"], _floor(f["floor"]), own)
                      for f, own in zip(known["folds"], linear, strict=True))
        return Dataset(
            folder=folder, name=known["name"], source=known["source"], how=known["how"],
            fingerprint=known["fingerprint"], seed=known["seed"],
            columns=tuple(Column(**_tuples(c)) for c in known["columns"]), folds=folds,
            class_counts=tuple(known["class_counts"]), rows=known["rows"],
            findings=tuple(Finding(**f) for f in known["findings"]), plan=_plan(known["plan"]),
            best=_floor(known["best"]) if known["best"] else None,
        )
    except FileNotFoundError:
        raise WorkspaceMissing(f"there is no data set {shown(folder.name)!r}", shown(folder.parent),
                               "add one first") from None
    except (OSError, ValueError, KeyError, TypeError, DataError) as error:
        raise WorkspaceMissing(f"the data set {shown(folder.name)!r} cannot be read: {shown(error, 120)}",
                               shown(folder), "add the data again under another name") from None


def _tuples(known: dict[str, Any]) -> dict[str, Any]:
    """Return JSON's lists as the tuples they were."""
    return {name: tuple(value) if isinstance(value, list) else value for name, value in known.items()}


def _encoding(known: dict[str, Any]) -> Encoding:
    return Encoding(tuple(_code(dict(c)) for c in known["codes"]), Target(**_tuples(known["target"])))


def _code(known: dict[str, Any]) -> Code:
    return CODES[known.pop("kind")](**_tuples(known))


def _floor(known: dict[str, Any]) -> Floor:
    return Floor(known["loss"], tuple(known["metrics"]))


def _plan(known: dict[str, Any]) -> DataPlan:
    own = _tuples(known)
    own |= {"split": SplitPlan(**known["split"]), "said": Said(**known["said"]),
            "columns": tuple((name, Treatment(**_tuples(t))) for name, t in known["columns"])}
    return DataPlan(**own)


def keep_linear(dataset: Dataset, linear: Sequence[Floor]) -> Dataset:
    """Keep what a linear model scores on each fold beside a data set, and return the data set with it."""
    draft = dataset.folder / f".linear.{os.getpid()}.json"
    draft.write_text(json.dumps([asdict(each) for each in linear]), encoding="utf-8")
    os.replace(draft, dataset.folder / "linear.json")
    return replace(dataset, folds=tuple(replace(fold, linear=own)
                                        for fold, own in zip(dataset.folds, linear, strict=True)))


def _read_linear(folder: Path, folds: int) -> list[Floor | None]:
    try:
        found: list[Floor | None] = [_floor(f) for f in json.loads((folder / "linear.json").read_text("utf-8"))]
    except (OSError, ValueError, TypeError, KeyError):
        found = []
    return found if len(found) == folds else [None] * folds
