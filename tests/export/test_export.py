"""What is exported: exact, safe to open, whole or not at all."""

from __future__ import annotations

import csv
import io
import unittest
import xml.etree.ElementTree as ET

import polars
from hypothesis import given
from hypothesis import strategies as st

from axiarch import workflows
from axiarch.errors import InputError, WorkspaceReadOnly
from axiarch.export.figures import Line, curves_figure, ladder_figure, save_figure
from axiarch.export.tables import csv_text, ranking_rows, write_csv
from axiarch.ranking.rank import rank
from axiarch.recipes.recipe import Recipe
from tests.ranking.test_rank import flat, run
from tests.support import FolderCase, finished_workspace

RANKING = rank([flat(1, 0.5), flat(1, 0.52), flat(2, 0.7), flat(2, 0.8), run(3, 1.0, ended=False)],
               {1: 10, 2: 20, 3: 30})
RECIPES = {1: Recipe(), 2: Recipe({"learning_rate": 0.012345}), 3: Recipe({"optimiser": "sgd"})}


class Tables(FolderCase):
    def test_the_ranking_holds_every_value_of_every_recipe(self) -> None:
        header, rows = ranking_rows(RANKING, RECIPES)
        table = list(csv.DictReader(io.StringIO(csv_text(header, rows))))
        self.assertEqual([row["recipe"] for row in table], ["1", "2", "3"])
        self.assertEqual(float(table[1]["learning_rate"]), 0.012345)
        self.assertAlmostEqual(float(table[0]["steady validation loss (nats)"]), 0.51)
        self.assertEqual((table[2]["standing"], table[2]["place"]), ("no result", ""))

    @given(st.text(max_size=20))
    def test_no_text_becomes_a_formula_or_breaks_the_table(self, text: str) -> None:
        table = list(csv.reader(io.StringIO(csv_text(["a", "b"], [[text, 1.5]]))))
        self.assertEqual(len(table), 2)
        self.assertEqual(table[1][1], "1.5")
        if table[1][0][:1] in ("=", "+", "-", "@"):
            float(table[1][0])

    def test_numbers_keep_all_their_digits(self) -> None:
        self.assertIn("0.1234567890123456", csv_text(["a"], [[0.1234567890123456]]))

    def test_a_place_that_cannot_be_written_is_said(self) -> None:
        (self.folder / "file").write_text("x")
        with self.assertRaises(WorkspaceReadOnly):
            write_csv(self.folder / "file" / "t.csv", ["a"], [])

    def test_what_was_there_stays_if_writing_fails(self) -> None:
        path = write_csv(self.folder / "t.csv", ["a"], [[1]])

        def broken() -> object:
            yield [1]
            raise OSError(28, "No space left on device")

        with self.assertRaises(OSError):
            write_csv(path, ["a"], broken())  # type: ignore[arg-type]
        self.assertEqual(path.read_text(), "a\n1\n")
        self.assertEqual(len(list(self.folder.iterdir())), 1)


class Figures(FolderCase):
    def test_charts_are_svg_and_pdf(self) -> None:
        rows = [(r, f"recipe {r.recipe}") for r in RANKING.rows]
        figure = ladder_figure(rows, [("baseline", 1.4)], "title", "loss (nats)")
        svg = save_figure(figure, self.folder / "a.svg")
        self.assertIn("recipe 2", "".join(ET.parse(svg).getroot().itertext()))
        self.assertTrue(save_figure(figure, self.folder / "a.pdf").read_bytes().startswith(b"%PDF"))

    def test_the_same_figure_is_the_same_file(self) -> None:
        files = []
        for name in ("a.svg", "b.svg"):
            figure = curves_figure([Line("validation", [1.0, float("inf"), 0.5])],
                                   [("baseline", 1.4)], "t", "loss (nats)")
            files.append(save_figure(figure, self.folder / name).read_bytes())
        self.assertEqual(files[0], files[1])

    def test_names_are_not_read_as_mathematics_or_markup(self) -> None:
        figure = curves_figure([Line("$\\frac{1}$ <b>\x1b[31m", [1.0, 0.5])], [("baseline", 1.4)],
                               "$x_{$", "loss (nats)")
        text = "".join(ET.parse(save_figure(figure, self.folder / "a.svg")).getroot().itertext())
        self.assertIn("<b>␛[31m", text)

    def test_another_ending_is_refused(self) -> None:
        for name in ("a.png", "a"):
            with self.assertRaises(InputError):
                save_figure(curves_figure([Line("x", [1.0, 0.5])], [], "t", "loss (nats)"),
                            self.folder / name)


class RunsAndEpochs(FolderCase):
    def test_every_format_holds_every_run_and_epoch(self) -> None:
        snapshot = workflows.snapshot_of(workflows.open_workspace(finished_workspace()))
        runs = polars.read_csv(workflows.export_runs(snapshot, self.folder / "r.csv"))
        self.assertEqual(runs["run"].to_list(), sorted(snapshot.runs))
        self.assertEqual(len(set(runs.columns)), len(runs.columns))
        epochs = polars.read_csv(workflows.export_epochs(snapshot, self.folder / "e.csv"))
        self.assertEqual(epochs.height, sum(map(len, snapshot.curves.values())))
        for row in runs.iter_rows(named=True):
            curve = snapshot.curves[row["run"]]
            own = epochs.filter(polars.col("run") == row["run"])["validation loss (nats)"].to_list()
            self.assertEqual(own, list(curve.validation), "all digits")
            self.assertEqual(row["steady validation loss (nats)"], curve.steady)
            self.assertEqual(row["learning_rate"],
                             snapshot.recipes[row["recipe"]].recipe["learning_rate"])
        for write, frame in ((workflows.export_runs, runs), (workflows.export_epochs, epochs)):
            parquet = polars.read_parquet(write(snapshot,
                                                self.folder / f"{write.__name__}.parquet"))
            lines = polars.read_ndjson(write(snapshot, self.folder / f"{write.__name__}.jsonl"))
            self.assertEqual((parquet.columns, set(lines.columns)),
                             (frame.columns, set(frame.columns)))
            self.assertEqual(parquet["run"].to_list(), frame["run"].to_list())
            self.assertEqual(lines["run"].to_list(), frame["run"].to_list())
        with self.assertRaises(InputError):
            workflows.export_runs(snapshot, self.folder / "r.csv")


if __name__ == "__main__":
    unittest.main()
