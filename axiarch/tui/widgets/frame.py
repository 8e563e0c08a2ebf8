"""What stands around every view: where one is, what is known, what can be done."""

from __future__ import annotations

from textual.geometry import Size
from textual.reactive import reactive

from axiarch.text import shown
from axiarch.tui.action import VIEWS, Action
from axiarch.tui.plots.runs import Row, Rows, cut, fit, fit_name, row_width, wrap
from axiarch.tui.state import State
from axiarch.tui.widgets.drawing import Drawing

#: Lines of a window in which parts of the data view take turns.
SMALL = 33
#: Lines of a window from which the verdict has room for more of what is known.
TALL = 40
#: How a search's state is marked: never by colour alone.
MARKS = {
    "preparing": ("◌", "glow"), "running": ("▶", "glow"), "paused": ("‖", "lead"),
    "stopped": ("■", "faint"), "done": ("✓", "second"), "failed": ("✕", "warn"),
    "interrupted": ("✕", "warn")
}


class Trail(Drawing):
    """One line: the views in the order of the work, and the search's state."""

    DEFAULT_CSS = "Trail { height: 1; }"

    view: reactive[str] = reactive("data")
    state: reactive[State] = reactive(State())

    def watch_view(self) -> None:
        """Draw again."""
        self.redraw()

    def watch_state(self) -> None:
        """Draw again."""
        self.redraw()

    def draw(self, width: int, height: int) -> Rows:
        """Return the line."""
        row: Row = [(" ", "ink")]
        for i, (key, name, _) in enumerate(VIEWS):
            if i:
                row.append((" ─ ", "grid"))
            here = name == self.view
            row += [(key + " ", "lead*" if here else "faint"),
                    (name.capitalize(), "lead*" if here else "ink")]
        tail = self._tail(width - row_width(row) - 3)
        return [[*row, (" " * max(width - row_width(row) - row_width(tail) - 1, 1), "ink"), *tail]]

    def _tail(self, room: int) -> Row:
        """Name the data set, the search and the recipe that a key in this view acts on, as far
        as they fit.
        """
        s = self.state.snapshot
        edited = self.view in ("data", "sheet")
        own = self.state.dataset if edited or s is None else s.dataset
        name = shown(own.name) if own else "no data"
        if s is None:
            return cut([(fit_name(name, min(room, 40)).rstrip(), "ink")], room) if room > 6 else []
        mark, role = MARKS[s.search.state]
        recipe = "" if edited or not self.state.open_recipe else f" #{self.state.open_recipe}"
        other = edited and own is not None and own.folder.name != s.dataset.folder.name
        # Of a search on other data the data view and the sheet say no more than that it is there.
        search: Row = [(f"{mark} search {s.search.number} {s.search.state}", role),
                       (f" {s.ended_runs}/{s.expected_runs}", "ink"), (recipe, "lead")]
        short: Row = [(f"{mark} {s.search.number}", role), (recipe, "lead")]
        for tail, least in ((search, len(name)), (search[:1] + search[2:], len(name)), (short, 12),
                            (short, 5)):
            where = f" on {shown(s.dataset.name)}" if other and tail is not short else ""
            left = room - row_width(tail) - len(where) - 3
            if left >= min(least, len(name)):
                return [(fit_name(name, min(left, len(name))), "ink"), ("   ", "ink"), *tail,
                        (where, "faint")]
        return cut(short, max(room, 1))

    def on_click(self, event: object) -> None:
        """Go to the view clicked."""
        from axiarch.tui.messages import ViewWanted

        x, at = int(getattr(event, "x", 0)), 1
        for _, name, _ in VIEWS:
            if at <= x < at + len(name) + 2:
                self.post_message(ViewWanted(name))
            at += len(name) + 5


class Verdict(Drawing):
    """What is known, how surely, what to do next: two lines in words, three where lines are
    short, two more where the terminal is tall.
    """

    DEFAULT_CSS = "Verdict { height: auto; }"

    text: reactive[str] = reactive("")

    def watch_text(self) -> None:
        """Draw again."""
        self.redraw()

    def get_content_height(self, container: Size, viewport: Size, width: int) -> int:
        """Return the lines it takes, the same whatever it says."""
        return (3 if width >= 100 else 4) + (2 if viewport.height >= TALL else 0)

    def draw(self, width: int, height: int) -> Rows:
        """Return the sentences, and a thin line below."""
        rows = wrap(self.text, width - 2, "ink*")
        if len(rows) >= height:  # never a sentence that ends as if that were all
            last = "".join(text for text, _ in rows[height - 2])
            rows = [*rows[: height - 2], [(fit(f"{last} …", width - 2), "ink*")]]
        rows = [[(" ", "ink"), *row] for row in rows] + [[]] * (height - 1 - len(rows))
        return [*rows, [("╌" * width, "grid")]]


class Keys(Drawing):
    """One line: what can be done here."""

    DEFAULT_CSS = "Keys { height: 1; dock: bottom; }"

    actions: reactive[list[Action]] = reactive(list)
    search: reactive[str] = reactive("")

    def watch_actions(self) -> None:
        """Draw again."""
        self.redraw()

    def watch_search(self) -> None:
        """Draw again: what can be done depends on the state of the search."""
        self.redraw()

    def _label(self, action: Action) -> str:
        """Return an action's label as things stand; empty where it would do nothing."""
        if action.name == "pause":
            return {
                "running": "pause", "preparing": "pause", "paused": "resume", "stopped": "resume",
                "interrupted": "resume", "failed": "resume"
            }.get(self.search, "")
        if action.name == "pane":
            return action.label if self.app.size.height < SMALL else ""
        if action.name == "stop":
            return "stop" if self.search in ("running", "preparing", "paused") else ""
        return action.label if action.line else ""

    def draw(self, width: int, height: int) -> Rows:
        """Return the line: as many as there is room for, help and quit always."""
        pieces = [[(a.shown_key, "lead*"), (f" {label}", "faint")] for a in self.actions
                  if (label := self._label(a))]
        while len(pieces) > 3 and sum(row_width(p) + 3 for p in pieces) + 1 > width:
            del pieces[-4]
        row: Row = [(" ", "ink")]
        for piece in pieces:
            row += [*piece, ("   ", "ink")]
        return [row]


class Notice(Drawing):
    """What went wrong or was done: stays until escape or the next one."""

    DEFAULT_CSS = ("Notice { height: auto; max-height: 5; dock: bottom; margin-bottom: 1; "
                   "display: none; }")

    def __init__(self) -> None:
        super().__init__()
        self._parts: tuple[tuple[str, str], ...] = ()

    def say(self, *parts: tuple[str, str]) -> None:
        """Show pairs of text and role, a line or more each; nothing closes it."""
        self._parts = tuple((text, role) for text, role in parts if text)
        self.display = bool(self._parts)
        self.redraw()
        self.refresh(layout=True)

    def get_content_height(self, container: object, viewport: object, width: int) -> int:
        """Return the lines it takes."""
        return len(self._lines(width))

    def _lines(self, width: int) -> Rows:
        rows: Rows = []
        for text, role in self._parts:
            rows += wrap(text, width - 4, role)
        return [[(" ▌ " if i == 0 else "   ", self._parts[0][1]), *row]
                for i, row in enumerate(rows)]

    def draw(self, width: int, height: int) -> Rows:
        """Return the lines."""
        return self._lines(width)
