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
    """

    total: int
    content: bytes

    @classmethod
    def of(cls, total: int, losses: NDArray[np.floating]) -> RowLosses:
        """Return the losses (n,) of the rows :func:`kept_rows` of `total`."""
        import numpy as np

        return cls(total, np.ascontiguousarray(losses, np.dtype("<f4")).tobytes())

    @property
    def values(self) -> NDArray[np.float32]:
        """The losses of the rows that are kept (n,)."""
        import numpy as np

        return np.frombuffer(self.content, np.dtype("<f4"))
