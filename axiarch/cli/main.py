"""The command line: every workflow without a terminal, and the door to the full-screen
application.
"""

from __future__ import annotations

import sys
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from axiarch import __version__
from axiarch.cli import learning, results, searches, ship, steering
from axiarch.cli.data import data
from axiarch.cli.options import (
    INTERRUPTED,
    FilePath,
    default_folder,
    guarded,
    json_option,
    workers_option,
    workspace_option,
)
from axiarch.cli.saying import print_json, say
from axiarch.cli.searches import run_search
from axiarch.errors import InputError
from axiarch.text import shown

if TYPE_CHECKING:
    from axiarch.journal.workspace import Workspace


class Program(click.Group):
    """The program: what is wrong with a command line is said as all else is."""

    def main(self, *args: Any, **extra: Any) -> Any:
        """Run a command, and end the process with its exit code."""
        extra["standalone_mode"] = False
        try:
            code = super().main(*args, **extra)
        except click.ClickException as error:
            context = getattr(error, "ctx", None)
            usage = [*context.get_usage().splitlines(), f"help:    {context.command_path} --help"
                     ] if context else []
            say(*usage, *f"axiarch: {error.format_message()}".splitlines(), error=True)
            code = error.exit_code
        except click.Abort:
            code = INTERRUPTED
        sys.exit(code if isinstance(code, int) else 0)


@click.group(cls=Program,
             invoke_without_command=True,
             context_settings={"help_option_names": ["-h", "--help"]})
@click.version_option(__version__, "--version")
@workspace_option
@click.pass_context
def main(context: click.Context, folder: Path | None) -> None:
    """Search training settings of small neural networks, ranked with honest uncertainty.

    Without a command, opens the full-screen application on the workspace.

    Exit codes: 0 done, 2 bad input, 3 workspace cannot be used, 4 training failed, 130 ended by
    Ctrl-C.
    """
    context.obj = folder
    if context.invoked_subcommand is None:
        guarded(_open_screen)(folder or default_folder())


def _open_screen(folder: Path) -> int:
    from axiarch import workflows

    if not (sys.stdin.isatty() and sys.stdout.isatty()):
        raise InputError("there is no terminal to draw on", "",
                         "name a command; see axiarch --help")
    return _screen(workflows.open_workspace(folder, create=True))


def _screen(workspace: Workspace) -> int:
    from axiarch.tui.run import run_app

    code, farewell = run_app(workspace)
    if farewell:
        say(farewell)
    return code


@main.command()
@workspace_option
@workers_option
@json_option
@click.option("--no-screen",
              is_flag=True,
              help="Run the whole example here even where there is a terminal.")
@click.pass_context
@guarded
def demo(context: click.Context, folder: Path | None, workers: int | None, as_json: bool,
         no_screen: bool) -> int:
    """Open the demo data; where there is no terminal, run the whole example and print the
    ranking.
    """
    from axiarch import workflows

    workspace = workflows.make_demo(folder or context.find_root().obj or Path("axiarch-demo"))
    if not no_screen and not as_json and sys.stdin.isatty() and sys.stdout.isatty():
        return _screen(workspace)
    data = workflows.data_set(workspace, "hive states")
    return run_search(workspace, workflows.demo_search(data), workers, as_json)


@main.command()
@click.argument("target", type=FilePath(), metavar="NEW_FOLDER")
@workspace_option
@json_option
@click.pass_context
@guarded
def rescue(context: click.Context, target: Path, folder: Path | None, as_json: bool) -> None:
    """Save what can be read of a damaged workspace into NEW_FOLDER; nothing is changed in the
    old one.
    """
    from dataclasses import asdict

    from axiarch import workflows

    found = workflows.rescue(folder or context.find_root().obj or default_folder(), target)
    if as_json:
        print_json({**asdict(found), "folder": str(found.folder)})
        return
    say(*(f"saved    {line}" for line in found.saved), *(f"lost     {line}" for line in found.lost))
    say(f"the new workspace is {found.folder}")


@main.command()
@click.option("--check", is_flag=True, help="Try each of them out, as the start of a search does.")
@json_option
@guarded
def members(check: bool, as_json: bool) -> int:
    """List activations, losses, optimisers and schedules that installed packages bring."""
    from dataclasses import asdict

    from axiarch import workflows

    found = workflows.installed_members(check)
    if as_json:
        print_json([asdict(each) for each in found])
        return 4 if any(each.problem for each in found) else 0
    for each in found:
        package = f"package {shown(each.package, 40)} {shown(each.version, 20)}".rstrip()
        if each.kind:
            say(f"{each.kind} {each.name}: {shown(each.formula, 80)} ({shown(each.source, 80)}); "
                f"{package}"
                )
        if each.problem:
            say(f"    {package}, {shown(each.name, 60)}: {shown(each.problem, 300)}")
        elif check:
            say("    tried out; nothing is wrong")
    if not found:
        say("no installed package brings any; to make one, see docs/members.md")
    return 4 if any(each.problem for each in found) else 0


main.add_command(data)
for command in (*searches.COMMANDS, *steering.COMMANDS, *results.COMMANDS, *learning.COMMANDS,
                *ship.COMMANDS):
    main.add_command(command)


if __name__ == "__main__":
    main()
