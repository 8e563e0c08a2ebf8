"""What the field shows of workers: a line each, or a line a machine where there are many."""

from __future__ import annotations

import unittest
from dataclasses import replace

from axiarch.journal.records import WorkerRecord
from axiarch.runs.states import SearchState, WorkerState
from axiarch.tui.plots.runs import Rows
from axiarch.tui.views.field import Workers
from axiarch.workflows.opening import open_workspace
from axiarch.workflows.snapshot import Snapshot
from axiarch.workflows.watching import snapshot_of
from tests.support import finished_workspace


def text(rows: Rows) -> str:
    return "\n".join("".join(part for part, _ in row) for row in rows)


class Machines(unittest.TestCase):
    def snapshot(self, *workers: WorkerRecord, state: SearchState = SearchState.RUNNING
                 ) -> Snapshot:
        s = snapshot_of(open_workspace(finished_workspace()))
        return replace(s, search=replace(s.search, state=state), workers=workers)

    def drawn(self, s: Snapshot) -> str:
        """Return the lines as they are drawn 120 columns wide."""
        return text(_rows(s))

    def test_a_few_have_a_line_each_with_their_machine(self) -> None:
        found = self.drawn(self.snapshot(
            WorkerRecord(0, "", WorkerState.IDLE), WorkerRecord(1, "node7", WorkerState.SILENT)))
        self.assertIn("worker 1 nothing to do", found)
        self.assertIn("worker 2 no answer", found)

    def test_many_have_a_line_a_machine(self) -> None:
        workers = [WorkerRecord(n, f"node{n // 8}\x1b[31m",
                                WorkerState.SILENT if n == 3 else WorkerState.TRAINING,
                                1 << 20, 0.5) for n in range(48)]
        found = self.drawn(self.snapshot(*workers))
        self.assertIn("7 of 8 workers train, 1 silent, 50 % busy, 8 MiB", found)
        self.assertIn("and 2 machines more with 16 workers", found)
        self.assertNotIn("\x1b", found)

    def test_a_search_that_is_over_or_interrupted_shows_none(self) -> None:
        for state in (SearchState.DONE, SearchState.INTERRUPTED):
            s = self.snapshot(WorkerRecord(0, "node7", WorkerState.TRAINING), state=state)
            self.assertNotIn("node7", self.drawn(s))


def _rows(s: Snapshot) -> Rows:
    workers = Workers()
    workers.snapshot = s
    return workers.draw(120, 10)


if __name__ == "__main__":
    unittest.main()
