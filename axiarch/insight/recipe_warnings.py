"""Combinations of values that practitioners regret, found in a recipe before anything is trained.

Every threshold is a named constant with its reason; each regret quotes the numbers it rests on and
names a remedy.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass

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


@dataclass(frozen=True)
class RecipeWarning:
    """A combination to think over: what it is, with its numbers, and what to do instead."""

    evidence: str
    remedy: str

    def __str__(self) -> str:
        return f"{self.evidence}: {self.remedy}"


def check_recipe(recipe: Recipe, rows: Mapping[str, int]) -> tuple[RecipeWarning, ...]:
    """Return the warnings about a recipe, given the rows of the training and validation parts.
    """
    looks = (_rate, _momentum, _patience, _batch, _schedule, _normalisation, _regularisation, _idle)
    return tuple(found for look in looks for found in look(recipe, rows))


#: Values that say nothing where a line of layers stands in their place.
_LEFT_OPEN = ("depth", "width", "shape")


def _rate(recipe: Recipe, rows: Mapping[str, int]) -> list[RecipeWarning]:
    name, rate = recipe.word("optimiser"), recipe.real("learning_rate")
    highest = OPTIMISERS[name].highest_rate
    if rate > highest:
        return [
            RecipeWarning(
                f"a learning rate of {number(rate)} is far above what {name} usually bears",
                f"at most {number(highest)}")
        ]
    if rate < TOO_LOW * highest:
        return [
            RecipeWarning(
                f"a learning rate of {number(rate)} hardly moves {name} within a short training",
                f"begin near {number(highest / 30, 1)}")
        ]
    return []


def _momentum(recipe: Recipe, rows: Mapping[str, int]) -> list[RecipeWarning]:
    if not recipe.applies("momentum"):
        return []
    rate, momentum = recipe.real("learning_rate"), recipe.real("momentum")
    effective = rate / (1 - momentum)
    if effective <= HIGHEST_EFFECTIVE:
        return []
    return [
        RecipeWarning(
            f"momentum {number(momentum)} makes a rate of {number(rate)} work like "
            f"{number(effective)}",
            f"lower the rate to {number(HIGHEST_EFFECTIVE * (1 - momentum) / 10, 2)} or so")
    ]


def _patience(recipe: Recipe, rows: Mapping[str, int]) -> list[RecipeWarning]:
    patience, epochs = recipe.whole("patience"), recipe.whole("epochs")
    if not patience or patience < epochs:
        return []
    return [
        RecipeWarning(
            f"a patience of {count(patience, 'epoch')} can never stop a training of {epochs}",
            "a third of the epochs, or 0 for no early stopping")
    ]


def _batch(recipe: Recipe, rows: Mapping[str, int]) -> list[RecipeWarning]:
    batch = recipe.whole("batch_size")
    if batch > rows["train"]:
        return [
            RecipeWarning(
                f"a batch of {batch} rows is more than the {rows['train']} there are: one step an "
                "epoch",
                "a smaller batch")
        ]
    if batch > rows["validation"]:
        return [
            RecipeWarning(
                f"the validation part of {rows['validation']} rows is smaller than one batch of "
                f"{batch}",
                "a larger share for validation, folds, or a smaller batch")
        ]
    return []


def _schedule(recipe: Recipe, rows: Mapping[str, int]) -> list[RecipeWarning]:
    before, epochs = recipe.real("warm_up") + recipe.real("hold"), recipe.whole("epochs")
    found = []
    if before >= epochs:
        found.append(
            RecipeWarning(
                f"warm-up and hold take {number(before)} epochs of {epochs}: the schedule never "
                "begins",
                "shorten them"))
    if recipe.word("optimiser") in ("adagrad", "adadelta") and (
            recipe.word("schedule") not in ("constant", "stalled")):
        found.append(
            RecipeWarning(
                f"{recipe.word('optimiser')} adapts its own step sizes, and the schedule "
                "shrinks them again", "a constant schedule"))
    return found


def _normalisation(recipe: Recipe, rows: Mapping[str, int]) -> list[RecipeWarning]:
    batch, layers = recipe.whole("batch_size"), recipe.layers
    found = []
    if any(layer.norm == "batch" for layer in layers):
        left = rows["train"] % batch
        if batch < FEWEST_NORMALISED:
            found.append(
                RecipeWarning(f"batch normalisation over {count(batch, 'row')} is mostly noise",
                              f"batches of {FEWEST_NORMALISED} or more, or layer normalisation"))
        elif left == 1 and batch < rows["train"] and recipe.word("last_batch") == "keep":
            found.append(
                RecipeWarning(
                    "the last batch of an epoch holds one row, whose batch normalisation is all "
                    "noise",
                    "set last batch to drop, or change the batch size by one"))
    if any(layer.norm == "layer" and layer.units == 1 for layer in layers):
        found.append(
            RecipeWarning(
                "layer normalisation over a single unit always gives zero, so nothing is learnt",
                "two units or more in that layer, or no norm"))
    return found


def _idle(recipe: Recipe, rows: Mapping[str, int]) -> list[RecipeWarning]:
    """Point out values that change nothing as the others stand."""
    found = []
    network = recipe.word("network")
    if "hidden" not in network:
        changed = [name for name in _LEFT_OPEN if recipe[name] != FIELDS[name].default]
        if changed:
            names = ", ".join(FIELDS[name].label for name in changed)
            found.append(
                RecipeWarning(
                    f"{names} {'has' if len(changed) == 1 else 'have'} no effect on the network "
                    f"{shown(network, 40)}",
                    "put hidden into the network line, or change the line"))
    return found


def _regularisation(recipe: Recipe, rows: Mapping[str, int]) -> list[RecipeWarning]:
    found = []
    if recipe.real("dropout") > MOST_DROPOUT:
        found.append(
            RecipeWarning(f"dropout {number(recipe.real('dropout'))} leaves little to learn from",
                          "at most 0.5 or so"))
    if recipe.real("l2") > 0 and recipe.applies("beta2"):
        found.append(
            RecipeWarning(
                "an L2 pull inside an adaptive optimiser is divided away where gradients are large",
                "weight decay, which bypasses it"))
    return found
