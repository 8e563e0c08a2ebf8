"""Symptoms of when a training ended: too early, too late, on a lucky epoch."""

from __future__ import annotations

import math

import numpy as np

from axiarch.insight import remedies
from axiarch.insight.evidence import Evidence
from axiarch.insight.proposal import Proposal, Sure
from axiarch.insight.symptoms.readings import FEWEST, RISE, WASTED, WASTED_SHARE
from axiarch.text import count, loss, number, share

#: Fall of the validation loss over the last fifth of the epochs that is worth more epochs; twice as
#: much where the rate has fallen to a tenth, as it falls by itself then; and over the last of fewer
#: than ten epochs.
FALLING, FALLING_ONCE = 0.04, 0.012
#: Patience and the jumps of a loss at which it stops runs by chance.
SHORT_PATIENCE = 3
#: Fewer epochs than this end too soon for the fall over a fifth of them to say anything: a loss
#: that falls by so much over their second half, epoch by epoch, and in the last one by a share of
#: what it fell by on the average, still improves.
SHORT, SHORT_FALL, SHORT_LAST = 20, 0.012, 0.3


def _falls_steadily(e: Evidence) -> bool:
    """Whether the validation loss of a short run fell in every epoch of its second half, and in the
    last one not much less than before.
    """
    steps = -np.diff(e.validation[len(e.validation) // 2 - 1:])
    return (e.epochs < SHORT and len(steps) >= 2 and bool((steps > 0).all())
            and float(steps[-1]) > SHORT_LAST * float(steps.mean()))


def improving(e: Evidence) -> Proposal | None:
    """It ended while it was still improving."""
    if e.reason not in ("completed", "steps") or e.epochs < FEWEST:
        return None
    rates = e.curve.learning_rate
    late = e.best[0] >= e.epochs - max(e.epochs // 10, 1)
    fall, least, words = e.fall, FALLING, _fifths(e)
    if _falls_steadily(e):
        fall, least, words = e.fall_of_half, SHORT_FALL, _fell(e, (e.epochs + 1) // 2)
    elif e.epochs < 10:
        least, words = FALLING_ONCE, _fell(e, 1)
        last, before = float(e.validation[-1]), float(e.validation[-2])
        fall = (before - last) / last if last > 0 else 0.0
    if not late or fall <= least * (2 if rates[-1] < 0.1 * max(rates) else 1):
        return None
    return Proposal("improving", "it was still improving when it ended", words, Sure.LIKELY,
                    (remedies.more_epochs(e.recipe), remedies.higher_rate(e.recipe)),
                    epoch=e.epochs)


def _fell(e: Evidence, over: int) -> str:
    """Say by how much the validation loss fell over the last epochs."""
    last = "epoch" if over == 1 else count(over, "epoch")
    return (f"In the last {last} the validation loss fell "
            f"from {loss(float(e.validation[-over - 1]))} to {loss(float(e.validation[-1]))}.")


def _fifths(e: Evidence) -> str:
    """Say what the validation loss was over the last fifth of the epochs, and the one before."""
    fifth = max(e.epochs // 5, 1)
    before, last = (float(each.mean()) for each in
                    (e.validation[-2 * fifth:-fifth], e.validation[-fifth:]))
    return (f"Over the last {count(fifth, 'epoch')} the validation loss averaged {loss(last)}, "
            f"over the {number(fifth)} before {loss(before)}.")


def short_patience(e: Evidence) -> Proposal | None:
    """Patience ended it while it was still improving."""
    patience = e.recipe.whole("patience")
    if e.reason != "patience" or patience > SHORT_PATIENCE or e.epochs > e.recipe.whole(
            "epochs") // 2:
        return None
    rise = float(e.validation[-1]) / e.level - 1 if e.level > 0 else math.inf
    if rise > RISE:
        return None
    return Proposal(
        "short_patience", "its patience is too short",
        f"It was stopped after {e.epochs} of {count(e.recipe.whole('epochs'), 'epoch')}, because "
        f"{count(patience, 'epoch')} brought nothing; the loss was within {share(max(rise, 0))} of "
        "its lowest.", Sure.POSSIBLE,
        (remedies.more_patience(e.recipe),), epoch=e.epochs)


def long_patience(e: Evidence) -> Proposal | None:
    """Most epochs came after the best one."""
    after = e.epochs - e.best[0]
    if not e.ended or after < WASTED or after < WASTED_SHARE * e.epochs:
        return None
    return Proposal(
        "long_patience", "most of its epochs were wasted",
        f"Its best epoch is {e.best[0]}; {count(after, 'epoch')} more brought nothing.",
        Sure.LIKELY, (remedies.less_patience(e.recipe),), epoch=e.best[0])


def lucky_epoch(e: Evidence) -> Proposal | None:
    """One epoch far below its neighbours."""
    if e.epochs < 3 * FEWEST or not np.isfinite(e.validation).all():
        return None
    lowest = int(e.validation.argmin())
    near = np.concatenate((e.validation[max(lowest - 2, 0):lowest],
                           e.validation[lowest + 1:lowest + 3]))
    below = 1 - float(e.validation[lowest]) / float(near.mean())
    if below < 0.08:
        return None
    return Proposal(
        "lucky", f"epoch {lowest + 1} was lucky",
        f"Its validation loss of {loss(float(e.validation[lowest]))} is {share(below)} below its "
        "neighbours; the steady loss, which ranks, discounts that.", Sure.LIKELY,
        epoch=lowest + 1)
