"""Ask a process of our own for what needs the engine, which the interface never loads."""

from __future__ import annotations

import json
import tempfile
from collections.abc import Callable
from typing import Any

from axiarch.errors import TrainingError
from axiarch.runner.launched import Launched, keep, launch
from axiarch.text import shown
from axiarch.workflows.answer import raise_answer

#: The module whose process answers: that of the runner, or the one that uses trained networks.
RUNNER, TRAINED = "axiarch.runner", "axiarch.export"


def ask(*words: str, request: object = None, module: str = RUNNER,
        on_progress: Callable[[str, float], None] = lambda step, done: None) -> dict[str, Any]:
    """Run a process of ours with `words`, give it `request` as JSON, and return its answer.

    Folders in the request must be absolute.

    Parameters
    ----------
    on_progress : callable, optional
        Takes how far the work is; may raise to end the process.

    Raises
    ------
    AxiarchError
        Whatever the process says went wrong; TrainingError if it says nothing that can be read.
    """
    with tempfile.TemporaryFile("w+", encoding="utf-8") as errors:
        process = launch(*words, module=module, errors=errors.fileno())
        try:
            answer = _answer(process, request, on_progress)
        finally:
            process.end()
        errors.seek(0)
        last = errors.read().strip().splitlines()[-1:] or ["no message"]
    if answer is None:
        raise TrainingError(f"the process gave no answer: {shown(last[0], 120)}", "", "try again")
    raise_answer(answer)
    return answer


def keep_engine() -> None:
    """Keep a process that has loaded the engine from the first need of it until this process ends,
    so that searches, probes and forecasts start at once.
    """
    keep()


def _answer(process: Launched, request: object,
            on_progress: Callable[[str, float], None]) -> dict[str, Any] | None:
    """Give a process its request and return the last line it answers with that is no step."""
    try:
        json.dump(request, process.input)
        process.input.close()
    except BrokenPipeError:
        pass
    answer: dict[str, Any] | None = None
    for line in process.output:
        try:
            found = json.loads(line)
        except ValueError:
            continue
        if isinstance(found, dict) and set(found) == {"step", "done"}:
            on_progress(str(found["step"]), float(found["done"]))
        elif isinstance(found, dict):
            answer = found
    return answer
