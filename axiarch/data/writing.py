"""Write a data set piece by piece beside its place, then rename: it appears whole or not at all."""

from __future__ import annotations

import contextlib
import hashlib
import json
from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path
from types import TracebackType
from typing import IO, Any

import numpy as np
from numpy.typing import DTypeLike, NDArray

from axiarch.data.checksums import checksums
from axiarch.data.dataset import Dataset, map_array
from axiarch.data.describing import as_json, description
from axiarch.data.encoding import Encoding
from axiarch.data.split import Rows
from axiarch.data.table import Table, Tell
from axiarch.data.target import Answers
from axiarch.errors import DataError
from axiarch.files import scratch_folder
from axiarch.text import shown


@dataclass(frozen=True)
class FoldPlan:
    """A fold to be written: how it is encoded, and the numbers of its rows in order."""

    encoding: Encoding
    train: Rows
    validation: Rows


@dataclass(frozen=True)
class FoldArrays:
    """A fold as written: inputs (N, D) and targets of each part, mapped from disk."""

    inputs: dict[str, NDArray[np.float32]]
    targets: dict[str, Answers]


class DatasetWriter:
    """A data set in the making; a context manager that leaves nothing behind unless it is
    finished.
    """

    def __init__(self, folder: Path) -> None:
        self._folder = folder
        self._digest = hashlib.sha256()

    def __enter__(self) -> DatasetWriter:
        self._open = contextlib.ExitStack()
        self._draft = self._open.enter_context(scratch_folder(self._folder.parent,
                                                              "draft")) / "made"
        (self._draft / "sealed").mkdir(parents=True)
        return self

    def __exit__(self, kind: type[BaseException] | None, error: BaseException | None,
                 trace: TracebackType | None) -> None:
        self._open.close()

    def encode(self, table: Table, folds: Sequence[FoldPlan],
               on_progress: Tell) -> list[FoldArrays]:
        """Encode the rows of all folds in one walk over the table, and write them."""
        files = [
            _FoldFiles(self._draft / "folds" / str(i), fold, self._digest)
            for i, fold in enumerate(folds)
        ]
        first = folds[0].encoding
        names = [*(code.name for code in first.codes), *first.target.columns]
        try:
            for start, piece in table.pieces(names):
                on_progress("encoding", start / table.height)
                for each in files:
                    each.take(start, piece)
        finally:
            for each in files:
                each.close()
        return [
            FoldArrays({p: map_array(f.folder / f"{p}.inputs.npy")
                     for p in ("train", "validation")},
                    {p: map_array(f.folder / f"{p}.targets.npy")
                     for p in ("train", "validation")})
            for f in files
        ]

    def keep_reference(self, fold: int, reference: NDArray[np.float32]) -> None:
        """Keep how simple predictors do on validation rows of a fold: (3, n)."""
        place = self._draft / "reference" / f"{fold}.npy"
        place.parent.mkdir(exist_ok=True)
        np.save(place, reference, allow_pickle=False)

    def keep(self, given: Table, sealed: Rows, table: Table, examples: Rows,
             on_progress: Tell) -> None:
        """Keep the table as it was read, which of its rows are sealed, and a few training rows
        to look at.
        """
        import polars

        given.save(self._draft / "sealed" / "table", on_progress)
        np.save(self._draft / "sealed" / "rows.npy", sealed, allow_pickle=False)
        polars.DataFrame([table.column(name)[examples] for name in table.columns]).write_parquet(
            self._draft / "examples.parquet")

    def finish(self, dataset: Dataset) -> None:
        """Write the description, and put everything into its place."""
        known = as_json(dataset)
        folds = [{k: v for k, v in fold.items() if k != "linear"} for fold in known["folds"]]
        self._digest.update(json.dumps([folds, known["conversions"]]).encode())
        known |= {"fingerprint": self._digest.hexdigest()[:16], "checksums": checksums(self._draft)}
        (self._draft / "data.json").write_text(description(known), encoding="utf-8")
        if self._folder.exists():
            raise DataError(f"a data set called {shown(self._folder.name)!r} is there already", "",
                            "choose another name")
        self._draft.rename(self._folder)


class _FoldFiles:
    """The arrays of one fold, being written."""

    def __init__(self, folder: Path, fold: FoldPlan, digest: Any) -> None:
        folder.mkdir(parents=True)
        self.folder = folder
        self._fold = fold
        self._digest = digest
        target = fold.encoding.target
        width = len(fold.encoding.inputs)
        shape, kind = (((len(target.columns), ), np.float32) if target.task == "regression" else
                       ((), np.int32))
        self._rows = {"train": fold.train, "validation": fold.validation}
        self._files: dict[tuple[str, str], IO[bytes]] = {}
        for part, rows in self._rows.items():
            self._files[part, "inputs"] = _begin(folder / f"{part}.inputs.npy", (len(rows), width),
                                                 np.float32)
            self._files[part, "targets"] = _begin(folder / f"{part}.targets.npy",
                                                  (len(rows), *shape), kind)

    def take(self, start: int, piece: Any) -> None:
        """Write the rows of a piece of the table that begins with row `start`."""
        for part, rows in self._rows.items():
            low, high = np.searchsorted(rows, (start, start + piece.height))
            if low == high:
                continue
            own = piece[rows[low:high] - start]
            for kind, array in (("inputs", self._fold.encoding.encode(own)),
                                ("targets", self._fold.encoding.labels(own))):
                array.tofile(self._files[part, kind])
                self._digest.update(array)

    def close(self) -> None:
        """Close all files."""
        for file in self._files.values():
            file.close()


def _begin(path: Path, shape: tuple[int, ...], kind: DTypeLike) -> IO[bytes]:
    """Begin a .npy file: everything but its numbers."""
    file = path.open("wb")
    np.lib.format.write_array_header_1_0(file, {
        "descr": np.lib.format.dtype_to_descr(np.dtype(kind)), "fortran_order": False,
        "shape": shape
    })
    return file
