"""Predictions: what one recipe predicts on rows that it was not trained on, and where it is wrong."""

from __future__ import annotations

from typing import Any

from textual.app import ComposeResult

from axiarch.plain import count, loss, number, share
from axiarch.tui.messages import PredictionsWanted
from axiarch.tui.plots import predicted
from axiarch.tui.plots.runs import Rows, beside, wrap
from axiarch.tui.views.view import View
from axiarch.tui.widgets.drawing import Drawing

#: The rows that can be looked at; test rows are shown as they were scored when the seal was opened.
PARTS = ("validation", "train", "test")
_PART_NAMES = {"validation": "validation", "train": "training", "test": "test"}
#: Cells from which two drawings stand side by side, and one above the other.
_WIDE, _TALL = 100, 28


class Pages(Drawing):
    """The drawings: all at once where they fit, else in turn."""

    DEFAULT_CSS = "Pages { height: 1fr; padding: 0 1; }"

    found: dict[str, Any] | None = None
    names: tuple[str, ...] = ()
    classes_predicted = True
    part = "validation"
    waiting = ""
    page = 0
    reading = 0

    def draw(self, width: int, height: int) -> Rows:
        """Return the drawings."""
        if self.found is None:
            return [[]] * (height // 3) + wrap(self.waiting, max(width - 4, 10), "faint")
        drawn = self._of_classes if self.classes_predicted else self._of_amounts
        return drawn(self.found, width, height)

    @property
    def pages(self) -> int:
        """How many pages there are: one where everything fits."""
        return 1 if self.size.width >= _WIDE and self.size.height >= _TALL else 4

    def _of_classes(self, found: dict[str, Any], width: int, height: int) -> Rows:
        part = _PART_NAMES[self.part]
        if self.pages == 1:
            left = width * 4 // 10
            top = min(max(3 * len(self.names) + 3, 10), height // 2)
            upper = beside(predicted.confusion(found, self.names, self.reading, left, top),
                           predicted.by_class(found, self.names, width - left - 3, top), left, 3)
            upper += [[]] * (top - len(upper) + 1)
            rest = height - len(upper)
            listed = predicted.mistakes(found, self.names, part, width - left - 3, rest)
            return [*upper, *beside(self._curve(found, left, rest), listed, left, 3)]
        pages = (lambda: predicted.confusion(found, self.names, self.reading, width, height),
                 lambda: predicted.by_class(found, self.names, width, height),
                 lambda: predicted.mistakes(found, self.names, part, width, height),
                 lambda: self._curve(found, width, height))
        return pages[self.page % 4]()

    def _curve(self, found: dict[str, Any], width: int, height: int) -> Rows:
        """Return calibration, or by the key for readings, of two classes, the ROC curve or precision and recall."""
        if "roc" in found and self.reading == 1:
            return predicted.roc(found, width, height)
        if "roc" in found and self.reading == 2:
            return predicted.precision_recall(found, self.names[1], width, height)
        return predicted.calibration(found, width, height)

    def _of_amounts(self, found: dict[str, Any], width: int, height: int) -> Rows:
        target = self.reading % len(self.names)
        pairs, name = found["points"][target], self.names[target]
        part = _PART_NAMES[self.part]
        if self.pages == 1:
            left = width // 2 - 1
            metrics = predicted.errors(found, self.names, width)
            tall = (height - len(metrics) - 1) // 2
            upper = beside(predicted.scatter(pairs, name, left, tall), predicted.in_order(pairs, name, left, tall),
                           left, 2)
            lower = beside(predicted.residuals(pairs, name, left, tall),
                           predicted.furthest(found, self.names, part, left, tall), left, 2)
            return [*metrics, [], *upper, *lower]
        pages = (lambda: [*predicted.errors(found, self.names, width), [],
                          *predicted.scatter(pairs, name, width, height - 4 * len(self.names) - 1)],
                 lambda: predicted.in_order(pairs, name, width, height),
                 lambda: predicted.residuals(pairs, name, width, height),
                 lambda: predicted.furthest(found, self.names, part, width, height))
        return pages[self.page % 4]()


class PredictionsView(View):
    """The sixth view."""

    part = "validation"

    def compose(self) -> ComposeResult:
        """Lay out the drawings."""
        yield Pages()

    def _key(self) -> tuple[int, int, str] | None:
        s = self.state.snapshot
        return (s.search.number, self.state.open_recipe, self.part) if s and self.state.open_recipe else None

    def show(self) -> None:
        """Show the open recipe; ask for its predictions where they are not there."""
        pages, s, key = self.query_one(Pages), self.state.snapshot, self._key()
        pages.part = self.part
        pages.found, pages.waiting = None, self.state.no_search if s is None else ""
        if s is not None and key is not None:
            target = s.dataset.target
            pages.names = target.classes or target.columns
            pages.classes_predicted = bool(target.classes)
            known = self.state.predictions.get(key)
            if known is None:
                pages.waiting = f"Predicting the {_PART_NAMES[self.part]} rows with every run of recipe {key[1]}."
                self.post_message(PredictionsWanted(*key))
            elif isinstance(known, str):
                pages.waiting = known
            else:
                pages.found = known
        pages.redraw()

    def turn_part(self) -> None:
        """Go to the next part: validation, training, test."""
        self.part = PARTS[(PARTS.index(self.part) + 1) % len(PARTS)]
        self.show()

    def turn_page(self) -> None:
        """Go to the next drawing where not all fit."""
        pages = self.query_one(Pages)
        pages.page += 1
        pages.redraw()

    def turn_reading(self) -> None:
        """Read the confusion matrix another way, or draw the next amount."""
        pages = self.query_one(Pages)
        pages.reading = (pages.reading + 1) % (3 if pages.classes_predicted else max(len(pages.names), 1))
        pages.redraw()

    def verdict(self) -> str:
        """Say how good the predictions are, over what, and how surely; the three parts side by side."""
        s, key = self.state.snapshot, self._key()
        if s is None:
            return self.state.no_search
        if key is None:
            return "No recipe has been trained yet."
        found = self.state.predictions.get(key)
        if found is None or isinstance(found, str):
            return f"Recipe {key[1]}: {found or 'predicting …'}"
        runs = count(found["runs"], "run")
        folds = f" on {found['folds']} folds" if found["folds"] > 1 else ""
        over = f"{count(found['rows'], _PART_NAMES[self.part] + ' row')}, mean of {runs}{folds}"
        if s.dataset.classes:
            value, low, high = found["accuracy"]
            what = (f"accuracy {share(value)} [{share(low)} to {share(high)}], balanced "
                    f"{share(found['balanced_accuracy'][0])}, log loss {loss(found['log_loss'][0])}")
        else:
            value, low, high = found["rmse"][0]
            what = (f"RMSE {number(value)} [{number(low)} to {number(high)}] {s.dataset.target.columns[0]}, "
                    f"R² {found['r2'][0][0]:.3f}")
        part = s.dataset.validation_name if self.part == "validation" else _PART_NAMES[self.part]
        return f"Recipe {key[1]} on the {part} rows: {what} (95 %, {over}). {self._others()}"

    def _others(self) -> str:
        """Return the other parts that are known, in a few words, and what to do next."""
        s, words = self.state.snapshot, []
        assert s is not None
        for part in PARTS:
            known = self.state.predictions.get((s.search.number, self.state.open_recipe, part))
            if part != self.part and known is not None and not isinstance(known, str):
                value = (share(known["accuracy"][0]) if s.dataset.classes else number(known["rmse"][0][0]))
                words.append(f"{_PART_NAMES[part]} {value}")
        beside_ = f"{', '.join(words).capitalize()}. " if words else ""
        return f"{beside_}b shows other rows, K keeps the model."
