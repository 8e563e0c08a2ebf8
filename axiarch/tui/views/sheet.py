"""Sheet: the base recipe and what varies around it, drawn while it is typed."""

from __future__ import annotations

import math

import numpy as np
from textual.app import ComposeResult
from textual.containers import Horizontal, Vertical
from textual.content import Content
from textual.message import Message
from textual.widgets import Input, Static

from axiarch import workflows
from axiarch.data.dataset import Dataset
from axiarch.errors import InputError, NotationError, RecipeError
from axiarch.insight.recipe_warnings import check_recipe
from axiarch.recipes.fields import FIELDS
from axiarch.recipes.network import place_of
from axiarch.recipes.recipe import Recipe, short
from axiarch.recipes.searchfile import SearchFile
from axiarch.text import count, memory, number, shown
from axiarch.tui.messages import DraftEdited, ErrorRaised
from axiarch.tui.plots.chart import Chart, Series, draw_chart
from axiarch.tui.plots.network import draw_network
from axiarch.tui.plots.runs import Row, Rows, fit, wrap
from axiarch.tui.plots.scale import Scale, span_of
from axiarch.tui.views import sheet_rows
from axiarch.tui.views.sheet_rows import Line
from axiarch.tui.views.view import View
from axiarch.tui.widgets.drawing import Drawing, Listing
from axiarch.workflows.drafting import network_shape, rates_at, run_bytes
from axiarch.workflows.foreseeing import Foresight
from axiarch.workflows.verdicts import draft_verdict


def _size(shape: tuple[int, ...], name: str) -> str:
    """Return the name of a layer, with the shape of what goes out where that is pictures."""
    return name if len(shape) == 1 else f"{name}, {shape[0]}×{shape[1]}×{shape[2]} ="


class Values(Listing):
    """One line a value: its group, name, base value, and range."""

    lines: list[Line] = []  # replaced, never changed

    def draw_line(self, index: int, width: int) -> Row:
        """Return a value's line."""
        line = self.lines[index]
        first = index == 0 or self.lines[index - 1].group != line.group
        ink = "ink" if line.applies else "faint"
        tight = width < 90
        base = line.base if line.applies else f"{line.base} (idle)"
        head: Row = [(" " + fit(line.group if first else "", 15 if tight else 16), "faint"),
                     (fit(line.label, 22 if width >= 70 else 16) + " ", ink)]
        if not line.varies:
            return [*head, (shown(base), ink)]
        return [
            *head, (fit(base, 12 if tight else 20), "faint"), (" ◂▸ ", "lead"),
            (shown(line.varies), "lead")
        ]


class Plan(Drawing):
    """The network of the base recipe, and its learning rate over the whole training."""

    search: SearchFile | None = None
    dataset: Dataset | None = None
    line: Line | None = None
    kept: Recipe | None = None
    foresight: Foresight | None = None

    def draw(self, width: int, height: int) -> Rows:
        """Return the drawings, the value under the cursor explained on top."""
        if self.search is None or self.dataset is None:
            return []
        base = self.search.space.base
        rows: Rows = []
        if self.line is not None:
            rows = [[(self.line.label, "lead*")], *wrap(self.line.summary, width, "faint"),
                    *wrap(sheet_rows.terms(self.line), width, "faint"), []]
        try:
            shape = network_shape(base, self.dataset)
        except RecipeError as error:
            return [*rows, *wrap(f"This network cannot be built: {error}", width, "warn")]
        rows += [[("base network ", "ink*"), (count(shape.trained, "parameter"), "faint")]]
        sizes = [math.prod(shape.inputs), *(math.prod(p.after) for p in shape.placed)]
        names = [
            _size(shape.inputs,
                  "inputs"), *(_size(p.after, p.layer.name) for p in shape.placed[:-1]),
            "classes" if self.dataset.classes else "amounts"
        ]
        rows += draw_network(sizes, names, width, max(min(2 * len(sizes) - 1, height // 2), 5))
        if self.foresight is not None:
            rows += wrap(str(self.foresight.of(base)), width, "second")
        rows += wrap(f"{number(shape.work / 1e6, 3)} million multiplications and additions a step; "
                     f"at most {memory(run_bytes(base, self.dataset))} a run", width, "faint")
        warnings = check_recipe(base, self.dataset.rows)
        for each in warnings[:3]:
            rows += [[], *wrap(f"! {each}", width, "warn")]
        if any(each.changes for each in warnings):
            rows += wrap("! applies a remedy", width, "warn")
        left = height - len(rows) - 2
        if left >= 7:
            rows += [[], *self._schedule(base, width, min(left, 12))]
        return rows

    def _schedule(self, base: Recipe, width: int, height: int) -> Rows:
        assert self.dataset is not None
        per_epoch = -(-self.dataset.rows["train"] // base.whole("batch_size"))
        epochs = base.whole("epochs")
        steps = np.linspace(0, epochs * per_epoch - 1, 200).astype(np.int64)
        others = self._other_schedules(base)
        curves = [
            np.array(rates_at(each, steps.tolist(), per_epoch)) for _, each in [("", base), *others]
        ]
        values = np.concatenate(curves)
        scale = span_of(values, margin=0.3) if np.ptp(values) == 0 else span_of(values, 0.0)
        series = [
            Series(steps / per_epoch, curve, role, 3 if i == 0 else 1) for i, (
                curve,
                role) in enumerate(zip(curves, ("train", "second", "warn", "glow"), strict=False))
        ]
        names: Row = [
            (f" ━ {base.word('schedule')}", "train"),
            *((f"   ━ {name}", role)
              for (name, _), role in zip(others, ("second", "warn", "glow"), strict=False))
        ]
        chart = Chart(series, Scale(0, epochs), scale, "epoch", "learning rate")
        return [
            *draw_chart(chart, width, height - (1 if others else 0)), *([names] if others else [])
        ]

    def _other_schedules(self, base: Recipe) -> list[tuple[str, Recipe]]:
        """Return the other schedules that the space allows, and that of the version kept last,
        to be drawn thinner.
        """
        assert self.search is not None
        varied = self.search.space.varied("schedule")
        found = [(str(v), base.changed({"schedule": v}))
                 for v in (varied.range.grid(3) if varied else ())
                 if v != base["schedule"]]
        if self.kept is not None and rates_differ(self.kept, base):
            found.append((f"as kept: {self.kept['schedule']} {short(self.kept['learning_rate'])}",
                          self.kept))
        return found[:3]


def rates_differ(one: Recipe, other: Recipe) -> bool:
    """Say whether two recipes differ in anything that moves the learning rate."""
    names = [name for name, field in FIELDS.items() if field.group == "schedule"]
    return any(one[name] != other[name] for name in ("learning_rate", "epochs", *names))


class Editor(Vertical):
    """One line to type a value or range, with what it means or what is wrong below."""

    DEFAULT_CSS = """
    Editor { height: 5; dock: bottom; display: none; padding: 0 1; border-top: solid $rule; }
    Editor Input, Editor Input:focus { border: none; height: 1; padding: 0; background: $select; }
    Editor Static { height: 1; }
    Editor .wrong { color: $warning; }
    """

    BINDINGS = [("escape", "close", "close"), ("up", "step(1)", "next"),
                ("down", "step(-1)", "previous")]

    class Taken(Message):
        """A text was taken for a line."""

        def __init__(self, search: SearchFile) -> None:
            super().__init__()
            self.search = search

    class Closed(Message):
        """The editor was left."""

    class Tried(Message):
        """What is typed so far would make this search."""

        def __init__(self, search: SearchFile) -> None:
            super().__init__()
            self.search = search

    line: Line | None = None
    search: SearchFile | None = None
    dataset: Dataset | None = None

    def compose(self) -> ComposeResult:
        """Lay out name, line and hint."""
        yield Static(id="what")
        yield Input(select_on_focus=True)
        yield Static(id="caret")
        yield Static(id="hint")

    def edit(self, search: SearchFile, line: Line) -> None:
        """Open for a line of the sheet."""
        self.search, self.line = search, line
        self.query_one("#what", Static).update(Content(
            f"{line.label}, now {shown(line.text, 60)}: {line.summary}"))
        self.display = True
        field = self.query_one(Input)
        field.value = line.text
        # At once: keys that follow are for it, and replace its text.
        self.screen.set_focus(field)
        field.select_all()
        self._judge(line.text)

    def _judge(self, text: str) -> SearchFile | None:
        """Say what the text means, or mark what is wrong; return the search with it."""
        assert self.search is not None and self.line is not None
        caret, hint = self.query_one("#caret", Static), self.query_one("#hint", Static)
        try:
            found = sheet_rows.edited(self.search, self.line, text)
            self._fits(found, text)
            caret.update("")
            hint.update(
                Content(
                    f"{sheet_rows.meaning(self.line, text)}   Enter accepts, ↑ ↓ step, Esc cancels")
            )
            hint.remove_class("wrong")
            return found
        except InputError as error:
            position = error.position if isinstance(error, NotationError) else 0
            caret.update(Content(" " * position + "▲"))
            caret.add_class("wrong")
            hint.update(Content(f"{shown(error.what)}; {shown(error.remedy)}"))
            hint.add_class("wrong")
            return None

    def _fits(self, found: SearchFile, text: str) -> None:
        """See whether the network that is typed can be built on the data.

        Raises
        ------
        NotationError
            At the layer that cannot be.
        """
        base = found.space.base
        line = self.line
        if line is None or self.dataset is None or line.key != "network" or line.varies:
            return
        try:
            network_shape(base, self.dataset)
        except RecipeError as error:
            at = place_of(text, error.layer, base.whole("depth"))
            raise NotationError(text, at, error.what, error.remedy) from None

    def on_input_changed(self, event: Input.Changed) -> None:
        """Judge while it is typed."""
        event.stop()
        if self.display:
            found = self._judge(event.value)
            if found is not None:
                self.post_message(self.Tried(found))

    def on_input_submitted(self, event: Input.Submitted) -> None:
        """Take what was typed, if it is right."""
        event.stop()
        found = self._judge(event.value)
        if found is not None:
            self.display = False
            if found.cluster and self.line is not None and self.line.key == "cluster":
                workflows.trust_cluster(found.cluster)
            self.post_message(self.Taken(found))

    def action_step(self, by: int) -> None:
        """Step to the next sensible value."""
        if self.line is not None:
            field = self.query_one(Input)
            stepped = sheet_rows.stepped(self.line, field.value, by)
            if stepped:
                field.value = stepped
                field.select_all()

    def action_close(self) -> None:
        """Leave everything as it was."""
        self.display = False
        self.post_message(self.Closed())


class SheetView(View):
    """The second view."""

    DEFAULT_CSS = """
    SheetView Horizontal { height: 1fr; }
    SheetView Values { width: 3fr; height: 1fr; scrollbar-size-vertical: 1; }
    SheetView Plan { width: 2fr; margin: 0 1 0 2; }
    SheetView.narrow Plan { display: none; }
    """

    def __init__(self, id: str) -> None:
        super().__init__(id=id)
        self._undone: list[SearchFile] = []
        self._before: list[SearchFile] = []

    def compose(self) -> ComposeResult:
        """Lay out the values, the plan beside them, the editor below."""
        with Horizontal():
            yield Values()
            yield Plan()
        yield Editor()

    def show(self) -> None:
        """Show the draft."""
        values, plan = self.query_one(Values), self.query_one(Plan)
        self.set_class(self.size.width < 110, "narrow")
        draft = self.state.draft
        key = values.lines[values.cursor].key if values.lines else ""
        data = self.state.dataset
        values.lines = sheet_rows.shown_lines(
            draft, data is not None and data.encoding.picture is not None, data is not None
            and not data.classes) if draft else []
        values.count = len(values.lines)
        values.cursor = next((i for i, line in enumerate(values.lines) if line.key == key),
                             values.cursor)
        values.redraw()
        plan.search, plan.dataset = draft, self.state.dataset
        plan.foresight = self.state.foresight
        plan.kept = self.state.versions[-1].recipe if self.state.versions else None
        plan.line = self._line()
        plan.redraw()

    def on_resize(self) -> None:
        """Hide the drawings where there is no room for them."""
        self.set_class(self.size.width < 110, "narrow")

    def _line(self) -> Line | None:
        values = self.query_one(Values)
        return values.lines[values.cursor] if values.lines else None

    def focus_main(self) -> None:
        """Give the keyboard to the values, or to the editor if it is open."""
        editor = self.query_one(Editor)
        (self.query_one(Input) if editor.display else self.query_one(Values)).focus()

    def verdict(self) -> str:
        """Say how many runs that makes and what they take."""
        if self.state.draft is None or self.state.dataset is None:
            return ("There is no data yet, so there is nothing to put a recipe together for. Go "
                    "back to data with 1.")
        return draft_verdict(self.state.draft, self.state.dataset, self.state.forecast,
                             self.state.forecast_error)

    # -- editing ---------------------------------------------------------------------------------

    def on_listing_moved(self, event: Listing.Moved) -> None:
        """Explain the value under the cursor."""
        plan = self.query_one(Plan)
        plan.line = self._line()
        plan.redraw()

    def on_listing_chosen(self, event: Listing.Chosen) -> None:
        """Edit the value that was clicked twice."""
        self.edit()

    def edit(self) -> None:
        """Open the editor for the value under the cursor."""
        line = self._line()
        if line is not None and self.state.draft is not None:
            editor = self.query_one(Editor)
            editor.dataset = self.state.dataset
            editor.edit(self.state.draft, line)

    def vary(self) -> None:
        """Vary the value under the cursor over its usual range, or fix it."""
        line = self._line()
        if line is None or self.state.draft is None:
            return
        try:
            self._change(sheet_rows.toggled(self.state.draft, line))
        except InputError as error:
            self.post_message(ErrorRaised(error))

    def undo(self) -> None:
        """Take back the last edit."""
        if self._before and self.state.draft:
            self._undone.append(self.state.draft)
            self.post_message(DraftEdited(self._before.pop()))

    def redo(self) -> None:
        """Make the edit again that was taken back."""
        if self._undone and self.state.draft:
            self._before.append(self.state.draft)
            self.post_message(DraftEdited(self._undone.pop()))

    def put(self, draft: SearchFile) -> None:
        """Make another search the draft; it can be undone."""
        self._change(draft)

    def rebase(self, recipe: Recipe) -> None:
        """Make a recipe the base."""
        if self.state.draft is not None:
            from dataclasses import replace

            self._change(self.state.draft.with_space(replace(self.state.draft.space, base=recipe)))

    def _change(self, draft: SearchFile) -> None:
        if self.state.draft is not None and draft != self.state.draft:
            self._before.append(self.state.draft)
            self._undone.clear()
            self.post_message(DraftEdited(draft))

    def on_editor_taken(self, event: Editor.Taken) -> None:
        """Keep what was typed."""
        self._change(event.search)
        self.screen.set_focus(self.query_one(Values))

    def on_editor_tried(self, event: Editor.Tried) -> None:
        """Draw network and schedule as they would be."""
        plan = self.query_one(Plan)
        plan.search = event.search
        plan.redraw()

    def on_editor_closed(self, event: Editor.Closed) -> None:
        """Go back to the values, all as it was."""
        self.show()
        self.screen.set_focus(self.query_one(Values))
