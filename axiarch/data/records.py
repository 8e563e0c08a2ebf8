"""Records as a table in an open format: CSV, Parquet or JSON lines, by the name of the file."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from pathlib import Path
from typing import Any

#: How the names of tables may end.
ENDINGS = (".csv", ".parquet", ".jsonl")


def write_records(path: Path, kind: str, columns: Mapping[str, Sequence[Any]]) -> None:
    """Write columns of equal length as Parquet or JSON lines; None is a gap, numbers keep all
    digits.

    Parameters
    ----------
    kind : {".parquet", ".jsonl"}

    Raises
    ------
    OSError
    """
    import polars

    frame = polars.DataFrame({name: list(values) for name, values in columns.items()}, strict=False,
                             infer_schema_length=None)
    if kind == ".parquet":
        frame.write_parquet(path)
    else:
        frame.write_ndjson(path)
