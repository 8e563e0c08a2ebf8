"""A table that needs care, from the file to nothing left to warn of, by keyboard in a real
terminal.
"""

from __future__ import annotations

import unittest

from axiarch import workflows
from axiarch.journal.workspace import Workspace
from tests.journeys.terminal import TerminalCase


class MessyTable(TerminalCase):
    def test_open_look_mend_and_go_on(self) -> None:
        messy = workflows.write_demo_files(self.folder / "files")[1]
        place = self.folder / "w"
        terminal = self.open("-w", str(place))
        self.wait(terminal, "no data in this workspace")
        terminal.press("o")
        self.wait(terminal, "Open a table")
        terminal.type(str(messy))
        terminal.press("Enter")
        self.wait(terminal, "3100 rows", "leak in alarm_code", "2 things to look into first",
                  "it alone predicts state correctly in 99")
        terminal.press("End", "Up", "Up", "i")  # alarm_code
        self.wait(terminal, "1 thing to look into first", gone=["leak"])
        terminal.press("Up", "g")  # hive
        self.wait(terminal, "3100 rows", gone=["look into first"])
        data = workflows.data_set(Workspace.open(place))
        self.assertEqual((data.plan.ignore, data.plan.split.group), (("alarm_code",), "hive"))
        self.assertGreater(data.linear.loss if data.linear else 0.0, 0.9)
        terminal.press("n")
        self.wait(terminal, "1 knob varies")
        terminal.press("s")
        self.wait(terminal, "search 1")


if __name__ == "__main__":
    unittest.main()
