"""Ladder: the ranking as a drawing, one rung a recipe on one loss axis."""

from __future__ import annotations

from dataclasses import replace

from textual.app import ComposeResult

from axiarch.ranking.rank import Partial, Ranked
from axiarch.text import loss, shown
from axiarch.tui.messages import RecipeOpened, RecipePointed
from axiarch.tui.plots import ladder
from axiarch.tui.plots.effects import draw_effects
from axiarch.tui.plots.runs import Row, Rows, fit, right
from axiarch.tui.plots.scale import Scale
from axiarch.tui.plots.tradeoffs import draw_tradeoffs
from axiarch.tui.views.field import baseline_levels
from axiarch.tui.views.overlay import LETTERS
from axiarch.tui.views.view import View
from axiarch.tui.widgets.drawing import Drawing, Listing
from axiarch.workflows.explaining import KnobEffects
from axiarch.workflows.leading import against, ranking_verdict
from axiarch.workflows.listing import ORDERS, listed
from axiarch.workflows.snapshot import Snapshot
from axiarch.workflows.trading import COSTS, TradeOffs

Panel = KnobEffects | TradeOffs | str
#: Cells before the track: bracket, place, recipe, loss, seeds.
_HEAD = 26
#: What is lowered, as the head of its column; the legend names it in full.
_SHORT = {"accuracy": "error", "balanced accuracy": "error", "F1": "1 − F1", "AUC": "1−AUC",
          "mean absolute error": "error"}
_ROLE = {"leader": "lead", "tied": "lead", "open": "glow", "apart": "ink", "unknown": "ink"}


def track_width(width: int) -> int:
    """Return the cells of the shared axis in a line of `width`."""
    return max(int((width - _HEAD) * (0.45 if width >= 110 else 0.4)), 16)


def loss_axis(s: Snapshot) -> Scale:
    """Return the axis that all rungs share: from the lowest training loss of the leaders to a
    little past the baseline.
    """
    rows = s.ranking.rows
    head = rows[: max(len(rows) * 3 // 4, min(len(rows), 12))]
    low = min(min(r.training, r.loss - (r.half_width or 0)) for r in head)
    high = min(max(r.loss for r in head), s.dataset.baseline.loss * 1.05)
    room = max((high - low) * 0.04, 1e-9)
    return Scale(low - room, max(high, low) + room)


def differs(s: Snapshot, row: Ranked) -> str:
    """Say how a recipe differs from the leader, in at most four significant digits."""
    if row.place > 1:
        return _apart(s, row.recipe)
    text = s.recipes[row.recipe].apart(s.file.space.base)
    return f"leads; from the base: {text}" if text else "leads; the base recipe itself"


def _apart(s: Snapshot, number: int) -> str:
    """Say what of a recipe is not as in the leader, or in the base where nothing leads yet."""
    against = s.recipes[s.ranking.rows[0].recipe].recipe if s.ranking.rows else s.file.space.base
    return s.recipes[number].apart(against) or "as the leader"


class Rungs(Listing):
    """One line a recipe; the cursor stays on its recipe wherever that goes, and on the first
    place if it is there.
    """

    snapshot: Snapshot | None = None
    scale = Scale(0.0, 1.0)

    def __init__(self) -> None:
        super().__init__()
        self.marks: dict[int, str] = {}
        self._order: list[int] = []
        self.ranked: dict[int, Ranked] = {}
        self.partial: dict[int, Partial] = {}
        self.by_place = True
        self._held = 0  # the recipe that the cursor stays on; 0 stays with whichever leads

    def follow(self, order: list[int]) -> None:
        """Take recipes in another order, the cursor with the one it is on."""
        held = self._held
        self._order, self.count = order, len(order)
        if held in order:
            self.cursor = order.index(held)
        self._held = held  # the recipe has moved, not the user

    def watch_cursor(self, old: int, new: int) -> None:
        """Remember the recipe chosen, before an order that comes meanwhile takes the cursor
        elsewhere.
        """
        super().watch_cursor(old, new)
        self._held = self._order[new] if new else 0

    def selected(self) -> int:
        """Return the recipe under the cursor, 0 if there is none."""
        return self._order[self.cursor] if self._order else 0

    def point(self, recipe: int) -> None:
        """Put the cursor on a recipe, if it is listed."""
        if recipe in self._order:
            self.cursor = self._order.index(recipe)

    def draw_line(self, index: int, width: int) -> Row:
        """Return a recipe's rung."""
        s = self.snapshot
        assert s is not None
        number = self._order[index]
        if number in self.partial:
            return self._partial(s, self.partial[number], width)
        if number not in self.ranked:
            return [*self._number(number, 12), (" " * (_HEAD - 12), "ink"),
                    ("✕ no result: every run diverged or failed", "warn")]
        row = self.ranked[number]
        role = _ROLE[row.standing]
        track = track_width(width)
        return [
            (_bracket(s, row, self.by_place), "lead"), (right(str(row.place),
                                                 4), role), *self._number(row.recipe, 6),
            (right(loss(row.loss), 9), role + "*" if row.place == 1 else role),
            (right(str(row.repeats), 4), "faint"), (" ", "ink"),
            *ladder.rung(self.scale, track, row.loss,
                         row.spread if row.seeds_half is None else row.seeds_half,
                         row.half_width, row.training,
                         [level.y for level in baseline_levels(s)], role, row.standing == "apart"),
            ("  ", "ink"), ("† " if row.failed else "", "warn"),
            (fit(differs(s, row), max(width - _HEAD - track - 2,
                                      0)), "ink" if row.place == 1 else "faint")
        ]


    def _number(self, recipe: int, width: int, role: str = "faint") -> Row:
        """Return a recipe's number, with the letter it has in the overlay if it is marked."""
        letter = self.marks.get(recipe, "")
        text = right(f"#{recipe}", width - 2 if letter else width)
        return [(text, role), *([(f" {letter}", "glow*")] if letter else [])]

    def _partial(self, s: Snapshot, known: Partial, width: int) -> Row:
        """Return the line of a recipe that was not trained to its end: never to be read as a
        result.
        """
        of = s.recipes[known.recipe].recipe.whole("epochs")
        run = s.runs_of(known.recipe)[0]
        state = {"cut": "cut", "resting": "resting"}.get(run.state, "in training")
        text = f"{state} at {known.epochs} of {of}: {_apart(s, known.recipe)}"
        track = track_width(width)
        return [
            *self._number(known.recipe, 12, "ghost"), (right(loss(known.loss), 9), "faint"),
            (" " * 5, "ink"), *ladder.rung(self.scale, track, known.loss, None, None, known.loss,
                                           [v.y for v in baseline_levels(s)], "ghost", True),
            ("  ", "ink"), (fit(text, max(width - _HEAD - track - 2, 0)), "faint")
        ]


def _bracket(s: Snapshot, row: Ranked, by_place: bool) -> str:
    """Return the sign of a row's group: a bracket around what is tied, a mark for what is not
    ruled out.
    """
    if row.standing == "open":
        return " ?"
    index = row.place - 1
    if not by_place:
        return " =" if row.standing in ("leader", "tied") and len(s.ranking.tied) > 1 else "  "
    last = max((i for i, row in enumerate(s.ranking.rows) if row.standing == "tied"), default=0)
    if not last or index > last:
        return "  "
    return " ╭" if index == 0 else " ╰" if index == last else " │"


class Head(Drawing):
    """The shared axis, and what the marks mean."""

    DEFAULT_CSS = "Head { height: 3; }"

    snapshot: Snapshot | None = None
    scale = Scale(0.0, 1.0)
    note = ""

    def draw(self, width: int, height: int) -> Rows:
        """Return legend and axis."""
        if self.snapshot is None or not self.snapshot.ranking.rows:
            return []
        target = self.snapshot.dataset.target
        unit = target.unit if target.measure == "loss" else target.loss_name
        pad = " " * (_HEAD - 1)
        below = ladder.axis(self.scale, track_width(width))
        legend: Row = [
            (f" place  recipe  {_SHORT.get(target.measure, 'loss'):>6} seeds", "faint"),
            (" ●─", "lead"), ("╌", "faint"),
            (" 95 %: seeds, and rows too  ", "faint"), ("○", "train"), (" training  ", "faint"),
            ("┊ " + ", ".join(reversed([f.name for f in baseline_levels(self.snapshot)])), "faint"),
            ("   " + shown(unit, 27) if width > 90 else "", "faint")
        ]
        side = fit(self.note or "differs from the leader in",
                   max(width - _HEAD - track_width(width) - 2, 0))
        return [
            legend, [(pad + " ", "ink"), *below[0], ("  " + side, "faint")],
            [(pad + " ", "ink"), *below[1]]
        ]


class Panels(Drawing):
    """What is drawn in place of the ranking: effects, or trade-offs."""

    DEFAULT_CSS = "Panels { height: 1fr; display: none; }"

    found: Panel | None = None
    page = 0

    def draw(self, width: int, height: int) -> Rows:
        """Return the drawing, or in words why there is none."""
        if isinstance(self.found, KnobEffects):
            return draw_effects(self.found, width, height, self.page)
        if isinstance(self.found, TradeOffs):
            return draw_tradeoffs(self.found, width, height)
        return [[], [(f" {self.found or 'Working out which knobs matter.'}", "faint")]]


class LadderView(View):
    """The fourth view: the ranking, which knobs matter, or what a lower loss costs.

    Attributes
    ----------
    panel : KnobEffects, TradeOffs, str or None
        What is shown in place of the ranking, or words where there is nothing; None shows the
        ranking.
    order, where : str
        How recipes are ordered, and which are listed.
    """

    DEFAULT_CSS = """
    LadderView Rungs { height: 1fr; scrollbar-size-vertical: 1; }
    """

    panel: Panel | None = None
    order: str = "place"
    where: str = ""

    def sort(self) -> None:
        """Order by the next thing that recipes can be ordered by."""
        names = list(ORDERS)
        self.order = names[(names.index(self.order) + 1) % len(names)]
        self.show()

    def turn(self) -> None:
        """Turn the page of what is shown in place of the ranking."""
        if isinstance(self.panel, TradeOffs):
            names = list(COSTS)
            cost = names[(names.index(self.panel.cost) + 1) % len(names)]
            self.panel = replace(self.panel, cost=cost)
        else:
            self.query_one(Panels).page += 1
        self.show()

    def point(self, recipe: int) -> None:
        """Put the cursor on a recipe."""
        self.query_one(Rungs).point(recipe)

    def _note(self) -> str:
        """Say how the list is ordered and what is left out."""
        parts = [f"by {self.order}"] if self.order != "place" else []
        return "; ".join([*parts, *([f"only {shown(self.where)}"] if self.where else [])])

    def compose(self) -> ComposeResult:
        """Lay out axis and rungs."""
        yield Head()
        yield Rungs()
        yield Panels()

    def show(self) -> None:
        """Show the ranking; the cursor stays on its recipe wherever that goes."""
        s = self.state.snapshot
        head, rungs = self.query_one(Head), self.query_one(Rungs)
        panels = self.query_one(Panels)
        if isinstance(self.panel, TradeOffs) and s is not None and s is not self.panel.snapshot:
            self.panel = replace(self.panel, snapshot=s)
        panels.found = self.panel
        for part in (head, rungs, panels):
            part.display = (part is panels) == (self.panel is not None)
        panels.redraw()
        if s is None or not s.order:
            rungs.follow([])
            head.snapshot = None
            head.redraw()
            return
        head.snapshot = rungs.snapshot = s
        rungs.marks = {
            m.recipe: letter
            for m, letter in zip(self.state.marked, LETTERS, strict=False)
            if m.search == s.search.number
        }
        if s.ranking.rows:
            head.scale = rungs.scale = loss_axis(s)
        rungs.ranked = {row.recipe: row for row in s.ranking.rows}
        rungs.partial = {each.recipe: each for each in s.ranking.partial}
        rungs.by_place = self.order == "place" and not self.where
        found = listed(s, self.order, self.where)
        head.note = self._note() if found else (
            f"no recipe matches {shown(self.where, 30)}; press / to change it")
        rungs.follow(found)
        head.redraw()
        rungs.redraw()

    def on_listing_moved(self, event: Listing.Moved) -> None:
        """Say which recipe keys act on now: the one under the cursor, or whichever leads."""
        if self.state.snapshot is not None:
            self.post_message(RecipePointed(self.selected() if event.index else 0))

    def on_listing_chosen(self, event: Listing.Chosen) -> None:
        """Open the recipe clicked twice."""
        self.post_message(RecipeOpened(self.selected()))

    def selected(self) -> int:
        """Return the recipe under the cursor, 0 if there is none."""
        return self.query_one(Rungs).selected()

    def focus_main(self) -> None:
        """Give the keyboard to the rungs."""
        self.query_one(Rungs).focus()

    def verdict(self) -> str:
        """Say who leads and how surely."""
        s = self.state.snapshot
        if s is None:
            return self.state.no_search
        if isinstance(self.panel, KnobEffects | TradeOffs):
            return self.panel.verdict()
        both = [m.recipe for m in self.state.marked if m.search == s.search.number]
        if len(both) == 2:
            return f"Recipe {both[0]} against recipe {both[1]}. " + against(
                s, both[0], both[1])
        so_far = "" if s.over else f"So far, with {s.ended_runs} of {s.expected_runs} runs: "
        return so_far + ranking_verdict(s)
