"""Remedies: changes of a recipe, each a narrow space around what a practitioner would try first."""

from __future__ import annotations

from collections.abc import Iterable

from axiarch.insight.proposal import Change
from axiarch.recipes.conditions import Value, written
from axiarch.recipes.fields import FIELDS
from axiarch.recipes.members import OPTIMISERS
from axiarch.recipes.network import HIDDEN, parse_network
from axiarch.recipes.recipe import Recipe


def possible(*changes: Change | None) -> tuple[Change, ...]:
    """Return the changes that there are for a recipe, in the order given."""
    return tuple(change for change in changes if change is not None)


def neat(value: float) -> float:
    """Return a value in two significant digits."""
    return float(f"{value:.2g}")


def lower_rate(recipe: Recipe, strongly: bool = False) -> Change:
    """Vary the learning rate below the present one; `strongly`, far below it, and where the
    optimiser usually works.
    """
    rate = recipe.real("learning_rate")
    low, high = rate / 30, rate / 2
    if strongly:
        high = min(rate / 5, OPTIMISERS[recipe.word("optimiser")].highest_rate / 3)
        low = high / 200
    return Change("Lower the learning rate", {}, {"learning_rate": _rates(low, high)})


def usual_rate(recipe: Recipe) -> Change:
    """Vary the learning rate where the optimiser usually works."""
    highest = OPTIMISERS[recipe.word("optimiser")].highest_rate
    return Change("Vary the learning rate over its usual range", {},
                  {"learning_rate": _rates(highest / 1000, highest / 5)})


def higher_rate(recipe: Recipe) -> Change:
    """Vary the learning rate above the present one, up to what the optimiser bears."""
    rate = recipe.real("learning_rate")
    highest = OPTIMISERS[recipe.word("optimiser")].highest_rate
    most = max(min(rate * 3000, highest / 3), rate * 10)
    return Change("Raise the learning rate", {}, {"learning_rate": _rates(rate * 3, most)})


def _rates(low: float, high: float) -> str:
    return _span("learning_rate", low, high, log=True)


def _span(name: str, low: float, high: float, log: bool = False) -> str:
    """Return a continuum within the bounds of a value; its upper end where nothing is between."""
    field = FIELDS[name]
    low, high = (min(max(neat(v), field.low), field.high) for v in (low, high))
    if not low < high:
        return written(high)
    return f"{written(low)} .. {written(high)}{' log' if log else ''}"


def _choices(name: str, values: Iterable[float]) -> str:
    """Return whole numbers within the bounds of a value, to choose from."""
    field = FIELDS[name]
    kept = dict.fromkeys(int(min(max(v, field.low), field.high)) for v in values)
    return " | ".join(map(str, kept))


def more_epochs(recipe: Recipe, times: int = 3) -> Change:
    """Train longer, with a patience that lets it."""
    epochs = recipe.whole("epochs")
    values: dict[str, Value] = {"epochs": min(epochs * times, int(FIELDS["epochs"].high))}
    patience = recipe.whole("patience")
    if 0 < patience < epochs // 2:
        values["patience"] = min(2 * patience, values["epochs"])
    return Change(f"Train {times} times as long", values)


def more_patience(recipe: Recipe) -> Change:
    """Wait longer before the run is stopped."""
    wait = max(5 * recipe.whole("patience"), 12)
    return Change(f"Wait {wait} epochs for an improvement",
                  {"patience": min(wait, int(FIELDS["patience"].high))})


def less_patience(recipe: Recipe) -> Change:
    """Stop sooner."""
    return Change("Stop sooner", {"patience": max(recipe.whole("epochs") // 8, 3)})


def more_capacity(recipe: Recipe) -> Change | None:
    """Vary width and depth upwards; None where the network line leaves them no effect."""
    if HIDDEN not in parse_network(recipe.word("network")):
        return None
    width, depth = recipe.whole("width"), recipe.whole("depth")
    base = max(width, 8) if depth else 16
    widths = [base * 2, base * 4, base * 8] if depth else [base, base * 2, base * 4]
    return Change("Use a larger network", {},
                  {"width": _choices("width", widths),
                   "depth": _choices("depth", (max(depth, 1), depth + 1))})


def less_capacity(recipe: Recipe) -> Change | None:
    """Vary the width downwards; None where it has no effect, or is small already."""
    width = recipe.whole("width")
    if HIDDEN not in parse_network(recipe.word("network")) or width < 16 or (
            not recipe.whole("depth")):
        return None
    return Change("Use a smaller network", {},
                  {"width": _choices("width", (width // 8, width // 4, width // 2))})


def regularise(recipe: Recipe) -> Change:
    """Vary dropout and weight decay upwards."""
    dropout = recipe.real("dropout")
    decay = recipe.real("weight_decay")
    return Change("Regularise more: dropout and weight decay", {},
                  {"dropout": _span("dropout", dropout + 0.05, max(0.6, dropout + 0.2)),
                   "weight_decay": _span("weight_decay", max(decay, 3e-3), max(30 * decay, 1.0),
                                         log=True)})


def less_regularisation(recipe: Recipe) -> Change | None:
    """Vary every regulariser in use downwards; None where none is in use."""
    values: dict[str, Value] = {}
    ranges: dict[str, str] = {}
    dropout = recipe.real("dropout")
    if dropout > 0:
        ranges["dropout"] = _span("dropout", 0.0, dropout / 2)
    for name in ("l1", "l2", "weight_decay"):
        if recipe.real(name) > 0:
            values[name] = 0.0
    for name in ("label_smoothing", "input_noise", "mixup", "max_norm"):
        if recipe.real(name) > 0:
            values[name] = 0.0
    if not values and not ranges:
        return None
    return Change("Regularise less", values, ranges)


def normalise(recipe: Recipe) -> Change:
    """Normalise the sums of layers, over the batch or over the units."""
    batch = recipe.whole("batch_size") >= 8
    return Change("Normalise the layers", {},
                  {"normalisation": "batch | layer" if batch else "layer | none"})


def skips(recipe: Recipe) -> Change:
    """Add skips around layers of equal shape, normalised."""
    return Change("Add skips and layer normalisation",
                  {"residual": "yes", "normalisation": "layer"})


def shallower(recipe: Recipe) -> Change | None:
    """Vary the depth downwards; None where it has no effect or is small already."""
    depth = recipe.whole("depth")
    if depth < 3 or HIDDEN not in parse_network(recipe.word("network")):
        return None
    return Change("Use fewer layers", {}, {"depth": _choices("depth", range(1, depth // 2 + 1))})


def living_units(recipe: Recipe) -> Change:
    """Use activations that cannot die or saturate, from weights drawn for them."""
    return Change("Use activations that do not die or saturate", {"initialisation": "auto"},
                  {"activation": "leaky_relu | elu | gelu"})


def larger_batch(recipe: Recipe) -> Change:
    """Vary the batch size upwards."""
    size = recipe.whole("batch_size")
    return Change("Use larger batches", {},
                  {"batch_size": _choices("batch_size", (2 * size, 4 * size, 8 * size))})


def smaller_batch(recipe: Recipe, rows: int) -> Change:
    """Vary the batch size downwards, to some hundred steps an epoch at the most."""
    size = min(recipe.whole("batch_size"), max(rows, 1))
    sizes = [max(size // d, 4) for d in (32, 16, 8)]
    return Change("Use smaller batches: more steps an epoch", {},
                  {"batch_size": _choices("batch_size", sizes)})


def no_clipping(recipe: Recipe, norm: float) -> Change:
    """Clip only what is far above the usual norm of the gradient."""
    limit = min(neat(5 * norm), FIELDS["clip_norm"].high)
    return Change("Clip only unusual gradients", {"clip_norm": limit, "clip_value": 0.0})


def falling_rate(recipe: Recipe, gently: bool = False) -> Change:
    """Let a lower rate fall to a hundredth over the training; `gently`, one up to the present one.
    """
    rate = recipe.real("learning_rate")
    low, high = (rate / 10, rate) if gently else (rate / 30, rate / 2)
    return Change(f"Let {'the' if gently else 'a lower'} learning rate fall over the training",
                  {"schedule": "cosine", "final_fraction": 0.01},
                  {"learning_rate": _rates(low, high)})


def calmer(recipe: Recipe) -> list[Change]:
    """Take the noise of steps out of the weights: average them, let the rate fall, lower it, use
    larger batches.

    In this order: of 24 recipes that jumped, averaging made 23 better beyond noise, a falling rate
    18, a lower one 10, larger batches 7.
    """
    averaged = [] if recipe.real("weight_averaging") else [
        Change("Average the weights", {"weight_averaging": 0.99})]
    return [*averaged, falling_rate(recipe, gently=True), lower_rate(recipe), larger_batch(recipe)]


def robust_loss() -> Change:
    """Train on a loss that a few far rows do not rule."""
    return Change("Train on the Huber loss", {"loss": "huber"}, {"huber_width": "0.1 .. 1 log"})


def balanced(recipe: Recipe) -> Change:
    """Let rare classes weigh as much as common ones."""
    return Change("Let all classes weigh alike", {}, {"class_weights": "equal | balanced"})


def two_units(recipe: Recipe) -> Change:
    """Give layers more units than the one that normalisation leaves nothing of."""
    return Change("Use more units", {}, {"width": "8 .. 64 doubling",
                                         "normalisation": "none | layer"})


def whole_batches(recipe: Recipe) -> Change:
    """Leave out the last batch, which is not full."""
    return Change("Leave out the last batch", {"last_batch": "drop"})


def other_batch(recipe: Recipe, rows: int) -> Change:
    """Use the next larger batch size whose last batch of `rows` training rows is half full."""
    size = recipe.whole("batch_size") + 1
    while 0 < rows % size < size / 2:
        size += 1
    return Change(f"Use batches of {size} rows", {"batch_size": size})
