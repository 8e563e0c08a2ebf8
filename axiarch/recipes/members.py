"""The members of families that a recipe chooses from: optimisers, schedules, losses of amounts,
activations.

One entry here makes a member known everywhere: to the values of recipes and which of them it uses,
to the remarks on a rate, and to the engine, where its number stands in ``codes.py`` under the same
name and its formula among the kernels or schedules. Kinds of layers have a file of their own,
``layers.py``, and stopping rules theirs in the engine; a value that a new member needs is one entry
of ``fields.py``.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass

from axiarch.recipes import installed


@dataclass(frozen=True)
class Optimiser:
    """One rule that turns gradients into steps.

    Attributes
    ----------
    highest_rate : float
        Learning rates above it diverge on most tasks with scaled inputs: each optimiser bears
        another, because some divide the gradient by its own size and step as far as the rate says.
    uses : tuple of str
        Values of a recipe that have an effect with it.
    columns : tuple of str
        The numbers that its kernel is given for each step, in their order (see
        ``engine/optimisers.py``), after the rate, the L2 strength and the decay.
    states : int
        Flat buffers of state it keeps.
    rate, decay : str
        Columns that stand for the rate and the decay.
    """

    highest_rate: float
    uses: tuple[str, ...] = ()
    columns: tuple[str, ...] = ()
    states: int = 0
    rate: str = "rate"
    decay: str = "decay"


#: Fields whose choices a package may add to, and the kind of member that each names.
OPEN: Mapping[str, str] = {
    "activation": "activation", "loss": "loss", "optimiser": "optimiser", "schedule": "schedule"
}
_MOMENTS = ("beta1", "rest of beta1", "beta2", "rest of beta2")
_ADAM = (*_MOMENTS, "root", "epsilon")

#: Decoupled decay is there for all of them: adam with ``weight_decay`` is AdamW.
OPTIMISERS: Mapping[str, Optimiser] = {
    "sgd": Optimiser(1.0),
    "momentum": Optimiser(0.3, ("momentum", ), ("momentum", ), 1),
    "nesterov": Optimiser(0.3, ("momentum", ), ("momentum", ), 1),
    "adagrad": Optimiser(0.5, ("epsilon", ), ("epsilon", ), 1),
    "adadelta": Optimiser(10.0, ("rho", "epsilon"), ("rho", "rest of rho", "epsilon"), 2),
    "rmsprop": Optimiser(0.02, ("rho", "epsilon"), ("rho", "rest of rho", "epsilon"), 1),
    "adam": Optimiser(0.03, ("beta1", "beta2", "epsilon"), _ADAM, 2, "corrected rate"),
    "nadam": Optimiser(0.03, ("beta1", "beta2", "epsilon"), (*_ADAM, "ahead", "now"), 2),
    "amsgrad": Optimiser(0.03, ("beta1", "beta2", "epsilon"), _ADAM, 3, "corrected rate"),
    "lion": Optimiser(0.005, ("beta1", "beta2"), _MOMENTS, 1),
    "lamb": Optimiser(0.1, ("beta1", "beta2", "epsilon"), (*_ADAM, "correction"),
                      2,
                      decay="strength"),
    **{
        name: Optimiser(own.highest_rate, own.uses, ("number", *own.uses), installed.MOST_STATES)
        for name, own in installed.of_kind(installed.Optimiser).items()
    },
}

#: Which values each schedule uses.
SCHEDULES: Mapping[str, tuple[str, ...]] = {
    "constant": (),
    "exponential": ("rate_decay",),
    "step": ("rate_decay", "step_epochs"),
    "inverse_time": ("decay",),
    "polynomial": ("final_fraction", "power"),
    "cosine": ("final_fraction",),
    "restarts": ("final_fraction", "period", "period_growth"),
    "one_cycle": ("final_fraction", "peak_fraction"),
    "plateau": ("rate_decay", "plateau_patience"),
    **{name: own.uses for name, own in installed.of_kind(installed.Schedule).items()},
}

#: What a network of amounts may be trained on, and which values each uses.
TRAINED_ON: Mapping[str, tuple[str, ...]] = {
    "squared": (), "absolute": (), "huber": ("huber_width", ),
    **dict.fromkeys(installed.of_kind(installed.Loss), ())
}


@dataclass(frozen=True)
class Activation:
    """One curve that hidden units bend their sums by.

    Attributes
    ----------
    initialisation : str
        What ``auto`` draws the first weights by.
    sumless : bool
        Whether its slope is worked out from what goes out, so that the sums need not be kept.
    """

    initialisation: str = "he"
    sumless: bool = False


#: By name; a curve that keeps the sums has its number among the kernels, under its name in
#: capitals.
ACTIVATIONS: Mapping[str, Activation] = {
    "relu": Activation(sumless=True),
    "leaky_relu": Activation(),
    "elu": Activation(),
    "gelu": Activation(),
    "silu": Activation(),
    "tanh": Activation("glorot", sumless=True),
    "sigmoid": Activation("glorot"),
    "softplus": Activation(),
    "identity": Activation("lecun", sumless=True),
    **{
        name: Activation(own.initialisation)
        for name, own in installed.of_kind(installed.Activation).items()
    },
}


def activation(name: str) -> Activation:
    """Return an activation by what recipes call it.

    Raises
    ------
    TrainingError
        If it is one of a package that is not installed.
    """
    if name not in ACTIVATIONS:
        raise installed.absent("activation", name)
    return ACTIVATIONS[name]
