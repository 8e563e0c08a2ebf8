"""What this machine's engine computes, as a few digits: machines whose digits differ would not
train the same bits.

Bits depend on the engine's own code, on the compiler, and on the processor, for which the linear
algebra chooses its kernels. All of that shows in the weights after a short training.
"""

from __future__ import annotations

import contextlib
import importlib
import importlib.metadata
import os
import platform
from pathlib import Path

import numpy as np
import xxhash

from axiarch.engine.warm import PRECISIONS
from axiarch.recipes.recipe import Recipe

#: Packages on whose version bits depend.
PACKAGES = ("axiarch", "numpy", "numba", "llvmlite", "scipy")
#: Shapes of examples, and values of the recipes trained on them.
_TRAININGS: tuple[tuple[tuple[int, ...], dict[str, object]], ...] = (
    ((24,), {"width": 72, "depth": 3, "dropout": 0.2, "normalisation": "batch"}),
    ((8, 8, 1), {"network": "conv 6, pool 2, 40", "activation": "gelu", "optimiser": "nadam"}),
)


def versions() -> dict[str, str]:
    """Return the versions of the packages, and of Python, that bits depend on."""
    found = {"python": ".".join(platform.python_version_tuple()[:2])}
    return found | {name: importlib.metadata.version(name) for name in PACKAGES}


def circumstances() -> str:
    """Return a digest of all that the signature may depend on: code, versions, processor, and the
    settings of the libraries.
    """
    settings = {name: value for name, value in os.environ.items()
                if name.startswith(("OPENBLAS_", "NUMBA_", "MKL_"))}
    processor: list[str] = []
    with contextlib.suppress(OSError):
        lines = Path("/proc/cpuinfo").read_text(encoding="utf-8").splitlines()
        processor = sorted({line for line in lines if line.startswith(("model name", "flags"))})
    known = [sources(), sorted(versions().items()), platform.machine(), processor,
             sorted(settings.items())]
    return xxhash.xxh3_64(repr(known).encode()).hexdigest()


def sources() -> str:
    """Return a digest of the engine's own code: the version of a package does not change with
    every edit.
    """
    digest = xxhash.xxh3_64()
    folder = Path(importlib.import_module("axiarch.engine").__path__[0])
    for path in sorted(folder.rglob("*.py")):
        digest.update(path.read_bytes())
    return digest.hexdigest()


def bits() -> str:
    """Return a digest of the weights after short trainings in both precisions."""
    digest = xxhash.xxh3_64()
    for precision in PRECISIONS:
        for shape, values in _TRAININGS:
            recipe = Recipe({"batch_size": 32, "epochs": 2, "precision": precision, **values})
            digest.update(_weights(recipe, shape).tobytes())
    return digest.hexdigest()


def _weights(recipe: Recipe, shape: tuple[int, ...]) -> np.ndarray:
    """Return the weights (P,) after two epochs on made-up rows."""
    from axiarch.engine.losses import LOSSES
    from axiarch.engine.network import NetworkShape
    from axiarch.engine.rows import Source, TrainingData
    from axiarch.engine.run import RunSpec
    from axiarch.engine.streams import Streams
    from axiarch.engine.training import Training

    rows, inputs = 320, int(np.prod(shape))
    grid = np.arange(rows * inputs, dtype=np.int64)
    x = ((grid * 7919 % 2003) / 1001.5 - 1).astype(np.float32).reshape(rows, inputs)
    y = (grid[:rows] * 31 % 97 % 3).astype(np.int32)
    network = NetworkShape.of(recipe, shape if len(shape) > 1 else shape[0], 3, "softmax")
    source = Source(TrainingData(x, y, x[:80], y[:80]), LOSSES["softmax"], 3, network.precision)
    training = Training(network, RunSpec(0, recipe, Streams(1)), source)
    for _ in range(2):
        training.train_epoch()
    return training.parameters
