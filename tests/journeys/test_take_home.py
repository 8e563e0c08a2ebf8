"""From a finished search to the opened seal, a model, its exported file, predictions and the
report, by keyboard.
"""

from __future__ import annotations

import unittest
from pathlib import Path
from typing import Any

import numpy as np
import polars

from axiarch import workflows
from axiarch.data.demo import messy_hive_states
from axiarch.data.demo_hum import hum
from axiarch.data.demo_nectar import nectar_flow
from axiarch.data.newrows import open_rows
from axiarch.data.plan import DataPlan
from axiarch.export.models import open_model
from axiarch.export.network import feeds
from tests.export.test_network import session
from tests.journeys.terminal import TerminalCase


class TakeHome(TerminalCase):
    def take_home(self, name: str, table: Path, plan: DataPlan, new: Path, **base: Any) -> None:
        """Search, then do everything with the leader that a user does; check the files against
        each other.
        """
        place = self.folder / name
        workspace = workflows.open_workspace(place, create=True)
        data = workflows.add_table(workspace, table, name=name, plan=plan)
        search = workflows.new_search(data,
                                      base={"epochs": 6, **base},
                                      vary={"learning_rate": "0.01 | 0.003"},
                                      method="grid")
        leader = workflows.wait(workspace, workflows.start_search(workspace, search,
                                                                  2)).ranking.rows[0].recipe
        terminal = self.open("-w", str(place))
        self.wait(terminal, "search 1 done")
        terminal.press("6")
        self.wait(terminal, f"Recipe {leader} on the validation rows")
        terminal.press("C-o")
        self.wait(terminal, f"This scores recipe {leader}")
        terminal.type("the last look")
        terminal.press("Enter")
        self.wait(terminal, f"Recipe {leader} on the test rows")
        terminal.press("K")
        self.wait(terminal, "as a model?")
        terminal.type("final")
        terminal.press("Enter")
        self.wait(terminal, "Kept 'final'")
        terminal.press("M")
        self.wait(terminal, "mark to compare")
        terminal.press("x")
        self.wait(terminal, "It differs from our own predictions by")
        terminal.press("M")
        self.wait(terminal, "mark to compare")
        terminal.press("p")
        self.wait(terminal, "type a path")
        terminal.type(str(new))
        terminal.press("Enter")
        self.wait(terminal, "rows predicted")
        terminal.press("R")
        self.wait(terminal, "Written: search-1-report.html")
        (opening,) = workflows.openings(workspace, data)
        self.assertEqual((opening.recipe, opening.reason), (leader, "the last look"))
        report = (workspace.exports / "search-1-report.html").read_text(encoding="utf-8")
        self.assertIn("opened once", report)
        self.same(workspace.models / "final.safetensors", workspace.exports / "final.onnx", new,
                  workspace.exports / f"{new.stem}-predicted.csv")

    def same(self, model: Path, network: Path, new: Path, predicted: Path) -> None:
        """An independent runtime predicts from the raw columns what the file of predictions
        holds.
        """
        opened = open_model(model)
        codes = opened.data.encoding.codes
        if new.suffix == ".npz":
            pixels = next(array for array in np.load(new).values() if array.ndim > 2)
            columns: dict[str, Any] = {
                codes[0].name: pixels.reshape(len(pixels), 16, 16, 1).astype(np.float32)
            }
        else:
            columns = raw_columns(opened.data, new)
        found = session(network).run(None, feeds(opened, columns))
        table = polars.read_csv(predicted)
        if opened.data.classes:
            own = table.select([f"probability of {c}" for c in opened.data.classes]).to_numpy()
            np.testing.assert_allclose(own, found[-1], atol=1e-5)
        else:
            own = table[f"predicted {opened.data.target.columns[0]}"].to_numpy()
            np.testing.assert_allclose(own, found[0][:, 0], atol=1e-5 * opened.data.target.units[0])
        pieces, _ = open_rows(new, opened.data, 0)
        self.assertEqual(sum(len(piece.inputs) for piece in pieces), len(own))

    def test_amounts_with_dates_and_gaps(self) -> None:
        new = nectar_flow(300, seed=77)
        table = nectar_flow().to_csv(self.folder / "nectar.csv")
        self.take_home("nectar", table, DataPlan(("gain_g", )),
                       new.to_csv(self.folder / "tomorrow.csv"))

    def test_a_messy_table_of_classes(self) -> None:
        table = messy_hive_states(self.folder / "hives.csv")
        plan = DataPlan(("state",), ignore=("alarm_code",))
        self.take_home("hives", table, plan,
                       messy_hive_states(self.folder / "tomorrow.csv", 300, seed=78))

    def test_pictures(self) -> None:
        self.take_home("hum",
                       hum(600).to_npz(self.folder / "hum.npz"),
                       DataPlan(),
                       hum(200, seed=79).to_npz(self.folder / "tomorrow.npz"),
                       network="conv 4, pool 2, hidden")


def raw_columns(data: Any, path: Path) -> dict[str, Any]:
    """Return the columns of a file as an exported network takes them: text as it is, numbers as
    numbers.
    """
    with path.open(encoding="utf-8") as file:
        separator = ";" if ";" in file.readline() else ","
    table = polars.read_csv(path, separator=separator, infer_schema=False)
    columns: dict[str, Any] = {}
    for code in data.encoding.codes:
        texts = table[code.name].to_list()
        if type(code).__name__ == "NumberCode":
            texts = [
                None if t is None or not t.strip() else float(t.replace("%", "").replace(",", "."))
                for t in texts
            ]
        columns[code.name] = texts
    return columns


if __name__ == "__main__":
    unittest.main()
