"""Symptoms of a training, each found by one function from one run's numbers.

Thresholds are named, with the reason for each; `python -m benchmarks.diagnosis` counts hits and
false alarms on trainings that were not looked at while they were chosen. Losses are compared with
the baseline's, so that units do not matter.
"""

from __future__ import annotations

import math
from collections.abc import Callable

import numpy as np

from axiarch.insight import remedies
from axiarch.insight.evidence import DEAD, GRADIENT, MOVE, SATURATED, Evidence, worst_share
from axiarch.insight.proposal import Change, Proposal, Sure
from axiarch.ranking.capacity import roughness
from axiarch.recipes.members import OPTIMISERS
from axiarch.text import count, duration, loss, number, share, shown

#: A network whose losses stay above these shares of the baseline has learnt nothing: validation
#: losses scatter about the baseline, training losses less.
STUCK, STUCK_TRAINING = 0.985, 0.97
#: Epochs before anything is said of what a curve does.
FEWEST = 3
#: Jumps of the training loss from epoch to epoch, as a share of the baseline, that good rates do
#: not make: they stay below 1 %.
BUMPS = 0.015
#: Jumps of the validation loss, as a share of it: tuned recipes stay below 3 % on 600 rows, and
#: each row weighs more where there are fewer.
JUMPY, JUMPY_ROWS = 0.05, 600
#: Share of an optimiser's usual highest rate from which dead units and a stuck loss are laid to
#: the rate.
HIGH = 0.5
#: How far a step moves the weights of a layer relative to their size: a thousandth is usual, and
#: below this nothing comes of a few dozen epochs.
SLOW = 1e-4
#: Units that are dead or saturated in a layer: some always are, most are not.
DEAD_SHARE = 0.6
#: Gradient of the first layer over that of the last: with initialisations that fit their
#: activation it is near one.
VANISHED, DEEP = 1e-3, 4
#: Norm of a gradient over its median in the run, and at the least, that counts as exploded.
EXPLODED, EXPLODED_NORM = 100.0, 100.0
#: Regularisers above these are strong enough to be why a training loss stays high.
STRONG = {"dropout": 0.6, "l1": 2e-3, "l2": 1e-2, "weight_decay": 3.0, "input_noise": 0.8,
          "label_smoothing": 0.4, "mixup": 2.0}
#: Regularisers that raise the loss which is measured while training.
NOISY = ("dropout", "input_noise", "label_smoothing", "mixup")
#: Training loss over that of a linear model, or over the best validation loss known, from which a
#: network with hidden layers underfits.
UNDERFIT_LINEAR, UNDERFIT_KNOWN = 0.95, 1.1
#: Rise of the validation loss above its steady lowest, over which the training loss fell by this
#: share; and the gap, as a share of the validation loss, at which a network knows its rows by name.
RISE, FELL, GAP = 0.12, 0.1, 0.75
#: Fall of the validation loss over the last fifth of the epochs that is worth more epochs; twice as
#: much where the rate has fallen to a tenth, as it falls by itself then; and over the last of fewer
#: than ten epochs.
FALLING, FALLING_ONCE = 0.04, 0.012
#: Steps of the optimiser, in an epoch and in all, that are too few.
FEW_STEPS, FEW_IN_ALL = 6, 400
#: Patience and the jumps of a loss at which it stops runs by chance.
SHORT_PATIENCE = 3
#: Epochs over which jumps of the training loss are looked at, in best epochs and at the least: long
#: after the best one, a loss near 0 jumps by itself.
LEARNING, LEARNING_LEAST = 2, 12
#: Fall of the training loss after the best epoch, beside a rise of the validation loss, that no
#: rate which is too high lets come about.
FELL_FAR = 0.5
#: Epochs after the best one, and their share of all, that were wasted: a patience of the usual ten
#: to fifteen epochs is not.
WASTED, WASTED_SHARE = 20, 0.4
#: Share of the squared error that the worst hundredth of the rows has, or of the variance that the
#: farthest hundredth of the target's values has: of normal ones it is 8 %.
FAR = 0.5
#: Validation rows of a class from which it is remarkable that none is recognised, and predictions
#: of it, as a share of them, that are accidents.
FEWEST_ROWS, HARDLY = 5, 0.2
#: Share of the time spent waiting for rows.
WAITED = 0.25
#: Fewer epochs than this end too soon for the fall over a fifth of them to say anything: a loss
#: that falls by so much over their second half, epoch by epoch, and in the last one by a share of
#: what it fell by on the average, still improves.
SHORT, SHORT_FALL, SHORT_LAST = 20, 0.012, 0.3
#: Loss that a linear model must have gained on the baseline to be a yardstick.
LINEAR_GAIN = 0.97
#: Batches so small that their steps cost mostly their own overhead.
TINY_BATCH, MANY_STEPS = 4, 300

Look = Callable[[Evidence], Proposal | None]


def diverged(e: Evidence) -> Proposal | None:
    """The loss ran away."""
    if not e.diverged:
        return None
    rate = e.curve.learning_rate[-1]
    norm = e.curve.loss_gradient[-1] or e.curve.gradient_norm[-1]  # before it was clipped
    clip = Change("Clip the gradient", {"clip_norm": 1.0})
    more = [clip] if not e.recipe.real("clip_norm") else []
    where = e.text or "the loss was not finite"
    return Proposal("diverged", "the training diverged",
                    f"{where[0].upper()}{where[1:]}, at a learning rate of {number(rate)}; the "
                    f"norm of the gradient was {number(norm, 2)}.", Sure.CERTAIN,
                    (remedies.lower_rate(e.recipe, strongly=True), *more), epoch=e.epochs)


def is_stuck(e: Evidence) -> bool:
    """Whether a network has learnt nothing."""
    return (e.epochs >= FEWEST and e.level > STUCK * e.baseline
            and float(e.training.min()) > STUCK_TRAINING * e.baseline)


def _most(e: Evidence, column: int) -> tuple[float, int]:
    """Return the largest share in any hidden layer over the second half of the epochs, and the
    layer, from 1.
    """
    if e.layers.shape[1] < 2:
        return 0.0, 0
    late = e.layers[len(e.layers) // 2:, :-1, column].mean(0)
    return float(late.max()), int(late.argmax()) + 1


def _speed(e: Evidence) -> float:
    """Return how far steps moved the weights of the layer that moved most, median over the first
    half.
    """
    if not e.layers.size:
        return math.inf
    return float(np.median(e.layers[: max(len(e.layers) // 2, 1), :, MOVE].max(1)))


def _bumps(e: Evidence) -> float:
    """Return how much the training loss jumps while it learns, as a share of the baseline: errors
    of amounts by their squares, which are what is trained on.
    """
    power = 2 if e.amounts else 1
    losses = e.training[: max(LEARNING * e.best[0], LEARNING_LEAST)]**power
    half = losses[len(losses) // 2:]
    return roughness(losses.tolist()) * float(half.mean()) / e.baseline**power


def rate_high(e: Evidence) -> Proposal | None:
    """The learning rate is too high."""
    rate, highest = e.recipe.real("learning_rate"), OPTIMISERS[
        e.recipe.word("optimiser")].highest_rate
    bumps, dead = _bumps(e), _most(e, DEAD)[0]
    broken = (is_stuck(e) or dead > DEAD_SHARE) and rate >= HIGH * highest
    if e.epochs < FEWEST or not (broken or (e.epochs >= 3 * FEWEST and bumps > BUMPS)):
        return None
    if not broken and exploding(e) is not None:
        return None  # a gradient a hundred times the others makes the loss jump at any rate
    rise, fell = _after_best(e)
    if not broken and e.epochs - e.best[0] >= WASTED and rise > RISE and fell > FELL_FAR:
        return None  # it could not have memorised its rows at a rate that is too high
    parts = [f"The learning rate is {number(rate)}, where {e.recipe.word('optimiser')} usually "
             f"bears {number(highest)} at the most"] if broken else []
    if bumps > BUMPS:
        parts.append(f"{'the' if parts else 'The'} training loss jumps from epoch to epoch by "
                     f"{share(bumps)} of the baseline")
    if dead > DEAD_SHARE:
        parts.append(f"{share(dead)} of the units of a layer are dead")
    changes = remedies.calmer(e.recipe)
    if rate > highest or is_stuck(e):  # averages of such weights are hardly better
        changes = [remedies.falling_rate(e.recipe),
                   remedies.lower_rate(e.recipe, strongly=broken),
                   remedies.larger_batch(e.recipe)]
    return Proposal("rate_high", "the learning rate is too high", "; ".join(parts) + ".",
                    Sure.LIKELY, tuple(changes), epoch=1 if broken else 0)


def rate_low(e: Evidence) -> Proposal | None:
    """The learning rate is too low."""
    speed = _speed(e)
    falling = e.epochs >= FEWEST and e.best[0] >= e.epochs - max(e.epochs // 10, 1)
    if not falling or speed > SLOW or e.training_roughness > 0.02:
        return None
    return Proposal(
        "rate_low", "the learning rate is too low",
        f"A step moves the weights by {number(speed, 2)} of their size, where a thousandth is "
        f"usual; the validation loss still falls after {count(e.epochs, 'epoch')}.", Sure.LIKELY,
        (remedies.higher_rate(e.recipe), remedies.more_epochs(e.recipe)))


def clipped(e: Evidence) -> Proposal | None:
    """The gradient is clipped at nearly every step."""
    limit = e.recipe.real("clip_norm")
    norms = np.array(e.curve.loss_gradient)
    norms = norms[norms > 0]
    if not limit or len(norms) < FEWEST or e.recipe.applies("beta2"):
        return None  # steps of adaptive optimisers do not depend on the size of the gradient
    usual = float(np.median(norms))
    bites = float((norms > limit).mean())
    if bites < 0.9 or usual < 3 * limit:
        return None
    return Proposal(
        "clipped", "clipping cuts nearly every step",
        f"The norm of the gradient is {number(usual, 2)}, and all above {number(limit)} is cut: at "
        f"{share(bites)} of the epochs' last steps. That lowers the learning rate "
        f"{number(remedies.neat(usual / limit), 5)} times.", Sure.LIKELY,
        (remedies.no_clipping(e.recipe, usual), remedies.higher_rate(e.recipe)))


def dead_units(e: Evidence) -> Proposal | None:
    """Most units of a layer answer nothing."""
    dead, layer = _most(e, DEAD)
    units = [each.units for each in e.recipe.layers if each.units]  # pools have none
    if e.epochs < FEWEST or dead <= DEAD_SHARE or units[layer - 1] < 4:
        return None
    return Proposal(
        "dead", f"units of layer {layer} are dead",
        f"{share(dead)} of the units of layer {layer} answer 0 to every row.", Sure.LIKELY,
        (remedies.lower_rate(e.recipe), remedies.living_units(e.recipe),
         remedies.normalise(e.recipe)), layer=layer)


def saturated_units(e: Evidence) -> Proposal | None:
    """Most units of a layer stand at an end of their activation."""
    part, layer = _most(e, SATURATED)
    if e.epochs < FEWEST or part <= DEAD_SHARE:
        return None
    changes = [remedies.lower_rate(e.recipe), remedies.normalise(e.recipe),
               remedies.living_units(e.recipe)]
    at_once = float(e.layers[0, layer - 1, SATURATED]) > DEAD_SHARE
    if at_once:  # no rate has moved the weights so far: the sums are too large from the start
        changes = [changes[1], changes[0], changes[2]]
    return Proposal(
        "saturated", f"units of layer {layer} are saturated",
        f"{share(part)} of the units of layer {layer} stand at an end of their activation, where "
        f"the gradient is nearly 0{', from the first epoch on' if at_once else ''}.", Sure.LIKELY,
        tuple(changes), layer=layer)


def vanishing(e: Evidence) -> Proposal | None:
    """The first layers get no gradient."""
    if e.layers.shape[1] < DEEP:
        return None
    first, last = float(e.layers[0, 0, GRADIENT]), float(e.layers[0, -1, GRADIENT])
    if not last > 0 or first / last >= VANISHED:
        return None
    layer = int(np.argmin(e.layers[0, :, GRADIENT])) + 1
    changes = [remedies.shallower(e.recipe), remedies.skips(e.recipe),
               remedies.normalise(e.recipe), remedies.living_units(e.recipe)]
    return Proposal(
        "vanishing", "gradients vanish",
        f"In the first epoch the gradient of layer 1 is {number(first / last, 2)} of that of layer "
        f"{e.layers.shape[1]}: the first layers hardly learn.", Sure.LIKELY,
        tuple(c for c in changes if c is not None), layer=layer)


def exploding(e: Evidence) -> Proposal | None:
    """A gradient was far above the others."""
    norms = np.array(e.curve.loss_gradient)
    if len(norms) <= FEWEST or e.diverged or not np.isfinite(norms).all():
        return None
    place = FEWEST + int(norms[FEWEST:].argmax())  # at the start gradients are large
    top, usual = float(norms[place]), float(np.median(norms[:place]))
    if top < EXPLODED * usual or top < EXPLODED_NORM:
        return None
    limit, clip = e.recipe.real("clip_norm"), remedies.neat(5 * usual)
    changes = []
    if any(layer.norm == "none" for layer in e.recipe.layers if layer.units):
        changes.append(remedies.normalise(e.recipe))
    if not 0 < limit <= clip:
        changes.append(Change("Clip the gradient", {"clip_norm": clip}))
    changes.append(remedies.lower_rate(e.recipe))
    return Proposal(
        "exploding", "gradients explode",
        f"In epoch {place + 1} the norm of the gradient reached {number(top, 2)}, "
        f"{number(top / max(usual, 1e-300), 2)} times its median before.", Sure.LIKELY,
        tuple(changes),
        epoch=place + 1)


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
    changes = [remedies.more_capacity(e.recipe), remedies.usual_rate(e.recipe),
               remedies.more_epochs(e.recipe)]
    return Proposal("underfits", "it underfits", f"{why[0].upper()}{why[1:]}.", Sure.LIKELY,
                    tuple(c for c in changes if c is not None))


def stuck(e: Evidence) -> Proposal | None:
    """The loss never left the baseline."""
    if not is_stuck(e):
        return None
    changes = [remedies.usual_rate(e.recipe), remedies.normalise(e.recipe),
               remedies.more_capacity(e.recipe)]
    return Proposal(
        "stuck", "it is stuck at the baseline",
        f"After {count(e.epochs, 'epoch')} the validation loss is {loss(e.level)}, the baseline "
        f"{loss(e.baseline)}.", Sure.CERTAIN,
        tuple(c for c in changes if c is not None))


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


def _after_best(e: Evidence) -> tuple[float, float]:
    """Return by which share the validation loss rose after its best epoch, and the training loss
    fell.
    """
    level = e.best[1]
    rise = float(e.validation[-FEWEST:].mean()) / level - 1 if level > 0 else 0.0
    fell = 1 - float(e.training[-FEWEST:].mean()) / max(e.training_at_best, 1e-300)
    return rise, fell


def overfits(e: Evidence) -> Proposal | None:
    """The validation loss rises while the training loss falls."""
    if e.epochs < 2 * FEWEST:
        return None
    epoch, level = e.best
    rise, fell = _after_best(e)
    gap = 1 - e.training_at_best / level if level > 0 else 0.0
    if not ((rise > RISE and fell > FELL) or gap > GAP):
        return None
    if rise > RISE:
        words = (f"From epoch {epoch} on the validation loss rises by {share(rise)}, while the "
                 f"training loss falls by {share(fell)}.")
    else:
        words = (f"At epoch {epoch} the training loss is {loss(e.training_at_best)}, the "
                 f"validation loss {loss(level)}.")
    changes = [remedies.regularise(e.recipe), remedies.less_capacity(e.recipe),
               remedies.falling_rate(e.recipe)]
    return Proposal("overfits", f"it overfits from epoch {epoch}", words, Sure.LIKELY,
                    tuple(c for c in changes if c is not None), epoch=epoch)


def jumpy(e: Evidence) -> Proposal | None:
    """The validation loss jumps."""
    few = math.sqrt(JUMPY_ROWS / min(e.validation_rows or JUMPY_ROWS, JUMPY_ROWS))
    if e.epochs < 3 * FEWEST or e.roughness <= JUMPY * few:
        return None
    return Proposal(
        "jumpy", "its validation loss is jumpy",
        f"It jumps by {share(e.roughness)} from epoch to epoch.", Sure.LIKELY,
        tuple(remedies.calmer(e.recipe)))


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
    fall, least, over = e.fall, FALLING, max(e.epochs // 5, 1)
    if _falls_steadily(e):
        fall, least, over = e.fall_of_half, SHORT_FALL, (e.epochs + 1) // 2
    elif e.epochs < 10:
        least = FALLING_ONCE
        last, before = float(e.validation[-1]), float(e.validation[-2])
        fall = (before - last) / last if last > 0 else 0.0
    if not late or fall <= least * (2 if rates[-1] < 0.1 * max(rates) else 1):
        return None
    return Proposal(
        "improving", "it was still improving when it ended",
        f"Over its last {count(over, 'epoch')} the validation loss fell by {share(fall)}.",
        Sure.LIKELY, (remedies.more_epochs(e.recipe), remedies.higher_rate(e.recipe)),
        epoch=e.epochs)


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
        "never_predicted", "classes are never recognised",
        f"No validation row of {names}{more} is predicted as such.",
        Sure.CERTAIN, (remedies.balanced(e.recipe), remedies.more_epochs(e.recipe)))


def target_scale(e: Evidence) -> Proposal | None:
    """A few rows rule the squared error."""
    if not e.amounts or e.recipe.word("loss") != "squared":
        return None
    part = 0.0
    if e.row_losses is not None and len(e.row_losses) >= 100:
        part = worst_share(e.row_losses)
    if max(part, e.target_share) < FAR:
        return None
    words = (f"The worst hundredth of the validation rows has {share(part)} of the squared error"
             if part >= FAR else "The farthest hundredth of the target's values has "
             f"{share(e.target_share)} of its variance")
    return Proposal(
        "target_scale", "a few rows rule the loss",
        f"{words}: such rows throw the weights about. The Huber loss lowers usual errors, not "
        "squared ones: rank by the mean absolute error with it (B in the data view), or predict "
        "the logarithm of the target (z on it there).", Sure.POSSIBLE, (remedies.robust_loss(),))


def no_better_than_linear(e: Evidence) -> Proposal | None:
    """A network no better than a linear model."""
    if (not e.ended or e.linear is None or not e.recipe.layers
            or e.linear > LINEAR_GAIN * e.baseline or e.level < 0.99 * e.linear):
        return None
    changes = [remedies.usual_rate(e.recipe), remedies.more_capacity(e.recipe),
               Change("Use a linear model", {"depth": 0})]
    return Proposal(
        "linear", "it does not beat a linear model",
        f"Its validation loss is {loss(e.level)}, that of a linear model {loss(e.linear)}.",
        Sure.LIKELY, tuple(c for c in changes if c is not None))


def easier_validation(e: Evidence) -> Proposal | None:
    """Validation rows are easier than training rows."""
    if e.epochs < 2 * FEWEST or is_stuck(e) or e.training_at_best < 1.1 * e.level:
        return None
    return Proposal(
        "easier", "the validation rows are easier than the training rows",
        f"In inference mode the training loss is {loss(e.training_at_best)}, the validation loss "
        f"{loss(e.level)}: the split may not be fair.", Sure.POSSIBLE)


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


def single_unit(e: Evidence) -> Proposal | None:
    """Layer normalisation over a single unit."""
    layers = e.recipe.layers
    place = next((i for i, layer in enumerate(layers, 1)
                  if layer.norm == "layer" and layer.units == 1), 0)
    if not place:
        return None
    return Proposal(
        "single_unit", "a single unit is normalised",
        f"Layer {place} has one unit, and layer normalisation over one unit always gives 0.",
        Sure.CERTAIN, (remedies.two_units(e.recipe),), layer=place)


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
