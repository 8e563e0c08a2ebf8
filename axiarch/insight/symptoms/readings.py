"""What several symptoms read from a training, and their thresholds."""

from __future__ import annotations

from collections.abc import Callable

from axiarch.insight.evidence import Evidence
from axiarch.insight.proposal import Proposal

#: A network whose losses stay above these shares of the baseline has learnt nothing: validation
#: losses scatter about the baseline, training losses less.
STUCK, STUCK_TRAINING = 0.985, 0.97
#: Epochs before anything is said of what a curve does.
FEWEST = 3
#: Units that are dead or saturated in a layer: some always are, most are not.
DEAD_SHARE = 0.6
#: Rise of the validation loss above its steady lowest, over which the training loss fell by this
#: share; and the gap, as a share of the validation loss, at which a network knows its rows by name.
RISE, FELL, GAP = 0.12, 0.1, 0.75
#: Epochs after the best one, and their share of all, that were wasted: a patience of the usual ten
#: to fifteen epochs is not.
WASTED, WASTED_SHARE = 20, 0.4
#: Loss that a linear model must have gained on the baseline to be a yardstick.
LINEAR_GAIN = 0.97
Look = Callable[[Evidence], Proposal | None]


def is_stuck(e: Evidence) -> bool:
    """Whether a network has learnt nothing."""
    return (e.epochs >= FEWEST and e.level > STUCK * e.baseline
            and float(e.training.min()) > STUCK_TRAINING * e.baseline)


def worst_layer(e: Evidence, column: int) -> tuple[float, int]:
    """Return the largest share in any hidden layer over the second half of the epochs, and the
    layer, from 1.
    """
    if e.layers.shape[1] < 2:
        return 0.0, 0
    late = e.layers[len(e.layers) // 2:, :-1, column].mean(0)
    return float(late.max()), int(late.argmax()) + 1


def after_best(e: Evidence) -> tuple[float, float]:
    """Return by which share the validation loss rose after its best epoch, and the training loss
    fell.
    """
    level = e.best[1]
    rise = float(e.validation[-FEWEST:].mean()) / level - 1 if level > 0 else 0.0
    fell = 1 - float(e.training[-FEWEST:].mean()) / max(e.training_at_best, 1e-300)
    return rise, fell
