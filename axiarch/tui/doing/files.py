"""Files that a user asks for: exports, reports, predictions."""

from __future__ import annotations

from pathlib import Path

from axiarch import workflows
from axiarch.tui import messages
from axiarch.tui.doing.asking import chosen, replacing, write
from axiarch.tui.doing.context import Context
from axiarch.tui.doing.work import predict_rows
from axiarch.tui.views.ladder import LadderView
from axiarch.tui.views.predictions import PredictionsView
from axiarch.tui.widgets.browser import Browser
from axiarch.workflows.explaining import KnobEffects
from axiarch.workflows.snapshot import Snapshot
from axiarch.workflows.trading import TradeOffs


def export(c: Context) -> None:
    """Export what is in front."""
    s, place = c.state.snapshot, c.workspace.exports
    if s is None:
        return
    stem = place / f"search-{s.search.number}"
    ends = (".svg", ".pdf")
    if c.view == "predictions":
        export_predictions(c, s, stem)
    elif c.view in ("strips", "field"):
        recipe = c.state.open_recipe if c.view == "strips" else 0
        stem = stem.with_name(
            f"{stem.name}-recipe-{recipe}" if recipe else f"{stem.name}-curves")
        paths = [stem.with_name(stem.name + end) for end in ends]
        write(c, [*paths, stem.with_name(f"{stem.name}-data.csv")], lambda force: [
            written for path in paths
            for written in workflows.export_curves(s, path, recipe, force)
        ])
    elif c.view == "ladder" and isinstance(panel := c.widget(LadderView).panel, TradeOffs):
        paths = [stem.with_name(f"{stem.name}-trade-offs{end}") for end in (*ends, ".csv")]
        write(c, paths, lambda force: [
            workflows.export_tradeoffs(s, path, panel.cost, force) for path in paths])
    elif c.view == "ladder" and isinstance(panel, KnobEffects):
        paths = [stem.with_name(f"{stem.name}-effects{end}") for end in (*ends, ".csv")]
        write(c, paths, lambda force: [workflows.export_effects(s, path, force) for path in paths])
    else:
        table, *charts = (stem.with_name(f"{stem.name}-ranking{end}")
                          for end in (".csv", *ends))
        write(c, [table, *charts], lambda force: [
            workflows.export_ranking(s, table, force),
            *(workflows.export_chart(s, chart, force) for chart in charts)])


def export_predictions(c: Context, s: Snapshot, stem: Path) -> None:
    """Export the predictions in front."""
    recipe, part = c.state.open_recipe, c.widget(PredictionsView).part
    found = c.state.predictions.get((s.search.number, recipe, part))
    if found is None or isinstance(found, str):
        c.post(messages.Noted("There are no predictions to export here yet."))
        return
    summary = found
    stem = stem.with_name(f"{stem.name}-recipe-{recipe}-{part}")
    paths = [stem.with_name(f"{stem.name}{end}") for end in (".svg", ".pdf")]
    write(c, [*paths, stem.with_name(f"{stem.name}-data.csv")], lambda force: [
        written for path in paths
        for written in workflows.export_predictions(s, recipe, part, summary, path, force)])


def report(c: Context) -> None:
    """Write the report of the search in front, on the recipe that is open."""
    s = c.state.snapshot
    if s is None:
        return
    recipe = chosen(c)
    paths = [
        c.workspace.exports / f"search-{s.search.number}-report{end}"
        for end in (".html", ".pdf")
    ]
    write(c, paths, lambda force: [
        workflows.export_report(c.workspace, s, path, recipe, force) for path in paths])


def predict_file(c: Context) -> None:
    """Ask for a file, then predict its rows with the network of a recipe."""
    s, recipe = c.state.snapshot, chosen(c)
    if s is None or recipe not in s.recipes:
        return

    def answered(path: str | None) -> None:
        if path:
            source = Path(path).expanduser()
            place = c.workspace.exports / f"{source.name.split('.')[0]}-predicted.csv"
            replacing(c, [place], lambda force: predict_rows(c, 
                lambda on_progress: workflows.predict_with(c.workspace, s, recipe, source,
                                                           place, force, on_progress), place))

    c.ask(Browser(Path.cwd(), workflows.recent_tables(c.workspace)), answered)
