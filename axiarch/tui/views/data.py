"""Data: what there is, column by column, and what any recipe must beat."""

from __future__ import annotations

from rich.cells import cell_len
from textual.app import ComposeResult
from textual.containers import Horizontal

from axiarch.data.checks import wrong_columns
from axiarch.data.columns import Column
from axiarch.data.dataset import Dataset
from axiarch.data.findings import grave
from axiarch.data.plan import DataPlan
from axiarch.data.toggles import toggled
from axiarch.text import count, loss, measured, number, share, shown
from axiarch.tui.plots.bars import histogram, named_bars, spark
from axiarch.tui.plots.picture import picture
from axiarch.tui.plots.runs import Row, Rows, beside, fit, fit_name, right, wrap
from axiarch.tui.views.view import View
from axiarch.tui.widgets.drawing import Drawing, Listing, TallDrawing

_ROLES = {"input": ("·", "ink"), "target": ("◆", "lead"), "ignored": ("×", "faint")}
#: Lines below which columns, findings and target take turns.
SHORT = 26
#: Cells of the drawn distribution in the table.
_SPARK = 16


class Columns(Listing):
    """One line a column of the table."""

    dataset: Dataset | None = None
    longest = 16

    def draw_line(self, index: int, width: int) -> Row:
        """Return a column's line."""
        assert self.dataset is not None
        c = self.dataset.columns[index]
        mark, role = _ROLES[c.role]
        ink = "faint" if c.role == "ignored" else role
        name = name_width(self.longest, width)
        warned = c.name in wrong_columns(self.dataset.findings)
        row: Row = [(f" {mark} ", role), (fit_name(c.name, name), ink),
                    ("!" if warned else " ", "warn*"), (fit(c.role, 8), "faint"),
                    (right("" if not c.missing else share(c.missing / c.rows), 8), "warn"),
                    ("  ", "ink")]
        return [
            *row, (fit(_small(c), _SPARK), "bar" if c.role != "ignored" else "ghost"),
            ("  ", "ink"), (_range(c), "faint")
        ]


def _small(c: Column) -> str:
    return spark(c.bars) if c.role != "ignored" or c.kind != "text" else ""


def _range(c: Column) -> str:
    if c.kind in ("number", "picture"):
        return f"{number(c.low)} to {number(c.high)}"
    if c.kind == "date" and c.names:
        return f"{c.names[0][:10]} to {c.names[-1][:10]}"
    return count(c.distinct, "text")


def longest_name(dataset: Dataset | None) -> int:
    """Return the cells that the longest column name takes."""
    return max((cell_len(shown(c.name)) for c in dataset.columns), default=16) if dataset else 16


def name_width(longest: int, width: int) -> int:
    """Return the cells that column names get: as many as the longest needs, if there is room."""
    return max(min(longest, width - 64, 44), 16)


class Header(Drawing):
    """Names the parts of a column's line."""

    DEFAULT_CSS = "Header { height: 1; }"

    dataset: Dataset | None = None
    longest = 16
    bar = 0

    def draw(self, width: int, height: int) -> Rows:
        """Return the line."""
        name = name_width(self.longest, width - self.bar)
        return [[("   " + fit("column", name) + " " + fit("role", 8) + right("missing", 8) + "  "
                  + fit("values", _SPARK + 2) + "range", "faint")]]


class Findings(TallDrawing):
    """What is suspicious about the data, with evidence and remedy."""

    DEFAULT_CSS = "Findings { height: auto; max-height: 45%; margin: 1 0 0 0; }"

    dataset: Dataset | None = None

    def draw(self, width: int, height: int) -> Rows:
        """Return each finding in a line or two."""
        rows: Rows = []
        findings = self.dataset.findings if self.dataset else ()
        for shown_so_far, finding in enumerate(findings):
            name = finding.name
            if finding.column:
                name += f" in {shown(finding.column, 30)}"
            lines = wrap(f"{finding.evidence}; {finding.advice}.", max(width - 34, 30), "ink")
            left = len(findings) - shown_so_far
            if height and len(rows) + len(lines) + (left > 1) > height:
                return [
                    *rows,
                    [(f"   {count(left, 'finding')} more: axiarch data show lists them, and so "
                      "does a taller window", "warn")]
                ]
            for i, line in enumerate(lines):
                ink, mark = ("warn", " ! ") if grave(finding) else ("faint", " · ")
                rows.append([(mark if i == 0 else "   ", ink),
                             (fit(name if i == 0 else "", 29), ink), ("  ", "ink"), *line])
        return rows


class Answers(TallDrawing):
    """How common each class is, or how the amounts to be predicted are spread."""

    DEFAULT_CSS = "Answers { height: auto; max-height: 16; margin: 1 0; }"

    dataset: Dataset | None = None

    def draw(self, width: int, height: int) -> Rows:
        """Return a bar a class, commonest first; or a histogram for each amount."""
        d = self.dataset
        if d is None:
            return []
        rows = _class_bars(d, width) if d.classes else _amount_bars(d, width)
        how = wrap(
            f"read as {d.how}; press r to change that" if " between cells" in d.how else
            f"read as {d.how}", width - 4, "faint") if d.how else []
        return [rows[0], *([("   ", "ink"), *row] for row in [*rows[1:], *how])]


def _class_bars(d: Dataset, width: int) -> Rows:
    order = sorted(range(len(d.classes)), key=lambda i: -d.class_counts[i])[:10]
    names, counts = [shown(d.classes[i]) for i in order], [d.class_counts[i] for i in order]
    more = f", the {len(order)} commonest of {len(d.classes)}" if len(
        d.classes) > len(order) else ""
    head: Rows = [[(" ◆ ", "lead"), (fit(d.target.name, 30).rstrip(), "lead*"),
                   (f"  training and validation rows of each class{more}", "faint")]]
    return head + named_bars(names, counts, min(width - 4, 80), "lead")


def _amount_bars(d: Dataset, width: int) -> Rows:
    targets = [c for c in d.columns if c.role == "target"]
    rows: Rows = [[(" ◆ ", "lead"), (fit(d.target.name, 40).rstrip(), "lead*"),
                   ("  how the amounts of training and validation rows are spread", "faint")]]
    for column in targets[:3]:
        if len(targets) > 1:
            rows.append([(fit(column.name, 40).rstrip(), "lead")])
        height = 5 if len(targets) == 1 else 2
        rows += histogram(column.bars, column.low or 0.0, column.high or 0.0, min(width - 4, 64),
                          height, "lead")
    return rows


class Detail(Drawing):
    """The column under the cursor, drawn large, with examples."""

    dataset: Dataset | None = None
    index = 0

    def draw(self, width: int, height: int) -> Rows:
        """Return the drawing."""
        d = self.dataset
        if d is None:
            return []
        c = d.columns[self.index]
        rows: Rows = [*wrap(c.name, width, "ink*"), *wrap(f"{c.role}: {c.reason}", width, "faint")]
        rows += [*wrap(_encoded(d, c), width, "faint"), *wrap(_held(c), width, "faint"), []]
        if c.kind in ("number", "picture") and c.low is not None and c.high is not None:
            rows += histogram(c.bars, c.low, c.high, width, max(min(height // 3, 9), 3))
            rows += [[("median ", "faint"), (number(c.middle), "ink"), ("   missing ", "faint"),
                      (share(c.missing / c.rows), "ink")]]
        elif c.kind == "date" and c.names:
            rows += histogram(c.bars, 0, 0, width, max(min(height // 3, 9), 3))[:-1]
            rows += [[(f"{c.names[0]} to {c.names[-1]}", "faint")]]
        elif c.role != "ignored":
            rows += named_bars([shown(n) for n in c.names], c.bars, width,
                               "lead" if c.role == "target" else "bar")
        rows += [[],
                 [("training rows, and their ", "faint"), (fit(d.target.name, 20).rstrip(), "lead"),
                  ("; e shows more", "faint")]]
        return rows + (_pictures(d, c, width) if c.kind == "picture" else _cells(d, c, width))


def _held(c: Column) -> str:
    """Say what a column holds."""
    return (f"{c.kind}: {count(c.distinct, 'different value')}, "
            f"{share(c.missing / max(c.rows, 1))} missing")


def _encoded(d: Dataset, c: Column) -> str:
    """Say how a column becomes inputs, or how amounts to be predicted are scaled."""
    if c.role == "target":
        many = len(d.target.measures) > 1
        by = f"recipes are ranked by {d.target.measure} (B changes that)" if many else ""
        if d.classes:
            return by
        how = "its logarithm is predicted, and losses are in its own unit" if d.target.spread else (
            f"scaled by {d.plan.target_scaling}; losses are in its own unit")
        return "; ".join(filter(None, (f"{how} (z changes that)", by)))
    return next((code.words for code in d.encoding.codes if code.name == c.name), "")


def _cells(d: Dataset, c: Column, width: int) -> Rows:
    aim = d.target.columns[0]
    own, targets = d.examples[c.name][:8].to_list(), d.examples[aim][:8].to_list()
    return [[(right("(gap)" if value is None else value, width // 2 - 2), "ink"), ("  ", "ink"),
             (fit(target, width // 2 - 2), "lead" if c.name != aim else "faint")]
            for value, target in zip(own, targets, strict=True)]


def _pictures(d: Dataset, c: Column, width: int) -> Rows:
    """Return a few pictures beside each other, as the network sees them, and what they show."""
    rows: Rows = []
    at = 0
    labels = d.examples[d.target.columns[0]][:4].to_list()
    for pixels, label in zip(d.encoding.seen(d.examples[c.name][:4]), labels, strict=True):
        drawn = [*picture(pixels, c.low or 0.0, c.high or 1.0)]
        wide = len(drawn[0])
        if at + wide > width:
            break
        drawn.append([(fit(label, wide), "lead")])
        rows = drawn if not rows else beside(rows, drawn, at - 2)
        at += wide + 2
    return rows


class DataView(View):
    """The first view."""

    DEFAULT_CSS = """
    DataView Horizontal { height: 1fr; }
    DataView #table { width: 2fr; }
    DataView Columns { height: 1fr; scrollbar-size-vertical: 1; }
    DataView Detail { width: 1fr; margin: 0 1 0 2; }
    DataView.narrow Detail { display: none; }
    DataView.short Findings, DataView.short Answers { display: none; }
    DataView.short.findings Columns, DataView.short.findings Header,
    DataView.short.answers Columns, DataView.short.answers Header { display: none; }
    DataView.short.findings Findings,
    DataView.short.answers Answers { display: block; max-height: 100%; }
    DataView #empty { height: 1fr; display: none; }
    DataView.empty Horizontal { display: none; }
    DataView.empty #empty { display: block; }
    """

    _pane = 0

    def compose(self) -> ComposeResult:
        """Lay out the table and the detail beside it."""
        yield Empty(id="empty")
        with Horizontal():
            with View(id="table"):
                yield Header()
                yield Columns()
                yield Findings()
                yield Answers()
            yield Detail()

    def show(self) -> None:
        """Show the data set."""
        dataset = self.state.dataset
        self.set_class(dataset is None, "empty")
        self.set_class(self.size.width < 110, "narrow")
        columns, detail = self.query_one(Columns), self.query_one(Detail)
        if columns.dataset is not dataset:
            answers, findings = self.query_one(Answers), self.query_one(Findings)
            header = self.query_one(Header)
            for part in (columns, detail, answers, findings, header):
                part.dataset = dataset
            columns.longest = header.longest = longest_name(dataset)
            for drawing in (answers, findings, header):
                drawing.redraw()
            columns.count = len(dataset.columns) if dataset else 0
            columns.redraw()
            columns.styles.max_height = max(columns.count, 1)
            detail.index = columns.cursor
            detail.redraw()
            self.call_after_refresh(self._align)

    def on_resize(self) -> None:
        """Hide the detail where there is no room for it; keep the head above its columns."""
        self.set_class(self.size.width < 110, "narrow")
        self.set_class(self.size.height < SHORT, "short")
        self.call_after_refresh(self._align)

    def turn_pane(self) -> None:
        """Where there is little room, show the findings or the target in the place of the
        columns, in turn.
        """
        self._pane = (self._pane + 1) % 3
        for i, name in enumerate(("findings", "answers"), 1):
            self.set_class(self._pane == i, name)
        for drawing in (self.query_one(Findings), self.query_one(Answers)):
            drawing.redraw()
        self.call_after_refresh(self.focus_main)

    def _align(self) -> None:
        """Leave as much room beside the head as the scroll bar takes beside the table."""
        columns, header = self.query_one(Columns), self.query_one(Header)
        bar = columns.size.width - columns.scrollable_content_region.width
        if bar != header.bar:
            header.bar = bar
            header.redraw()

    def on_listing_moved(self, event: Listing.Moved) -> None:
        """Draw the column under the cursor large."""
        detail = self.query_one(Detail)
        detail.index = event.index
        detail.redraw()

    def column_name(self) -> str:
        """Return the name of the column under the cursor; empty if there is none."""
        d = self.state.dataset
        return d.columns[self.query_one(Columns).cursor].name if d else ""

    def decided(self, what: str, name: str) -> DataPlan | None:
        """Return the plan with a decision about a column changed; None if there is none to
        change.
        """
        d = self.state.dataset
        column = next((c for c in d.columns if c.name == name), None) if d else None
        return toggled(d, column, what) if d and column else None

    def focus_main(self) -> None:
        """Give the keyboard to the table."""
        self.query_one(Columns).focus()

    def verdict(self) -> str:
        """Say what there is and what it must beat."""
        d = self.state.dataset
        if d is None:
            return ("There is no data in this workspace yet. Open a table of your own with o, "
                    "or add the demo data with d.")
        rows = d.rows
        folds = f"{len(d.folds)} folds, the first with " if len(d.folds) > 1 else ""
        return (
            f"{count(d.height, 'row')}: {_inputs(d)} predict {d.target.name}, {_kind(d)}; "
            f"{folds}{number(rows['train'])}{_left_out(d)} rows train, "
            f"{number(rows['validation'])} validate, "
            f"{_sealed(rows['test'], self.state.openings)}{_no_target(d)}. The baseline to beat is "
            f"{_floor(d)}{_linear(d)}. {_warned(d)}Next: n, the sheet.")


def _left_out(d: Dataset) -> str:
    left = d.rows.get("left out", 0)
    return f" of {number(d.rows['train'] + left)}" if left else ""


def _inputs(d: Dataset) -> str:
    shape = d.encoding.picture
    if shape is None:
        return count(d.inputs, "input")
    return f"pictures of {shape[0]} × {shape[1]}" + (f" in {shape[2]} channels"
                                                     if shape[2] > 1 else "")


def _kind(d: Dataset) -> str:
    if d.classes:
        return f"one of {count(len(d.classes), 'class', 'classes')}"
    return "an amount" if d.outputs == 1 else f"{d.outputs} amounts"


def _floor(d: Dataset) -> str:
    metric, value = d.target.metrics[0].split(" (")[0], d.baseline.metrics[0]
    beside = f" ({metric} {measured(metric, value)})" if d.classes else ""
    name = d.target.level_name
    name = "" if name == "loss" else f"{'an' if name[0] in 'eR' else 'a'} {name} of "
    return f"{name}{loss(d.baseline.loss)}{beside}"


def _linear(d: Dataset) -> str:
    linear = f"; a linear model reaches {loss(d.linear.loss)}" if d.linear else ""
    noise = f", the noise alone leaves {loss(d.noise_floor.loss)}" if d.noise_floor else ""
    return linear + noise


def _sealed(rows: int, openings: int) -> str:
    """Say how many test rows there are, and whether their seal still holds."""
    if not openings:
        return f"{number(rows)} are sealed"
    return f"{number(rows)} are test rows, whose seal was opened {count(openings, 'time')}"


def _no_target(d: Dataset) -> str:
    rows = d.rows.get("without target", 0)
    return f", {number(rows)} without a target are left out" if rows else ""


def _warned(d: Dataset) -> str:
    many = sum(map(grave, d.findings))
    key = "press ! for what to change" if any(f.changes for f in d.findings) else ""
    return (f"{count(many, 'thing')} to look into first, marked !{f'; {key}' if key else ''}. "
            if many else "")


class Empty(Drawing):
    """What to do where there is nothing yet."""

    def draw(self, width: int, height: int) -> Rows:
        """Return a few lines in the middle."""
        what = "  open a table (text, Parquet, Arrow, JSON lines, Excel) or pictures"
        lines: Rows = [[("o", "lead*"), (what, "ink")],
                       [("d", "lead*"),
                        ("  add the demo data: three sets from the hives of Marrowfen", "ink")], [],
                       [("Rows are split into training, validation and sealed test rows;", "faint")
                        ], [("nothing leaves this machine.", "faint")]]
        pad = " " * max((width - 66) // 2, 2)
        return [[]] * max((height - len(lines)) // 3, 0) + [[(pad, "ink"), *row] for row in lines]
