"""Probe a recipe before a search: seconds to a minute, in a process of its own, kept in the
journal.
"""

from __future__ import annotations

import contextlib
import json
from collections.abc import Callable
from dataclasses import asdict
from typing import Any

from axiarch.data.dataset import Dataset
from axiarch.errors import InputError, WorkspaceMissing
from axiarch.files import load_json, typed
from axiarch.insight.probes import (
    BUILDS,
    HERE,
    KINDS,
    BatchProbe,
    DepthProbe,
    NoiseProbe,
    Probe,
    RateProbe,
)
from axiarch.journal.read import JournalReader
from axiarch.journal.records import ProbeRecord
from axiarch.journal.workspace import Workspace
from axiarch.journal.write import JournalWriter
from axiarch.recipes.conditions import written
from axiarch.recipes.fields import FIELDS
from axiarch.recipes.recipe import Recipe
from axiarch.text import moment, shown
from axiarch.workflows.asking import ask
from axiarch.workflows.devices import device_room
from axiarch.workflows.drafting import network_shape

_TYPES: dict[str, type[Probe]] = {
    "rate": RateProbe, "batch": BatchProbe, "depth": DepthProbe, "noise": NoiseProbe}


def probe(workspace: Workspace, dataset: Dataset, recipe: Recipe, kind: str,
          device: str = HERE,
          on_progress: Callable[[str, float], None] = lambda step, done: None) -> Probe:
    """Probe a recipe on a data set, and keep what was found.

    Parameters
    ----------
    kind : str
        One of :data:`axiarch.insight.probes.KINDS`.
    device : str
        Whose memory batches must fit: a device of the workspace, or an amount such as ``6 GiB``.
    on_progress : callable
        Takes how far it is; may raise to end it, and nothing is kept then.

    Raises
    ------
    InputError
        On an unknown kind or device, or a network that cannot be built.
    WorkspaceLocked
        While a search runs: both would be slower than they are.
    """
    if kind not in KINDS:
        raise InputError(f"{shown(kind, 40)!r} is no probe", "probe",
                         "give one of " + ", ".join(KINDS))
    name, room = device_room(workspace, device)
    network_shape(recipe, dataset)
    options: dict[str, Any] = {"room": room, "device": name, "builds": BUILDS}
    request = {"kind": kind, "data": str(dataset.folder.absolute()), "recipe": dict(recipe),
               "options": options}
    with workspace.locked(f"probing ({kind})"):
        answer = ask("probe", request=request, on_progress=on_progress)
        found = typed(answer["found"], _TYPES[kind])
        journal = JournalWriter(workspace.journal)
        try:
            with journal.transaction():
                journal.add_probe(dataset.name, dataset.fingerprint, kind, recipe,
                                  json.dumps(asdict(found)))
        finally:
            journal.close()
    return found


def kept_probes(workspace: Workspace, fingerprint: str = "") -> list[tuple[ProbeRecord, Probe]]:
    """Return the probes that were made, oldest first: on one data set, or on all. Those that this
    version cannot read are left out.
    """
    found = []
    with contextlib.closing(JournalReader(workspace.journal)) as reader:
        for record in reader.probes():
            if fingerprint in ("", record.data_fingerprint):
                with contextlib.suppress(ValueError, KeyError):
                    found.append((record, typed(load_json(record.found, finite=False),
                                                _TYPES[record.kind])))
    return found


def kept_probe(workspace: Workspace, number: int) -> tuple[ProbeRecord, Probe]:
    """Return a probe that was made.

    Raises
    ------
    WorkspaceMissing
        If there is none of that number.
    """
    for record, found in kept_probes(workspace):
        if record.number == number:
            return record, found
    raise WorkspaceMissing(f"there is no probe {number}", shown(workspace.folder),
                           "list them with axiarch probes")


def probe_line(record: ProbeRecord) -> str:
    """Return when a probe was made, its kind, its data and its recipe, as a line of text."""
    values = ", ".join(f"{FIELDS[name].label} {shown(written(value), 40)}"
                       for name, value in record.recipe.changed_values().items())
    return (f"{moment(record.at)}  {record.kind:<5}  {shown(record.data, 40)}: "
            f"{values or 'the default recipe'}")
