"""An exported network gives what our own predictor gives, in an independent runtime."""

from __future__ import annotations

import datetime
import json
import unittest
from pathlib import Path
from typing import Any

import numpy as np
import onnxruntime
import polars

from axiarch.data.building import build_dataset
from axiarch.data.dataset import Dataset
from axiarch.data.newrows import open_rows
from axiarch.data.plan import DataPlan
from axiarch.data.reading import read_table
from axiarch.data.table import Table
from axiarch.errors import InputError
from axiarch.export.models import Model
from axiarch.export.network import export_network, feeds
from axiarch.recipes.members import ACTIVATIONS
from tests.export.test_models import averaged, trained
from tests.support import FolderCase, write_csv


def session(path: Path) -> onnxruntime.InferenceSession:
    """Return an independent runtime with a file loaded."""
    options = onnxruntime.SessionOptions()
    options.intra_op_num_threads = 1
    options.log_severity_level = 3
    return onnxruntime.InferenceSession(str(path), options, providers=["CPUExecutionProvider"])


class NetworkCase(FolderCase):
    def exported(self, model: Model) -> onnxruntime.InferenceSession:
        """Return a model as the runtime loads it."""
        path = self.folder / "m.onnx"
        found = export_network(model, path, force=True)
        self.assertLess(found["difference"], 1e-5)
        return session(path)

    def check(self, model: Model, columns: dict[str, Any], own: np.ndarray, loaded: Any) -> None:
        """The runtime must give our predictions for raw columns."""
        found = loaded.run(None, feeds(model, columns))
        if model.data.classes:
            np.testing.assert_allclose(found[-1], own, atol=1e-5)
            self.assertEqual(list(found[0]), [model.data.classes[i] for i in own.argmax(1)])
        else:
            true = np.asarray(model.data.target.decode(own))
            scale = np.array(model.data.target.units)
            np.testing.assert_allclose(found[0] / scale, true / scale, atol=1e-5)


def odd_frame(rows: int = 240, seed: int = 0) -> polars.DataFrame:
    """Return a table with gaps, marks, long tails, odd categories, an order, dates with hours,
    and two targets.
    """
    rng = np.random.default_rng(seed)
    gap = lambda values: [None if rng.random() < 0.1 else v for v in values]  # noqa: E731
    names = ["a(b)", "x.*", "é–ü", "two words", "[0-9]+", "back\\slash", "_u", "50 %"]
    start = datetime.datetime(2019, 12, 28)
    size = rng.normal(size=rows)
    return polars.DataFrame(
        {
            "size": gap(size),
            "mark": [-999.0 if i % 9 == 0 else float(i % 7) for i in range(rows)],
            "tail": np.exp(4 * rng.normal(size=rows)),
            "name": gap([names[i] for i in rng.integers(0, 8, rows)]),
            "rare": [f"r{i}" if i % 2 == 0 and i < 40 else f"c{i % 13}" for i in range(rows)],
            "grade": gap([["low", "mid", "high"][i] for i in rng.integers(0, 3, rows)]),
            "at": gap(
                [start + datetime.timedelta(hours=int(h)) for h in rng.integers(0, 20_000, rows)]),
            "on": [(start + datetime.timedelta(days=int(d))).date()
                   for d in rng.integers(0, 900, rows)],
            "probabilities": rng.normal(size=rows),
            "class": ["p" if s > 0 else "q" if s > -0.7 else "z" for s in size],
            "amount": 100 + 10 * size,
            "gain": np.exp(size),
        },
        schema_overrides={"name": polars.String, "grade": polars.String, "at": polars.Datetime})


class Tables(NetworkCase):
    def made(self, targets: tuple[str, ...], drop: tuple[str, ...], **more: Any) -> Dataset:
        frame = odd_frame().drop(drop)
        plan = DataPlan(targets, **more).treated("grade", order=("low", "mid", "high")).treated(
            "mark", missing=("-999",)).treated("name", merge_case=True)
        return build_dataset(Table.of(frame),
                             self.folder / f"d{len(list(self.folder.iterdir()))}",
                             "d",
                             plan=plan)

    def raw(self, data: Dataset, seed: int = 9) -> tuple[dict[str, Any], np.ndarray]:
        """Return new raw columns, and the inputs that reading them as a file gives."""
        frame = odd_frame(60, seed).with_columns(
            name=polars.Series(["  A(B) ", "É–ü", "new", "", *odd_frame(60, seed)["name"][4:]]),
            rare=polars.Series(["never", " c3", *odd_frame(60, seed)["rare"][2:]]))
        frame.write_parquet(self.folder / "new.parquet")
        pieces, _ = open_rows(self.folder / "new.parquet", data, 0)
        return {n: frame[n].to_list()
                for n in frame.columns}, np.concatenate([p.inputs for p in pieces])

    def test_every_kind_of_column_classes(self) -> None:
        data = self.made(("class",), ("amount", "gain"))
        kinds = {type(code).__name__ for code in data.encoding.codes}
        self.assertEqual(kinds, {"NumberCode", "TextCode", "OrderCode", "DateCode"})
        model, _ = trained(data, self.folder, learning_rate=0.02)
        columns, inputs = self.raw(data)
        self.check(model, columns, model.predictor.predict(inputs), self.exported(model))

    def test_amounts_several_and_by_logarithm(self) -> None:
        cases: tuple[tuple[tuple[str, ...], dict[str, Any]],
                     ...] = ((("amount", ), {}), (("amount", "gain"), {}),
                             (("gain", ), {"target_scaling": "logarithm"}))
        for targets, more in cases:
            with self.subTest(targets=targets):
                drop = tuple(n for n in ("class", "amount", "gain") if n not in targets)
                data = self.made(targets, drop, **more)
                model, _ = trained(data, self.folder, learning_rate=0.02)
                columns, inputs = self.raw(data)
                self.check(model, columns, model.predictor.predict(inputs), self.exported(model))

    def test_the_average_of_several_networks_is_one_file(self) -> None:
        for targets in (("class",), ("amount", "gain")):
            with self.subTest(targets=targets):
                data = self.made(targets, tuple({"class", "amount", "gain"} - set(targets)))
                model = averaged(data, self.folder, (4, 8, 6))
                columns, inputs = self.raw(data)
                each = [network.predict(inputs) for network in model.networks]
                own = model.predictor.predict(inputs)
                np.testing.assert_allclose(own, np.mean(each, axis=0), atol=1e-15)
                loaded = self.exported(model)
                self.check(model, columns, own, loaded)
                self.assertIn('"recipes"', json.dumps(loaded.get_modelmeta().custom_metadata_map))

    def test_every_activation_and_normalisation(self) -> None:
        data = self.made(("class",), ("amount", "gain"))
        columns, inputs = self.raw(data)
        for i, activation in enumerate(ACTIVATIONS):
            norm = ("none", "batch", "layer")[i % 3]
            with self.subTest(activation=activation, norm=norm):
                model, _ = trained(data,
                                   self.folder,
                                   2,
                                   activation=activation,
                                   normalisation=norm,
                                   depth=3,
                                   residual="yes",
                                   dropout=0.2)
                self.check(model, columns, model.predictor.predict(inputs), self.exported(model))

    def test_two_classes_written_as_text_with_other_marks(self) -> None:
        rng = np.random.default_rng(3)
        rows = [[("n/a" if i % 17 == 0 else f"{v:.2f}"), f"{2000 + i % 20}-0{1 + i % 9}-11",
                 "YES " if v > 0 else " no"] for i, v in enumerate(rng.normal(size=150))]
        table = write_csv(self.folder / "t.csv", ["v", "day", "ok"], rows)
        data = build_dataset(read_table(table)[0], self.folder / "d", "d")
        model, _ = trained(data, self.folder, learning_rate=0.02)
        pieces, _ = open_rows(table, data)
        inputs = np.concatenate([p.inputs for p in pieces])
        columns = {
            "v": [None if r[0] == "n/a" else float(r[0]) for r in rows],
            "day": [r[1] for r in rows]
        }
        self.check(model, columns, model.predictor.predict(inputs), self.exported(model))

    def test_the_file_says_what_it_is_and_replaces_nothing(self) -> None:
        data = self.made(("class",), ("amount", "gain"))
        model, _ = trained(data, self.folder)
        loaded = self.exported(model)
        known = {
            name: json.loads(text)
            for name, text in loaded.get_modelmeta().custom_metadata_map.items()
        }
        self.assertEqual((known["classes"], known["data_fingerprint"]),
                         (["p", "q", "z"], data.fingerprint))
        self.assertEqual(known["recipe"], dict(model.recipes[0]))
        self.assertEqual([i.name for i in loaded.get_inputs()],
                         [c.name for c in data.encoding.codes])
        self.assertEqual(loaded.get_outputs()[1].name, "probabilities_", "an input has that name")
        for place in (self.folder / "m.onnx", self.folder / "m.txt"):
            with self.assertRaises(InputError):
                export_network(model, place)


class Pictures(NetworkCase):
    def test_every_kind_of_layer(self) -> None:
        rng = np.random.default_rng(1)
        for channels, shrink in ((1, 1), (3, 2)):
            pixels = rng.integers(0, 255, (90, 9 * shrink, 8 * shrink, channels), np.uint8)
            labels = np.arange(90) % 3
            pixels[labels == 1, :4] //= 2
            np.savez(self.folder / "p.npz", images=pixels, labels=labels)
            plan = DataPlan(shrink=shrink)
            data = build_dataset(read_table(self.folder / "p.npz")[0],
                                 self.folder / f"d{channels}",
                                 "d",
                                 plan=plan)
            pieces, _ = open_rows(self.folder / "p.npz", data)
            inputs = np.concatenate([p.inputs for p in pieces])
            for line, norm, activation in (
                    ("conv 4, pool 2, hidden", "none", "relu"),
                    ("conv 4 size 5 stride 2, mean pool 2, hidden", "batch", "gelu"),
                    ("conv 3 valid, conv 3 residual, pool 2, conv 5 size 2", "layer", "silu"),
                    ("hidden", "batch", "elu")):
                with self.subTest(line=line, channels=channels):
                    model, _ = trained(data,
                                       self.folder,
                                       2,
                                       network=line,
                                       normalisation=norm,
                                       activation=activation)
                    own = model.predictor.predict(inputs)
                    self.check(model, {data.encoding.codes[0].name: pixels}, own,
                               self.exported(model))


if __name__ == "__main__":
    unittest.main()
