"""Kept models: predictions equal those of the run, and new files are read as training rows were."""

from __future__ import annotations

import unittest
from pathlib import Path
from typing import Any

import numpy as np
import polars

from axiarch import workflows
from axiarch.data.building import build_dataset
from axiarch.data.checksums import row_hashes
from axiarch.data.dataset import Dataset
from axiarch.data.plan import DataPlan
from axiarch.data.reading import Reading, read_table
from axiarch.data.sealed import sealed_hashes, sealed_part
from axiarch.engine.predictor import Average, Predictor
from axiarch.engine.run import RunSpec
from axiarch.engine.streams import Streams
from axiarch.errors import AxiarchError, DataError, InputError, TrainingError
from axiarch.export.models import Model, keep_model, network_of, open_model, verify_model
from axiarch.export.predicting import predict_file
from axiarch.runner.material import training_data
from tests.support import FolderCase, Runs, recipe, write_csv

HEADER = ["id", "size", "colour", "grade", "seen", "plz", "=risky", "kind"]


def messy_rows(rows: int = 300, seed: int = 1) -> list[list[Any]]:
    """Return rows with ids, gaps, marks, categories, an order, dates and codes; two easy
    classes.
    """
    rng = np.random.default_rng(seed)
    found: list[list[Any]] = []
    for i in range(rows):
        size, colour = rng.normal(), ["red", "green", "blue"][rng.integers(3)]
        shown = "" if i % 11 == 0 else "n/a" if i % 13 == 0 else f"{size:.3f}"
        found.append([
            f"r{i:04d}x{rng.integers(1 << 30)}", shown, colour, ["low", "mid",
                                                                 "high"][rng.integers(3)],
            f"2024-{1 + i % 12:02d}-{1 + i % 28:02d}", f"0{100 + i % 5}",
            f"{rng.normal() * 10:.2f}", "yes" if size + (colour == "red") > 0.3 else "no"
        ])
    return found


def averaged(data: Dataset, folder: Path, widths: tuple[int, ...]) -> Model:
    """Train networks of some widths, keep their average as a model and open that."""
    models = [trained(data, folder, learning_rate=0.02, seed=i, network=str(width))[0]
              for i, width in enumerate(widths)]
    about = {**models[0].about, "networks": len(widths)}
    average = Average([model.networks[0] for model in models])
    keep_model(folder / "average.safetensors", data, 0, [m.recipes[0] for m in models], average,
               about)
    return open_model(folder / "average.safetensors")


def trained(data: Dataset,
            folder: Path,
            epochs: int = 3,
            seed: int = 2,
            **values: Any) -> tuple[Model, float]:
    """Train a network, keep it as a model and open that; also return the last validation loss."""
    made = recipe(epochs=epochs, **values)
    shape = network_of(made, data)
    training = Runs(shape, training_data(data),
                    made.word("precision")).add(RunSpec(1, made, Streams(seed)))
    for _ in range(epochs):
        progress = training.train_epoch()
    loss = progress.numbers.validation_loss
    about = {"name": "m", "note": "", "at": 0.0, "search": 1, "recipe": 1, "run": 1, "seed": 1,
             "epoch": epochs, "loss": loss, "metrics": list(progress.numbers.metrics)}
    path = folder / "m.safetensors"
    keep_model(path, data, 0, [made], Predictor(shape, training.evaluated), about)
    return open_model(path), loss


class Tables(FolderCase):
    def setUp(self) -> None:
        super().setUp()
        self.table = write_csv(self.folder / "t.csv", HEADER, messy_rows())
        plan = DataPlan().treated("grade", order=("low", "mid", "high"))
        self.data = build_dataset(read_table(self.table)[0], self.folder / "d", "d", plan=plan)
        self.model, self.loss = trained(self.data, self.folder)
        self.out = self.folder / "out.csv"

    def predicted(self, rows: list[list[Any]], header: list[str] = HEADER, name: str = "new.csv"
                  ) -> tuple[dict[str, Any], polars.DataFrame]:
        """Predict a file of some rows; return what was said and the table written."""
        path = write_csv(self.folder / name, header, rows)
        found = predict_file(self.model, path, self.out, force=True)
        return found, polars.read_csv(self.out)

    def test_the_kept_loss_is_found_again_to_the_bit(self) -> None:
        self.assertEqual(verify_model(self.model, self.data), (self.loss, self.loss))
        other = build_dataset(read_table(self.table)[0], self.folder / "o", "o")
        with self.assertRaisesRegex(TrainingError, "other data"):
            verify_model(self.model, other)

    def test_the_training_file_gives_the_validation_loss_and_no_sealed_score(self) -> None:
        found = predict_file(self.model, self.table, self.out)
        self.assertEqual((found["rows"], found["scored"]), (300, 60))
        self.assertAlmostEqual(found["metrics"]["log loss"], self.loss, places=6)
        self.assertIn("60 rows with the inputs of a sealed test row", " ".join(found["remarks"]))
        self.assertIn("180 rows with the inputs of a training row", " ".join(found["remarks"]))
        np.testing.assert_array_equal(sealed_hashes(self.data),
                                      row_hashes(sealed_part(self.data).inputs))

    def test_ids_are_carried_and_no_cell_is_a_formula(self) -> None:
        rows = [["=1+1", *row[1:]] for row in messy_rows(20, 5)]
        _, table = self.predicted(rows)
        self.assertEqual(set(table["id"]), {"'=1+1"})
        self.assertEqual(table.columns[:1], ["id"])
        self.assertIn("predicted kind", table.columns)
        sums = table["probability of no"] + table["probability of yes"]
        np.testing.assert_allclose(sums.to_numpy(), 1.0, atol=1e-6)

    def test_what_does_not_fit_is_counted(self) -> None:
        rows = messy_rows(40, 6)
        for row in rows[:7]:
            row[2] = "violet"
        for row in rows[:5]:
            row[6] = "9999"
        for row in rows[:3]:
            row[6] = "what"
        for row in rows[5:9]:
            row[4] = ""
        header = [*HEADER[:5], "postal", *HEADER[6:]]
        found, _ = self.predicted(rows, header)
        said = "\n".join(found["remarks"])
        for words in ("1 input column missing from the file: plz",
                      "1 column that the model does not use: postal",
                      "colour: 7 values outside the categories learnt",
                      "=risky: 2 values outside the range", "seen: 4 missing values",
                      "=risky: 3 values cannot be read"):
            self.assertIn(words, said)

    def test_order_of_columns_and_the_target_do_not_matter(self) -> None:
        rows = messy_rows(50, 7)
        _, straight = self.predicted(rows)
        turned = [[row[i] for i in (6, 5, 4, 3, 2, 1, 0)] for row in rows]
        found, other = self.predicted(turned, [HEADER[i] for i in (6, 5, 4, 3, 2, 1, 0)])
        self.assertEqual(found["scored"], 0)
        np.testing.assert_array_equal(straight["probability of yes"], other["probability of yes"])

    def test_rows_with_an_unknown_label_are_predicted_and_not_scored(self) -> None:
        rows = messy_rows(30, 8)
        for row in rows[:10]:
            row[7] = "perhaps"
        found, table = self.predicted(rows)
        self.assertEqual((table.height, found["scored"]), (30, 20))

    def test_other_formats_give_the_same(self) -> None:
        rows = messy_rows(30, 9)
        _, first = self.predicted(rows)
        frame = read_table(write_csv(self.folder / "n.csv", HEADER, rows), Reading())[0].source
        assert isinstance(frame, polars.DataFrame)
        frame.write_parquet(self.folder / "n.parquet")
        frame.write_ndjson(self.folder / "n.jsonl")
        for name in ("n.parquet", "n.jsonl"):
            out = self.folder / "o.parquet"
            predict_file(self.model, self.folder / name, out, force=True)
            np.testing.assert_array_equal(
                polars.read_parquet(out)["probability of yes"], first["probability of yes"])

    def test_a_file_that_fits_nothing_is_refused_and_nothing_is_left(self) -> None:
        path = write_csv(self.folder / "n.csv", ["a", "b"], [[1, 2], [3, 4]])
        with self.assertRaisesRegex(DataError, "no input column"):
            predict_file(self.model, path, self.out)
        self.assertFalse(self.out.exists())
        self.assertEqual([p for p in self.folder.iterdir() if p.name.startswith(".")], [])
        for place in (self.folder / "o.txt", self.folder):
            with self.assertRaises(InputError):
                predict_file(self.model, self.table, place)
        self.out.write_text("mine")
        with self.assertRaisesRegex(InputError, "there already"):
            predict_file(self.model, self.table, self.out)
        self.assertEqual(self.out.read_text(), "mine")

    def test_any_hostile_description_is_refused(self) -> None:
        from axiarch.engine.modelfile import read_model, write_model

        about, arrays = read_model(self.folder / "m.safetensors")
        bad = self.folder / "bad.safetensors"
        (own,) = about["recipes"]
        for change in ({"recipes": [{"width": 10**9}]}, {"recipes": 3}, {"recipes": []}, {
                "recipes": [own, own]
        }, {"recipes": [{**own, "width": 7}]}, {"recipes": [{**own, "width": 16384,
                                                             "depth": 64}]}, {"data": {}},
                       {"data": []}, {"data": {**about["data"], "folds": []}}, {"model": 1}):
            write_model(bad, arrays, {**about, **change})
            with self.subTest(change=str(change)[:40]), self.assertRaises(AxiarchError):
                open_model(bad)


class Amounts(FolderCase):
    def test_one_input_and_units(self) -> None:
        rng = np.random.default_rng(0)
        x = rng.uniform(1, 9, 300)
        rows = [[f"{a:.3f}", f"{5000 + 800 * a + rng.normal():.2f}"] for a in x]
        for scaling in ("z-score", "logarithm"):
            with self.subTest(scaling=scaling):
                table = write_csv(self.folder / "t.csv", ["x", "grams"], rows)
                plan = DataPlan(("grams",), target_scaling=scaling)  # type: ignore[arg-type]
                data = build_dataset(read_table(table)[0], self.folder / scaling, "d", plan=plan)
                model, loss = trained(data, self.folder, 60, learning_rate=0.02)
                self.assertEqual(verify_model(model, data), (loss, loss))
                new = write_csv(self.folder / "n.csv", ["x"], [["2"], ["5"], ["8"]])
                out = self.folder / "o.csv"
                predict_file(model, new, out, force=True)
                found = polars.read_csv(out)["predicted grams"].to_numpy()
                np.testing.assert_allclose(found, [6600, 9000, 11400], rtol=0.08)


class Pictures(FolderCase):
    def test_pictures_and_a_wrong_size(self) -> None:
        rng = np.random.default_rng(0)
        pixels = rng.integers(0, 200, (90, 6, 6), np.uint8)
        labels = np.arange(90) % 3
        pixels[labels == 1, :3] += 50
        np.savez(self.folder / "p.npz", images=pixels, labels=labels)
        data = build_dataset(read_table(self.folder / "p.npz")[0], self.folder / "d", "d")
        model, loss = trained(data, self.folder, network="conv 4, pool 2, hidden")
        self.assertEqual(verify_model(model, data), (loss, loss))
        out = self.folder / "o.csv"
        found = predict_file(model, self.folder / "p.npz", out)
        self.assertEqual((found["rows"], polars.read_csv(out).height), (90, 90))
        np.savez(self.folder / "q.npz", images=pixels[:, :5], labels=labels)
        with self.assertRaisesRegex(DataError, "pictures are 5 x 6"):
            predict_file(model, self.folder / "q.npz", out, force=True)


class Workflows(FolderCase):
    def test_keep_list_verify_predict_remove(self) -> None:
        import shutil

        from tests.support import finished_workspace

        shutil.copytree(finished_workspace(), self.folder / "w")
        workspace = workflows.open_workspace(self.folder / "w")
        snapshot = workflows.snapshot_of(workspace)
        leader = snapshot.ranking.rows[0].recipe
        kept = workflows.keep_model(workspace, snapshot, leader, "The best", "a  note\n")
        self.assertEqual((kept.name, kept.note, kept.recipe, kept.problem),
                         ("The best", "a note", leader, ""))
        run = snapshot.runs[kept.run]
        self.assertEqual(kept.loss, snapshot.curves[run.id].validation[run.best_epoch - 1])
        self.assertEqual([m.name for m in workflows.kept_models(workspace)], ["The best"])
        self.assertEqual(
            workflows.verify_model(workspace, workflows.find_model(workspace, "The best")),
            (kept.loss, kept.loss))
        with self.assertRaisesRegex(InputError, "there already"):
            workflows.keep_model(workspace, snapshot, leader, "the BEST")
        with self.assertRaisesRegex(InputError, "'The best'"):
            workflows.find_model(workspace, "other")
        new = write_csv(self.folder / "n.csv", ["x", "y", "side"], [[0, 0, "a"], [3, 3, "b"]])
        steps: list[str] = []
        found = workflows.predict(kept,
                                  new,
                                  self.folder / "o.csv",
                                  on_progress=lambda step, _: steps.append(step))
        self.assertEqual((found["rows"], found["scored"]), (2, 0))
        self.assertIn("predicting", steps)
        with self.assertRaises(DataError):
            workflows.predict(kept, self.folder / "none.csv", self.folder / "o2.csv")
        (workspace.models / "bad.safetensors").write_bytes(b"nothing")
        self.assertEqual([bool(m.problem) for m in workflows.kept_models(workspace)], [False, True])
        size = kept.path.stat().st_size
        self.assertEqual(workflows.remove_model(workspace, kept), size)
        self.assertFalse(kept.path.exists())


if __name__ == "__main__":
    unittest.main()
