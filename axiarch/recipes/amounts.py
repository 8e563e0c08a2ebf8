"""Amounts of memory as they are typed."""

from __future__ import annotations

import contextlib
import re

#: Bytes above which an amount of memory is a slip of the keyboard.
MOST_BYTES = 2**50


def memory_amount(text: str) -> int:
    """Return the bytes of an amount such as 6 GiB or 500 MB; 0 where it is none, or none that a
    machine could have.
    """
    from pydantic import ByteSize, TypeAdapter, ValidationError

    amount = 0
    if re.fullmatch(r"\s*[\d.]+\s*\w*\s*", text):  # what stands behind an amount is not read
        with contextlib.suppress(ValidationError, OverflowError):
            amount = int(TypeAdapter(ByteSize).validate_python(text))
    return amount if amount <= MOST_BYTES else 0
