"""Proposals about recipes: what would be changed on the sheet, or in a follow-up search."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field, replace

from axiarch.recipes.conditions import Value, written
from axiarch.recipes.fields import FIELDS
from axiarch.recipes.recipe import Recipe, short
from axiarch.recipes.searchfile import SearchFile
from axiarch.recipes.space import Knob, knob
from axiarch.runs import proposal
from axiarch.runs.proposal import Sure
from axiarch.text import shown

__all__ = ["HARMLESS", "Change", "Proposal", "Sure"]

#: Findings that are no fault of a recipe.
HARMLESS = frozenset({"noise", "lucky", "easier"})


@dataclass(frozen=True)
class Change:
    """What would be changed on the sheet.

    Attributes
    ----------
    words : str
        What it does, an imperative.
    values : mapping
        Values of the base recipe.
    ranges : mapping of str to str
        Ranges of knobs in the short notation.
    """

    words: str
    values: Mapping[str, Value] = field(default_factory=dict)
    ranges: Mapping[str, str] = field(default_factory=dict)

    def applied(self, search: SearchFile) -> SearchFile:
        """Return a search with the change made: its values are fixed, its ranges vary, and other
        knobs stay as they are.
        """
        space = search.space
        kept: dict[str, Knob] = {k.name: k for k in space.knobs if k.name not in self.values}
        kept |= {name: knob(name, text) for name, text in self.ranges.items()}
        return search.with_space(replace(space, base=space.base.changed(self.values),
                                         knobs=tuple(kept.values())))

    def branch(self, base: Recipe) -> tuple[Knob, ...]:
        """Return the knobs that vary in a follow-up search whose base is the recipe as it was: its
        values with one choice each, its ranges.
        """
        return tuple(knob(name, text) for name, text in (
            *((name, written(value)) for name, value in self.values.items()
              if value != base[name]), *self.ranges.items()))

    def preview(self, search: SearchFile) -> list[str]:
        """Return what it would change on the sheet, a line a value: before and after."""
        after, lines = self.applied(search), []
        for name in (*self.values, *self.ranges):
            was, now = (_written(each, name) for each in (search, after))
            if was != now:
                lines.append(f"{FIELDS[name].label}: {was} → {now}")
        return lines


def _written(search: SearchFile, name: str) -> str:
    varied = search.space.varied(name)
    return shown(str(varied) if varied else short(search.space.base[name]), 60)


#: A proposal about a recipe or a space.
Proposal = proposal.Proposal[Change]
