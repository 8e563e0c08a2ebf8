"""Every value a recipe holds: its name, group, kind, unit, bounds, default and one line on what it
does.

A value is added to recipes by adding one entry to :data:`FIELDS`.
"""

from __future__ import annotations

import math
from collections.abc import Mapping
from dataclasses import dataclass
from typing import Literal

from axiarch.errors import NotationError, RecipeError
from axiarch.recipes.bounds import MOST_CHARACTERS, MOST_DIGITS
from axiarch.recipes.conditions import Condition, Value
from axiarch.recipes.installed import full_name, is_full
from axiarch.recipes.members import ACTIVATIONS, OPEN, OPTIMISERS, SCHEDULES, TRAINED_ON
from axiarch.recipes.network import NORMS, parse_network
from axiarch.text import shown

Kind = Literal["whole", "real", "choice", "line"]


@dataclass(frozen=True)
class Field:
    """One named value of a recipe.

    Attributes
    ----------
    name, group, summary, unit : str
        What it is called, where it stands on the sheet, what it does, what it counts.
    kind : {"whole", "real", "choice", "line"}
        A line is a text with a grammar of its own, such as the network.
    default : Value
    low, high : float
        Closed bounds of a number.
    choices : tuple of str
        The allowed words of a choice.
    needs : Condition, optional
        On another field: where it does not hold, this one has no effect and a recipe carries its
        default, so that two recipes that train alike are equal.
    usual : str
        The range that varying it proposes, as people write it; empty is all choices.
    only : {"", "classes", "amounts"}
        What has to be predicted for it to have an effect.
    """

    name: str
    group: str
    kind: Kind
    default: Value
    summary: str
    unit: str = ""
    low: float = 0.0
    high: float = float("inf")
    choices: tuple[str, ...] = ()
    needs: Condition | None = None
    usual: str = ""
    only: Literal["", "classes", "amounts"] = ""

    @property
    def ranged(self) -> str:
        """The range that varying it proposes."""
        return self.usual or " | ".join(self.choices)

    @property
    def label(self) -> str:
        """The name as people read it."""
        return self.name.replace("_", " ")

    def wanted(self) -> str:
        """Say which values are right, for error messages."""
        if self.kind == "choice":
            return "one of " + ", ".join(self.choices)
        if self.kind == "line":
            return "layers such as hidden, or 128, 64 tanh, or conv 8, pool 2, hidden"
        word = "a whole number" if self.kind == "whole" else "a number"
        low, high = (f"{int(v)}" if self.kind == "whole" and v < float("inf") else f"{v:g}"
                     for v in (self.low, self.high))
        return f"{word}, {low} or more" if self.high == float(
            "inf") else f"{word} from {low} to {high}"

    def check(self, value: object) -> Value:
        """Return `value` in this field's own type, or raise :class:`RecipeError`."""
        if self.kind == "choice":
            return self._choice(value)
        if self.kind == "line":
            return self._line(value)
        if isinstance(value, bool) or not isinstance(value, int | float) or not _is_finite(value):
            raise RecipeError(f"{_brief(value)} is not a number", self.name,
                              f"give {self.wanted()}")
        if self.kind == "whole" and value != int(value):
            raise RecipeError(f"{value:g} is not a whole number", self.name,
                              f"give {self.wanted()}")
        if not self.low <= value <= self.high:
            raise RecipeError(f"{value:g} is out of bounds", self.name, f"give {self.wanted()}")
        return int(value) if self.kind == "whole" else float(value)

    def _choice(self, value: object) -> str:
        if isinstance(value, str):
            value = _EARLIER_CHOICES.get((self.name, value), value)
        if self.name in OPEN and isinstance(value, str) and value not in self.choices:
            value = full_name(OPEN[self.name], value)
            if is_full(value):  # one that is not installed may be read of, and not trained with
                return value
        if value not in self.choices:
            raise RecipeError(f"{_brief(value)} is not known", self.name, f"give {self.wanted()}")
        return str(value)

    def _line(self, value: object) -> str:
        if not isinstance(value, str | int):
            raise RecipeError(f"{_brief(value)} is no network", self.name, f"give {self.wanted()}")
        text = ", ".join(" ".join(full_name("activation", word) for word in part.split())
                         for part in str(value)[: MOST_CHARACTERS + 1].split(","))
        try:
            parse_network(text)
        except NotationError as error:
            raise RecipeError(error.what, self.name, error.remedy) from None
        return text


def _is_finite(value: float) -> bool:
    try:
        return math.isfinite(value)
    except OverflowError:
        return False


def _brief(value: object) -> str:
    """Return what was given, cut where it is long."""
    if isinstance(value, int) and abs(value) >= 10**MOST_DIGITS:
        return "a number of more digits than fit"
    return shown(
        repr(value) if not isinstance(value, list | dict | tuple) else type(value).__name__, 60)


_DRAWN = Condition("initialisation", "=", ("auto", "he", "glorot", "lecun"))
_LAYERED = Condition("depth", ">=", (1,))


def _for(choice: str, members: Mapping[str, tuple[str, ...]], value: str) -> Condition:
    """Return where a value has an effect: with the members of a choice that use it."""
    return Condition(choice, "=", tuple(name for name, uses in members.items() if value in uses))


def _for_optimisers(value: str) -> Condition:
    return _for("optimiser", {name: each.uses for name, each in OPTIMISERS.items()}, value)


def _for_schedules(value: str) -> Condition:
    return _for("schedule", SCHEDULES, value)


_ENTRIES = (
    Field("network", "network", "line", "hidden",
          "the hidden layers in order; hidden stands for `depth` hidden layers: conv 8, pool 2, "
          "hidden",
          usual="hidden | 3 narrowing from 128"),
    Field("depth", "network", "whole", 2, "hidden layers between the inputs and the outputs; 0 is "
                                          "a linear model",
          "layers", 0, 64, usual="1 .. 4"),
    Field("width", "network", "whole", 64, "units in every hidden layer, or in the first of a "
                                           "funnel", "units",
          1, 16384, needs=_LAYERED, usual="16 .. 256 doubling"),
    Field("shape", "network", "choice", "constant", "whether hidden layers are all as wide, or "
                                                    "each half of the last",
          choices=("constant", "funnel"), needs=Condition("depth", ">=", (2,))),
    Field("activation", "network", "choice", "relu", "what each hidden unit does to its sum",
          choices=tuple(ACTIVATIONS), usual="relu | gelu | tanh"),
    Field("normalisation", "network", "choice", "none",
          "bring the sums of a layer to one size: over the batch, or over the units of each "
          "row", choices=NORMS,
          usual="none | batch | layer"),
    Field("residual", "network", "choice", "no", "add what comes into a layer to what goes out, "
                                                 "where shapes agree",
          choices=("no", "yes")),
    Field("initialisation", "network", "choice", "auto",
          "variance of the first weights; auto follows the activation: he, lecun or glorot",
          choices=("auto", "he", "glorot", "lecun", "orthogonal", "small"), usual="he | glorot | "
                                                                                  "orthogonal"),
    Field("distribution", "network", "choice", "usual",
          "what the first weights are drawn from; usual is uniform for glorot and normal for the "
          "others",
          choices=("usual", "normal", "uniform"), needs=_DRAWN),
    Field("batch_size", "batches", "whole", 32, "rows averaged into one step of the "
                                                "optimiser", "rows", 1, 1048576,
          usual="16 .. 128 doubling"),
    Field("epochs", "batches", "whole", 40, "passes over the training rows, at the "
                                            "most", "epochs", 1, 100000,
          usual="20 | 40 | 80"),
    Field("sampling", "batches", "choice", "shuffled",
          "rows of an epoch: all in a new order, all as they lie, or drawn so that all classes "
          "come as often",
          choices=("shuffled", "in_order", "balanced"), usual="shuffled | balanced"),
    Field("last_batch", "batches", "choice", "keep", "whether a last batch that is not full is "
                                                     "trained on",
          choices=("keep", "drop")),
    Field("gradient_accumulation", "batches", "whole", 1, "batches whose gradients are averaged "
                                                          "into one "
                                                 "step of the optimiser",
          "batches", 1, 4096, usual="1 | 2 | 4"),
    Field("precision", "batches", "choice", "float32",
          "the numbers that are computed with: float64 rounds less and takes up to twice as long",
          choices=("float32", "float64")),
    Field("loss", "optimiser", "choice", "squared",
          "for amounts, what is made small in training; recipes are compared by the RMSE "
          "whichever it is",
          choices=tuple(TRAINED_ON), only="amounts"),
    Field("huber_width", "optimiser", "real", 1.0, "differences above this count straight, not "
                                                   "squared",
          "spreads of the target", 1e-6, 1e6, needs=_for("loss", TRAINED_ON, "huber_width"),
          usual="0.3 .. 3 log", only="amounts"),
    Field("optimiser", "optimiser", "choice", "adam", "the rule that turns a gradient into a step",
          choices=tuple(OPTIMISERS), usual="momentum | rmsprop | adam"),
    Field("learning_rate", "optimiser", "real", 1e-3, "size of a step; the one value that matters "
                                                      "most",
          "per step", 1e-12, 1e3, usual="1e-4 .. 1e-1 log"),
    Field("momentum", "optimiser", "real", 0.9, "share of the last step carried into the next",
          low=0.0, high=0.9999, needs=_for_optimisers("momentum"), usual="0.8 .. 0.99"),
    Field("beta1", "optimiser", "real", 0.9, "memory of the gradient's running mean",
          low=0.0, high=0.99999, needs=_for_optimisers("beta1"), usual="0.8 .. 0.95"),
    Field("beta2", "optimiser", "real", 0.999, "memory of the gradient's running square",
          low=0.0, high=0.999999, needs=_for_optimisers("beta2"), usual="0.99 | 0.999"),
    Field("rho", "optimiser", "real", 0.9, "memory of the gradient's running "
                                           "square", low=0.0, high=0.999999,
          needs=_for_optimisers("rho"), usual="0.9 | 0.99"),
    Field("epsilon", "optimiser", "real", 1e-8, "added to the root of the running square",
          low=1e-20, high=1.0, needs=_for_optimisers("epsilon"), usual="1e-8 .. 1e-4 log"),
    Field("schedule", "schedule", "choice", "constant", "how the learning rate moves during "
                                                        "training",
          choices=tuple(SCHEDULES), usual="constant | cosine | one_cycle"),
    Field("rate_decay", "schedule", "real", 0.95,
          "factor on the learning rate: over each epoch, at each stair, or at each "
          "plateau", "factor", 1e-6, 1.0,
          needs=_for_schedules("rate_decay"), usual="0.5 .. 1"),
    Field("step_epochs", "schedule", "whole", 10, "epochs from one stair to the "
                                            "next", "epochs", 1, 100000,
          needs=_for_schedules("step_epochs"), usual="5 | 10 | 20"),
    Field("plateau_patience", "schedule", "whole", 5, "epochs without a better smoothed "
                                                      "validation loss that "
                                           "cut the rate",
          "epochs", 1, 100000, needs=_for_schedules("plateau_patience"), usual="3 | 5 | 10"),
    Field("decay", "schedule", "real", 0.1, "how fast the rate falls: it is halved after one "
                                              "over this many epochs",
          "per epoch", 0.0, 100.0, needs=_for_schedules("decay"), usual="0.01 .. 1 log"),
    Field("power", "schedule", "real", 1.0, "1 falls in a straight line, 2 fast at "
                                            "first", "", 0.1, 10.0,
          needs=_for_schedules("power"), usual="1 | 2"),
    Field("final_fraction", "schedule", "real", 0.01, "share of the learning rate that is left at "
                                                      "the "
                                                  "end", "share",
          0.0, 1.0, needs=_for_schedules("final_fraction"), usual="0.001 .. 0.1 log"),
    Field("period", "schedule", "real", 10.0, "epochs of the first cosine before the rate "
                                              "restarts", "epochs",
          0.1, 100000.0, needs=_for_schedules("period"), usual="5 | 10 | 20"),
    Field("period_growth", "schedule", "real", 1.0, "how much longer each cosine is than the "
                                                    "last", "factor", 1.0, 10.0,
          needs=_for_schedules("period_growth"), usual="1 | 2"),
    Field("peak_fraction", "schedule", "real", 0.3, "share of the training after which the rate "
                                                    "is at "
                                              "its highest", "share",
          0.01, 0.99, needs=_for_schedules("peak_fraction"), usual="0.2 .. 0.5"),
    Field("warm_up", "schedule", "real", 0.0, "epochs over which the rate rises in a straight "
                                              "line first", "epochs",
          0.0, 1000.0, usual="0 | 1 | 3"),
    Field("hold", "schedule", "real", 0.0, "epochs the rate then stays before the schedule "
                                           "begins", "epochs",
          0.0, 100000.0, usual="0 | 5 | 10"),
    Field("rate_moves", "schedule", "choice", "step", "whether the rate moves at every step or "
                                                      "once an epoch",
          choices=("step", "epoch")),
    Field("dropout", "regularisation", "real", 0.0, "share of hidden units silenced at each "
                                                    "step", "share", 0.0, 0.95,
          usual="0 .. 0.6"),
    Field("l1", "regularisation", "real", 0.0, "pull of the same size on every weight, which "
                                               "makes small ones vanish",
          "strength", 0.0, 100.0, usual="1e-6 .. 1e-2 log"),
    Field("l2", "regularisation", "real", 0.0, "pull on the weights that is part of the "
                                               "gradient", "strength",
          0.0, 100.0, usual="1e-6 .. 1e-2 log"),
    Field("weight_decay", "regularisation", "real", 0.0,
          "pull on the weights that bypasses the optimiser (decoupled), times the learning "
          "rate", "strength",
          0.0, 100.0, usual="1e-4 .. 1 log"),
    Field("max_norm", "regularisation", "real", 0.0,
          "upper limit on the norm of the weights into a unit; 0 for no limit", "length",
          0.0, 1e6, usual="1 | 2 | 4"),
    Field("clip_norm", "regularisation", "real", 0.0, "upper limit on the norm of the whole "
                                                      "gradient; 0 for no limit",
          "length", 0.0, 1e9, usual="0.1 .. 10 log"),
    Field("clip_value", "regularisation", "real", 0.0, "upper limit on each component of the "
                                                       "gradient; 0 for no limit",
          "size", 0.0, 1e9, usual="0.1 | 0.5 | 1"),
    Field("label_smoothing", "regularisation", "real", 0.0, "share of each label given to all "
                                                            "classes alike", "share",
          0.0, 0.9, usual="0 .. 0.2", only="classes"),
    Field("class_weights", "regularisation", "choice", "equal",
          "what rows of each class count in training: equal, or rarer ones more so that all "
          "classes weigh alike",
          choices=("equal", "balanced"), only="classes"),
    Field("input_noise", "regularisation", "real", 0.0, "normal noise added to the scaled inputs "
                                                        "at each step",
          "spreads", 0.0, 10.0, usual="0 .. 0.3"),
    Field("weight_averaging", "regularisation", "real", 0.0,
          "memory of a running mean of the weights, which is what is evaluated and kept; 0 is "
          "none", "per step",
          0.0, 0.99999, usual="0 | 0.99 | 0.999"),
    Field("mixup", "regularisation", "real", 0.0,
          "strength (of a Beta law) with which two rows and their targets are mixed into one; 0 "
          "is none", "strength",
          0.0, 10.0, usual="0 .. 0.4"),
    Field("shift", "pictures", "whole", 0, "pixels a picture is shifted at the most, each time by "
                                           "chance", "pixels",
          0, 64, usual="0 .. 3"),
    Field("flip", "pictures", "choice", "no", "whether half of the pictures are seen in a mirror",
          choices=("no", "yes")),
    Field("crop", "pictures", "real", 0.0, "share of the side of a picture cut away at the most, "
                                           "the rest enlarged",
          "share", 0.0, 0.9, usual="0 .. 0.4"),
    Field("contrast", "pictures", "real", 0.0, "share by which the contrast of a picture goes up "
                                               "or down", "share",
          0.0, 1.0, usual="0 .. 0.4"),
    Field("cutout", "pictures", "real", 0.0, "side of a square that is erased, as a fraction of "
                                            "the picture's side",
          "share", 0.0, 0.9, usual="0 .. 0.5"),
    Field("patience", "stopping", "whole", 10,
          "epochs without a better smoothed validation loss before the run is stopped; 0 never "
          "stops it",
          "epochs", 0, 100000, usual="5 | 10 | 20"),
    Field("min_improvement", "stopping", "real", 1e-4, "how much lower counts as better",
          "nats, or spreads of the target", 0.0, 100.0,
          needs=Condition("patience", ">=", (1,)), usual="1e-5 .. 1e-2 log"),
    Field("stuck_after", "stopping", "whole", 0,
          "epochs after which a run that is no better than the baseline is stopped; 0 "
          "never", "epochs", 0, 100000,
          usual="3 | 5"),
    Field("max_gap", "stopping", "real", 0.0,
          "stop when the smoothed validation loss is this much above the training loss; 0 never",
          "nats, or spreads of the target", 0.0, 1e6, usual="0.2 | 0.5"),
    Field("max_steps", "stopping", "whole", 0, "steps of the optimiser after which the run ends; "
                                                "0 is no limit",
          "steps", 0, 10**12, usual="1000 | 3000"),
    Field("max_seconds", "stopping", "real", 0.0,
          "seconds of training after which the run ends, which differ from time to time; 0 is no "
          "limit",
          "seconds", 0.0, 1e9, usual="10 | 30"),
)

#: All fields by name, in the order of the sheet.
FIELDS: Mapping[str, Field] = {entry.name: entry for entry in _ENTRIES}


#: Names of earlier versions, in search files and journals, and what they are called now.
EARLIER_NAMES: Mapping[str, str] = {
    "accumulation": "gradient_accumulation", "averaging": "weight_averaging", "erase": "cutout",
    "last_share": "final_fraction", "mixing": "mixup", "most_gap": "max_gap",
    "most_seconds": "max_seconds", "most_steps": "max_steps", "peak_at": "peak_fraction",
    "slowing": "decay", "stair": "step_epochs", "stall": "plateau_patience",
}
#: The same of choices, by field.
_EARLIER_CHOICES: Mapping[tuple[str, str], str] = {("schedule", "stalled"): "plateau"}


def field_named(name: str) -> Field:
    """Return the field called `name`, or say which one may have been meant."""
    name = EARLIER_NAMES.get(name, name)
    if name in FIELDS:
        return FIELDS[name]
    import difflib

    near = difflib.get_close_matches(name, FIELDS, n=1)
    cure = f"did you mean {near[0]}?" if near else "the values are " + ", ".join(FIELDS)
    raise RecipeError(f"no value is called {name!r}", "", cure)
