"""Requests to a running search: small JSON files that appear whole, are read once and removed.

Any process that may write the workspace can ask; only the runner answers, by writing the journal.
"""

from __future__ import annotations

import json
import os
import time
from pathlib import Path
from typing import Literal, get_args

from axiarch.errors import WorkspaceReadOnly
from axiarch.plain import shown

Request = Literal["pause", "resume", "stop"]


def send(folder: Path, request: Request) -> None:
    """Ask the runner of the search in `folder` for something."""
    inbox = folder / "inbox"
    name = f"{time.time_ns():020d}-{os.getpid()}.json"
    try:
        inbox.mkdir(exist_ok=True)
        draft = inbox / f".{name}"
        draft.write_text(json.dumps({"do": request}), encoding="utf-8")
        draft.rename(inbox / name)
    except OSError as error:
        raise WorkspaceReadOnly(f"the request cannot be written: {error.strerror}", shown(inbox),
                                "change the folder's permissions; nothing was changed") from None


def receive(folder: Path) -> list[Request]:
    """Return and remove all requests, oldest first; what is not a request is removed unread."""
    found: list[Request] = []
    for path in sorted((folder / "inbox").glob("[0-9]*.json")):
        try:
            request = json.loads(path.read_text(encoding="utf-8"))["do"]
        except (OSError, ValueError, KeyError, TypeError):
            request = None
        path.unlink(missing_ok=True)
        if request in get_args(Request):
            found.append(request)
    return found
