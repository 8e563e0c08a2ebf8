"""Widgets that show rows of runs: a still drawing, and a list of drawn lines with a cursor."""

from __future__ import annotations

from contextlib import suppress
from functools import lru_cache

from rich.segment import Segment
from rich.style import Style
from textual.color import Color
from textual.geometry import Region, Size
from textual.message import Message
from textual.reactive import reactive
from textual.scroll_view import ScrollView
from textual.strip import Strip
from textual.widget import Widget

from axiarch.text import shown
from axiarch.tui.palette import PALETTES
from axiarch.tui.plots.runs import Row, Rows, cut, row_width


@lru_cache(2048)
def style_of(role: str, theme: str) -> Style:
    """Return a role's style in a theme: ``*`` is bold, ``!`` the selected ground, ``~A/B`` two
    colours of a picture.
    """
    colours = PALETTES[theme]
    if role.startswith("~"):
        above, below = (_pixel(colour, colours) for colour in role[1:].rstrip("!").split("/"))
        return Style(color=above, bgcolor=below)
    name = role.rstrip("*!")
    ground = colours["select"] if "!" in role else colours["ground"]
    return Style(color=colours[name], bgcolor=ground, bold="*" in role)


def _pixel(colour: str, colours: dict[str, str]) -> str:
    """Return a colour: as it is, or a shade from 0 to 100 between the ground and the ink."""
    if colour.startswith("#"):
        return colour
    return Color.parse(colours["ground"]).blend(Color.parse(colours["ink"]), int(colour) / 100).hex6


def strip_of(row: Row, width: int, theme: str, ground: str = "ink") -> Strip:
    """Return a row as a strip of exactly `width` cells: the same one again for the same row,
    with what it keeps.
    """
    return _strip_of(tuple(row), width, theme, ground)


@lru_cache(2048)
def _strip_of(runs: tuple[tuple[str, str], ...], width: int, theme: str, ground: str) -> Strip:
    row = cut(list(runs), width)
    # The last gate before the terminal: whatever drew the row, no control character passes it.
    segments = [Segment(text if text.isprintable() else shown(text), style_of(role, theme))
                for text, role in row if text]
    rest = width - row_width(row)
    if rest > 0:
        segments.append(Segment(" " * rest, style_of(ground, theme)))
    return Strip(segments, width)


class Drawing(Widget):
    """Shows what :meth:`draw` returns; drawn again only when asked, resized or in another theme."""

    def __init__(self, *, id: str | None = None, classes: str | None = None) -> None:
        super().__init__(id=id, classes=classes)
        self._key: tuple[int, int, str] | None = None
        self._shown: tuple[int, int, str] | None = None
        self._rows: Rows = []
        self._drawing = self._stale = False

    def long(self) -> bool:
        """Say whether drawing takes so long that it is done beside the event loop, the last
        drawing shown meanwhile.
        """
        return False

    def draw(self, width: int, height: int) -> Rows:
        """Return the drawing in `width` by `height` cells."""
        return []

    def redraw(self) -> None:
        """Draw again with the next frame."""
        self._key = None
        self.refresh()

    def render_line(self, y: int) -> Strip:
        """Return line `y`."""
        theme = self.app.theme
        key = (self.size.width, self.size.height, theme)
        if key != self._key:
            if key == self._shown and self.long():
                self._draw_beside(key)
            else:
                self._rows = self.draw(self.size.width, self.size.height)
                self._shown = key
            self._key = key
        row = self._rows[y] if y < len(self._rows) else []
        return strip_of(row, self.size.width, theme)

    def _draw_beside(self, key: tuple[int, int, str]) -> None:
        """Draw in a thread; what changes meanwhile is drawn after that."""
        if self._drawing:
            self._stale = True
            return
        self._drawing = True
        app = self.app

        def work() -> None:
            rows = self.draw(key[0], key[1])
            with suppress(RuntimeError):  # the application may have ended meanwhile
                app.call_from_thread(self._take, key, rows)

        self.run_worker(work, thread=True, group="drawing")

    def _take(self, key: tuple[int, int, str], rows: Rows) -> None:
        """Show what was drawn beside, unless it is of another size by now."""
        again, self._drawing, self._stale = self._stale, False, False
        if key == self._shown:
            self._rows = rows
            self.refresh()
        if again:
            self.redraw()


class TallDrawing(Drawing):
    """A drawing that takes as many lines as it draws, where the style sheet gives it an
    automatic height.
    """

    def get_content_height(self, container: Size, viewport: Size, width: int) -> int:
        """Return the lines it takes."""
        return len(self.draw(width, 0))

    def redraw(self) -> None:
        """Draw again with the next frame, in as much room as it takes then."""
        super().redraw()
        self.refresh(layout=True)


class Listing(ScrollView, can_focus=True):
    """A list of drawn lines, of which one is under the cursor; only visible lines are drawn."""

    BINDINGS = [
        ("up", "move(-1)", "up"), ("down", "move(1)", "down"), ("pageup", "move(-10)", "page up"),
        ("pagedown", "move(10)", "page down"), ("home", "move(-1000000)", "first"),
        ("end", "move(1000000)", "last"),
    ]

    count: reactive[int] = reactive(0)
    cursor: reactive[int] = reactive(0)

    class Moved(Message):
        """The cursor stands on another line."""

        def __init__(self, listing: Listing, index: int) -> None:
            super().__init__()
            self.listing = listing
            self.index = index

        @property
        def control(self) -> Listing:
            """The list it happened in."""
            return self.listing

    class Chosen(Moved):
        """A line was clicked a second time."""

    def draw_line(self, index: int, width: int) -> Row:
        """Return line `index` in `width` cells."""
        return []

    def get_content_height(self, container: Size, viewport: Size, width: int) -> int:
        """Return the lines it would take, where the style sheet lets it choose."""
        return max(self.count, 1)

    def redraw(self) -> None:
        """Draw the visible lines again."""
        self.refresh()

    def action_move(self, by: int) -> None:
        """Move the cursor."""
        self.cursor = self.cursor + by

    def validate_cursor(self, cursor: int) -> int:
        """Keep the cursor on a line."""
        return max(0, min(cursor, self.count - 1))

    def watch_count(self, count: int) -> None:
        """Make room for the lines."""
        self.virtual_size = Size(0, count)
        self.cursor = self.validate_cursor(self.cursor)
        self.refresh(layout=True)

    def watch_cursor(self, old: int, new: int) -> None:
        """Keep the cursor in sight and say that it moved."""
        self.scroll_to_region(Region(0, new, 1, 1), animate=False)
        self.refresh()
        if old != new:
            self.post_message(self.Moved(self, new))

    def on_resize(self) -> None:
        """Keep the cursor in sight."""
        self.scroll_to_region(Region(0, self.cursor, 1, 1), animate=False)

    def on_click(self, event: object) -> None:
        """Put the cursor on the line clicked; a second click chooses it."""
        index = int(getattr(event, "y", 0)) + self.scroll_offset.y
        if index >= self.count:
            return
        if index == self.cursor and self.has_focus:
            self.post_message(self.Chosen(self, index))
        self.cursor = index

    def render_line(self, y: int) -> Strip:
        """Return line `y` of what is in sight."""
        width, theme = self.scrollable_content_region.width, self.app.theme
        index = y + self.scroll_offset.y
        if index >= self.count:
            return strip_of([], width, theme)
        row = self.draw_line(index, width)
        if index != self.cursor:
            return strip_of(row, width, theme)
        return strip_of([(text, role + "!") for text, role in row], width, theme, "ink!")
