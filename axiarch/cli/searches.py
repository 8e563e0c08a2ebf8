"""Commands on searches: run, look after, rank, export."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from pathlib import Path
from typing import TYPE_CHECKING, Literal

import click

from axiarch.cli.options import (
    HERE,
    INTERRUPTED,
    FilePath,
    cluster_option,
    guarded,
    json_option,
    number_argument,
    open_place,
    search_option,
    workers_option,
    workspace_option,
)
from axiarch.cli.saying import print_json, say
from axiarch.errors import SearchFileError
from axiarch.recipes.bounds import MOST_NUMBER
from axiarch.text import count as counted

if TYPE_CHECKING:
    from axiarch.journal.inbox import Request
    from axiarch.journal.workspace import Workspace
    from axiarch.recipes.searchfile import SearchFile
    from axiarch.workflows.watching import Snapshot


def _read(file: Path) -> SearchFile:
    from axiarch.files import read_text
    from axiarch.recipes.bounds import MOST_FILE
    from axiarch.recipes.searchfile import read_search

    try:
        text = read_text(file, MOST_FILE)
    except (OSError, ValueError) as error:
        why = error.strerror if isinstance(error, OSError) else error
        raise SearchFileError(f"the file cannot be read: {why}", str(file),
                              "check the path") from None
    return read_search(text, str(file))


def _with_data(workspace: Workspace, file: Path) -> SearchFile:
    """Read a search file, and see that its data are in the workspace."""
    from axiarch import workflows
    from axiarch.cli.progress import Steps

    with Steps() as steps:
        return workflows.search_data(workspace, _read(file), file.absolute().parent, steps.show)


@click.command()
@click.argument("file", type=FilePath())
@workspace_option
@workers_option
@json_option
@click.pass_context
@guarded
def forecast(context: click.Context, file: Path, folder: Path | None, workers: int | None,
             as_json: bool) -> None:
    """Say what a search file will take, from a few real steps."""
    from dataclasses import asdict

    from axiarch import workflows
    from axiarch.cli import printing

    workspace = open_place(context, folder, create=True)
    search = _with_data(workspace, file)
    data = workflows.data_set(workspace, search.data)
    found = workflows.forecast_search(search, data, workers or 0, workspace)
    if as_json:
        print_json(asdict(found))
    else:
        printing.print_forecast(found)


@click.command()
@click.argument("file", type=FilePath())
@workspace_option
@workers_option
@cluster_option
@click.option("--earlier", type=click.Choice(("use", "ignore")), default=None,
              help="Whether to take over runs that earlier searches on the same data hold, and to "
                   "start from their losses; by default as the search file says (use).")
@json_option
@click.option("--background",
              is_flag=True,
              help="Return at once; the search runs in the background.")
@click.pass_context
@guarded
def search(context: click.Context, file: Path, folder: Path | None, workers: int | None,
           cluster: str | None, earlier: str | None, as_json: bool, background: bool) -> int:
    """Run a search file to its end and print the ranking. Ctrl-C stops it; what has ended is
    kept.
    """
    from axiarch import workflows

    workspace = open_place(context, folder, create=True)
    wanted = _with_data(workspace, file)
    if cluster is not None:
        wanted = replace(wanted, cluster=_named(cluster))
    if earlier is not None:
        wanted = replace(wanted, earlier=earlier)
    if background:
        number = workflows.start_search(workspace, wanted, workers or 0)
        say(f"search {number} runs in the background; see: axiarch attach {number}")
        return 0
    return run_search(workspace, wanted, workers, as_json)


def _named(cluster: str) -> str:
    """Return an address that the user has named; empty for this machine."""
    from axiarch import workflows

    if cluster == HERE:
        return ""
    workflows.trust_cluster(cluster)
    return cluster


def run_search(workspace: Workspace, wanted: SearchFile, workers: int | None, as_json: bool) -> int:
    from axiarch import workflows

    return follow(workspace, workflows.start_search(workspace, wanted, workers or 0), as_json)


def follow(workspace: Workspace, number: int, as_json: bool, stops: bool = True,
           ranks: bool = True) -> int:
    """Wait for a search with progress on standard error, print its ranking unless it is not wanted,
    return the exit code.

    Ctrl-C `stops` the search, or only leaves it.
    """
    from axiarch import workflows
    from axiarch.cli.progress import Progress
    from axiarch.journal import inbox

    progress = Progress()
    code = 0
    try:
        snapshot = workflows.wait(workspace, number, progress.show)
    except KeyboardInterrupt:
        if not stops:
            progress.note(
                f"search {number} keeps running in the background; see: axiarch status {number}")
            return INTERRUPTED
        progress.note("stopping; what has ended is kept")
        workflows.steer_search(workspace, number, inbox.Stop())
        snapshot = workflows.wait(workspace, number)
        code = INTERRUPTED
    progress.close()
    if not ranks and snapshot.ranking.rows:
        return code
    said = _said(snapshot, as_json)
    return code or said


def _said(snapshot: Snapshot, as_json: bool) -> int:
    """Print the ranking of a search that is over; return the exit code."""
    from axiarch.cli import printing

    if as_json:
        print_json(printing.ranking_json(snapshot))
    else:
        printing.print_ranking(snapshot)
    failed = failed_text(snapshot)
    if snapshot.search.state in ("done", "stopped") and (snapshot.ranking.rows or not failed):
        if failed:
            say(f"warning: {failed}", error=True)
        return 0
    for event in snapshot.events[-2:]:
        say(f"search {snapshot.search.number}: {event.text}", error=True)
    return 4


def failed_text(snapshot: Snapshot) -> str:
    """Say how many runs failed, and why the first did; empty where none did."""
    runs = [r for r in snapshot.runs.values() if r.state == "failed"]
    if not runs:
        return ""
    return (f"{len(runs)} of {counted(len(snapshot.runs), 'run')} failed, the first because: "
            f"{runs[0].text}")


@click.command()
@number_argument
@workspace_option
@json_option
@click.pass_context
@guarded
def attach(context: click.Context, number: int, folder: Path | None, as_json: bool) -> int:
    """Follow a search that runs in the background to its end, and print the ranking. Ctrl-C
    leaves it running.
    """
    from axiarch import workflows

    workspace = open_place(context, folder)
    return follow(workspace,
                  workflows.snapshot_of(workspace, number).search.number,
                  as_json,
                  stops=False)


@click.command()
@number_argument
@workspace_option
@json_option
@click.pass_context
@guarded
def status(context: click.Context, number: int, folder: Path | None, as_json: bool) -> None:
    """Say how far a search is (the newest, if no number is given)."""
    from axiarch import workflows
    from axiarch.cli import printing

    snapshot = workflows.snapshot_of(open_place(context, folder), number)
    if as_json:
        print_json(printing.status_json(snapshot))
    else:
        say(printing.progress_line(snapshot))
        for event in snapshot.events[-5:]:
            say(f"  {event.text}")


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
              help="Rank by accuracy, balanced accuracy, F1 or AUC; amounts by absolute error, "
                   "Huber loss, or their own loss.")
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
@number_argument
@workspace_option
@click.pass_context
@guarded
def pause(context: click.Context, number: int, folder: Path | None) -> None:
    """Pause a search that runs in the background."""
    from axiarch.journal import inbox

    _steer(context, folder, number, inbox.Pause(), "pauses")


@click.command()
@number_argument
@workspace_option
@click.pass_context
@guarded
def stop(context: click.Context, number: int, folder: Path | None) -> None:
    """Stop a search; what has ended is kept, and you can resume it."""
    from axiarch.journal import inbox

    _steer(context, folder, number, inbox.Stop(), "stops")


@click.command()
@number_argument
@workspace_option
@workers_option
@cluster_option
@click.option("--background",
              is_flag=True,
              help="Return at once; the search runs in the background.")
@json_option
@click.pass_context
@guarded
def resume(context: click.Context, number: int, folder: Path | None, workers: int | None,
           cluster: str | None, background: bool, as_json: bool) -> int:
    """Resume a search that was paused, stopped or interrupted."""
    from axiarch import workflows
    from axiarch.journal import inbox

    workspace = open_place(context, folder)
    snapshot = workflows.snapshot_of(workspace, number)
    number = snapshot.search.number
    if snapshot.search.state == "paused":
        workflows.steer_search(workspace, number, inbox.Resume())
    else:
        workflows.resume_search(workspace, number, workers or 0,
                                None if cluster is None else _named(cluster))
    if background:
        say(f"search {number} resumed; it runs in the background")
        return 0
    return follow(workspace, number, as_json)


def _steering(name: str, what: str, summary: str, done: Callable[[int], str],
              most: int | None = None
              ) -> click.Command:
    """Return the command that sends the request of a name, which takes one number."""
    @click.command(name, help=summary)
    @click.argument(what, type=click.IntRange(1, most or MOST_NUMBER))
    @search_option
    @workspace_option
    @click.pass_context
    @guarded
    def command(context: click.Context, number: int, folder: Path | None, **given: int) -> None:
        from axiarch.journal import inbox

        request = getattr(inbox, name.capitalize())(**given)
        _steer(context, folder, number, request, done(given[what]))

    return command


cut = _steering("cut", "recipe", "Cut RECIPE from a running search: it is trained no further.",
                lambda recipe: f"cuts recipe {recipe}")
keep = _steering("keep", "recipe",
                 "Keep RECIPE of a running search from being cut: it is trained to its end.",
                 lambda recipe: f"keeps recipe {recipe}")
budget = _steering("budget", "recipes",
                   "Let a search try RECIPES recipes in all; a finished one resumes.",
                   lambda recipes: f"tries {recipes} recipes in all")
workers = _steering("workers", "count",
                    "Let a running search use COUNT worker processes from now on.",
                    lambda workers: f"uses {counted(workers, 'worker')}", 256)


@click.command()
@click.argument("count", type=click.IntRange(1, 200), required=False)
@click.argument("recipes", type=click.IntRange(1, MOST_NUMBER), nargs=-1)
@search_option
@workspace_option
@json_option
@click.pass_context
@guarded
def seeds(context: click.Context, count: int | None, recipes: tuple[int, ...], number: int,
          folder: Path | None, as_json: bool) -> int:
    """Train RECIPES on COUNT more seeds; a finished search resumes.

    By default the ranking chooses: the leader and the recipes that may be as good, on as many
    seeds as it takes to rule them out.
    """
    from axiarch import workflows
    from axiarch.journal import inbox

    workspace, snapshot = opened(context, folder, number)
    chosen, more = workflows.seeds_wanted(snapshot, recipes, count or 0)
    if not chosen:
        raise workflows.unranked(snapshot)
    number = workflows.steer_search(workspace, snapshot.search.number, inbox.Seeds(chosen, more))
    say(f"search {number} trains {counted(len(chosen), 'recipe')} on "
        f"{counted(more, 'more seed')}", error=as_json)
    return follow(workspace, number, as_json)


@click.command()
@click.argument("recipe", type=click.IntRange(1, MOST_NUMBER))
@click.argument("epochs", type=click.IntRange(1, MOST_NUMBER))
@search_option
@click.option("--best", is_flag=True, help="Continue from its best epoch instead of its last.")
@workspace_option
@workers_option
@json_option
@click.pass_context
@guarded
def more(context: click.Context, recipe: int, epochs: int, number: int, best: bool,
         folder: Path | None, workers: int | None, as_json: bool) -> int:
    """Train RECIPE for EPOCHS more, from where it stopped.

    In a running search it continues there. Where the search is over, a new search continues from
    its checkpoint.
    """
    from axiarch import workflows
    from axiarch.journal import inbox

    workspace, snapshot = opened(context, folder, number, recipe)
    if not snapshot.over and not best:
        workflows.steer_search(workspace, snapshot.search.number, inbox.More(recipe, epochs))
        say(f"recipe {recipe} of search {snapshot.search.number} trains for {epochs} more epochs")
        return 0
    run = workflows.first_run(snapshot, recipe).id
    started = workflows.continue_run(workspace,
                                     snapshot,
                                     run,
                                     epochs,
                                     "best" if best else "last",
                                     workers=workers or 1)
    return follow(workspace, started, as_json)


@click.command()
@click.argument("recipe", type=click.IntRange(1, MOST_NUMBER))
@click.argument("values", nargs=-1, required=True)
@search_option
@workspace_option
@workers_option
@json_option
@click.pass_context
@guarded
def scale(context: click.Context, recipe: int, values: tuple[str, ...], number: int,
          folder: Path | None, workers: int | None, as_json: bool) -> int:
    """Compare RECIPE with larger ones that have VALUES changed, such as width=256 epochs=120
    rows=all, on three seeds.
    """
    from axiarch import workflows

    workspace, snapshot = opened(context, folder, number, recipe)
    scaled = workflows.scale_up(workspace, snapshot, recipe, values)
    say(scaled, error=True)
    return run_search(workspace, scaled.search, workers, as_json)


@click.command()
@click.argument("values", nargs=-1, required=True)
@search_option
@workspace_option
@click.pass_context
@guarded
def add(context: click.Context, values: tuple[str, ...], number: int, folder: Path | None) -> None:
    """Take a recipe into a running search: its base with VALUES changed, such as
    learning_rate=0.01 width=64.
    """
    from axiarch import workflows
    from axiarch.journal import inbox
    from axiarch.recipes.notation import fixed_values

    workspace, snapshot = opened(context, folder, number)
    recipe = snapshot.file.space.base.changed(fixed_values(values))
    workflows.steer_search(workspace, snapshot.search.number, inbox.Add(dict(recipe)))
    say(f"recipe added to search {snapshot.search.number}")


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


def opened(context: click.Context,
           folder: Path | None,
           number: int,
           recipe: int = 0) -> tuple[Workspace, Snapshot]:
    """Return the workspace and the search that is meant, in which there must be `recipe` (0:
    none is meant).
    """
    from axiarch import workflows

    workspace = open_place(context, folder)
    snapshot = workflows.snapshot_of(workspace, number)
    if recipe and recipe not in snapshot.recipes:
        raise workflows.unknown_recipe(snapshot, recipe)
    return workspace, snapshot


def _steer(context: click.Context, folder: Path | None, number: int, request: Request, done: str
           ) -> None:
    from axiarch import workflows

    number = workflows.steer_search(open_place(context, folder), number, request)
    say(f"search {number} {done}")


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


#: All commands on searches, for the program to take in.
COMMANDS = (forecast, search, attach, status, ranking, pause, stop, resume, cut, keep, more, add,
            budget, seeds, workers, judge, scale, export)
