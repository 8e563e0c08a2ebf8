"""A data set on disk: whole or not at all, sealed, and blind to its test rows."""

from __future__ import annotations

import json
import shutil
import unittest
from collections.abc import Callable, Iterator
from typing import Any
from unittest import mock

import numpy as np
import polars

from axiarch.data.building import build_dataset
from axiarch.data.dataset import Dataset, check_arrays
from axiarch.data.describing import description, read_dataset
from axiarch.data.plan import DataPlan
from axiarch.data.sealed import sealed_part
from axiarch.data.table import Table
from axiarch.errors import AxiarchError, DataError, WorkspaceError
from axiarch.files import checksum
from tests.support import FolderCase, ring_dataset, ring_rows


def frame(rows: int = 100) -> polars.DataFrame:
    """Return a table with a number, a text and a target."""
    x = [float(v) for v in np.random.default_rng(0).normal(size=rows)]
    return polars.DataFrame(
        {"x": x, "t": ["p", "q"] * (rows // 2), "y": ["a", "b", "a", "a"] * (rows // 4)})


def pl_amounts(rows: int) -> polars.Series:
    """Return amounts."""
    return polars.Series(np.random.default_rng(1).normal(5, 2, rows))


class Building(FolderCase):
    def test_what_is_built_reads_back_as_equal(self) -> None:
        built = build_dataset(Table.of(frame()), self.folder / "d", "d")
        self.assertEqual(read_dataset(self.folder / "d"), built)

    def test_the_same_table_has_the_same_fingerprint_and_another_has_not(self) -> None:
        prints = [
            build_dataset(Table.of(f), self.folder / n, n).fingerprint
            for n, f in (("a", frame()), ("b", frame()),
                         ("c", frame().with_columns(x=polars.col("x") + 1)))
        ]
        self.assertEqual(prints[0], prints[1])
        self.assertNotEqual(prints[0], prints[2])

    def test_row_losses_of_baseline_and_linear_model_mean_their_losses(self) -> None:
        table = frame(200).with_columns(y=polars.Series(["a", "b", "a", "a"] * 50))
        made = build_dataset(Table.of(table), self.folder / "d", "d")
        reference = made.reference()
        assert reference is not None and reference.linear is not None and made.linear is not None
        self.assertAlmostEqual(float(reference.baseline.mean()), made.baseline.loss, places=5)
        self.assertAlmostEqual(float(reference.linear.mean()), made.linear.loss, places=5)
        amounts = frame(200).with_columns(y=pl_amounts(200))
        made = build_dataset(Table.of(amounts), self.folder / "e", "e", DataPlan(("y",)))
        reference = made.reference()
        assert reference is not None
        self.assertAlmostEqual(float(reference.baseline.mean()) ** 0.5, made.baseline.loss,
                               delta=1e-4)

    def test_rows_that_stand_in_training_too_are_known(self) -> None:
        table = frame(100)
        made = build_dataset(Table.of(polars.concat([table, table])), self.folder / "d", "d")
        once = build_dataset(Table.of(table), self.folder / "e", "e")
        twice, alone = made.reference(), once.reference()
        assert twice is not None and alone is not None
        self.assertGreater(twice.repeated.mean(), 0.4)
        self.assertEqual(alone.repeated.sum(), 0)
        (self.folder / "d" / "reference" / "0.npy").write_bytes(b"x")
        with self.assertRaises(WorkspaceError):
            made.reference()

    def test_the_description_is_plain_json(self) -> None:
        build_dataset(Table.of(frame()), self.folder / "d", "d")
        text = (self.folder / "d" / "data.json").read_text(encoding="utf-8")
        json.loads(text, parse_constant=lambda name: self.fail(f"{name} is not JSON"))

    def test_statistics_never_see_test_rows(self) -> None:
        """Test rows replaced by absurd ones must change nothing but the sealed arrays."""
        table = frame()
        first = build_dataset(Table.of(table), self.folder / "a", "d")
        second_rows = {name: table[name].to_list() for name in table.columns}
        sealed = np.load(self.folder / "a" / "sealed" / "rows.npy")
        x = np.array(second_rows["x"])
        in_test = np.isin(np.arange(len(x)), sealed)
        self.assertEqual(int(in_test.sum()), first.rows["test"])
        second_rows["x"] = [1e6 if hit else v for v, hit in zip(x.tolist(), in_test, strict=True)]
        second_rows["t"] = [
            "other" if hit else v for v, hit in zip(second_rows["t"], in_test, strict=True)
        ]
        second = build_dataset(Table.of(polars.DataFrame(second_rows)), self.folder / "b", "d")
        self.assertEqual(first.columns, second.columns)
        self.assertEqual(first.encoding, second.encoding)
        self.assertEqual(first.baseline, second.baseline)
        for part in ("train", "validation"):
            np.testing.assert_array_equal(first.part(part).inputs,
                                          second.part(part).inputs)  # type: ignore[arg-type]

    def test_a_failed_build_leaves_nothing(self) -> None:
        with mock.patch("numpy.save",
                        side_effect=OSError(28,
                                            "No space left on device")), self.assertRaises(OSError):
            build_dataset(Table.of(frame()), self.folder / "d", "d")
        self.assertEqual(list(self.folder.iterdir()), [])

    def test_bad_targets_are_said(self) -> None:
        cases = (
            (frame().with_columns(y=polars.lit("a")), "the same in every row"),
            (frame().with_columns(y=polars.Series([f"c{i}" for i in range(100)])),
             "different values"),
            (frame().with_columns(y=polars.lit(None, dtype=polars.String)), "no value"),
            (frame().with_columns(x=polars.lit(float("inf"))), "infinite"),
        )
        for table, words in cases:
            with self.subTest(words=words), self.assertRaises(DataError) as caught:
                build_dataset(Table.of(table), self.folder / "d", "d", plan=DataPlan(("y",)))
            self.assertIn(words, caught.exception.what)
            self.assertFalse((self.folder / "d").exists())


class Opening(FolderCase):
    def test_the_test_rows_cannot_be_asked_for(self) -> None:
        dataset = ring_dataset(self.folder / "ring")
        with self.assertRaises(ValueError):
            dataset.part("test")  # type: ignore[arg-type]

    def test_parts_have_the_rows_they_say(self) -> None:
        dataset = ring_dataset(self.folder / "ring")
        self.assertEqual(len(dataset.part("train").targets), dataset.rows["train"])
        self.assertEqual(dataset.part("train").inputs.shape[1], dataset.inputs)
        self.assertEqual(sum(dataset.rows.values()), len(ring_rows()))
        self.assertEqual(dataset.part("train").inputs.dtype, np.float32)

    def test_what_cannot_be_read_is_said(self) -> None:
        with self.assertRaises(WorkspaceError):
            read_dataset(self.folder / "none")
        dataset = ring_dataset(self.folder / "ring")
        (dataset.folder / "data.json").write_text("{")
        with self.assertRaises(WorkspaceError):
            read_dataset(dataset.folder)


class Damage(FolderCase):
    def damaged(self, name: str, change: Callable[[bytearray], None]) -> Dataset:
        """Return a data set one of whose files is damaged."""
        dataset = ring_dataset(self.folder / "ring")
        raw = bytearray((dataset.folder / name).read_bytes())
        change(raw)
        (dataset.folder / name).write_bytes(raw)
        return dataset

    def test_a_flipped_sign_a_cut_and_a_lost_array_are_named(self) -> None:
        def flip(raw: bytearray) -> None:
            raw[-1] ^= 0x80

        def cut(raw: bytearray) -> None:
            del raw[-40:]

        for change in (flip, cut):
            for name in ("folds/0/train.inputs.npy", "folds/0/validation.targets.npy"):
                with self.subTest(name=name, change=change.__name__):
                    dataset = self.damaged(name, change)
                    with self.assertRaises(WorkspaceError) as caught:
                        check_arrays(dataset)
                    self.assertIn(name, caught.exception.where)
                    shutil.rmtree(dataset.folder)
        dataset = ring_dataset(self.folder / "ring")
        check_arrays(dataset)
        (dataset.folder / "folds" / "0" / "train.targets.npy").unlink()
        with self.assertRaises(WorkspaceError) as caught:
            check_arrays(dataset)
        self.assertIn("gone", caught.exception.what)

    def test_a_label_that_is_no_class_is_refused_though_its_checksum_fits(self) -> None:
        dataset = ring_dataset(self.folder / "ring")
        path = dataset.folder / "folds" / "0" / "train.targets.npy"
        labels = np.load(path)
        labels[3] = 2_000_000
        np.save(path, labels)
        known = json.loads((dataset.folder / "data.json").read_text())
        del known["checksum"]
        known["checksums"]["folds/0/train.targets.npy"] = checksum(path)
        (dataset.folder / "data.json").write_text(description(known))
        with self.assertRaises(WorkspaceError) as caught:
            check_arrays(read_dataset(dataset.folder))
        self.assertIn("none of the 2 classes", caught.exception.what)

    def test_sealed_rows_and_the_kept_table_are_checked_before_they_are_read(self) -> None:
        def flip(raw: bytearray) -> None:
            raw[-1] ^= 1

        dataset = self.damaged("sealed/rows.npy", flip)
        with self.assertRaises(WorkspaceError):
            sealed_part(dataset)

    def test_no_single_hostile_value_of_the_description_gives_a_traceback(self) -> None:
        """Every value in turn becomes something else; it is read, or refused in words."""
        dataset = ring_dataset(self.folder / "ring")
        path = dataset.folder / "data.json"
        known = json.loads(path.read_text())
        del known["checksum"]
        refused = 0
        for place in places(known):
            for value in (None, -1, "\x1b[31m", [], {}, 1e300, True, [[[]]]):
                other = json.loads(json.dumps(known))
                set_at(other, place, value)
                path.write_text(description(other))
                try:
                    made = read_dataset(dataset.folder)
                    check_arrays(made)
                except AxiarchError as error:
                    refused += 1
                    self.assertTrue(error.what and error.remedy)
        self.assertGreater(refused, 500)
        for text in ("[" * 100_000, '{"format": 1e999}', '{"format": ' + "9" * 5000 + "}", "nul",
                     "\xff"):
            path.write_bytes(text.encode("latin-1"))
            with self.assertRaises(WorkspaceError):
                read_dataset(dataset.folder)


def places(value: object, above: tuple[object, ...] = ()) -> Iterator[tuple[object, ...]]:
    """Yield the way to every value in a JSON document, of lists only the first two elements."""
    if above:
        yield above
    inner = value.items() if isinstance(value, dict) else (
        enumerate(value[:2]) if isinstance(value, list) else ())
    for key, each in inner:
        yield from places(each, (*above, key))


def set_at(value: Any, place: tuple[object, ...], new: object) -> None:
    """Put a value into a JSON document."""
    for key in place[:-1]:
        value = value[key]
    value[place[-1]] = new


if __name__ == "__main__":
    unittest.main()
