"""Run the application from a terminal."""

from __future__ import annotations

from axiarch.journal.workspace import Workspace
from axiarch.tui.app import AxiarchApp
from axiarch.tui.quiet import be_quiet


def run_app(workspace: Workspace) -> tuple[int, str]:
    """Run the application until the user leaves; return the exit code, and a farewell or
    nothing.
    """
    be_quiet()
    app = AxiarchApp(workspace)
    farewell = app.run()
    return app.return_code or 0, farewell or ""
