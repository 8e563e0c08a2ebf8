"""Where a run starts whose first weights are those of a kept model."""

from __future__ import annotations

from pathlib import Path

from axiarch.engine.modelfile import read_about, read_model
from axiarch.engine.network import NetworkShape
from axiarch.engine.parts import flat_weights
from axiarch.engine.state import TrainingState
from axiarch.errors import TrainingError
from axiarch.text import shown


def fold_of(path: Path) -> int:
    """Return the fold (from 0) of the data set that a model was trained on.

    Raises
    ------
    TrainingError
    """
    try:
        return int(read_about(path)["model"]["fold"]) - 1
    except (KeyError, TypeError, ValueError):
        raise TrainingError("the model cannot be used: its fold is not known", shown(path),
                            "keep it again: axiarch models keep") from None


def first_state(path: Path, shape: NetworkShape, data: str) -> TrainingState:
    """Return where a run starts that is given the weights of a model.

    Parameters
    ----------
    shape : NetworkShape
        Of the run's network.
    data : str
        Fingerprint of the data set that it trains on.

    Raises
    ------
    TrainingError
        If the model is of other data or another network, is an average, or cannot be read.
    """
    where = shown(path)
    about, arrays = read_model(path)
    try:
        networks, found = len(about["recipes"]), str(about["data"]["fingerprint"])
    except (KeyError, TypeError, ValueError) as error:
        raise TrainingError(f"the model cannot be used: {shown(error, 100)}", where,
                            "keep it again: axiarch models keep") from None
    if networks != 1:
        raise TrainingError(f"the model is the mean of {networks} networks", where,
                            "start from a model of one network")
    if found != data:
        raise TrainingError("the model was made for other data", where,
                            "start from a model of this data set")
    own = {name: array for name, array in arrays.items() if name.startswith("layer ")}
    if sum(array.size for array in own.values()) != shape.parameters:
        count = sum(array.size for array in own.values())
        raise TrainingError(
            f"the {count} weights of the model do not fit a network of {shape.parameters}", where,
            "keep the network of the recipe as that of the model")
    return TrainingState.from_weights(flat_weights(shape, own))
