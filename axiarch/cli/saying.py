"""The one way to the terminal: no text from a file reaches it otherwise.

Control characters are shown and never sent, and characters that the terminal lacks are escaped.
"""

from __future__ import annotations

import json
import math
import sys
from typing import Any, TextIO

from axiarch.errors import AxiarchError, NotationError
from axiarch.text import shown


def say(*lines: object, error: bool = False, end: str = "\n") -> None:
    """Print each of some plain texts as one line, on standard error if `error`.

    Characters that a terminal could act on are shown as symbols, and those that the terminal's
    encoding lacks as escapes. A reader that has gone away is no error.
    """
    stream = sys.stderr if error else sys.stdout
    for line in lines:
        write(stream, shown(line) + end)


def write(stream: TextIO, text: str) -> None:
    """Write text that is known to be harmless, whatever encoding the stream has."""
    encoding = stream.encoding or "utf-8"
    stream.write(text.encode(encoding, "backslashreplace").decode(encoding))
    stream.flush()


def print_error(error: AxiarchError) -> None:
    """Say on standard error what happened, where and what to do."""
    say(f"axiarch: {error.what}", error=True)
    if isinstance(error, NotationError):
        say(*("  " + line for line in error.marked().splitlines()), error=True)
    if error.where:
        say(f"  where:   {error.where}", error=True)
    if error.remedy:
        say(f"  remedy:  {error.remedy}", error=True)


def print_json(value: Any) -> None:
    """Print a value as one JSON document; numbers that are not finite become null."""
    text = json.dumps(_finite(value), indent=1, ensure_ascii=True, allow_nan=False)
    write(sys.stdout, text + "\n")


def _finite(value: Any) -> Any:
    if isinstance(value, float) and not math.isfinite(value):
        return None
    if isinstance(value, dict):
        return {k: _finite(v) for k, v in value.items()}
    if isinstance(value, list | tuple):
        return [_finite(v) for v in value]
    return value
