"""A data set as it lies on disk: arrays that every worker maps without a copy, and what is known of them.

    NAME/
      data.json                         columns, encoding, classes, parts, floor, fingerprint
      train.inputs.npy                  (N, D) float32
      train.targets.npy                 (N,) int32
      validation.inputs.npy, validation.targets.npy
      linear.json                       what a linear model scores, once it has been trained
      sealed/test.inputs.npy, sealed/test.targets.npy      read by nothing until the seal is opened
      sealed/table.parquet              the table as it was read, for other decisions about it
"""

from __future__ import annotations

import hashlib
import json
import os
import shutil
from dataclasses import asdict, dataclass, field, replace
from pathlib import Path
from typing import TYPE_CHECKING, Any, Literal

import numpy as np
from numpy.typing import NDArray

from axiarch.data.checks import Finding
from axiarch.data.columns import Column
from axiarch.data.delimited import Said
from axiarch.data.encoding import CODES, Code, Encoding, TextCode
from axiarch.data.floor import Floor
from axiarch.data.plan import DataPlan, SplitPlan
from axiarch.errors import DataError, WorkspaceMissing
from axiarch.plain import shown

if TYPE_CHECKING:
    import polars

PartName = Literal["train", "validation"]


@dataclass(frozen=True)
class Part:
    """Inputs (N, D) float32 and targets (N,) int32 of one part, mapped from disk."""

    inputs: NDArray[np.float32]
    targets: NDArray[np.int32]


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
    encoding : Encoding
    class_counts : tuple of int
        Training and validation rows of each class.
    rows : dict
        Rows in each part: train, validation, test, and left out for quick work.
    floor : Floor
        Of a predictor that knows only how common each class is.
    linear : Floor or None
        Of a linear model; None while it has not been trained.
    plan : DataPlan
        The decisions that made it.
    findings : tuple of Finding
        What is suspicious about the table.
    examples : tuple of tuple of str
        A few training rows as text, in the order of `columns`.
    """

    folder: Path
    name: str
    source: str
    how: str
    fingerprint: str
    seed: int
    columns: tuple[Column, ...]
    encoding: Encoding
    class_counts: tuple[int, ...]
    rows: dict[str, int]
    floor: Floor
    findings: tuple[Finding, ...]
    examples: tuple[tuple[str, ...], ...]
    linear: Floor | None = None
    plan: DataPlan = field(default_factory=DataPlan)

    @property
    def inputs(self) -> int:
        """The number D of inputs of a network."""
        return len(self.encoding.inputs)

    @property
    def classes(self) -> tuple[str, ...]:
        """The C classes in the order of their numbers."""
        return self.encoding.classes

    def part(self, name: PartName) -> Part:
        """Map one part's arrays from disk. The test rows are sealed: there is no way to ask for them here."""
        if name not in ("train", "validation"):
            raise ValueError(f"no part {name!r} can be opened here")
        inputs = np.load(self.folder / f"{name}.inputs.npy", mmap_mode="r", allow_pickle=False)
        targets = np.load(self.folder / f"{name}.targets.npy", mmap_mode="r", allow_pickle=False)
        return Part(inputs, targets)


def kept_table(dataset: Dataset) -> polars.DataFrame:
    """Return the whole table that a data set was made from, sealed rows included: only to split it anew.

    Raises
    ------
    WorkspaceMissing
        If it is not there.
    """
    import polars

    try:
        return polars.read_parquet(dataset.folder / "sealed" / "table.parquet")
    except (OSError, polars.exceptions.PolarsError) as error:
        raise WorkspaceMissing(f"the table of {shown(dataset.name)!r} cannot be read: {shown(error, 100)}",
                               shown(dataset.folder), "add the data again under another name") from None


def write_dataset(dataset: Dataset, frames: dict[str, polars.DataFrame], table: polars.DataFrame) -> Dataset:
    """Write arrays and description beside the final place, then rename."""
    folder = dataset.folder
    draft = folder.with_name(f".{folder.name}.{os.getpid()}")
    shutil.rmtree(draft, ignore_errors=True)
    (draft / "sealed").mkdir(parents=True)
    digest = hashlib.sha256(json.dumps(_as_json(dataset)["encoding"]).encode())
    try:
        for part, frame in frames.items():
            arrays = {"inputs": dataset.encoding.encode(frame), "targets": dataset.encoding.labels(frame)}
            for kind, array in arrays.items():
                np.save(draft / f"{part}.{kind}.npy", array, allow_pickle=False)
                digest.update(array.tobytes())
        table.write_parquet(draft / "sealed" / "table.parquet")
        known = {**_as_json(dataset), "fingerprint": digest.hexdigest()[:16]}
        (draft / "data.json").write_text(json.dumps(known, indent=1, ensure_ascii=False), encoding="utf-8")
        if folder.exists():
            raise DataError(f"a data set called {shown(folder.name)!r} is there already", "", "choose another name")
        draft.rename(folder)
    finally:
        shutil.rmtree(draft, ignore_errors=True)
    return read_dataset(folder)


def _as_json(dataset: Dataset) -> dict[str, Any]:
    known = asdict(dataset)
    del known["folder"], known["linear"]
    known["encoding"]["codes"] = [
        {"kind": next(name for name, kind in CODES.items() if isinstance(c, kind)), **asdict(c)}
        for c in dataset.encoding.codes]
    return {"format": 1, **known}


def read_dataset(folder: Path) -> Dataset:
    """Read what is known of the data set in `folder`.

    Raises
    ------
    WorkspaceMissing
        If there is none, or it cannot be read.
    """
    try:
        known = json.loads((folder / "data.json").read_text(encoding="utf-8"))
        encoding = known["encoding"]
        codes = tuple(_code(dict(c)) for c in encoding["codes"])
        return Dataset(
            folder=folder, name=known["name"], source=known["source"], how=known.get("how", ""),
            fingerprint=known["fingerprint"],
            seed=known["seed"], columns=tuple(_column(c) for c in known["columns"]),
            encoding=Encoding(codes, encoding["target"], tuple(encoding["classes"])),
            class_counts=tuple(known["class_counts"]), rows=known["rows"], floor=Floor(**known["floor"]),
            findings=tuple(Finding(**f) for f in known.get("findings", ())),
            examples=tuple(tuple(row) for row in known["examples"]), linear=_read_linear(folder),
            plan=_plan(known.get("plan")),
        )
    except FileNotFoundError:
        raise WorkspaceMissing(f"there is no data set {shown(folder.name)!r}", shown(folder.parent),
                               "add one first") from None
    except (OSError, ValueError, KeyError, TypeError) as error:
        raise WorkspaceMissing(f"the data set {shown(folder.name)!r} cannot be read: {shown(error, 120)}",
                               shown(folder), "add the data again under another name") from None


def _plan(known: dict[str, Any] | None) -> DataPlan:
    if known is None:
        return DataPlan()
    own: dict[str, Any] = {n: tuple(value) if isinstance(value, list) else value for n, value in known.items()}
    own |= {"split": SplitPlan(**known["split"]), "said": Said(**known["said"])}
    return DataPlan(**own)


def keep_linear(dataset: Dataset, linear: Floor) -> Dataset:
    """Keep what a linear model scores beside a data set, and return the data set with it."""
    draft = dataset.folder / f".linear.{os.getpid()}.json"
    draft.write_text(json.dumps(asdict(linear)), encoding="utf-8")
    os.replace(draft, dataset.folder / "linear.json")
    return replace(dataset, linear=linear)


def _read_linear(folder: Path) -> Floor | None:
    try:
        return Floor(**json.loads((folder / "linear.json").read_text(encoding="utf-8")))
    except (OSError, ValueError, TypeError):
        return None


def _code(known: dict[str, Any]) -> Code:
    kind = CODES[known.pop("kind")]
    if kind is TextCode:
        known["categories"] = tuple(known["categories"])
    if "mean" in known:  # as an earlier version wrote it
        known["centre"] = known.pop("mean")
    return kind(**known)


def _column(known: dict[str, Any]) -> Column:
    return Column(**{**known, "bars": tuple(known["bars"]), "names": tuple(known["names"])})
