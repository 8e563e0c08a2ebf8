"""Set up the demo: the hive-states table of the invented co-operative Marrowfen, and a search to begin with."""

from __future__ import annotations

import tempfile
from pathlib import Path

from axiarch.data.dataset import Dataset
from axiarch.data.demo import hive_states, messy_hive_states
from axiarch.errors import WorkspaceReadOnly
from axiarch.journal.workspace import Workspace
from axiarch.recipes.searchfile import SearchFile
from axiarch.workflows.adding import add_table
from axiarch.workflows.drafting import new_search, save_draft
from axiarch.workflows.opening import data_set

#: What the demo data set is called.
HIVE_STATES = "hive states"


def make_demo(folder: Path) -> Workspace:
    """Return the demo workspace in `folder`, made if it is not there yet."""
    workspace = Workspace.create(folder)
    if workspace.data(HIVE_STATES).name not in workspace.data_names():
        with tempfile.TemporaryDirectory() as place:
            table = hive_states().to_csv(Path(place) / "hive-states.csv")
            add_table(workspace, table, name=HIVE_STATES, target="state")
        save_draft(workspace, demo_search(data_set(workspace, HIVE_STATES)))
    return workspace


def write_demo_files(folder: Path) -> list[Path]:
    """Write the demo tables as files, a clean and a messy one, and return their paths.

    Raises
    ------
    WorkspaceReadOnly
    """
    try:
        folder.mkdir(parents=True, exist_ok=True)
        return [hive_states().to_csv(folder / "hive-states.csv"),
                messy_hive_states(folder / "hive-states-messy.csv")]
    except OSError as error:
        raise WorkspaceReadOnly(f"the demo files cannot be written: {error.strerror}", str(folder),
                                "choose another folder") from None


def demo_search(data: Dataset) -> SearchFile:
    """Return the search that the demo begins with: six knobs, forty recipes, three seeds each."""
    return new_search(
        data, name="first look", base={"epochs": 40, "patience": 8},
        vary={
            "batch_size": "16 | 32 | 64 | 128",
            "learning_rate": "1e-4 .. 1e-1 log",
            "width": "16 .. 128 doubling",
            "optimiser": "sgd | momentum | adam",
            "dropout": "0 .. 0.6",
            "weight_decay": "1e-4 .. 1 log when optimiser = adam",
        },
        recipes=40, repeats=3,
    )
