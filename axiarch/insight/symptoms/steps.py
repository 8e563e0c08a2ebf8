"""Symptoms of steps: too large, too small, clipped, gone astray."""

from __future__ import annotations

import math

import numpy as np

from axiarch.insight import remedies
from axiarch.insight.evidence import DEAD, GRADIENT, MOVE, Evidence
from axiarch.insight.proposal import Change, Proposal, Sure
from axiarch.insight.symptoms.readings import (
    DEAD_SHARE,
    FEWEST,
    RISE,
    WASTED,
    after_best,
    is_stuck,
    worst_layer,
)
from axiarch.ranking.capacity import roughness
from axiarch.recipes.members import OPTIMISERS
from axiarch.text import count, number, share

#: Jumps of the training loss from epoch to epoch, as a share of the baseline, that good rates do
#: not make: they stay below 1 %.
BUMPS = 0.015
#: Share of an optimiser's usual highest rate from which dead units and a stuck loss are laid to
#: the rate.
HIGH = 0.5
#: How far a step moves the weights of a layer relative to their size: a thousandth is usual, and
#: below this nothing comes of a few dozen epochs.
SLOW = 1e-4
#: Norm of a gradient over its median in the run, and at the least, that counts as exploded.
EXPLODED, EXPLODED_NORM = 100.0, 100.0
#: Epochs over which jumps of the training loss are looked at, in best epochs and at the least: long
#: after the best one, a loss near 0 jumps by itself.
LEARNING, LEARNING_LEAST = 2, 12
#: Fall of the training loss after the best epoch, beside a rise of the validation loss, that no
#: rate which is too high lets come about.
FELL_FAR = 0.5


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
    bumps, dead = _bumps(e), worst_layer(e, DEAD)[0]
    broken = (is_stuck(e) or dead > DEAD_SHARE) and rate >= HIGH * highest
    if e.epochs < FEWEST or not (broken or (e.epochs >= 3 * FEWEST and bumps > BUMPS)):
        return None
    if not broken and exploding(e) is not None:
        return None  # a gradient a hundred times the others makes the loss jump at any rate
    rise, fell = after_best(e)
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
    layer = int(e.layers[place, :, GRADIENT].argmax()) + 1 if len(e.layers) > place else 0
    where = f", most of it in layer {layer}" if layer else ""
    return Proposal(
        "exploding", "gradients explode",
        f"In epoch {place + 1} the norm of the gradient reached {number(top, 2)}, "
        f"{number(top / max(usual, 1e-300), 2)} times its median before{where}.", Sure.LIKELY,
        tuple(changes), epoch=place + 1, layer=layer)
