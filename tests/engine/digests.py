"""A few dozen short runs and what they come to: ``python -m tests.engine.digests`` writes it down
anew.

The bits of a matrix product depend on the processor and on the versions of the packages, so digests
are compared where these are the same as in the file; losses are compared everywhere, within what
rounding may do in so few steps.
"""

from __future__ import annotations

import hashlib
import json
import math
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import llvmlite.binding
import numba
import numpy as np
import scipy

from axiarch.engine.network import NetworkShape
from axiarch.engine.rows import TrainingData
from axiarch.engine.run import RunSpec
from axiarch.engine.streams import Streams
from axiarch.recipes import members
from axiarch.recipes.fields import FIELDS
from tests.support import Runs, recipe, small_data

EPOCHS = 3
_LINE = "conv 3 batch norm, pool 2, conv 3 stride 2 gelu, mean pool 2, 5"


def cases() -> Iterator[tuple[str, dict[str, object], str]]:
    """Yield names, values of recipes, and losses."""
    for field in ("optimiser", "activation", "schedule", "normalisation", "initialisation",
                  "sampling"):
        for choice in FIELDS[field].choices:
            yield f"{field} {choice}", {field: choice, "dropout": 0.2}, "softmax"
    for name, value in {
            "l1": 1e-3, "l2": 1e-2, "weight_decay": 0.1, "max_norm": 0.5, "clip_norm": 0.1,
            "clip_value": 0.01, "label_smoothing": 0.1, "input_noise": 0.2, "weight_averaging": 0.9,
            "mixup": 0.4, "gradient_accumulation": 3, "class_weights": "balanced", "residual": "yes"
    }.items():
        yield name, {name: value}, "softmax"
    yield "two classes", {"dropout": 0.3}, "binary"
    for loss in members.TRAINED_ON:
        yield f"amounts, {loss}", {"loss": loss}, "squared"
    yield "pictures", {"network": _LINE, "dropout": 0.2}, "pictures"
    yield "pictures, varied", {
        "network": _LINE, "shift": 2, "flip": "yes", "contrast": 0.3, "cutout": 0.3, "crop": 0.2
    }, "pictures"


def data_of(kind: str) -> tuple[TrainingData, tuple[int, ...], int, str]:
    """Return rows, the shape of inputs, how many outputs, and the loss."""
    if kind == "squared":
        plain, rng = small_data(), np.random.default_rng(5)
        y, v = (np.stack([x[:, 0] * x[:, 1], x[:, 2] + rng.normal(size=len(x)).astype(np.float32)],
                         1) for x in (plain.train_inputs, plain.validation_inputs))
        return TrainingData(plain.train_inputs, y, plain.validation_inputs, v,
                            (2.0, 3.0)), (5, ), 2, kind
    if kind == "pictures":
        return small_data(40, 128), (8, 8, 2), 3, "softmax"
    return small_data(
        classes=3 if kind == "softmax" else 2), (5, ), 3 if kind == "softmax" else 1, kind


def trained(values: dict[str, object], kind: str, precision: str) -> dict[str, Any]:
    """Return the digest of a run's weights and optimiser state, and its losses."""
    made = recipe(
        **{"depth": 2, "epochs": EPOCHS, "learning_rate": 0.01, **values, "precision": precision})
    data, inputs, outputs, loss = data_of(kind)
    training = Runs(NetworkShape.of(made, inputs, outputs, loss), data,
                    precision).add(RunSpec(0, made, Streams(7)))
    losses = [training.train_epoch().numbers for _ in range(EPOCHS)]
    state = training.state()
    digest = hashlib.sha256(state.parameters.tobytes() + state.optimiser.tobytes()).hexdigest()[:16]
    return {
        "digest": digest,
        "losses": [n.validation_loss for n in losses] + [n.train_loss for n in losses]
    }


def here() -> dict[str, str]:
    """Return what bits depend on."""
    features = json.dumps(
        sorted(name for name, on in llvmlite.binding.get_host_cpu_features().items() if on))
    return {"numba": numba.__version__, "numpy": np.__version__, "scipy": scipy.__version__,
            "processor": f"{llvmlite.binding.get_host_cpu_name()} "
                         f"{hashlib.sha256(features.encode()).hexdigest()[:8]}"}


def file_of(precision: str) -> Path:
    """Return where the digests of a precision stand."""
    return Path(__file__).with_name(f"digests-{precision}.json")


def main() -> None:
    """Write the files."""
    for precision in FIELDS["precision"].choices:
        runs = {name: trained(values, kind, precision) for name, values, kind in cases()}
        assert all(math.isfinite(loss) for run in runs.values() for loss in run["losses"])
        file_of(precision).write_text(
            json.dumps({"made with": here(), "runs": runs}, indent=1) + "\n", encoding="utf-8")


if __name__ == "__main__":
    main()
