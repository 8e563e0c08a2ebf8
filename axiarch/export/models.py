"""Kept models: one trained network with the recipe and the data set's way of encoding, in one
file.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from axiarch.data.checksums import row_hashes
from axiarch.data.dataset import Dataset, Part
from axiarch.data.describing import as_json, described
from axiarch.data.sealed import sealed_hashes
from axiarch.data.target import Target
from axiarch.engine.modelfile import read_model, write_model
from axiarch.engine.network import NetworkShape
from axiarch.engine.parts import flat_weights, named_arrays
from axiarch.engine.predictor import Average, Predictor, Scored
from axiarch.errors import AxiarchError, TrainingError
from axiarch.recipes.recipe import Recipe
from axiarch.text import shown

#: Names of the hashes by which rows are known again, and how many are kept at the most.
_TRAINED, _SEALED = "rows.trained", "rows.sealed"
MOST_KNOWN = 2_000_000


@dataclass(frozen=True)
class Model:
    """A kept model, ready to predict.

    Attributes
    ----------
    about : dict
        Search, run, seed, epoch, loss, name, note and time (see :func:`keep_model`).
    recipes : tuple of Recipe
        Of its networks: one, or several whose predictions are averaged.
    data : Dataset
        How tables are encoded; it has the one fold that the model was trained on, and no arrays.
    predictor : Scored
    trained, sealed : (N,) arrays
        Hashes of the inputs of the training rows and of the sealed rows, to know them again.
    """

    about: Mapping[str, Any]
    recipes: tuple[Recipe, ...]
    data: Dataset
    predictor: Scored
    trained: NDArray[np.uint64]
    sealed: NDArray[np.uint64]

    @property
    def networks(self) -> tuple[Predictor, ...]:
        """Its networks, one for each recipe."""
        return networks_of(self.predictor)


def network_of(recipe: Recipe, dataset: Dataset, fold: int = 0) -> NetworkShape:
    """Return the shape of a recipe's network on one fold of a data set."""
    encoding = dataset.folds[fold].encoding
    return NetworkShape.of(recipe, encoding.shape, encoding.target.outputs, encoding.target.loss)


def networks_of(predictor: Scored) -> tuple[Predictor, ...]:
    """Return the networks that predict: one, or those whose predictions are averaged."""
    if isinstance(predictor, Average):
        return predictor.members
    assert isinstance(predictor, Predictor)
    return (predictor,)


def keep_model(path: Path, dataset: Dataset, fold: int, recipes: Sequence[Recipe],
               predictor: Scored, about: Mapping[str, Any]) -> None:
    """Write a model file.

    Parameters
    ----------
    recipes : sequence of Recipe
        One for each network of the predictor.
    about : mapping
        ``name``, ``note``, ``at`` (seconds since 1970), ``search``, ``recipe`` (its number),
        ``run``, ``seed``, ``epoch``, ``loss`` (validation, of that epoch), ``metrics``.

    Raises
    ------
    OSError
    """
    known = as_json(dataset)
    known["folds"] = [known["folds"][fold]]
    networks = networks_of(predictor)
    arrays: dict[str, NDArray[Any]] = {
              f"{_prefix(i, len(networks))}{name}": array for i, network in enumerate(networks)
              for name, array in named_arrays(network.shape, network.weights).items()}
    arrays |= {_TRAINED: row_hashes(np.asarray(dataset.part("train", fold).inputs)[:MOST_KNOWN]),
              _SEALED: sealed_hashes(dataset, fold)[:MOST_KNOWN]}
    write_model(path, arrays, {
        "model": {**about, "fold": fold + 1}, "recipes": [dict(r) for r in recipes], "data": known
    })


def _prefix(network: int, networks: int) -> str:
    """Return what the names of a network's arrays begin with, where there are several."""
    return f"network {network + 1}." if networks > 1 else ""


def open_model(path: Path) -> Model:
    """Read a model file.

    Raises
    ------
    TrainingError
        If it is damaged, or its parts do not fit each other.
    """
    about, arrays = read_model(path)
    try:
        recipes, data = tuple(map(Recipe, about["recipes"])), described(about["data"])
        trained, sealed = (arrays.pop(name, np.zeros(0, np.uint64)) for name in (_TRAINED, _SEALED))
        networks = []
        for i, recipe in enumerate(recipes):
            shape, prefix = network_of(recipe, data), _prefix(i, len(recipes))
            own = {
                name.removeprefix(prefix): array
                for name, array in arrays.items()
                if name.startswith(prefix)
            }
            networks.append(Predictor(shape, flat_weights(shape, own)))
        return Model(dict(about["model"]), recipes, data,
                     networks[0] if len(networks) == 1 else Average(networks), trained, sealed)
    except (KeyError, IndexError, TypeError, ValueError, AttributeError, AxiarchError) as error:
        raise TrainingError(f"the model cannot be used: {shown(error, 120)}", shown(path),
                            "keep it again: axiarch models keep") from None


def score(predictor: Scored, target: Target, part: Part) -> tuple[float, tuple[float, ...]]:
    """Return what is lowered and the metrics of a network on a part of a data set."""
    return predictor.mean_loss(part.inputs, np.asarray(part.targets), target.units, target.curve,
                               target.measure)


def verify_model(model: Model, dataset: Dataset) -> tuple[float, float]:
    """Score the validation part again; return the loss that was kept and the one found now.

    Raises
    ------
    TrainingError
        If the data set is not the one that the model was trained on.
    """
    if dataset.fingerprint != model.data.fingerprint:
        raise TrainingError(
            f"the model was trained on other data than {shown(dataset.name)!r} holds now",
            shown(str(model.about.get("name", "")), 60),
            "verify it in a workspace that holds its data set")
    fold = int(model.about["fold"]) - 1
    found, _ = score(model.predictor, model.data.target, dataset.part("validation", fold))
    return float(model.about["loss"]), found
