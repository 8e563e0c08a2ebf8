"""Set up the demo: the three data sets of the invented co-operative Marrowfen, and a search to
begin with.
"""

from __future__ import annotations

import tempfile
from pathlib import Path

from axiarch.data.baseline import Baseline
from axiarch.data.dataset import Dataset
from axiarch.data.demo import hive_states, messy_hive_states
from axiarch.data.demo_hum import hum
from axiarch.data.demo_nectar import nectar_flow
from axiarch.errors import WorkspaceReadOnly
from axiarch.journal.workspace import Workspace
from axiarch.recipes.searchfile import SearchFile
from axiarch.workflows.adding import add_table
from axiarch.workflows.drafting import new_search, save_draft
from axiarch.workflows.opening import data_set

#: What the demo data sets are called.
HIVE_STATES, NECTAR_FLOW, HUM = "hive states", "nectar flow", "hum"


def make_demo(folder: Path) -> Workspace:
    """Return the demo workspace in `folder`, with the data sets made that are not there yet."""
    workspace = Workspace.create(folder)
    fresh = not workspace.data_names()
    with tempfile.TemporaryDirectory() as place:
        for name in (HIVE_STATES, NECTAR_FLOW, HUM):
            if workspace.data(name).name not in workspace.data_names():
                _add(workspace, name, Path(place))
    if fresh:
        save_draft(workspace, demo_search(data_set(workspace, HIVE_STATES)))
    return workspace


def _add(workspace: Workspace, name: str, place: Path) -> Dataset:
    """Add one of the demo data sets, with what is known of its noise."""
    if name == HIVE_STATES:
        states = hive_states()
        return add_table(workspace,
                         states.to_csv(place / "hive-states.csv"),
                         name=name,
                         target="state",
                         rule=HIVE_STATES,
                         noise_floor=Baseline(states.best_loss,
                                              (states.best_accuracy, states.best_balanced)))
    if name == NECTAR_FLOW:
        flow = nectar_flow()
        return add_table(workspace,
                         flow.to_csv(place / "nectar-flow.csv"),
                         name=name,
                         target="gain_g",
                         rule=NECTAR_FLOW,
                         noise_floor=Baseline(flow.best_rmse, (flow.best_mae, flow.best_r2)))
    made = hum()
    return add_table(workspace, made.to_npz(place / "hum.npz"), name=name, target="label",
                     noise_floor=Baseline(made.best_loss, (made.best_accuracy, made.best_balanced)))


def write_demo_files(folder: Path) -> list[Path]:
    """Write the demo data as files, the hive states also as a messy table, and return their paths.

    Raises
    ------
    WorkspaceReadOnly
    """
    try:
        folder.mkdir(parents=True, exist_ok=True)
        return [hive_states().to_csv(folder / "hive-states.csv"),
                messy_hive_states(folder / "hive-states-messy.csv"),
                nectar_flow().to_csv(folder / "nectar-flow.csv"), hum().to_npz(folder / "hum.npz")]
    except OSError as error:
        raise WorkspaceReadOnly(f"the demo files cannot be written: {error.strerror}", str(folder),
                                "choose another folder") from None


def demo_search(data: Dataset) -> SearchFile:
    """Return the search that the demo begins with: six knobs, 120 recipes raced, the best on
    three seeds.
    """
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
        recipes=120, repeats=3,
    )
