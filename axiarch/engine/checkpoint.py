"""Checkpoints: all that a run needs to go on with the same bits, in one safetensors file.

The arrays are tensors. Each stretch, one number a parameter, is written once, and one of zeros not
at all: of eleven, two to ten differ. Everything else is JSON in the file's own metadata. A file
appears whole or not at all: it is written under another name and then renamed.
"""

from __future__ import annotations

import json
from dataclasses import asdict
from pathlib import Path
from typing import Any

import numpy as np

from axiarch.engine import codes
from axiarch.engine.checksums import checksum
from axiarch.engine.network import Array, NetworkShape
from axiarch.engine.run import RunSpec
from axiarch.engine.state import TrainingState
from axiarch.engine.stopping import StoppingState
from axiarch.errors import TrainingError
from axiarch.files import load_json, typed
from axiarch.recipes.recipe import Recipe
from axiarch.text import shown

#: Of the file; 1 was that of an engine whose weights lay otherwise, 2 held every stretch.
FORMAT, _BEFORE = 3, 2
#: Stretches of a state without and with what was kept of the best epoch.
_STRETCHES = (2 + codes.STATES, 3 + 2 * codes.STATES)


class EarlierEngine(TrainingError):
    """A checkpoint that another version of the engine has written: what follows from it would be
    other numbers.
    """


def encode_checkpoint(run: RunSpec, state: TrainingState, data: str, note: str = "") -> bytes:
    """Return a run's state as the bytes of a file; `data` is the fingerprint of the data set it
    trains on, `note` says what it belongs to.
    """
    from safetensors.numpy import save

    tensors, places = _apart([state.parameters, state.best_parameters, *state.optimiser,
                              *(() if state.kept is None else state.kept)])
    known = {
        "format": FORMAT, "recipe": dict(run.recipe), "streams": asdict(run.streams), "data": data,
        "epoch": state.epoch, "score": state.watch.best_loss, "watch": asdict(state.watch),
        "note": note, "stretches": places
    }
    text = json.dumps(known)
    return bytes(save(tensors, metadata={"axiarch": text, "checksum": checksum(text, tensors)}))


def _apart(stretches: list[Array]) -> tuple[dict[str, Array], list[str]]:
    """Return the arrays (P,) that differ from each other, by a name, and the name of each stretch:
    empty for one of zeros, which is left out unless it is the first.
    """
    import xxhash

    found: dict[bytes, str] = {}
    tensors: dict[str, Array] = {}
    places: list[str] = []
    for stretch in stretches:
        bits = np.ascontiguousarray(stretch).view(np.uint8)
        name = ""
        if bits.any() or not places:
            name = found.setdefault(xxhash.xxh3_128_digest(bits.data), str(len(found)))
            tensors.setdefault(name, stretch)
        places.append(name)
    return tensors, places


def _stretches(tensors: dict[str, Array], known: dict[str, Any]) -> list[Array]:
    """Return the stretches of a state as a file of this format, or of the one before, holds them.

    Raises
    ------
    ValueError, LookupError
        If they do not fit each other.
    """
    if known["format"] == FORMAT:
        names = typed(known["stretches"], list[str])
        zeros = np.zeros_like(tensors[names[0]])
        found = [tensors[name] if name else zeros for name in names]
    else:
        found = [tensors["parameters"], tensors["best_parameters"], *tensors["optimiser"],
                 *tensors.get("kept", ())]
    if len(found) not in _STRETCHES or len({stretch.shape for stretch in found}) > 1:
        raise ValueError("its arrays do not fit each other")
    return found


def load_checkpoint(path: Path, run: RunSpec, shape: NetworkShape, data: str) -> TrainingState:
    """Read the state that `run` left, refusing one that does not fit.

    Raises
    ------
    TrainingError
        If the file cannot be read, or belongs to another recipe, other data or another network;
        an :class:`EarlierEngine` if an earlier version wrote it.
    """
    from safetensors import SafetensorError, safe_open

    where = shown(path)
    try:
        with safe_open(path, framework="numpy") as file:
            metadata = file.metadata()
            tensors = {name: file.get_tensor(name)
                       for name in file.keys()}  # noqa: SIM118  (not a mapping)
        if metadata["checksum"] != checksum(metadata["axiarch"], tensors):
            raise ValueError("it is damaged: it is not what was written")
        known = load_json(metadata["axiarch"], finite=False)
        if known["format"] not in (FORMAT, _BEFORE):
            raise EarlierEngine(
                "the checkpoint was written by an earlier version of Axiarch, whose results this "
                "one cannot continue", where, "train the recipe again in a new search")
        watch = typed(known["watch"], StoppingState)
        stretches = _stretches(tensors, known)
        first, kept = stretches[:_STRETCHES[0]], stretches[_STRETCHES[0]:]
        state = TrainingState(first[0], first[1], np.stack(first[2:]), known["epoch"], watch,
                              np.stack(kept) if kept else None)
        if type(state.epoch) is not int or len(watch.losses) != state.epoch:
            raise ValueError("its epochs do not fit each other")
    except (OSError, SafetensorError, LookupError, TypeError, ValueError) as error:
        raise TrainingError(f"the checkpoint cannot be read: {shown(error, 100)}", where,
                            "train the run from scratch") from None
    found = state.parameters.shape
    if found != (shape.parameters,):
        raise TrainingError(
            f"the checkpoint holds {found} parameters; the network has {shape.parameters}", where,
            "train the run from scratch")
    for what, was, now in (("data", known["data"], data), ("recipe", Recipe(
            known["recipe"]), run.recipe), ("seed", known["streams"], asdict(run.streams))):
        if was != now:
            whose = f" ({shown(known['note'], 80)})" if known.get("note") else ""
            raise TrainingError(f"the checkpoint{whose} belongs to another {what}", where,
                                "train the run from scratch")
    return state


def carry_over(source: Path,
               was: RunSpec,
               old: NetworkShape,
               run: RunSpec,
               new: NetworkShape,
               data: str,
               latest: int,
               best: bool = False) -> TrainingState | None:
    """Return where `run` starts when it takes over from what the run `was` left: its last epoch, or
    its best.

    None where that is later than the epoch `latest`. Patience counts from there, so that a run
    which patience ended can go on.

    Raises
    ------
    TrainingError
        If the networks differ, or the checkpoint cannot be read.
    """
    if (old.inputs, old.layers, old.outputs) != (new.inputs, new.layers, new.outputs):
        raise TrainingError(
            f"the weights do not fit: {old.parameters} numbers in {len(old.layers)} hidden layers "
            f"against {new.parameters} in {len(new.layers)}", shown(source),
            "keep the network as it was, or train it from scratch")
    state = load_checkpoint(source, was, old, data)
    if best:
        state = state.at_best(was.recipe)
    if state.epoch > latest:
        return None
    state.watch.mark_epoch, state.watch.mark_loss = state.epoch, state.watch.best_loss
    if state.epoch >= run.recipe.whole("epochs"):
        raise TrainingError(f"{state.epoch} epochs are trained already, and the recipe has "
                            f"{run.recipe.whole('epochs')}", shown(source), "give more epochs")
    return state
