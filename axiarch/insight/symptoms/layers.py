"""Symptoms of single layers: dead or saturated units, gradients that do not arrive, normalisation
over a single number.
"""

from __future__ import annotations

import numpy as np

from axiarch.insight import remedies
from axiarch.insight.evidence import DEAD, GRADIENT, SATURATED, Evidence
from axiarch.insight.proposal import Proposal, Sure
from axiarch.insight.symptoms.readings import DEAD_SHARE, FEWEST, worst_layer
from axiarch.text import number, share

#: Gradient of the first layer over that of the last: with initialisations that fit their
#: activation it is near one.
VANISHED, DEEP = 1e-3, 4


def dead_units(e: Evidence) -> Proposal | None:
    """Most units of a layer answer nothing."""
    dead, layer = worst_layer(e, DEAD)
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
    part, layer = worst_layer(e, SATURATED)
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
    changes = remedies.possible(
        remedies.shallower(e.recipe), remedies.skips(e.recipe),
        remedies.normalise(e.recipe), remedies.living_units(e.recipe))
    return Proposal(
        "vanishing", "gradients vanish",
        f"In the first epoch the gradient of layer 1 is {number(first / last, 2)} of that of layer "
        f"{e.layers.shape[1]}: the first layers hardly learn.", Sure.LIKELY,
        changes, layer=layer)


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


def single_row(e: Evidence) -> Proposal | None:
    """Batch normalisation over a last batch of one row."""
    size = e.recipe.whole("batch_size")
    normed = [(i, layer) for i, layer in enumerate((x for x in e.recipe.layers if x.units), 1)
              if layer.norm == "batch"]
    if not normed or e.recipe.word("last_batch") == "drop" or not 1 < size < e.rows:
        return None
    if e.rows % size != 1:
        return None
    dense = next((i for i, layer in normed if layer.kind == "dense"), 0)
    place = dense or normed[0][0]
    what = "turns it into 0" if dense else "takes the mean and variance of one picture"
    return Proposal(
        "single_row", "the last batch of each epoch has one row",
        f"{number(e.rows)} training rows leave one row over after batches of {size}. The batch "
        f"normalisation of layer {place} {what}, and moves its running mean and variance by that "
        "row as far as by a whole batch. Usually this costs little.", Sure.POSSIBLE,
        (remedies.whole_batches(e.recipe), remedies.other_batch(e.recipe, e.rows)), layer=place)
