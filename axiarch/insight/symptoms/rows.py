"""Symptoms of rows: classes that are never recognised, far values, batches of too few or too many,
waiting.
"""

from __future__ import annotations

import math

import numpy as np

from axiarch.insight import remedies
from axiarch.insight.evidence import TAILED_ROWS, Evidence, worst_share
from axiarch.insight.proposal import Proposal, Sure
from axiarch.insight.symptoms.readings import FEWEST
from axiarch.text import count, duration, share, shown

#: Steps of the optimiser, in an epoch and in all, that are too few.
FEW_STEPS, FEW_IN_ALL = 6, 400
#: Share of the squared error that the worst hundredth of the rows has, or of the variance that the
#: farthest hundredth of the target's values has: of normal ones it is 8 %.
FAR = 0.5
#: Validation rows of a class from which it is remarkable that none is recognised, and predictions
#: of it, as a share of them, that are accidents.
FEWEST_ROWS, HARDLY = 5, 0.2
#: Share of the time spent waiting for rows.
WAITED = 0.25
#: Batches so small that their steps cost mostly their own overhead.
TINY_BATCH, MANY_STEPS = 4, 300


def batch_large(e: Evidence) -> Proposal | None:
    """Too few steps an epoch."""
    steps = e.steps
    rising = e.best[0] < e.epochs - max(e.epochs // 10, 1)
    if steps > FEW_STEPS or steps * e.epochs > FEW_IN_ALL or e.epochs < FEWEST or rising:
        return None
    return Proposal(
        "batch_large", "the batches are too large for these rows",
        f"An epoch has {count(steps, 'step')} of {e.recipe.whole('batch_size')} rows, "
        f"{steps * e.epochs} in all, and the loss still falls.", Sure.LIKELY,
        (remedies.smaller_batch(e.recipe, e.rows), remedies.more_epochs(e.recipe)))


def _never(e: Evidence, number_: int, own: np.ndarray) -> bool:
    """Whether none of a class's `own` (n,) rows is predicted to be of it, and hardly any other."""
    assert e.row_losses is not None
    if e.predicted is not None:
        told = e.predicted == number_
        return not (told & own).any() and told.sum() <= HARDLY * own.sum()
    # below an even share another class is likelier for every row of it
    return math.exp(-float(e.row_losses[own].min())) < 1 / len(e.classes)


def never_predicted(e: Evidence) -> Proposal | None:
    """Classes of which no validation row is recognised."""
    if e.row_losses is None or e.labels is None or len(e.classes) < 3:
        return None
    found = []
    for number_, name in enumerate(e.classes):
        own = e.labels == number_
        if own.sum() >= FEWEST_ROWS and _never(e, number_, own):
            found.append(name)
    if not found:
        return None
    names = ", ".join(shown(name, 30) for name in found[:4])
    more = f" and {len(found) - 4} more" if len(found) > 4 else ""
    return Proposal(
        "never_predicted",
        "a class is never recognised" if len(found) == 1 else "classes are never recognised",
        f"No validation row of {names}{more} is predicted as such.",
        Sure.CERTAIN, (remedies.balanced(e.recipe), remedies.more_epochs(e.recipe)))


def target_scale(e: Evidence) -> Proposal | None:
    """A few rows rule the squared error."""
    if not e.amounts or e.recipe.word("loss") != "squared":
        return None
    part = 0.0
    if e.row_losses is not None and len(e.row_losses) >= TAILED_ROWS:
        part = worst_share(e.row_losses)
    if max(part, e.target_share) < FAR:
        return None
    words = (f"The worst hundredth of the validation rows has {share(part)} of the squared error"
             if part >= FAR else "The farthest hundredth of the target's values has "
             f"{share(e.target_share)} of its variance")
    advice = "The Huber loss gives them less weight"
    if e.squared:
        advice = ("The Huber loss lowers usual errors, not squared ones: rank by the mean absolute "
                  "error with it (B in the data view), or, where no amount is below 0, predict "
                  "the logarithm of the target (z on it there)")
    return Proposal("target_scale", "a few rows rule the loss",
                    f"{words}: such rows throw the weights about. {advice}.", Sure.POSSIBLE,
                    (remedies.robust_loss(),))


def waiting(e: Evidence) -> Proposal | None:
    """It waits for rows."""
    if e.curve.waiting <= WAITED or e.curve.total_seconds < 1.0:
        return None
    return Proposal(
        "waiting", "it waits for rows",
        f"{share(e.curve.waiting)} of its time it waited for rows to be read.", Sure.CERTAIN,
        (remedies.larger_batch(e.recipe),))


def tiny_batches(e: Evidence) -> Proposal | None:
    """Batches so small that steps are mostly overhead."""
    size = e.recipe.whole("batch_size")
    if size > TINY_BATCH or e.steps < MANY_STEPS:
        return None
    seconds = float(np.median(e.curve.seconds))
    return Proposal(
        "tiny_batches", "the batches are too small to be fast",
        f"An epoch takes {e.steps} steps of {count(size, 'row')}, {duration(seconds)}.",
        Sure.POSSIBLE, (remedies.larger_batch(e.recipe),))
