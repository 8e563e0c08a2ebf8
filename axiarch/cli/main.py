"""The command line: every workflow without a terminal, and the door to the full-screen application."""

from __future__ import annotations

import sys
from collections.abc import Callable
from functools import wraps
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from axiarch import __version__
from axiarch.errors import AxiarchError, InputError, SearchFileError

if TYPE_CHECKING:
    from axiarch.data.dataset import Dataset
    from axiarch.data.plan import DataPlan
    from axiarch.journal.inbox import Request
    from axiarch.journal.workspace import Workspace
    from axiarch.recipes.searchfile import SearchFile

#: Exit code of a command ended by Ctrl-C.
INTERRUPTED = 130


def _guarded(command: Callable[..., int | None]) -> Callable[..., None]:
    """Turn errors into messages and exit codes."""

    @wraps(command)
    def run(*args: Any, **kwargs: Any) -> None:
        try:
            code = command(*args, **kwargs)
        except AxiarchError as error:
            from axiarch.cli.printing import print_error

            print_error(error)
            code = error.exit_code
        except KeyboardInterrupt:
            code = INTERRUPTED
        sys.exit(code or 0)

    return run


def _default_folder() -> Path:
    import platformdirs

    return Path(platformdirs.user_data_dir("axiarch")) / "workspace"


workspace_option = click.option(
    "-w", "--workspace", "folder", type=click.Path(path_type=Path), envvar="AXIARCH_WORKSPACE",
    help="Folder that holds everything; by default one in your user data folder.")
json_option = click.option("--json", "as_json", is_flag=True, help="Print one JSON document.")
number_argument = click.argument("number", type=int, default=0)
lanes_option = click.option("--workers", "lanes", type=click.IntRange(1, 256), default=None,
                            help="Worker processes; by default one per core.")


@click.group(invoke_without_command=True, context_settings={"help_option_names": ["-h", "--help"]})
@click.version_option(__version__, "--version")
@workspace_option
@click.pass_context
def main(context: click.Context, folder: Path | None) -> None:
    """Search training settings of small neural networks, ranked with honest uncertainty.

    Without a command, opens the full-screen application on the workspace.

    Exit codes: 0 done, 2 bad input, 3 workspace cannot be used, 4 training failed, 130 ended by Ctrl-C.
    """
    context.obj = folder
    if context.invoked_subcommand is None:
        _guarded(_open_screen)(folder or _default_folder())


def _open_screen(folder: Path) -> int:
    from axiarch import workflows

    if not (sys.stdin.isatty() and sys.stdout.isatty()):
        raise InputError("there is no terminal to draw on", "", "name a command; see axiarch --help")
    workspace = workflows.open_workspace(folder, create=True)
    from axiarch.tui.app import run_app

    return run_app(workspace)


def _open(context: click.Context, folder: Path | None, create: bool = False) -> Workspace:
    from axiarch import workflows

    return workflows.open_workspace(folder or context.find_root().obj or _default_folder(), create=create)


# -- demo and data ---------------------------------------------------------------------------------


@main.command()
@workspace_option
@lanes_option
@json_option
@click.option("--no-screen", is_flag=True, help="Run the whole example here even where there is a terminal.")
@click.pass_context
@_guarded
def demo(context: click.Context, folder: Path | None, lanes: int | None, as_json: bool, no_screen: bool) -> int:
    """Open the demo data; where there is no terminal, run the whole example and print the ranking."""
    from axiarch import workflows

    workspace = workflows.make_demo(folder or context.find_root().obj or Path("axiarch-demo"))
    if not no_screen and not as_json and sys.stdin.isatty() and sys.stdout.isatty():
        from axiarch.tui.app import run_app

        return run_app(workspace)
    data = workflows.data_set(workspace, "hive states")
    return _run_search(workspace, workflows.demo_search(data), lanes, as_json)


@main.group()
def data() -> None:
    """Add data sets and look at them."""


@data.command("add")
@click.argument("file", type=click.Path(path_type=Path))
@workspace_option
@click.option("--name", default="", help="What to call it; by default the file's name.")
@click.option("--target", default=None, help="Column to be predicted; by default it is proposed.")
@click.option("--ignore", multiple=True, help="Column to leave out; may be given again.")
@click.option("--use", multiple=True, help="Column to take in although it would be left out.")
@click.option("--text", multiple=True, help="Column that stays text although it reads as numbers or dates.")
@click.option("--gaps", type=click.Choice(["median", "mean", "most frequent", "zero"]), default="median",
              help="What fills gaps in numbers; learnt from the training rows.", show_default=True)
@click.option("--scaling", type=click.Choice(["z-score", "0-1", "robust", "none"]), default="z-score",
              help="How numbers are brought near zero; learnt from the training rows.", show_default=True)
@click.option("--rows", default=0, help="Training rows used at the most, for quick work; 0 for all.")
@click.option("--validation", default=0.2, help="Share of the rows for validation.", show_default=True)
@click.option("--test", "test_share", default=0.2, help="Share of the rows sealed for the test.", show_default=True)
@click.option("--group", default="", help="Column whose equal values stay together in one part.")
@click.option("--order", default="", help="Column that puts rows in order; the last are for the test.")
@click.option("--seed", default=1, type=click.IntRange(0), help="Fixes the split.", show_default=True)
@click.option("--separator", default=None, help="Between cells of a text; by default found out.")
@click.option("--encoding", default=None, help="Of a text, such as utf-8 or windows-1252; by default found out.")
@click.option("--decimal", type=click.Choice([".", ","]), default=None, help="By default found out.")
@click.option("--header/--no-header", default=None, help="Whether the first row names the columns.")
@json_option
@click.pass_context
@_guarded
def data_add(context: click.Context, file: Path, folder: Path | None, name: str, as_json: bool, **decided: Any) -> None:
    """Add a table: read, checked, split, encoded, its test rows sealed.

    Reads delimited text of any kind, Parquet, Arrow, JSON lines and Excel.
    """
    from axiarch import workflows

    workspace = _open(context, folder, create=True)
    _print_data(workflows.add_table(workspace, file, name=name, plan=_plan(decided)), as_json)


def _plan(decided: dict[str, Any]) -> DataPlan:
    """Return the decisions that options stand for."""
    from axiarch.data.delimited import Said
    from axiarch.data.plan import DataPlan, SplitPlan

    separator = decided["separator"]
    if separator is not None:
        separator = {"tab": "\t", "\\t": "\t", "comma": ",", "semicolon": ";"}.get(separator, separator)
        if len(separator) != 1:
            raise InputError(f"{separator!r} is not a separator", "--separator", "give one character, or tab")
    split = SplitPlan(decided["validation"], decided["test_share"], decided["group"], decided["order"], decided["seed"])
    said = Said(separator, decided["encoding"], decided["decimal"], decided["header"])
    return DataPlan(decided["target"], decided["ignore"], decided["use"], decided["text"], decided["gaps"],
                    decided["scaling"], decided["rows"], split, said)


@data.command("demo-files")
@click.argument("place", type=click.Path(path_type=Path), default=Path("demo-files"))
@_guarded
def data_demo_files(place: Path) -> None:
    """Write the demo tables as files, a clean and a messy one."""
    from axiarch import workflows

    for path in workflows.write_demo_files(place):
        print(path)


@data.command("show")
@click.argument("name", default="")
@workspace_option
@json_option
@click.pass_context
@_guarded
def data_show(context: click.Context, name: str, folder: Path | None, as_json: bool) -> None:
    """Show what is known of a data set."""
    from axiarch import workflows

    _print_data(workflows.data_set(_open(context, folder), name), as_json)


def _print_data(found: Dataset, as_json: bool) -> None:
    from axiarch.cli import printing

    if as_json:
        printing.print_json(printing.data_json(found))
    else:
        printing.print_data(found)


# -- searches --------------------------------------------------------------------------------------


def _read(file: Path) -> SearchFile:
    from axiarch.recipes.searchfile import read_search

    try:
        text = file.read_text(encoding="utf-8")
    except (OSError, UnicodeDecodeError) as error:
        why = error.strerror if isinstance(error, OSError) else "it is not UTF-8 text"
        raise SearchFileError(f"the file cannot be read: {why}", str(file), "check the path") from None
    return read_search(text, str(file))


@main.command()
@click.argument("file", type=click.Path(path_type=Path))
@workspace_option
@lanes_option
@json_option
@click.pass_context
@_guarded
def forecast(context: click.Context, file: Path, folder: Path | None, lanes: int | None, as_json: bool) -> None:
    """Say what a search file will take, from a few real steps."""
    from dataclasses import asdict

    from axiarch import workflows
    from axiarch.cli import printing

    workspace = _open(context, folder)
    search = _read(file)
    found = workflows.forecast_search(search, workflows.data_set(workspace, search.data), lanes or 0)
    if as_json:
        printing.print_json(asdict(found))
    else:
        printing.print_forecast(found)


@main.command()
@click.argument("file", type=click.Path(path_type=Path))
@workspace_option
@lanes_option
@json_option
@click.option("--background", is_flag=True, help="Return at once; the search goes on by itself.")
@click.pass_context
@_guarded
def search(context: click.Context, file: Path, folder: Path | None, lanes: int | None, as_json: bool,
           background: bool) -> int:
    """Run a search file to its end and print the ranking. Ctrl-C stops it; what has ended is kept."""
    from axiarch import workflows

    workspace = _open(context, folder)
    wanted = _read(file)
    if not wanted.data:
        from dataclasses import replace

        wanted = replace(wanted, data=workflows.data_set(workspace).folder.name)
    if background:
        number = workflows.start_search(workspace, wanted, lanes or 0)
        print(f"search {number} runs in the background; see: axiarch status {number}")
        return 0
    return _run_search(workspace, wanted, lanes, as_json)


def _run_search(workspace: Workspace, wanted: SearchFile, lanes: int | None, as_json: bool) -> int:
    from axiarch import workflows

    return _follow(workspace, workflows.start_search(workspace, wanted, lanes or 0), as_json)


def _follow(workspace: Workspace, number: int, as_json: bool) -> int:
    """Wait for a search with progress on standard error, print its ranking, return the exit code."""
    from axiarch import workflows
    from axiarch.cli import printing
    from axiarch.cli.progress import Progress

    progress = Progress()
    code = 0
    try:
        snapshot = workflows.wait(workspace, number, progress.show)
    except KeyboardInterrupt:
        progress.note("stopping; what has ended is kept")
        workflows.steer_search(workspace, number, "stop")
        snapshot = workflows.wait(workspace, number)
        code = INTERRUPTED
    progress.close()
    if as_json:
        printing.print_json(printing.ranking_json(snapshot))
    else:
        printing.print_ranking(snapshot)
    return code or (0 if snapshot.search.state in ("done", "stopped") else 4)


@main.command()
@number_argument
@workspace_option
@json_option
@click.pass_context
@_guarded
def status(context: click.Context, number: int, folder: Path | None, as_json: bool) -> None:
    """Say how far a search is (the newest, if no number is given)."""
    from axiarch import workflows
    from axiarch.cli import printing

    snapshot = workflows.look_at(_open(context, folder), number)
    if as_json:
        printing.print_json(printing.status_json(snapshot))
    else:
        print(printing.progress_line(snapshot))
        for event in snapshot.events[-5:]:
            print(f"  {event.text}")


@main.command()
@number_argument
@workspace_option
@json_option
@click.option("--most", default=15, type=click.IntRange(1), help="Recipes printed.")
@click.pass_context
@_guarded
def ranking(context: click.Context, number: int, folder: Path | None, as_json: bool, most: int) -> None:
    """Print the ranking of a search."""
    from axiarch import workflows
    from axiarch.cli import printing

    snapshot = workflows.look_at(_open(context, folder), number)
    if as_json:
        printing.print_json(printing.ranking_json(snapshot))
    else:
        printing.print_ranking(snapshot, most)


@main.command()
@number_argument
@workspace_option
@click.pass_context
@_guarded
def pause(context: click.Context, number: int, folder: Path | None) -> None:
    """Pause a search that runs in the background."""
    _steer(context, folder, number, "pause")


@main.command()
@number_argument
@workspace_option
@click.pass_context
@_guarded
def stop(context: click.Context, number: int, folder: Path | None) -> None:
    """Stop a search; what has ended is kept, and it can be resumed."""
    _steer(context, folder, number, "stop")


@main.command()
@number_argument
@workspace_option
@lanes_option
@click.option("--background", is_flag=True, help="Return at once; the search goes on by itself.")
@json_option
@click.pass_context
@_guarded
def resume(context: click.Context, number: int, folder: Path | None, lanes: int | None, background: bool,
           as_json: bool) -> int:
    """Let a search go on that was paused, stopped or interrupted."""
    from axiarch import workflows

    workspace = _open(context, folder)
    snapshot = workflows.look_at(workspace, number)
    number = snapshot.search.number
    if snapshot.search.state == "paused":
        workflows.steer_search(workspace, number, "resume")
    else:
        workflows.resume_search(workspace, number, lanes or 0)
    if background:
        print(f"search {number} goes on in the background")
        return 0
    return _follow(workspace, number, as_json)


def _steer(context: click.Context, folder: Path | None, number: int, request: Request) -> None:
    from axiarch import workflows

    workspace = _open(context, folder)
    number = number or workflows.look_at(workspace).search.number
    workflows.steer_search(workspace, number, request)
    done = {"pause": "pauses", "resume": "goes on", "stop": "stops"}[request]
    print(f"search {number} {done}")


# -- export ----------------------------------------------------------------------------------------


@main.command()
@click.argument("what", type=click.Choice(["ranking", "chart", "curves"]))
@click.argument("file", type=click.Path(path_type=Path))
@click.option("--search", "number", default=0, help="Number of the search; the newest by default.")
@click.option("--recipe", default=0, help="Curves of one recipe instead of the leaders.")
@workspace_option
@click.pass_context
@_guarded
def export(context: click.Context, what: str, file: Path, number: int, recipe: int, folder: Path | None) -> None:
    """Write the ranking as .csv, or a chart of the ranking or of loss curves as .svg or .pdf."""
    from axiarch import workflows

    snapshot = workflows.look_at(_open(context, folder), number)
    if what == "ranking":
        written = [workflows.export_ranking(snapshot, file)]
    elif what == "chart":
        written = [workflows.export_chart(snapshot, file)]
    else:
        written = list(workflows.export_curves(snapshot, file, recipe))
    for path in written:
        print(path)


if __name__ == "__main__":
    main()
