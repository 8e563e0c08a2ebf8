"""What stands in words beneath the strips of a recipe: how it differs from the base and why its
runs ended, what is wrong with it, and what a watched run says of some rows.
"""

from __future__ import annotations

from axiarch.insight.proposal import HARMLESS, Proposal
from axiarch.text import count, number, shown
from axiarch.tui.plots.runs import Row, Rows, cut, fit, wrap
from axiarch.tui.widgets.drawing import TallDrawing
from axiarch.workflows.snapshot import Snapshot
from axiarch.workflows.telling import ExamplePrediction, example_predictions
from axiarch.workflows.verdicts import patience_used


class Facts(TallDrawing):
    """The recipe in words: how it differs from the base, and why its runs ended."""

    DEFAULT_CSS = "Facts { height: auto; max-height: 7; margin: 0 0 1 0; }"

    snapshot: Snapshot | None = None
    recipe = 0

    def draw(self, width: int, height: int) -> Rows:
        """Return the lines."""
        s = self.snapshot
        if s is None or self.recipe not in s.recipes:
            return []
        recipe = s.recipes[self.recipe]
        text = recipe.apart(s.file.space.base)
        head = f"Differs from the base in: {text}." if text else "It is the base."
        rows: Rows = [[("  ", "ink"), *row] for row in wrap(
            f"{head} {number(recipe.parameters)} parameters.", width - 4)[:2]]
        for run in s.runs_of(self.recipe)[:3]:
            end = run.text or run.state
            curve, patience = s.curves.get(run.id), recipe.recipe.whole("patience")
            if run.state == "training" and curve is not None and patience:
                used = patience_used(curve.validation, recipe.recipe, s.dataset.target.units)
                end = f"in training; {used} of {count(patience, 'epoch')} of patience used"
            rows.append([(f"  {s.run_name(run)}  ", "faint"), (fit(end,
                                                                   width - 12).rstrip(), "ink")])
        return rows + _more_runs(len(s.runs_of(self.recipe)))


def _more_runs(runs: int) -> Rows:
    """Say that there are more runs than lines, and where they are."""
    return [[(f"  and {count(runs - 3, 'more run')}, drawn above; e exports every value",
              "faint")]] if runs > 3 else []


#: Cells from which a finding may take more than two lines.
_WIDE = 100


class Findings(TallDrawing):
    """What is wrong with the recipe, in plain sentences."""

    DEFAULT_CSS = "Findings { height: auto; max-height: 7; }"

    found: tuple[Proposal, ...] = ()

    def draw(self, width: int, height: int) -> Rows:
        """Return the lines; none where nothing is found."""
        rows: Rows = []
        most = 2 if width < _WIDE else 6 // max(min(len(self.found), 3), 1)
        for i, each in enumerate(self.found[:3], 1):
            title = f"{each.title[0].upper()}{each.title[1:]}."
            fault = each.name not in HARMLESS
            mark = (f"{i} " if fault or each.epoch else "· ", "warn" if fault else "faint")
            lines = wrap(f"{title} {each.evidence}", width - 6, "ink")
            if len(lines) > most:  # axiarch diagnose says all
                lines = [*lines[:most - 1], [*cut(lines[most - 1], width - 7), ("…", "faint")]]
            rows += [[("  ", "ink"), mark if j == 0 else ("  ", "ink"), *line]
                     for j, line in enumerate(lines)]
        if any(each.changes for each in self.found):
            rows.append([("    ! shows remedies", "warn")])
        return rows


class Telling(TallDrawing):
    """What a watched run says of some validation rows, beside the truth."""

    DEFAULT_CSS = "Telling { height: auto; max-height: 6; }"

    snapshot: Snapshot | None = None
    recipe = 0

    def draw(self, width: int, height: int) -> Rows:
        """Return the lines; none where no run of the recipe is watched."""
        s = self.snapshot
        if s is None:
            return []
        epoch, said = next((found for run in s.runs_of(self.recipe)
                            if (found := example_predictions(s, run.id))[1]), (0, ()))
        if not said:
            return []
        cell = (width - 2) // 2
        marks: Row = [(": ", "faint"), ("✓ true  ", "glow"), ("✗ ", "warn"),
                      ("predicted class", "faint")] if said[0].shares else []
        rows: Rows = [[(f"  after epoch {epoch}, of validation rows", "faint"), *marks]]
        for i in range(0, min(len(said), 8), 2):
            pair = [self._said(each, cell) for each in said[i : i + 2]]
            rows.append([(" ", "ink"), *(run for row in pair for run in row)])
        return rows

    def _said(self, each: ExamplePrediction, width: int) -> Row:
        if not each.finite:
            return [(f" row {each.row}".ljust(10), "faint"),
                    (fit("✗ no finite prediction", width - 10), "warn")]
        if not each.shares:
            text = f" row {each.row}: {number(float(each.truth))} predicted {number(each.amount)}"
            return [(fit(text, width), "ink")]
        name, share = each.shares[0]
        bar = "▇" * max(round(share * 10), 1)
        mark, role = ("✓", "glow") if each.right else ("✗", "warn")
        text = f" {share:.2f} {shown(name)}" + (""
                                                if each.right else f", truly {shown(each.truth)} "
                                                f"{dict(each.shares)[str(each.truth)]:.2f}")
        head = f" row {each.row}".ljust(10)
        return [(head, "faint"), (f"{mark} ", role), (bar.ljust(10), role),
                (fit(text, max(width - 22, 0)), "ink")]
