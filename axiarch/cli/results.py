"""Commands on what searches found: rank, judge, export."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Literal

import click

from axiarch.cli.options import (
    FilePath,
    guarded,
    json_option,
    number_argument,
    open_place,
    opened,
    search_option,
    workspace_option,
)
from axiarch.cli.saying import print_json, say
from axiarch.recipes.bounds import MOST_NUMBER

if TYPE_CHECKING:
    pass


@click.command()
@number_argument
@workspace_option
@json_option
@click.option("--most", default=15, type=click.IntRange(1), help="Recipes printed.")
@click.option("--sort", default="place", metavar="WHAT",
              help="Order by parameters, time, training loss, gap, runs, or a value such as width.")
@click.option("--where", default="", metavar="CONDITION",
              help='List some recipes only, such as "optimiser = adam and width <= 64".')
@click.option("--unbeaten", default=None, type=click.Choice(["parameters", "time"]),
              help="List recipes that no other one beats in both loss and this.")
@click.option("--by", "measure", default="", metavar="MEASURE",
              help="Rank by loss, accuracy, balanced accuracy, F1 or AUC; amounts by mean squared "
                   "error, mean absolute error, Huber loss, or their own loss.")
@click.pass_context
@guarded
def ranking(context: click.Context, number: int, folder: Path | None, as_json: bool,
            most: int, sort: str, where: str, unbeaten: str | None, measure: str) -> None:
    """Print the ranking of a search."""
    from axiarch import workflows
    from axiarch.cli import printing

    snapshot = workflows.snapshot_of(open_place(context, folder), number)
    if measure:
        found = workflows.by_measure(snapshot, measure)
        if as_json:
            print_json(workflows.measure_json(found))
        else:
            say(found.verdict(), "", *workflows.measure_lines(found, most))
        return
    listed = workflows.listed(snapshot, sort, where)
    if unbeaten:
        kept = [row.recipe for row in workflows.unbeaten(snapshot, unbeaten)]
        listed = [recipe for recipe in kept if recipe in listed]
    if as_json:
        print_json(printing.ranking_json(snapshot, listed))
        return
    printing.print_ranking(snapshot, most, listed)
    if unbeaten and snapshot.ranking.rows:
        say(workflows.cheapest(snapshot)[1])


@click.command()
@click.argument("recipe", type=click.IntRange(0, MOST_NUMBER), default=0)
@search_option
@click.option("--training", is_flag=True, help="Judge on the training rows instead, to compare.")
@click.option("--by",
              default="",
              metavar="COLUMN",
              help="Where is it worse? By the values of an input column.")
@click.option("--inputs",
              is_flag=True,
              help="How predictions depend on each input column, and where they are worse.")
@click.option("--chart", default=None, type=FilePath(), metavar="FILE.svg",
              help="Draw it as .svg or .pdf too, with the numbers as CSV beside it.")
@click.option("--force", is_flag=True, help="Replace a file that is there.")
@workspace_option
@json_option
@click.pass_context
@guarded
def judge(context: click.Context, recipe: int, number: int, training: bool, by: str, inputs: bool,
          chart: Path | None, force: bool, folder: Path | None, as_json: bool) -> None:
    """Print every metric of RECIPE (by default the leader) on its validation rows, with 95 %
    intervals.

    Per class, or errors of amounts. Test rows are scored by axiarch data open-seal.
    """
    from axiarch import workflows
    from axiarch.cli import printing

    workspace, snapshot = opened(context, folder, number, recipe)
    chosen = recipe or (snapshot.ranking.rows[0].recipe if snapshot.ranking.rows else 1)
    part: Literal["train", "validation"] = "train" if training else "validation"
    found = workflows.judge_recipe(workspace, snapshot, chosen, part=part, by=by, inputs=inputs)
    written = workflows.export_predictions(snapshot, chosen, part, found["summary"], chart,
                                           force) if chart else ()
    if as_json:
        print_json(
            {"recipe": chosen, "part": part, "classes": list(snapshot.dataset.classes), **found})
        return
    if all(row.recipe != chosen for row in snapshot.ranking.rows):
        say(workflows.recipe_verdict(snapshot, chosen))
    printing.print_judged(chosen, snapshot.dataset, found, "training" if training else "validation")
    for path in written:
        say(f"written: {path}")


@click.command()
@click.argument("what", type=click.Choice(["ranking", "chart", "curves", "runs", "epochs",
                                        "tradeoffs", "effects"]))
@click.argument("file", type=FilePath())
@search_option
@click.option("--recipe", default=0, type=click.IntRange(0, MOST_NUMBER),
              help="Curves of one recipe instead of the leaders.")
@click.option("--force", is_flag=True, help="Replace a file that is there.")
@workspace_option
@click.pass_context
@guarded
def export(context: click.Context, what: str, file: Path, number: int, recipe: int,
           folder: Path | None, force: bool) -> None:
    """Write the ranking as .csv, a chart of it or of loss curves as .svg or .pdf, every run or
    epoch as a table, or trade-offs and effects as .svg, .pdf or .csv.

    Tables of runs and epochs are .csv, .parquet or .jsonl, one row each.
    """
    from axiarch import workflows

    snapshot = workflows.snapshot_of(open_place(context, folder), number)
    if what == "ranking":
        written = [workflows.export_ranking(snapshot, file, force)]
    elif what in ("runs", "epochs"):
        write = workflows.export_runs if what == "runs" else workflows.export_epochs
        written = [write(snapshot, file, force)]
    elif what == "tradeoffs":
        written = [workflows.export_tradeoffs(snapshot, file, force=force)]
    elif what == "effects":
        written = [workflows.export_effects(snapshot, file, force)]
    elif what == "chart":
        written = [workflows.export_chart(snapshot, file, force)]
    else:
        written = list(workflows.export_curves(snapshot, file, recipe, force))
    for path in written:
        say(path)


#: All commands of this file, for the program to take in.
COMMANDS = (ranking, judge, export)
