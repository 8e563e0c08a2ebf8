"""Open the seal on the test rows: deliberately, with a reason, and recorded before anything is read."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from axiarch.data.dataset import Dataset, Part, sealed_part
from axiarch.data.floor import Floor, floor_of
from axiarch.errors import InputError
from axiarch.journal.read import JournalReader
from axiarch.journal.records import OpeningRecord
from axiarch.journal.workspace import Workspace
from axiarch.journal.write import JournalWriter


@dataclass(frozen=True)
class Opened:
    """The sealed rows, opened.

    Attributes
    ----------
    part : Part
    floor : Floor
        What the trivial predictor, learnt from the training rows, scores on them.
    times : int
        How often the seal of these data has been opened by now.
    """

    part: Part
    floor: Floor
    times: int


def open_seal(workspace: Workspace, data: Dataset, reason: str) -> Opened:
    """Record that the test rows are opened, with time and reason, then open them.

    Raises
    ------
    InputError
        If no reason is given.
    WorkspaceLocked
        If a search runs: only one process writes the record at a time. Nothing is opened then.
    """
    reason = " ".join(reason.split())
    if not reason:
        raise InputError("a reason is required to open the seal", "reason",
                         "say in a few words what the test score will decide")
    with workspace.locked("opening a seal"):
        journal = JournalWriter(workspace.journal)
        try:
            with journal.transaction():
                journal.add_opening(data.folder.name, data.fingerprint, data.rows["test"], reason[:500])
        finally:
            journal.close()
    part = sealed_part(data)
    floor = floor_of(data.target, np.asarray(data.part("train").targets), part.targets)
    return Opened(part, floor, len(openings(workspace, data)))


def openings(workspace: Workspace, data: Dataset | None = None) -> tuple[OpeningRecord, ...]:
    """Return when seals were opened and why, oldest first: of one data set, or of all."""
    reader = JournalReader(workspace.journal)
    try:
        return reader.openings(data.fingerprint if data else "")
    finally:
        reader.close()
