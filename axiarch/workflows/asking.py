"""Ask a process of our own for numbers that need the engine, which the interface never loads."""

from __future__ import annotations

import json
import subprocess
from typing import Any

from axiarch.errors import TrainingError
from axiarch.plain import shown
from axiarch.runner import launching
from axiarch.workflows.answer import raise_answer


def ask(*words: str, request: object = None) -> dict[str, Any]:
    """Run a process of ours with `words`, give it `request` as JSON, and return its answer.

    Folders in the request must be absolute.

    Raises
    ------
    AxiarchError
        Whatever the process says went wrong; TrainingError if it says nothing that can be read.
    """
    done = subprocess.run(launching.command(*words), input=json.dumps(request), capture_output=True,
                          text=True, check=False, cwd=launching.HOME, env=launching.environment())
    try:
        answer: dict[str, Any] = json.loads(done.stdout.splitlines()[-1])
    except (ValueError, IndexError):
        last = done.stderr.strip().splitlines()[-1:] or ["no message"]
        raise TrainingError(f"nothing could be trained: {shown(last[0], 120)}", "", "try again") from None
    raise_answer(answer)
    return answer
