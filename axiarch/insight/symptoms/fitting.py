"""Symptoms of what a network fits: too little, too much, or no more than something simpler."""

from __future__ import annotations

import math

from axiarch.insight import remedies
from axiarch.insight.evidence import Evidence
from axiarch.insight.proposal import Change, Proposal, Sure
from axiarch.insight.symptoms.readings import (
    FELL,
    FEWEST,
    GAP,
    LINEAR_GAIN,
    RISE,
    STUCK,
    after_best,
    is_stuck,
)
from axiarch.text import count, loss, number, share

#: Jumps of the validation loss, as a share of it: tuned recipes stay below 3 % on 600 rows, and
#: each row weighs more where there are fewer.
JUMPY, JUMPY_ROWS = 0.05, 600
#: Regularisers above these are strong enough to be why a training loss stays high.
STRONG = {"dropout": 0.6, "l1": 2e-3, "l2": 1e-2, "weight_decay": 3.0, "input_noise": 0.8,
          "label_smoothing": 0.4, "mixup": 2.0}
#: Regularisers that raise the loss which is measured while training.
NOISY = ("dropout", "input_noise", "label_smoothing", "mixup")
#: Training loss over that of a linear model, or over the best validation loss known, from which a
#: network with hidden layers underfits.
UNDERFIT_LINEAR, UNDERFIT_KNOWN = 0.95, 1.1


def strong(e: Evidence) -> list[str]:
    """Return the regularisers of a recipe that are strong enough to hold it back."""
    found = [name for name, most in STRONG.items() if e.recipe.real(name) >= most]
    limit = e.recipe.real("max_norm")
    return [*found, *(["max_norm"] if 0 < limit < 0.3 else [])]


_AT_BASELINE = "its training loss stays at the baseline"


def _underfits(e: Evidence) -> str:
    """Return why a training loss is too high, in words; empty where it is not."""
    best = float(e.training.min())
    if e.best_known is not None and best > UNDERFIT_KNOWN * e.best_known:
        return (f"its training loss comes to {loss(best)}, where another recipe has a validation "
                f"loss of {loss(e.best_known)}")
    if (e.linear is not None and e.linear < LINEAR_GAIN * e.baseline
            and best > UNDERFIT_LINEAR * e.linear and e.level > 0.97 * e.linear):
        return (f"its training loss comes to {loss(best)}, no lower than the {loss(e.linear)} of a "
                "linear model")
    return _AT_BASELINE if is_stuck(e) else ""


def too_regularised(e: Evidence) -> Proposal | None:
    """Regularisation keeps the training loss high."""
    names, why = strong(e), _underfits(e)
    change = remedies.less_regularisation(e.recipe)
    if e.epochs < FEWEST or not names or not why or change is None:
        return None
    from axiarch.recipes.fields import FIELDS

    words = " and ".join(f"{FIELDS[n].label} {number(e.recipe.real(n))}" for n in names)
    title = "it is regularised too strongly"
    if len(names) > 1:
        title = "its regularisers work against each other"
    return Proposal("too_regularised", title, f"With {words}, {why}.", Sure.LIKELY, (change,))


def underfits(e: Evidence) -> Proposal | None:
    """The network is too small, or trained too little, for its training rows."""
    why = _underfits(e)
    if e.epochs < 2 * FEWEST or not why or why == _AT_BASELINE:
        return None
    changes = remedies.possible(
        remedies.more_capacity(e.recipe), remedies.usual_rate(e.recipe),
        remedies.more_epochs(e.recipe))
    return Proposal("underfits", "it underfits", f"{why[0].upper()}{why[1:]}.", Sure.LIKELY,
                    changes)


def stuck(e: Evidence) -> Proposal | None:
    """The loss never left the baseline."""
    if not is_stuck(e):
        return None
    changes = remedies.possible(
        remedies.usual_rate(e.recipe), remedies.normalise(e.recipe),
        remedies.more_capacity(e.recipe))
    return Proposal(
        "stuck", "it is stuck at the baseline",
        f"After {count(e.epochs, 'epoch')} the validation loss is {loss(e.level)}, the baseline "
        f"{loss(e.baseline)}.", Sure.CERTAIN,
        changes)


def no_skill(e: Evidence) -> Proposal | None:
    """It has learnt something, but nothing that holds on other rows."""
    if not e.ended or e.epochs < 2 * FEWEST or e.level <= STUCK * e.baseline or is_stuck(e):
        return None
    changes = remedies.possible(
        remedies.regularise(e.recipe), remedies.less_capacity(e.recipe),
        remedies.usual_rate(e.recipe))
    return Proposal(
        "no_skill", "it does not beat the baseline",
        f"Its validation loss comes to {loss(e.level)}, that of the baseline is "
        f"{loss(e.baseline)}; its training loss fell to {loss(float(e.training.min()))}. What it "
        "learns does not hold on other rows: perhaps there is no more to learn.", Sure.LIKELY,
        changes)


def overfits(e: Evidence) -> Proposal | None:
    """The validation loss rises while the training loss falls."""
    if e.epochs < 2 * FEWEST:
        return None
    epoch, level = e.best
    rise, fell = after_best(e)
    gap = 1 - e.training_at_best / level if level > 0 else 0.0
    if not ((rise > RISE and fell > FELL) or gap > GAP):
        return None
    if rise > RISE:
        words = (f"From epoch {epoch} on the validation loss rises by {share(rise)}, while the "
                 f"training loss falls by {share(fell)}.")
    else:
        words = (f"At epoch {epoch} the training loss is {loss(e.training_at_best)}, the "
                 f"validation loss {loss(level)}.")
    changes = remedies.possible(
        remedies.regularise(e.recipe), remedies.less_capacity(e.recipe),
        remedies.falling_rate(e.recipe))
    return Proposal("overfits", f"it overfits from epoch {epoch}", words, Sure.LIKELY,
                    changes, epoch=epoch)


def jumpy(e: Evidence) -> Proposal | None:
    """The validation loss jumps."""
    few = math.sqrt(JUMPY_ROWS / min(e.validation_rows or JUMPY_ROWS, JUMPY_ROWS))
    if e.epochs < 3 * FEWEST or e.roughness <= JUMPY * few:
        return None
    return Proposal(
        "jumpy", "its validation loss is jumpy",
        f"It jumps by {share(e.roughness)} from epoch to epoch.", Sure.LIKELY,
        tuple(remedies.calmer(e.recipe)))


def no_better_than_linear(e: Evidence) -> Proposal | None:
    """A network no better than a linear model."""
    if (not e.ended or e.linear is None or not e.recipe.layers
            or e.linear > LINEAR_GAIN * e.baseline or e.level < 0.99 * e.linear):
        return None
    changes = remedies.possible(
        remedies.usual_rate(e.recipe), remedies.more_capacity(e.recipe),
        Change("Use a linear model", {"depth": 0}))
    return Proposal(
        "linear", "it does not beat a linear model",
        f"Its validation loss is {loss(e.level)}, that of a linear model {loss(e.linear)}.",
        Sure.LIKELY, changes)


def easier_validation(e: Evidence) -> Proposal | None:
    """Validation rows are easier than training rows."""
    if e.epochs < 2 * FEWEST or is_stuck(e) or e.training_at_best < 1.1 * e.level:
        return None
    return Proposal(
        "easier", "the validation rows are easier than the training rows",
        f"In inference mode the training loss is {loss(e.training_at_best)}, the validation loss "
        f"{loss(e.level)}: the split may not be fair.", Sure.POSSIBLE)


def regularisation_noise(e: Evidence) -> Proposal | None:
    """The training loss is above the validation loss only because regularisation is on.

    Without any, it was measured while the weights still moved a lot: nothing to speak of.
    """
    if not any(e.recipe.real(name) > 0 for name in NOISY) and "drop" not in e.recipe.word(
            "network"):
        return None
    while_training = float(e.curve.train_loss[min(e.best[0], e.epochs) - 1])
    if not while_training > 1.05 * e.level or e.training_at_best >= e.level or is_stuck(e):
        return None
    return Proposal(
        "noise", "regularisation raises the training loss",
        f"While training it is {loss(while_training)}, above the validation loss of "
        f"{loss(e.level)}; in inference mode it is {loss(e.training_at_best)}. Nothing is wrong.",
        Sure.CERTAIN)
