"""Commands that run searches and look after them."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path
from typing import TYPE_CHECKING

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
    opened,
    search_option,
    workers_option,
    workspace_option,
)
from axiarch.cli.saying import print_json, say
from axiarch.errors import SearchFileError
from axiarch.recipes.bounds import MOST_NUMBER
from axiarch.text import count as counted

if TYPE_CHECKING:
    from axiarch.journal.workspace import Workspace
    from axiarch.recipes.searchfile import SearchFile
    from axiarch.workflows.snapshot import Snapshot


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


#: All commands on searches, for the program to take in.
COMMANDS = (forecast, search, attach, status, resume, scale)
