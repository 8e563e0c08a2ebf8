"""The versions of a recipe that were kept: a list, and beside it how each differs from the base
on the sheet.
"""

from __future__ import annotations

import time
from collections.abc import Sequence

from textual.app import ComposeResult
from textual.containers import Horizontal, Vertical
from textual.screen import ModalScreen
from textual.widgets import Static

from axiarch.journal.records import Version
from axiarch.recipes.recipe import Recipe, describe
from axiarch.text import shown
from axiarch.tui.plots.runs import Row, Rows, fit, right, wrap
from axiarch.tui.widgets.drawing import Drawing, Listing
from axiarch.workflows.comparing import differences


class _Kept(Listing):
    """One line a version, the newest first."""

    versions: Sequence[Version] = ()

    def draw_line(self, index: int, width: int) -> Row:
        """Return a version's line."""
        version = self.versions[index]
        when = time.strftime("%d %b %H:%M", time.localtime(version.at))
        return [(right(f"{version.number}", 4), "lead"), (f"  {when}  ", "faint"),
                (fit(version.name, max(width - 21, 0)), "ink")]


class _Beside(Drawing):
    """A version and the base side by side: every value in which they differ."""

    versions: Sequence[Version] = ()
    index = 0
    base: Recipe

    def draw(self, width: int, height: int) -> Rows:
        """Return note, change against the version before, and the table."""
        version = self.versions[self.index]
        before = self.versions[self.index + 1] if self.index + 1 < len(self.versions) else None
        rows: Rows = [*wrap(version.note or "no note", width, "ink")]
        if before is not None:
            text = describe(version.recipe.difference(before.recipe)) or "no change"
            rows += wrap(f"against version {before.number}: {text}", width, "faint")
        found = differences(version.recipe, self.base)
        rows += [[], [(fit("", 26), "faint"), (fit(f"version {version.number}", 18), "lead*"),
                      ("base on the sheet", "second*")]]
        if not found:
            rows.append([("they are the same recipe", "ink")])
        last = ""
        for each in found:
            group = each.group if each.group != last else ""
            rows.append([(fit(group, 9), "faint"), (fit(each.label, 17), "ink"),
                         (fit(each.first or "–", 18), "lead"), (shown(each.second
                                                                      or "–"), "second")])
            last = each.group
        return rows[:height]


class Versions(ModalScreen[str]):
    """Looks through versions; enter makes one the base, escape changes nothing."""

    DEFAULT_CSS = """
    Versions { align: center middle; background: $background 60%; }
    Versions > Vertical { width: 96%; max-width: 140; height: 80%; padding: 1 2;
                          border: round $rule;
        background: $background; }
    Versions Static { height: auto; }
    Versions Horizontal { height: 1fr; margin: 1 0; }
    Versions _Kept { width: 2fr; height: 1fr; }
    Versions _Beside { width: 3fr; height: 1fr; margin-left: 2; }
    """
    BINDINGS = [("escape", "dismiss('')", "close"), ("enter", "take", "take")]

    def __init__(self, versions: Sequence[Version], base: Recipe) -> None:
        super().__init__()
        self._versions = tuple(reversed(versions))
        self._base = base

    def compose(self) -> ComposeResult:
        """Lay out list and comparison."""
        with Vertical():
            if not self._versions:
                yield Static(
                    "No version has been kept yet. On the sheet, k keeps the base recipe with a "
                    "note.\n\n"
                    "esc goes back")
                return
            yield Static(
                "Versions of the recipe, the newest first, each beside the base on the sheet")
            with Horizontal():
                kept, beside = _Kept(), _Beside()
                kept.versions = beside.versions = self._versions
                kept.count, beside.base = len(self._versions), self._base
                yield kept
                yield beside
            yield Static("Enter makes it the base recipe (u undoes that)    Esc closes")

    def on_mount(self) -> None:
        """Give the keyboard to the list."""
        for each in self.query(_Kept):
            each.focus()

    def on_listing_moved(self, event: Listing.Moved) -> None:
        """Compare the version under the cursor."""
        beside = self.query_one(_Beside)
        beside.index = self.query_one(_Kept).cursor
        beside.redraw()

    def on_listing_chosen(self, event: Listing.Chosen) -> None:
        """Take the version clicked twice."""
        self.action_take()

    def action_take(self) -> None:
        """Take the version under the cursor."""
        if self._versions:
            self.dismiss(str(self._versions[self.query_one(_Kept).cursor].number))
