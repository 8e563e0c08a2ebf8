"""Bring a table into a workspace: read, checked, split, encoded, its test rows sealed."""

from __future__ import annotations

from pathlib import Path

from axiarch.data.dataset import Dataset, build_dataset
from axiarch.data.plan import DataPlan, SplitPlan
from axiarch.data.table import read_table
from axiarch.errors import AxiarchError, DataError, WorkspaceReadOnly
from axiarch.journal.workspace import Workspace
from axiarch.plain import shown


def add_table(workspace: Workspace, path: Path, *, name: str = "", target: str | None = None,
              ignore: tuple[str, ...] = (), seed: int = 1, plan: DataPlan | None = None) -> Dataset:
    """Add a table to a workspace: delimited text, Parquet, Arrow, JSON lines or Excel.

    Parameters
    ----------
    name : str, optional
        What to call it; by default the file's name.
    target, ignore, seed : optional
        The decisions made most often: the column to be predicted (by default proposed), columns to leave
        out besides those that look like identifiers, and what fixes the split.
    plan : DataPlan, optional
        All decisions at once; then the three above are not looked at.

    Raises
    ------
    DataError
        With the place and what to do. Nothing is added then.
    """
    workspace.check_writable()
    plan = plan or DataPlan(target=target, ignore=ignore, split=SplitPlan(seed=seed))
    name = name or path.stem.replace("-", " ").replace("_", " ")
    folder = workspace.data(name)
    if folder.exists():
        raise DataError(f"a data set called {shown(name)!r} is there already", shown(workspace.folder),
                        "choose another name")
    frame, how = read_table(path, plan.said)
    try:
        return build_dataset(frame, folder, shown(name), shown(path), plan, how)
    except AxiarchError as error:
        raise error.at(shown(path)) from None
    except OSError as error:
        raise WorkspaceReadOnly(f"the data cannot be written: {error.strerror}", shown(folder),
                                "free some space or change the permissions") from None
