"""A network's parameters taken apart, one array for each part of a layer, and put together
again.
"""

from __future__ import annotations

from collections.abc import Mapping

import numpy as np

from axiarch.engine.network import Array, NetworkShape
from axiarch.errors import TrainingError

#: The parts of a layer's parameters, by the names that its arrays have in files.
WEIGHTS, BIASES, SCALES, RUNNING = "weights", "biases", "norm_scales", "running"


def named_arrays(shape: NetworkShape, weights: Array) -> dict[str, Array]:
    """Return the parameters (P,) as one array for each part of a layer: ``layer 1.weights`` and so
    on.

    Weights are (I, H): I numbers that one sum is made of, H units or channels. Running are the
    means and variances (2, H) of a batch normalisation.
    """
    found = {}
    for name, start, form in _parts(shape):
        size = int(np.prod(form))
        found[name] = weights[start : start + size].reshape(form).copy()
    return found


def flat_weights(shape: NetworkShape, arrays: Mapping[str, Array]) -> Array:
    """Return the parameters (P,) that :func:`named_arrays` took apart.

    Raises
    ------
    TrainingError
        If an array is missing or has another shape.
    """
    parts = _parts(shape)
    kinds = {array.dtype for array in arrays.values()}
    if len(kinds) != 1 or not kinds <= {np.dtype(np.float32), np.dtype(np.float64)}:
        raise TrainingError("the weights are not all float32, or all float64", "",
                            "write the file again")
    # before any room is made: a stranger may name a network of any size
    for name, _, form in parts:
        if name not in arrays or arrays[name].shape != form:
            size = arrays[name].shape if name in arrays else "nothing"
            raise TrainingError(f"{name} holds {size}; the network needs {form}", "",
                                "use a file whose network is the same")
    found = np.zeros(shape.parameters, kinds.pop())
    for name, start, _ in parts:
        found[start : start + arrays[name].size] = arrays[name].ravel()
    if not np.isfinite(found).all():
        raise TrainingError("a weight is not a finite number", "", "train the recipe again")
    return found


def _parts(shape: NetworkShape) -> list[tuple[str, int, tuple[int, ...]]]:
    """Return name, offset and form of every part of the parameters."""
    found: list[tuple[str, int, tuple[int, ...]]] = []
    for i, p in enumerate((p for p in shape.placed if p.weighted), 1):
        found += [(f"layer {i}.{WEIGHTS}", p.weights, (p.fan_in, p.units)),
                  (f"layer {i}.{BIASES}", p.biases, (p.units,))]
        if p.layer.norm in ("batch", "layer"):
            found.append((f"layer {i}.{SCALES}", p.norm_scales, (p.units,)))
        if p.layer.norm == "batch":
            found.append((f"layer {i}.{RUNNING}", p.kept, (2, p.units)))
    return found
