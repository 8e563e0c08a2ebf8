"""What all commands share: options, where the workspace is, and how errors become messages and exit codes."""

from __future__ import annotations

import sys
from collections.abc import Callable
from functools import wraps
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from axiarch.errors import AxiarchError

if TYPE_CHECKING:
    from axiarch.journal.workspace import Workspace

#: Exit code of a command ended by Ctrl-C.
INTERRUPTED = 130


def guarded(command: Callable[..., int | None]) -> Callable[..., None]:
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


def default_folder() -> Path:
    import platformdirs

    return Path(platformdirs.user_data_dir("axiarch")) / "workspace"


workspace_option = click.option(
    "-w", "--workspace", "folder", type=click.Path(path_type=Path), envvar="AXIARCH_WORKSPACE",
    help="Folder that holds everything; by default one in your user data folder.")
json_option = click.option("--json", "as_json", is_flag=True, help="Print one JSON document.")
number_argument = click.argument("number", type=int, default=0)
search_option = click.option("--search", "number", default=0, help="Number of the search; the newest by default.")
lanes_option = click.option("--workers", "lanes", type=click.IntRange(1, 256), default=None,
                            help="Worker processes; by default one per core.")


def open_place(context: click.Context, folder: Path | None, create: bool = False) -> Workspace:
    from axiarch import workflows

    return workflows.open_workspace(folder or context.find_root().obj or default_folder(), create=create)
