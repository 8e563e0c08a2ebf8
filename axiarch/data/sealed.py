"""The sealed test rows of a data set, and the table that it was made from."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import replace
from typing import TYPE_CHECKING

import numpy as np
from numpy.typing import NDArray

from axiarch.data.checksums import row_hashes, verify
from axiarch.data.conversions import as_changes
from axiarch.data.dataset import RESTORE, Dataset, Part
from axiarch.data.encoding import Encoding
from axiarch.data.pixels import with_pictures
from axiarch.data.table import Table
from axiarch.errors import WorkspaceMissing
from axiarch.text import shown

if TYPE_CHECKING:
    import polars


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
    verify(dataset.folder, dataset.checksums, "sealed/", RESTORE)


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
