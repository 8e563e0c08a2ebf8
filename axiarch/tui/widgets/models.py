"""The models that are kept: a list, and beside it what each is and how it differs from the one
marked.
"""

from __future__ import annotations

import time
from collections.abc import Sequence

from textual.app import ComposeResult
from textual.containers import Horizontal, Vertical
from textual.screen import ModalScreen
from textual.widgets import Static

from axiarch.text import count, loss, measured, memory, number, shown
from axiarch.tui.plots.runs import Row, Rows, cut, fit, fit_name, wrap
from axiarch.tui.widgets.drawing import Drawing, Listing
from axiarch.workflows.comparing import differences
from axiarch.workflows.models import KeptModel

#: What can be done with a model: key, word, and what is shown.
DEEDS = (("p", "predict", "predict a file"), ("v", "verify", "verify"),
         ("c", "continue", "train on from it"), ("x", "network", "export as ONNX"), ("d", "remove",
                                                                                     "remove"))


class _Kept(Listing):
    """One line a model, the newest first."""

    models: Sequence[KeptModel] = ()
    marked = -1

    def draw_line(self, index: int, width: int) -> Row:
        """Return a model's line."""
        model = self.models[index]
        mark = ("▸", "glow") if index == self.marked else (" ", "ink")
        if model.problem:
            return [mark, (fit(f" {model.name}: cannot be used", width - 1), "warn")]
        score = f"{loss(model.loss):>9}"
        return [mark, (" " + fit_name(model.name, max(width - 27, 4)), "ink"), (score, "lead"),
                (f"  {time.strftime('%d %b %H:%M', time.localtime(model.at))} ", "faint")]


class _Beside(Drawing):
    """What a model is, beside the one that is marked."""

    models: Sequence[KeptModel] = ()
    index = 0
    marked = -1

    def draw(self, width: int, height: int) -> Rows:
        """Return the facts of the model, those of the marked one, and how their recipes differ."""
        model = self.models[self.index]
        if model.problem:
            return wrap(model.problem, width, "warn")
        other = self.models[self.marked] if 0 <= self.marked != self.index else None
        other = None if other is not None and other.problem else other
        cell = max((width - 22) // (2 if other else 1), 8)
        rows: Rows = wrap(model.note or "no note", width, "ink")
        if other is not None:
            rows += [[], [(fit("", 22), "faint"), (_cell(model.name, cell), "lead*"),
                          (_cell(other.name, cell), "second*")]]
        else:
            rows.append([])
        second = _facts(other) if other is not None else {}
        for name, value in _facts(model).items():
            rows.append([(fit(name, 22), "faint"), (_cell(value, cell), "ink"),
                         *([(_cell(second[name], cell), "second")] if other is not None else [])])
        if other is not None:
            rows += [[], *self._recipes(model, other, cell, width)]
        return [cut(row, width) for row in rows[:height]]

    def _recipes(self, model: KeptModel, other: KeptModel, cell: int, width: int) -> Rows:
        """Return the values in which the recipes differ, and whether the losses can be compared."""
        found = differences(model.recipes[0], other.recipes[0])
        rows: Rows = [[(fit(each.label, 22), "faint"), (_cell(each.first or "–", cell), "lead"),
                        (_cell(each.second or "–", cell), "second")] for each in found]
        if not found:
            rows = [[("the same recipe", "ink")]]
        if model.data != other.data or model.all_open != other.all_open or model.fold != other.fold:
            rows += [
                [], *wrap("Their losses cannot be compared: they are of other rows.", width, "warn")
            ]
        return rows


def _cell(text: str, width: int) -> str:
    """Return a text in `width` cells, the last two empty."""
    return fit_name(text, width - 2) + "  "


def _facts(model: KeptModel) -> dict[str, str]:
    """Return what is known of a model, by name."""
    origin = f"recipe {model.recipe} of search {model.search}"
    if model.source:
        origin = f"read from {model.source}"
    networks = f"seed {model.seed}, epoch {model.epoch}"
    if model.networks > 1:
        networks = f"mean of {model.networks} networks"
    on = f", fold {model.fold}" if model.fold > 1 else ""
    if model.all_open:
        on = ", rows it was trained on"
    return {
        "comes from": origin, "": networks, "data": model.data,
        "validation": f"{model.loss_name} {loss(model.loss)}{on}", model.metric: measured(
            model.metric, model.metric_value), "parameters": number(model.parameters),
        "file": f"{memory(model.bytes)}, {model.path.name}"
    }


class Models(ModalScreen[tuple[str, str]]):
    """Looks through models; a key says what is done with the one under the cursor."""

    DEFAULT_CSS = """
    Models { align: center middle; background: $background 60%; }
    Models > Vertical { width: 96%; max-width: 150; height: 80%; padding: 1 2; border: round $rule;
        background: $background; }
    Models Static { height: auto; }
    Models Horizontal { height: 1fr; margin: 1 0; }
    Models _Kept { width: 2fr; height: 1fr; }
    Models _Beside { width: 3fr; height: 1fr; margin-left: 2; }
    """
    BINDINGS = [("escape", "dismiss(('', ''))", "close"), ("m", "mark", "mark"),
                *((key, f"do('{word}')", text) for key, word, text in DEEDS)]

    def __init__(self, models: Sequence[KeptModel], folder: str) -> None:
        super().__init__()
        self._models, self._folder = tuple(models), folder

    def compose(self) -> ComposeResult:
        """Lay out list and comparison."""
        with Vertical():
            if not self._models:
                yield Static(
                    "No model has been kept yet. On the ladder, the strips or the predictions, K "
                    "keeps the network of a recipe.\n\nesc goes back")
                return
            size = memory(sum(model.bytes for model in self._models))
            yield Static(
                f"{count(len(self._models), 'model')}, {size} in {shown(self._folder)}: "
                "validation loss, date",
                markup=False)
            with Horizontal():
                kept, beside = _Kept(), _Beside()
                kept.models = beside.models = self._models
                kept.count = len(self._models)
                yield kept
                yield beside
            keys = "    ".join(f"{key} {text}" for key, _, text in DEEDS)
            yield Static(f"{keys}    m mark to compare    esc closes", markup=False)

    def on_mount(self) -> None:
        """Give the keyboard to the list."""
        for each in self.query(_Kept):
            each.focus()

    def on_listing_moved(self, event: Listing.Moved) -> None:
        """Show the model under the cursor."""
        beside = self.query_one(_Beside)
        beside.index = self.query_one(_Kept).cursor
        beside.redraw()

    def action_mark(self) -> None:
        """Mark the model under the cursor, or no longer."""
        if not self._models:
            return
        kept, beside = self.query_one(_Kept), self.query_one(_Beside)
        kept.marked = beside.marked = -1 if kept.marked == kept.cursor else kept.cursor
        kept.redraw()
        beside.redraw()

    def action_do(self, word: str) -> None:
        """Close, and say what is to be done with the model under the cursor."""
        if self._models:
            self.dismiss((word, self._models[self.query_one(_Kept).cursor].path.stem))
