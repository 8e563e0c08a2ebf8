"""Predictions as a table: what is carried along, then what is predicted. CSV or Parquet, in
pieces.
"""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray

from axiarch.data.target import Target
from axiarch.text import cell

if TYPE_CHECKING:
    import polars

#: Endings of files that predictions are written to.
ENDINGS = (".csv", ".parquet")
#: What a spreadsheet may take for a formula, at the start of a text.
_RISKY = r"^[=+\-@\t\r\n]|[\x00-\x08\x0b\x0c\x0e-\x1f\x7f-\x9f]"


def prediction_columns(predicted: NDArray[np.float64], target: Target) -> dict[str, Any]:
    """Return the columns that say what is predicted.

    Parameters
    ----------
    predicted : (N, C) or (N, T) array
        Class probabilities, or scaled amounts.
    """
    if target.classes:
        best = predicted.argmax(axis=1)
        names = np.array(target.classes, dtype=object)
        return {
            f"predicted {target.columns[0]}": names[best].tolist(),
            **{f"probability of {name}": predicted[:, i] for i, name in enumerate(target.classes)}
        }
    amounts = np.asarray(target.decode(predicted))
    return {f"predicted {name}": amounts[:, i] for i, name in enumerate(target.columns)}


class PredictionWriter:
    """Writes predictions piece by piece; a context manager.

    Parameters
    ----------
    path : Path
        Ends in .csv or .parquet; replaced where it is there.
    scratch : Path
        A folder for pieces of a Parquet file.
    """

    def __init__(self, path: Path, scratch: Path, target: Target) -> None:
        self._path, self._scratch, self._target = path, scratch, target
        self._parquet = path.suffix.lower() == ".parquet"
        self._pieces = 0

    def add(self, carried: polars.DataFrame, predicted: NDArray[np.float64]) -> None:
        """Write some rows.

        Raises
        ------
        OSError
        """
        import polars

        columns = prediction_columns(predicted, self._target)
        kept = [s.alias(_free(s.name, columns)) for s in carried]
        frame = polars.DataFrame([*kept, *(polars.Series(n, v) for n, v in columns.items())])
        if self._parquet:
            self._scratch.mkdir(parents=True, exist_ok=True)
            frame.write_parquet(self._scratch / f"{self._pieces:05d}.parquet")
        else:
            safe = frame.with_columns(_safe(s) for s in frame if s.dtype == polars.String)
            safe.columns = [cell(name) for name in safe.columns]
            with self._path.open("ab" if self._pieces else "wb") as file:
                safe.write_csv(file, include_header=not self._pieces)
        self._pieces += 1

    def finish(self) -> None:
        """Join the pieces of a Parquet file."""
        import polars

        if self._parquet:
            pieces = sorted(self._scratch.glob("*.parquet"))
            polars.scan_parquet(pieces).sink_parquet(self._path)


def _free(name: str, taken: dict[str, Any]) -> str:
    while name in taken:
        name = f"{name} (given)"
    return name


def _safe(series: polars.Series) -> polars.Series:
    """Return texts that no spreadsheet takes for a formula; few are risky, and those alone are
    changed.
    """
    risky = series.str.contains(_RISKY).fill_null(False)
    if not risky.any():
        return series
    return series.scatter(risky.arg_true(), [cell(text) for text in series.filter(risky)])
