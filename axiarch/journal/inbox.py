"""Requests to a running search: small JSON files that appear whole, are read once and removed.

Any process that may write the workspace can ask; only the runner answers, by writing the journal.
"""

from __future__ import annotations

import json
import os
import time
from collections.abc import Mapping
from dataclasses import asdict, dataclass, field
from pathlib import Path
from typing import Literal, get_args

from axiarch.errors import WorkspaceReadOnly
from axiarch.plain import shown

Deed = Literal["pause", "resume", "stop", "cut", "keep", "more", "add", "budget", "workers"]


@dataclass(frozen=True)
class Request:
    """What a running search is asked for.

    Attributes
    ----------
    do : str
        Pause, resume or stop; cut a recipe, keep it from being cut, give it more epochs; add a recipe; change how many
        recipes or workers there are.
    recipe : int
        The recipe that is meant.
    count : int
        How many epochs more, recipes in all, or workers.
    values : mapping
        Of the recipe to add.
    """

    do: Deed
    recipe: int = 0
    count: int = 0
    values: Mapping[str, object] = field(default_factory=dict)


def send(folder: Path, request: Request) -> None:
    """Ask the runner of the search in `folder` for something."""
    inbox = folder / "inbox"
    name = f"{time.time_ns():020d}-{os.getpid()}.json"
    try:
        inbox.mkdir(exist_ok=True)
        draft = inbox / f".{name}"
        draft.write_text(json.dumps({**asdict(request), "values": dict(request.values)}), encoding="utf-8")
        draft.rename(inbox / name)
    except OSError as error:
        raise WorkspaceReadOnly(f"the request cannot be written: {error.strerror}", shown(inbox),
                                "change the folder's permissions; nothing was changed") from None


def receive(folder: Path) -> list[Request]:
    """Return and remove all requests, oldest first; what is not a request is removed unread."""
    found: list[Request] = []
    for path in sorted((folder / "inbox").glob("[0-9]*.json")):
        try:
            known = json.loads(path.read_text(encoding="utf-8"))
            request = Request(known["do"], int(known.get("recipe", 0)), int(known.get("count", 0)),
                              dict(known.get("values", {})))
        except (OSError, ValueError, KeyError, TypeError):
            request = None
        path.unlink(missing_ok=True)
        if request is not None and request.do in get_args(Deed):
            found.append(request)
    return found
