"""Data: what there is, column by column, and what any recipe must beat."""

from __future__ import annotations

from dataclasses import replace

from rich.cells import cell_len
from textual.app import ComposeResult
from textual.containers import Horizontal

from axiarch.data.checks import wrong_columns
from axiarch.data.columns import Column
from axiarch.data.dataset import Dataset
from axiarch.data.plan import DataPlan
from axiarch.plain import count, loss, number, share, shown
from axiarch.tui.plots.bars import histogram, named_bars, spark
from axiarch.tui.plots.runs import Row, Rows, fit, right, wrap
from axiarch.tui.views.view import View
from axiarch.tui.widgets.drawing import Drawing, Listing, TallDrawing

_ROLES = {"input": ("·", "ink"), "target": ("◆", "lead"), "ignored": ("×", "faint")}
#: Training rows that quick work keeps at the least.
QUICK = 200
#: Cells of the drawn distribution in the table.
_SPARK = 16


class Columns(Listing):
    """One line a column of the table."""

    dataset: Dataset | None = None

    def draw_line(self, index: int, width: int) -> Row:
        """Return a column's line."""
        assert self.dataset is not None
        c = self.dataset.columns[index]
        mark, role = _ROLES[c.role]
        ink = "faint" if c.role == "ignored" else role
        name = name_width(self.dataset, width)
        warned = c.name in wrong_columns(self.dataset.findings)
        row: Row = [(f" {mark} ", role), (fit(c.name, name), ink), ("!" if warned else " ", "warn*"),
                    (fit(c.role, 8), "faint"),
                    (right("" if not c.missing else share(c.missing / c.rows), 8), "warn"), ("  ", "ink")]
        return [*row, (fit(_small(c), _SPARK), "bar" if c.role != "ignored" else "ghost"), ("  ", "ink"),
                (_range(c), "faint")]


def _small(c: Column) -> str:
    return spark(c.bars) if c.role != "ignored" or c.kind in ("number", "date") else ""


def _range(c: Column) -> str:
    if c.kind == "number":
        return f"{number(c.low)} to {number(c.high)}"
    if c.kind == "date" and c.names:
        return f"{c.names[0][:10]} to {c.names[-1][:10]}"
    return count(c.distinct, "text")


def name_width(dataset: Dataset | None, width: int) -> int:
    """Return the cells that column names get: as many as the longest needs, if there is room."""
    longest = max((cell_len(shown(c.name)) for c in dataset.columns), default=16) if dataset else 16
    return max(min(longest, width - 64, 44), 16)


class Header(Drawing):
    """Names the parts of a column's line."""

    DEFAULT_CSS = "Header { height: 1; }"

    dataset: Dataset | None = None

    def draw(self, width: int, height: int) -> Rows:
        """Return the line."""
        name = name_width(self.dataset, width)
        return [[("   " + fit("column", name) + " " + fit("role", 8) + right("missing", 8) + "  "
                  + fit("values", _SPARK + 2) + "range", "faint")]]


class Findings(TallDrawing):
    """What is suspicious about the data, with evidence and remedy."""

    DEFAULT_CSS = "Findings { height: auto; max-height: 10; margin: 1 0 0 0; }"

    dataset: Dataset | None = None

    def draw(self, width: int, height: int) -> Rows:
        """Return each finding in a line or two."""
        rows: Rows = []
        for finding in self.dataset.findings if self.dataset else ():
            name = f"{finding.kind} in {shown(finding.column, 30)}" if finding.column else finding.kind
            lines = wrap(f"{finding.evidence}; {finding.remedy}.", max(width - 34, 30), "ink")
            for i, line in enumerate(lines):
                rows.append([(" ! " if i == 0 else "   ", "warn"), (fit(name if i == 0 else "", 29), "warn"),
                             ("  ", "ink"), *line])
        return rows


class Classes(TallDrawing):
    """How common each class is, and the floor that follows from it."""

    DEFAULT_CSS = "Classes { height: auto; max-height: 14; margin: 1 0; }"

    dataset: Dataset | None = None

    def draw(self, width: int, height: int) -> Rows:
        """Return a bar a class, commonest first."""
        d = self.dataset
        if d is None:
            return []
        order = sorted(range(len(d.classes)), key=lambda i: -d.class_counts[i])[:10]
        names, counts = [shown(d.classes[i]) for i in order], [d.class_counts[i] for i in order]
        more = f", the {len(order)} commonest of {len(d.classes)}" if len(d.classes) > len(order) else ""
        rows: Rows = [[(" ◆ ", "lead"), (fit(d.encoding.target, 30).rstrip(), "lead*"),
                       (f"  training and validation rows of each class{more}", "faint")]]
        return rows + [[("   ", "ink"), *row] for row in named_bars(names, counts, min(width - 4, 80), "lead")]


class Detail(Drawing):
    """The column under the cursor, drawn large, with examples."""

    dataset: Dataset | None = None
    index = 0

    def draw(self, width: int, height: int) -> Rows:
        """Return the drawing."""
        if self.dataset is None:
            return []
        c = self.dataset.columns[self.index]
        rows: Rows = [[(fit(c.name, width), "ink*")], *wrap(f"{c.role}: {c.reason}", width, "faint"), []]
        if c.kind == "number" and c.low is not None and c.high is not None:
            rows += histogram(c.bars, c.low, c.high, width, max(min(height // 3, 9), 3))
            rows += [[("median ", "faint"), (number(c.middle), "ink"), ("   gaps ", "faint"),
                      (share(c.missing / c.rows), "ink")]]
        elif c.kind == "date" and c.names:
            rows += histogram(c.bars, 0, 0, width, max(min(height // 3, 9), 3))[:-1]
            rows += [[(f"{c.names[0]} to {c.names[-1]}", "faint")]]
        elif c.role != "ignored":
            rows += named_bars([shown(n) for n in c.names], c.bars, width, "lead" if c.role == "target" else "bar")
        rows += [[], [("training rows, and their ", "faint"), (fit(self.dataset.encoding.target, 20).rstrip(), "lead")]]
        target = [col.role for col in self.dataset.columns].index("target")
        for example in self.dataset.examples:
            value = example[self.index] or "(gap)"
            rows.append([(right(value, width // 2 - 2), "ink"), ("  ", "ink"),
                         (fit(example[target], width // 2 - 2), "lead" if self.index != target else "faint")])
        return rows


class DataView(View):
    """The first view."""

    DEFAULT_CSS = """
    DataView Horizontal { height: 1fr; }
    DataView #table { width: 2fr; }
    DataView Columns { height: 1fr; scrollbar-size-vertical: 1; }
    DataView Detail { width: 1fr; margin: 0 1 0 2; }
    DataView.narrow Detail { display: none; }
    DataView #empty { height: 1fr; display: none; }
    DataView.empty Horizontal { display: none; }
    DataView.empty #empty { display: block; }
    """

    def compose(self) -> ComposeResult:
        """Lay out the table and the detail beside it."""
        yield Empty(id="empty")
        with Horizontal():
            with View(id="table"):
                yield Header()
                yield Columns()
                yield Findings()
                yield Classes()
            yield Detail()

    def show(self) -> None:
        """Show the data set."""
        dataset = self.state.dataset
        self.set_class(dataset is None, "empty")
        self.set_class(self.size.width < 110, "narrow")
        columns, detail = self.query_one(Columns), self.query_one(Detail)
        if columns.dataset is not dataset:
            classes, findings = self.query_one(Classes), self.query_one(Findings)
            header = self.query_one(Header)
            columns.dataset = detail.dataset = classes.dataset = findings.dataset = header.dataset = dataset
            for drawing in (classes, findings, header):
                drawing.redraw()
            columns.count = len(dataset.columns) if dataset else 0
            columns.redraw()
            columns.styles.max_height = max(columns.count, 1)
            detail.index = columns.cursor
            detail.redraw()

    def on_resize(self) -> None:
        """Hide the detail where there is no room for it."""
        self.set_class(self.size.width < 110, "narrow")

    def on_listing_moved(self, event: Listing.Moved) -> None:
        """Draw the column under the cursor large."""
        detail = self.query_one(Detail)
        detail.index = event.index
        detail.redraw()

    def decided(self, what: str) -> DataPlan | None:
        """Return the plan with a decision about the column under the cursor turned; None if there is none to turn."""
        d = self.state.dataset
        return turned(d, d.columns[self.query_one(Columns).cursor], what) if d else None

    def focus_main(self) -> None:
        """Give the keyboard to the table."""
        self.query_one(Columns).focus()

    def verdict(self) -> str:
        """Say what there is and what it must beat."""
        d = self.state.dataset
        if d is None:
            return ("There is no data in this workspace yet. Open a table of your own with o, "
                    "or add the demo data with d.")
        return (f"{count(sum(d.rows.values()), 'row')}: {count(d.inputs, 'input')} predict {d.encoding.target}, one of "
                f"{count(len(d.classes), 'class', 'classes')}; {number(d.rows['train'])}{_left_out(d)} rows train, "
                f"{number(d.rows['validation'])} validate, {number(d.rows['test'])} are sealed. The floor to beat is "
                f"{loss(d.floor.loss)} (accuracy {share(d.floor.accuracy)}){_linear(d)}. "
                f"{_warned(d)}Next: n, the sheet.")


def turned(d: Dataset, column: Column, what: str) -> DataPlan | None:
    """Return a data set's plan with one decision about a column turned; None where that makes no sense."""
    plan, name = d.plan, column.name
    if what == "fewer":
        return replace(plan, rows=0 if plan.rows else max(d.rows["train"] // 4, min(QUICK, d.rows["train"])))
    if what == "aim":
        return None if column.role == "target" else replace(
            plan, target=name, ignore=_without(plan.ignore, name), use=_without(plan.use, name))
    if what == "group":
        group = "" if plan.split.group == name else name
        return replace(plan, use=_without(plan.use, name), split=replace(plan.split, group=group, order=""))
    if column.role == "target":
        return None
    if what == "as text":
        text = _without(plan.text, name) if name in plan.text else (*plan.text, name)
        return replace(plan, text=text)
    if column.role == "ignored":
        return replace(plan, ignore=_without(plan.ignore, name), use=(*_without(plan.use, name), name))
    return replace(plan, ignore=(*plan.ignore, name), use=_without(plan.use, name))


def _without(names: tuple[str, ...], name: str) -> tuple[str, ...]:
    return tuple(n for n in names if n != name)


def _left_out(d: Dataset) -> str:
    left = d.rows.get("left out", 0)
    return f" of {number(d.rows['train'] + left)}" if left else ""


def _linear(d: Dataset) -> str:
    return f"; a linear model reaches {loss(d.linear.loss)}" if d.linear else ""


def _warned(d: Dataset) -> str:
    return f"{count(len(d.findings), 'thing')} to look into first, marked !. " if d.findings else ""


class Empty(Drawing):
    """What to do where there is nothing yet."""

    def draw(self, width: int, height: int) -> Rows:
        """Return a few lines in the middle."""
        lines: Rows = [[("o", "lead*"), ("  open a table: text, Parquet, Arrow, JSON lines, Excel", "ink")],
                       [("d", "lead*"), ("  add the demo data: what a hive is doing, told from its sensors", "ink")],
                       [],
                       [("Rows are split into training, validation and sealed test rows;", "faint")],
                       [("nothing leaves this machine.", "faint")]]
        pad = " " * max((width - 66) // 2, 2)
        return [[]] * max((height - len(lines)) // 3, 0) + [[(pad, "ink"), *row] for row in lines]
