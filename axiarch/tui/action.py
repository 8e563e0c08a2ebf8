"""What an action is, and the views in the order of the work."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from axiarch.tui.doing.context import Context

#: The views in the order of the work: key, name, the question each answers.
VIEWS: tuple[tuple[str, str, str], ...] = (
    ("1", "data", "What do I have, and what must any recipe beat?"),
    ("2", "sheet", "Which recipe is the base, what varies, and what will that take?"),
    ("3", "field", "How far is the search, and who leads?"),
    ("4", "ladder", "Which recipes are best, and how sure is that?"),
    ("5", "strips", "How did this recipe train?"),
    ("6", "predictions", "What does this recipe predict, and where is it wrong?"),
)


@dataclass(frozen=True)
class Action:
    """One thing a user can do.

    Attributes
    ----------
    name : str
    key : str
        As Textual names it.
    label : str
        One or two words for the key line.
    words : str
        A sentence for palette and help, with the words people may look for.
    do : callable
        Does it.
    views : tuple of str
        Where it can be done; empty for everywhere.
    line : bool
        Whether the key line names it.
    """

    name: str
    key: str
    label: str
    words: str
    do: Callable[[Context], None]
    views: tuple[str, ...] = ()
    line: bool = True

    @property
    def shown_key(self) -> str:
        """The key as people read it."""
        names = {
            "question_mark": "?", "left_square_bracket": "[", "right_square_bracket": "]",
            "comma": ",", "full_stop": ".", "escape": "esc", "ctrl+p": "^p", "ctrl+r": "^r",
            "ctrl+o": "^o"
        }
        return names.get(self.key, self.key)

    def here(self, view: str) -> bool:
        """Whether it is one of the keys of a view: listed for it, or done everywhere."""
        return not self.views or view in self.views
