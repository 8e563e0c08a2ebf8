"""How much a text that people or strangers type may ask for: beyond it, it is a mistake or an
attack.
"""

from __future__ import annotations

#: Characters of one value, range, network line, condition or constraint.
MOST_CHARACTERS = 20_000
#: Characters of a number: more digits than any value of a recipe needs.
MOST_DIGITS = 40
#: Values that are named one by one, and rungs of a ladder.
MOST_VALUES = 2_000
#: Names, numbers and signs of one constraint, and constraints of a space.
MOST_TERMS, MOST_CONSTRAINTS = 200, 100
#: Bytes of a search file.
MOST_FILE = 1 << 20
#: Numbers of searches, recipes, epochs and workers that a command takes.
MOST_NUMBER = 2**31 - 1
#: Combinations of a grid that are gone through one by one.
MOST_COMBINATIONS = 10_000_000


def is_whole(text: str) -> bool:
    """Whether a text is a whole number in ordinary digits, and not a longer one than anybody
    needs.
    """
    return text.isascii() and text.isdecimal() and len(text) <= MOST_DIGITS
