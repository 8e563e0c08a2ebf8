"""Errors that another process of ours has written as JSON, raised here again."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

from axiarch import errors


def raise_answer(answer: Mapping[str, Any]) -> None:
    """Raise the error that an answer holds, if it holds one."""
    if "error" not in answer:
        return
    kind = getattr(errors, str(answer["error"]), errors.AxiarchError)
    if not (isinstance(kind, type)
            and issubclass(kind, errors.AxiarchError)) or kind is errors.NotationError:
        kind = errors.AxiarchError
    raise kind(str(answer.get("what", "")), str(answer.get("where", "")),
               str(answer.get("remedy", "")))
