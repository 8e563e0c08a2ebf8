"""Combinations of values that practitioners regret, found in a recipe before anything is trained.

Every threshold is a named constant with its reason. Each warning is a proposal: it quotes the
numbers it rests on and, where a value would mend it, changes it.
"""

from __future__ import annotations

from collections.abc import Mapping

from axiarch.insight.proposal import Change, Proposal, Sure
from axiarch.insight.remedies import neat
from axiarch.recipes.conditions import Value
from axiarch.recipes.fields import FIELDS
from axiarch.recipes.members import OPTIMISERS
from axiarch.recipes.recipe import Recipe
from axiarch.text import count, number, shown

#: Rates below this share of the highest hardly move within a short training.
TOO_LOW = 1e-4
#: Momentum adds up past steps: a rate is in effect rate / (1 - momentum), and above this it
#: diverges as plain steps do.
HIGHEST_EFFECTIVE = 2.0
#: A batch's own mean and variance are mostly noise where it has fewer rows.
FEWEST_NORMALISED = 8
#: More than this share of silenced units leaves too little to learn from in all but very wide
#: layers.
MOST_DROPOUT = 0.7


def check_recipe(recipe: Recipe, rows: Mapping[str, int]) -> tuple[Proposal, ...]:
    """Return the warnings about a recipe, given the rows of the training and validation parts.
    """
    looks = (_rate, _momentum, _patience, _batch, _schedule, _normalisation, _regularisation, _idle)
    return tuple(found for look in looks for found in look(recipe, rows))


def _warning(what: str, remedy: str, values: Mapping[str, Value] | None = None) -> Proposal:
    """Return a warning, and the change that mends it where there is one."""
    change = (Change(f"{remedy[0].upper()}{remedy[1:]}", values),) if values else ()
    return Proposal("recipe", what, f"{what[0].upper()}{what[1:]}: {remedy}.", Sure.LIKELY, change)


#: Values that say nothing where a line of layers stands in their place.
_LEFT_OPEN = ("depth", "width", "shape")


def _rate(recipe: Recipe, rows: Mapping[str, int]) -> list[Proposal]:
    name, rate = recipe.word("optimiser"), recipe.real("learning_rate")
    highest = OPTIMISERS[name].highest_rate
    if rate > highest:
        return [
            _warning(
                f"a learning rate of {number(rate)} is far above what {name} usually bears",
                f"use {number(neat(highest / 10))} or so", {"learning_rate": neat(highest / 10)})
        ]
    if rate < TOO_LOW * highest:
        return [
            _warning(
                f"a learning rate of {number(rate)} hardly moves {name} within a short training",
                f"begin near {number(highest / 30, 1)}",
                {"learning_rate": float(f"{highest / 30:.1g}")})
        ]
    return []


def _momentum(recipe: Recipe, rows: Mapping[str, int]) -> list[Proposal]:
    if not recipe.applies("momentum"):
        return []
    rate, momentum = recipe.real("learning_rate"), recipe.real("momentum")
    effective = rate / (1 - momentum)
    if effective <= HIGHEST_EFFECTIVE:
        return []
    return [
        _warning(
            f"momentum {number(momentum)} makes a rate of {number(rate)} work like "
            f"{number(effective)}",
            f"lower the rate to {number(HIGHEST_EFFECTIVE * (1 - momentum) / 10, 2)} or so",
            {"learning_rate": neat(HIGHEST_EFFECTIVE * (1 - momentum) / 10)})
    ]


def _patience(recipe: Recipe, rows: Mapping[str, int]) -> list[Proposal]:
    patience, epochs = recipe.whole("patience"), recipe.whole("epochs")
    if not patience or patience < epochs:
        return []
    return [
        _warning(
            f"a patience of {count(patience, 'epoch')} can never stop a training of {epochs}",
            f"wait {count(max(epochs // 3, 1), 'epoch')}, a third of them",
            {"patience": max(epochs // 3, 1)})
    ]


def _batch(recipe: Recipe, rows: Mapping[str, int]) -> list[Proposal]:
    batch = recipe.whole("batch_size")
    if batch > rows["train"]:
        return [
            _warning(
                f"a batch of {batch} rows is more than the {rows['train']} there are: one step an "
                "epoch",
                f"use {max(rows['train'] // 16, 1)} rows",
                {"batch_size": max(rows["train"] // 16, 1)})
        ]
    if batch > rows["validation"]:
        return [
            _warning(
                f"the validation part of {rows['validation']} rows is smaller than one batch of "
                f"{batch}",
                "use a larger share for validation, folds, or a smaller batch",
                {"batch_size": max(rows["validation"] // 2, 1)})
        ]
    return []


def _schedule(recipe: Recipe, rows: Mapping[str, int]) -> list[Proposal]:
    before, epochs = recipe.real("warm_up") + recipe.real("hold"), recipe.whole("epochs")
    found = []
    if before >= epochs:
        found.append(
            _warning(
                f"warm-up and hold take {number(before)} epochs of {epochs}: the schedule never "
                "begins",
                "shorten them",
                {"warm_up": neat(min(recipe.real("warm_up"), epochs / 10)), "hold": 0.0}))
    if recipe.word("optimiser") in ("adagrad", "adadelta") and (
            recipe.word("schedule") not in ("constant", "stalled")):
        found.append(
            _warning(
                f"{recipe.word('optimiser')} adapts its own step sizes, and the schedule "
                "shrinks them again", "use a constant schedule", {"schedule": "constant"}))
    return found


def _normalisation(recipe: Recipe, rows: Mapping[str, int]) -> list[Proposal]:
    batch, layers = recipe.whole("batch_size"), recipe.layers
    found = []
    if any(layer.norm == "batch" for layer in layers):
        left = rows["train"] % batch
        if batch < FEWEST_NORMALISED:
            found.append(
                _warning(f"batch normalisation over {count(batch, 'row')} is mostly noise",
                              "use batches of 32 rows, or layer normalisation",
                              {"batch_size": 32}))
        elif left == 1 and batch < rows["train"] and recipe.word("last_batch") == "keep":
            found.append(
                _warning(
                    "the last batch of an epoch holds one row, whose batch normalisation is all "
                    "noise",
                    "drop it", {"last_batch": "drop"}))
    if any(layer.norm == "layer" and layer.units == 1 for layer in layers):
        found.append(
            _warning(
                "layer normalisation over a single unit always gives zero, so nothing is learnt",
                "use two units or more in that layer, or no norm"))
    return found


def _idle(recipe: Recipe, rows: Mapping[str, int]) -> list[Proposal]:
    """Point out values that change nothing as the others stand."""
    found = []
    network = recipe.word("network")
    if "hidden" not in network:
        changed = [name for name in _LEFT_OPEN if recipe[name] != FIELDS[name].default]
        if changed:
            names = ", ".join(FIELDS[name].label for name in changed)
            found.append(
                _warning(
                    f"{names} {'has' if len(changed) == 1 else 'have'} no effect on the network "
                    f"{shown(network, 40)}",
                    "put hidden into the network line, or change the line"))
    return found


def _regularisation(recipe: Recipe, rows: Mapping[str, int]) -> list[Proposal]:
    found = []
    if recipe.real("dropout") > MOST_DROPOUT:
        found.append(
            _warning(f"dropout {number(recipe.real('dropout'))} leaves little to learn from",
                          "use 0.5 or less", {"dropout": 0.5}))
    if recipe.real("l2") > 0 and recipe.applies("beta2"):
        found.append(
            _warning(
                "an L2 pull inside an adaptive optimiser is divided away where gradients are large",
                "use weight decay, which bypasses it",
                {"l2": 0.0, "weight_decay": max(recipe.real("weight_decay"), 0.01)}))
    return found
