"""Kept models: the weights of one network by layer, and in the file's metadata all that is needed
to use them.

A safetensors file, so any program that reads those can read the weights. The metadata hold one JSON
text under ``axiarch`` and a checksum of everything.
"""

from __future__ import annotations

import json
import math
from collections.abc import Mapping
from pathlib import Path
from typing import Any

from numpy.typing import NDArray

from axiarch.engine.checksums import checksum
from axiarch.errors import TrainingError
from axiarch.files import draft_of, load_json, regular_file
from axiarch.text import shown

#: The version of what the metadata hold.
FORMAT = 3
#: Bytes of a model file that is read at the most.
MOST_BYTES = 4 << 30


def write_model(path: Path, arrays: Mapping[str, NDArray[Any]], about: Mapping[str, Any]) -> None:
    """Write a model file, whole or not at all.

    Raises
    ------
    OSError
    """
    from safetensors.numpy import save

    text = json.dumps({"format": FORMAT, **about})
    metadata = {"axiarch": text, "checksum": checksum(text, arrays)}
    with draft_of(path) as draft:
        draft.write_bytes(save(dict(arrays), metadata=metadata))


def read_model(path: Path) -> tuple[dict[str, Any], dict[str, NDArray[Any]]]:
    """Return what is known of a model, and its arrays by name.

    Raises
    ------
    TrainingError
        If the file cannot be read, is damaged, or is not a model of ours.
    """
    known, arrays = _read(path, True)
    return known, arrays


def read_about(path: Path) -> dict[str, Any]:
    """Return what is known of a model without reading its weights, and their number as
    ``parameters``.

    Raises
    ------
    TrainingError
        As :func:`read_model`; damage of the weights is not noticed.
    """
    return _read(path, False)[0]


def _read(path: Path, whole: bool) -> tuple[dict[str, Any], dict[str, NDArray[Any]]]:
    from safetensors import SafetensorError, safe_open

    where = shown(path)
    if not regular_file(path):
        raise TrainingError("there is no such model file", where, "see axiarch models")
    try:
        if path.stat().st_size > MOST_BYTES:
            raise ValueError(f"it is larger than {MOST_BYTES} bytes")
        with safe_open(path, framework="numpy") as file:
            metadata = file.metadata() or {}
            if "axiarch" not in metadata:
                raise TrainingError("this file holds weights but no recipe and no data set", where,
                                    "give a model that axiarch models keep has written")
            names = list(file.keys())
            size = sum(math.prod(file.get_slice(name).get_shape()) for name in names
                       if name.startswith(("layer ", "network ")))
            arrays = {name: file.get_tensor(name) for name in names} if whole else {}
        if whole and metadata.get("checksum") != checksum(metadata["axiarch"], arrays):
            raise ValueError("it is not what was written")
        about = load_json(metadata["axiarch"])
        if not isinstance(about, dict) or about.get("format") != FORMAT:
            raise ValueError("another version wrote it")
    except (OSError, SafetensorError, ValueError, TypeError) as error:
        raise TrainingError(f"the model cannot be read: {shown(error, 100)}", where,
                            "keep it again: axiarch models keep") from None
    return {**about, "parameters": size}, arrays
