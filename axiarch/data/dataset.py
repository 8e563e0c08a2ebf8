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

from dataclasses import dataclass, field
from functools import cached_property
from pathlib import Path
from typing import TYPE_CHECKING, Any, Literal

import numpy as np
from numpy.typing import NDArray

from axiarch.data.baseline import Baseline, mean_baseline, rescored
from axiarch.data.checksums import verify
from axiarch.data.columns import Column
from axiarch.data.conversions import Conversion
from axiarch.data.encoding import Encoding
from axiarch.data.findings import Finding
from axiarch.data.linear import LinearBaseline
from axiarch.data.plan import DataPlan
from axiarch.data.target import Answers, Target
from axiarch.errors import WorkspaceError
from axiarch.runs.lowered import APART
from axiarch.runs.rows import kept_rows
from axiarch.text import shown

if TYPE_CHECKING:
    import polars

PartName = Literal["train", "validation"]
#: What to do about a data set that is not as it was written.
RESTORE = "restore the folder from a copy, or add the data again under another name"


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
                                 shown(place), RESTORE) from None

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
        verify(self.folder, self.checksums, name, RESTORE)
        try:
            found = np.load(place, allow_pickle=False)
            if found.shape != (3, len(kept_rows(self.folds[fold].rows["validation"]))):
                raise ValueError("its rows do not fit")
        except (OSError, ValueError, EOFError) as error:
            raise WorkspaceError(f"the reference losses cannot be read: {shown(error, 100)}",
                                 shown(place), RESTORE) from None
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


def check_arrays(dataset: Dataset) -> None:
    """Raise unless the arrays of a data set are those that were written and fit its description.

    Costs one reading of them, some gigabytes a second where they are in memory.

    Raises
    ------
    WorkspaceError
        Naming the file.
    """
    verify(dataset.folder, dataset.checksums, "folds/", RESTORE)
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
                             RESTORE)
    if classes and rows and not 0 <= part.targets.min() <= part.targets.max() < classes:
        raise WorkspaceError(f"a {name} label is none of the {classes} classes", where, RESTORE)
