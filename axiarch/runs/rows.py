"""The loss of each validation row, by the weights that a run kept.

What they are for: a loss is uncertain because the validation rows are a sample. How much, and how
much less for the difference of two recipes on the same rows, is read from the rows.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import TYPE_CHECKING

if TYPE_CHECKING:
    import numpy as np
    from numpy.typing import NDArray

#: Rows that are kept of a run at the most, spread evenly over the part: 16 KiB a run. Their
#: variance is known from as many to about 2 %.
MOST_ROWS = 4096


def kept_rows(total: int) -> NDArray[np.int64]:
    """Return the numbers of the validation rows that are kept of `total`: the same for every run.
    """
    import numpy as np

    count = min(total, MOST_ROWS)
    return np.arange(count, dtype=np.int64) * total // max(count, 1)


@dataclass(frozen=True)
class RowLosses:
    """The losses of some validation rows: cross-entropies in nats, or squared errors in the square
    of the loss's unit.

    Attributes
    ----------
    total : int
        Rows N of the validation part.
    content : bytes
        The losses of the rows that are kept, float32, little-endian.
    predicted : bytes
        The class predicted of each of them, 16 bits, little-endian; empty for amounts.
    """

    total: int
    content: bytes
    predicted: bytes = b""

    @classmethod
    def of(cls, total: int, losses: NDArray[np.floating],
           classes: NDArray[np.integer] | None = None) -> RowLosses:
        """Return the losses (n,), and the predicted classes (n,), of the rows :func:`kept_rows` of
        `total`.
        """
        import numpy as np

        told = b"" if classes is None else np.ascontiguousarray(classes, np.dtype("<u2")).tobytes()
        return cls(total, np.ascontiguousarray(losses, np.dtype("<f4")).tobytes(), told)

    @property
    def classes(self) -> NDArray[np.uint16] | None:
        """The class predicted of each row that is kept (n,); None where that is not known."""
        import numpy as np

        return np.frombuffer(self.predicted, np.dtype("<u2")) if self.predicted else None

    @property
    def values(self) -> NDArray[np.float32]:
        """The losses of the rows that are kept (n,)."""
        import numpy as np

        return np.frombuffer(self.content, np.dtype("<f4"))
