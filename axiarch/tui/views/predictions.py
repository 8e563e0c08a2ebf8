"""Predictions: what one recipe predicts on rows that it was not trained on, and where it is
wrong.
"""

from __future__ import annotations

from typing import Any

from textual.app import ComposeResult

from axiarch import workflows
from axiarch.text import count, loss, number, share
from axiarch.tui.messages import PredictionsWanted
from axiarch.tui.plots import inputs, predicted
from axiarch.tui.plots.inputs import Draw
from axiarch.tui.plots.runs import Row, Rows, beside, cut, wrap
from axiarch.tui.views.view import View
from axiarch.tui.widgets.drawing import Drawing

#: The rows that can be looked at; test rows are shown as they were scored when the seal was opened.
PARTS = ("validation", "train", "test")
_PART_NAMES = {"validation": "validation", "train": "training", "test": "test"}
#: Cells from which two drawings stand side by side, and one above the other.
_WIDE, _TALL = 100, 28


class Pages(Drawing):
    """The drawings, a page at a time; in a wide window several on one page."""

    DEFAULT_CSS = "Pages { height: 1fr; padding: 0 1; }"

    found: dict[str, Any] | None = None
    names: tuple[str, ...] = ()
    classes_predicted = True
    part = "validation"
    waiting = ""
    page = 0
    reading = 0

    def draw(self, width: int, height: int) -> Rows:
        """Return the page in front, and above it what pages there are."""
        if self.found is None:
            return [[]] * (height // 3) + wrap(self.waiting, max(width - 4, 10), "faint")
        pages = self._pages(self.found, width, height - 1)
        place = self.page % len(pages)
        trail: Row = []
        for name in dict.fromkeys(name for name, _ in pages):
            trail += [("  ", "ink"), (name, "lead*" if name == pages[place][0] else "faint")]
        trail.append((f"   {place + 1} of {len(pages)}; space turns the page", "faint"))
        return [cut(trail, width), *pages[place][1](width, height - 1)]

    def _pages(self, found: dict[str, Any], width: int, height: int) -> list[tuple[str, Draw]]:
        """Return name and drawing of every page."""
        wide = width >= _WIDE - 2 and height >= _TALL - 1
        pages = self._of_classes(found, wide) if self.classes_predicted else self._of_amounts(
            found, wide)
        if "responses" in found and found["responses"]["columns"]:
            pages += self._by_inputs(found, width, height)
        if "worst" in found and found["worst"]["compared"]:
            pages.append(("where it is worse",
                          lambda w, h: inputs.worst(found, self.classes_predicted, w, h)))
        return pages

    def _by_inputs(self, found: dict[str, Any], width: int, height: int) -> list[tuple[str, Draw]]:
        target = 0 if self.classes_predicted else self.reading % len(self.names)
        room = inputs.fitting(width, height - 4)

        def dependence(page: int) -> Draw:
            return lambda w, h: inputs.dependence(found, self.names, self.classes_predicted, target,
                                                  w, h, page)

        def residuals(page: int) -> Draw:
            return lambda w, h: inputs.by_input(found, self.names[0], w, h, page)

        pages = [("by input", dependence(i))
                 for i in range(-(-len(found["responses"]["columns"]) // room))]
        more = -(-len(found.get("residuals", ())) // room)
        return pages + [("residuals by input", residuals(i)) for i in range(more)]

    def _of_classes(self, found: dict[str, Any], wide: bool) -> list[tuple[str, Draw]]:
        part = _PART_NAMES[self.part]

        def confusion(width: int, height: int) -> Rows:
            return predicted.confusion(found, self.names, self.reading, width, height)

        def by_class(width: int, height: int) -> Rows:
            return predicted.by_class(found, self.names, width, height)

        def mistakes(width: int, height: int) -> Rows:
            return predicted.mistakes(found, self.names, part, width, height)

        def curve(width: int, height: int) -> Rows:
            return self._curve(found, width, height)

        def overview(width: int, height: int) -> Rows:
            left = width * 4 // 10
            top = min(max(3 * len(self.names) + 3, 10), height // 2)
            upper = beside(confusion(left, top), by_class(width - left - 3, top), left, 3)
            upper += [[]] * (top - len(upper) + 1)
            rest = height - len(upper)
            return [*upper, *beside(curve(left, rest), mistakes(width - left - 3, rest), left, 3)]

        if wide:
            return [("overview", overview)]
        return [("confusion", confusion), ("by class", by_class), ("mistakes", mistakes),
                ("how sure", curve)]

    def _curve(self, found: dict[str, Any], width: int, height: int) -> Rows:
        """Return calibration, or by the key for readings, of two classes, the ROC curve or
        precision and recall.
        """
        if "roc" in found and self.reading == 1:
            return predicted.roc(found, width, height)
        if "roc" in found and self.reading == 2:
            return predicted.precision_recall(found, self.names[1], width, height)
        return predicted.calibration(found, width, height)

    def _of_amounts(self, found: dict[str, Any], wide: bool) -> list[tuple[str, Draw]]:
        target = self.reading % len(self.names)
        pairs, name = found["points"][target], self.names[target]
        part = _PART_NAMES[self.part]

        def errors(width: int) -> Rows:
            words = workflows.tail_words(found, self.names)
            return [*predicted.errors(found, self.names, width),
                    *(row for each in words for row in wrap(each, width, "warn"))]

        def metrics(width: int, height: int) -> Rows:
            above = [*errors(width), []]
            return [*above, *predicted.scatter(pairs, name, width, height - len(above))]

        def in_order(width: int, height: int) -> Rows:
            return predicted.in_order(pairs, name, width, height)

        def residuals(width: int, height: int) -> Rows:
            return predicted.residuals(pairs, name, width, height)

        def furthest(width: int, height: int) -> Rows:
            return predicted.furthest(found, self.names, part, width, height)

        def overview(width: int, height: int) -> Rows:
            left = width // 2 - 1
            above = errors(width)
            tall = (height - len(above) - 1) // 2
            upper = beside(predicted.scatter(pairs, name, left, tall), in_order(left, tall), left,
                           2)
            lower = beside(residuals(left, tall), furthest(left, tall), left, 2)
            return [*above, [], *upper, *lower]

        if wide:
            return [("overview", overview)]
        return [("errors", metrics), ("in order", in_order), ("residuals", residuals),
                ("worst rows", furthest)]


class PredictionsView(View):
    """The sixth view."""

    part = "validation"

    def compose(self) -> ComposeResult:
        """Lay out the drawings."""
        yield Pages()

    def _key(self) -> tuple[int, int, str] | None:
        s = self.state.snapshot
        return (s.search.number, self.state.open_recipe,
                self.part) if s and self.state.open_recipe else None

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
                pages.waiting = (f"Predicting the {_PART_NAMES[self.part]} rows with every run of "
                                 f"recipe {key[1]}.")
                self.post_message(PredictionsWanted(*key))
            elif isinstance(known, str):
                pages.waiting = known
            else:
                pages.found = known
        pages.redraw()

    def turn_part(self) -> None:
        """Go to the next part: validation, training, test."""
        self.show_part(PARTS[(PARTS.index(self.part) + 1) % len(PARTS)])

    def show_part(self, part: str) -> None:
        """Show the predictions on the rows of a part."""
        self.part = part
        self.show()

    def turn_page(self) -> None:
        """Go to the next drawing where not all fit."""
        pages = self.query_one(Pages)
        pages.page += 1
        pages.redraw()

    def turn_reading(self) -> None:
        """Read the confusion matrix another way, or draw the next amount."""
        pages = self.query_one(Pages)
        pages.reading = (pages.reading +
                         1) % (3 if pages.classes_predicted else max(len(pages.names), 1))
        pages.redraw()

    def verdict(self) -> str:
        """Say how good the predictions are, over what, and how surely; the three parts side by
        side.
        """
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
            what = (
                f"accuracy {share(value)} [{share(low)} to {share(high)}], balanced "
                f"{share(found['balanced_accuracy'][0])}, log loss {loss(found['log_loss'][0])}")
        else:
            value, low, high = found["rmse"][0]
            what = (
                f"RMSE {number(value)} [{number(low)} to {number(high)}] "
                f"{s.dataset.target.columns[0]}, R² {found['r2'][0][0]:.3f}")
        part = s.dataset.validation_name if self.part == "validation" else _PART_NAMES[self.part]
        return f"Recipe {key[1]} on the {part} rows: {what} (95 %, {over}). {self._others()}"

    def _others(self) -> str:
        """Return the other parts that are known, in a few words, and what to do next."""
        s, words = self.state.snapshot, []
        assert s is not None
        for part in PARTS:
            known = self.state.predictions.get((s.search.number, self.state.open_recipe, part))
            if part != self.part and known is not None and not isinstance(known, str):
                value = (share(known["accuracy"][0])
                         if s.dataset.classes else number(known["rmse"][0][0]))
                words.append(f"{_PART_NAMES[part]} {value}")
        beside_ = f"{', '.join(words).capitalize()}. " if words else ""
        return f"{beside_}b shows other rows, K keeps the model."
