"""What all commands share: options, where the workspace is, and how errors become messages and
exit codes.
"""

from __future__ import annotations

import contextlib
import os
import sys
from collections.abc import Callable
from functools import partial, wraps
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from axiarch.errors import AxiarchError, WorkspaceError
from axiarch.recipes.bounds import MOST_NUMBER

if TYPE_CHECKING:
    from axiarch.journal.workspace import Workspace
    from axiarch.workflows.snapshot import Snapshot

#: Exit code of a command ended by Ctrl-C.
INTERRUPTED = 130


#: Exit code where a reader of the output has gone away, as of programs that SIGPIPE ends.
UNREAD = 141


def guarded(command: Callable[..., int | None]) -> Callable[..., None]:
    """Turn errors into messages and exit codes."""

    @wraps(command)
    def run(*args: Any, **kwargs: Any) -> None:
        from axiarch.cli.saying import print_error, say

        try:
            code = command(*args, **kwargs) or 0
            sys.stdout.flush()
        except AxiarchError as error:
            code = error.exit_code
            _tell(partial(print_error, error))
        except KeyboardInterrupt:
            code = INTERRUPTED
            _tell(partial(say, "stopped", error=True))
        except BrokenPipeError:
            code = UNREAD
        except OSError as error:
            code = 3
            failed = WorkspaceError(f"reading or writing failed: {error.strerror or error}",
                                    str(error.filename or "output"), "free some disk space, or "
                                    "check the place and its permissions")
            _tell(partial(print_error, failed))
        _leave(code)

    return run


def _tell(what: Callable[[], None]) -> None:
    """Say something, if anybody can still be told."""
    with contextlib.suppress(OSError, ValueError):
        what()


def _leave(code: int) -> None:
    """End the program; output that cannot be written any more is dropped without a traceback."""
    for stream in (sys.stdout, sys.stderr):
        try:
            stream.flush()
        except (OSError, ValueError):
            code = code or 3
            with contextlib.suppress(OSError):
                os.dup2(os.open(os.devnull, os.O_WRONLY), stream.fileno())
    sys.exit(code)


class FilePath(click.Path):
    """A path of a file or folder, checked no further than that it can be one."""

    name = "path"

    def __init__(self) -> None:
        super().__init__(path_type=Path)

    def convert(self, value: Any, param: click.Parameter | None,
                context: click.Context | None) -> Any:
        """Return the path, or fail where the system could not even look for it."""
        try:
            if b"\0" in os.fsencode(value):
                self.fail("a path cannot hold a NUL character", param, context)
        except UnicodeEncodeError:
            self.fail("a path cannot hold this character", param, context)
        return super().convert(value, param, context)


def default_folder() -> Path:
    import platformdirs

    return Path(platformdirs.user_data_dir("axiarch")) / "workspace"


workspace_option = click.option(
    "-w", "--workspace", "folder", type=FilePath(), envvar="AXIARCH_WORKSPACE",
    help="Workspace folder (default: one in your user data folder).")
json_option = click.option("--json", "as_json", is_flag=True, help="Print one JSON document.")
number_argument = click.argument("number", type=click.IntRange(0, MOST_NUMBER), default=0)
search_option = click.option("--search", "number", default=0, type=click.IntRange(0, MOST_NUMBER),
                             help="Number of the search; the newest by default.")
#: What ``--cluster`` is given to train on this machine without a cluster.
HERE = "here"
cluster_option = click.option(
    "--cluster", default=None, metavar="ADDRESS",
    help="Train on the workers of a Dask cluster: the address of its scheduler, such as "
    "tcp://host:8786, or local:4 for one on this machine. 'here' trains in worker processes on "
    "this machine, whatever the search file says.")
workers_option = click.option("--workers", "workers", type=click.IntRange(1, 256), default=None,
                            help="Worker processes; by default one per core.")


def open_place(context: click.Context, folder: Path | None, create: bool = False) -> Workspace:
    from axiarch import workflows

    return workflows.open_workspace(folder or context.find_root().obj or default_folder(),
                                    create=create)


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
