"""Folds and given parts: exact, disjoint, stratified, grouped, in order; and nothing learnt
outside its own rows.
"""

from __future__ import annotations

import unittest

import numpy as np
import polars
from hypothesis import given, settings
from hypothesis import strategies as st

from axiarch.data.building import build_dataset
from axiarch.data.describing import read_dataset
from axiarch.data.plan import DataPlan, SplitPlan, parse_split, split_words
from axiarch.data.reading import CompanionFiles, read_table
from axiarch.data.sealed import sealed_part
from axiarch.data.split import Parts, SplitKeys, bands, split
from axiarch.data.table import PART, Table
from axiarch.errors import DataError
from tests.support import FolderCase, write_csv


def whole(case: unittest.TestCase, parts: tuple[Parts, ...], rows: int) -> None:
    """All rows are in one part of each fold, the test part is always the same, and every open
    row validates once.
    """
    for each in parts:
        together = np.concatenate([each.train, each.validation, each.test])
        case.assertEqual(sorted(together), list(range(rows)))
        np.testing.assert_array_equal(each.test, parts[0].test)


class Folds(unittest.TestCase):
    @settings(deadline=None)
    @given(st.lists(st.integers(12, 60), min_size=2, max_size=5), st.integers(2, 6),
           st.integers(1, 3), st.integers(0, 99))
    def test_stratified(self, counts: list[int], folds: int, repeats: int, seed: int) -> None:
        labels = np.repeat(np.arange(len(counts)), counts)
        made = split(SplitKeys(labels), SplitPlan(folds=folds, fold_repeats=repeats, seed=seed))
        self.assertEqual(len(made), folds * repeats)
        whole(self, made, len(labels))
        open_rows = sorted(np.concatenate([made[0].train, made[0].validation]))
        for repeat in range(repeats):
            own = made[repeat * folds : (repeat + 1) * folds]
            self.assertEqual(sorted(np.concatenate([p.validation for p in own])), open_rows)
            for label in range(len(counts)):
                held = [(labels[p.validation] == label).sum() for p in own]
                self.assertLessEqual(max(held) - min(held), 1)

    def test_repeats_are_cut_anew(self) -> None:
        made = split(SplitKeys(np.arange(100) % 2), SplitPlan(folds=2, fold_repeats=2))
        self.assertFalse(np.array_equal(made[0].validation, made[2].validation))

    @settings(deadline=None)
    @given(st.lists(st.integers(1, 20), min_size=14, max_size=40), st.integers(2, 4),
           st.integers(0, 99))
    def test_grouped(self, counts: list[int], folds: int, seed: int) -> None:
        groups = np.repeat(np.arange(len(counts)), counts)
        labels = np.arange(len(groups)) % 2
        try:
            made = split(SplitKeys(labels, True, groups), SplitPlan(folds=folds, seed=seed))
        except DataError as error:
            self.assertRegex(error.what, "one class|groups|no rows")
            return
        whole(self, made, len(groups))
        for each in made:
            self.assertFalse(set(groups[each.train]) & set(groups[each.validation]))
            self.assertFalse(set(groups[each.test]) & set(groups[each.validation]))

    def test_in_order_of_time_no_fold_learns_from_the_future(self) -> None:
        order = np.random.default_rng(1).permutation(200).astype(float)
        made = split(SplitKeys(np.arange(200) % 2, True, None, order), SplitPlan(folds=4,
                                                                                 order="t"))
        self.assertEqual(len(made), 4)
        for each in made:
            self.assertLess(order[each.train].max(), order[each.validation].min())
            self.assertLess(order[each.validation].max(), order[each.test].min())

    def test_amounts_are_shared_out_in_bands(self) -> None:
        values = np.random.default_rng(0).gamma(1.0, 1.0, 1000)
        strata = bands(values)
        self.assertEqual(np.bincount(strata).tolist(), [100] * 10)
        (parts,) = split(SplitKeys(strata, False), SplitPlan())
        means = [values[rows].mean() for rows in (parts.train, parts.validation, parts.test)]
        self.assertLess(np.ptp(means), 0.1)

    @given(st.lists(st.floats(-5, 5), min_size=1, max_size=50))
    def test_bands_follow_the_order_of_the_amounts(self, values: list[float]) -> None:
        found = bands(np.array(values))
        order = np.argsort(values, kind="stable")
        self.assertTrue((np.diff(found[order]) >= 0).all())
        self.assertGreaterEqual(np.bincount(found).min(), min(len(values), 6))

    @given(st.floats(0.05, 0.4), st.floats(0.05, 0.4),
           st.integers(0, 6).filter(lambda n: n != 1), st.integers(1, 3), st.integers(0, 99))
    def test_a_split_is_read_as_it_is_written(self, validation: float, test: float, folds: int,
                                              repeats: int, seed: int) -> None:
        made = SplitPlan(float(f"{validation:g}"), float(f"{test:g}"), folds=folds,
                         fold_repeats=repeats if folds else 1, seed=seed)
        self.assertEqual(parse_split(split_words(made), SplitPlan()), made)
        for wrong in ("validation", "test x", "folds 2.5", "shares 3", "seed -1",
                      "validation 0.95"):
            with self.assertRaises(DataError):
                parse_split(wrong, made)

    def test_what_cannot_be(self) -> None:
        for wrong in ({"folds": 1}, {"folds": -2}, {"folds": 60, "fold_repeats": 2}, {
                "folds": 3, "part": "p"
        }, {"folds": 3, "fold_repeats": 2, "order": "t"}, {"fold_repeats": 0}):
            with self.subTest(wrong=wrong), self.assertRaises(DataError):
                SplitPlan(**wrong)  # type: ignore[arg-type]
        with self.assertRaises(DataError):
            split(SplitKeys(np.array([0, 1] * 6)), SplitPlan(folds=8))


def frame(rows: int = 120, seed: int = 0) -> polars.DataFrame:
    """Return a table with a number, a text and classes."""
    rng = np.random.default_rng(seed)
    return polars.DataFrame({"x": rng.normal(size=rows), "t": rng.choice(["p", "q", "r"], rows),
                             "y": rng.choice(["a", "b", "c"], rows)})


class BuiltFolds(FolderCase):
    def test_every_fold_learns_from_its_own_training_rows_alone(self) -> None:
        data = build_dataset(Table.of(frame()),
                             self.folder / "d",
                             "d",
                             plan=DataPlan(split=SplitPlan(folds=3)))
        self.assertEqual(read_dataset(data.folder), data)
        centres = set()
        for i, fold in enumerate(data.folds):
            train = data.part("train", i)
            self.assertEqual((len(train.targets), len(data.part("validation", i).targets)),
                             (fold.rows["train"], fold.rows["validation"]))
            self.assertAlmostEqual(float(train.inputs[:, 0].mean()), 0.0, places=5)
            self.assertAlmostEqual(float(train.inputs[:, 0].std()), 1.0, places=5)
            centres.add(fold.encoding.codes[0].centre)  # type: ignore[union-attr]
        self.assertEqual(len(centres), 3)
        self.assertAlmostEqual(data.baseline.loss, np.mean([f.baseline.loss for f in data.folds]))

    def test_validation_and_test_rows_change_no_statistic(self) -> None:
        """Rows outside a fold's training part replaced by others must change nothing that is
        learnt from it.
        """
        table = frame()
        plan = DataPlan(("y",), split=SplitPlan(folds=3))
        first = build_dataset(Table.of(table), self.folder / "a", "d", plan=plan)
        made = split(SplitKeys(np.unique(table["y"].to_list(), return_inverse=True)[1]), plan.split)
        for i, parts in enumerate(made):
            x, t = table["x"].to_numpy().copy(), np.array(table["t"].to_list(), dtype=object)
            outside = np.setdiff1d(np.arange(120), parts.train)
            x[outside], t[outside] = 55.0, "new"
            changed = table.with_columns(x=polars.Series(x), t=polars.Series(t.tolist()))
            second = build_dataset(Table.of(changed), self.folder / f"b{i}", "d", plan=plan)
            self.assertEqual(first.folds[i].encoding, second.folds[i].encoding)
            np.testing.assert_array_equal(
                first.part("train", i).inputs,
                second.part("train", i).inputs)

    def test_sealed_rows_come_out_as_they_went_in(self) -> None:
        table = frame()
        data = build_dataset(Table.of(table), self.folder / "d", "d")
        rows = np.load(data.folder / "sealed" / "rows.npy")
        part = sealed_part(data)
        np.testing.assert_array_equal(part.inputs, data.encoding.encode(table[rows]))
        self.assertEqual(data.target.decode(part.targets), table["y"][rows].to_list())


class GivenParts(FolderCase):
    def write(self, name: str, rows: int, seed: int) -> polars.DataFrame:
        made = frame(rows, seed)
        write_csv(self.folder / name, made.columns, made.rows())
        return made

    def test_files_for_every_part(self) -> None:
        parts = [self.write(f"{name}.csv", rows, i) for i, (name, rows) in
                 enumerate((("train", 80), ("validation", 30), ("test", 40)))]
        given = CompanionFiles(self.folder / "validation.csv", self.folder / "test.csv")
        table, _ = read_table(self.folder / "train.csv", given=given)
        data = build_dataset(table, self.folder / "d", "d")
        self.assertEqual({n: data.rows[n] for n in ("train", "validation", "test")},
                         {"train": 80, "validation": 30, "test": 40})
        self.assertNotIn(PART, [code.name for code in data.encoding.codes])
        self.assertEqual(data.target.decode(data.part("validation").targets),
                         parts[1]["y"].to_list())
        self.assertEqual(data.target.decode(sealed_part(data).targets), parts[2]["y"].to_list())

    def test_a_missing_part_is_cut_from_the_training_rows(self) -> None:
        self.write("train.csv", 100, 0)
        self.write("test.csv", 40, 1)
        table, _ = read_table(self.folder / "train.csv",
                              given=CompanionFiles(None, self.folder / "test.csv"))
        data = build_dataset(table, self.folder / "d", "d")
        self.assertEqual(data.rows["test"], 40)
        self.assertAlmostEqual(data.rows["validation"], 20, delta=3)

    def test_a_column_of_parts(self) -> None:
        words = ["Train", "validation", "test", "train"] * 30
        table = Table.of(frame().with_columns(part=polars.Series(words)))
        data = build_dataset(table,
                             self.folder / "d",
                             "d",
                             plan=DataPlan(("y", ), split=SplitPlan(part="part")))
        self.assertEqual((data.rows["train"], data.rows["validation"], data.rows["test"]),
                         (60, 30, 30))
        table = Table.of(frame().with_columns(part=polars.Series(["train"] * 119 + ["trian"])))
        with self.assertRaises(DataError) as caught:
            build_dataset(table,
                          self.folder / "e",
                          "e",
                          plan=DataPlan(("y", ), split=SplitPlan(part="part")))
        self.assertIn("row 120", caught.exception.what)

    def test_files_that_do_not_go_together(self) -> None:
        self.write("train.csv", 40, 0)
        write_csv(self.folder / "test.csv", ["x", "y"], [[1, "a"], [2, "b"]])
        with self.assertRaises(DataError) as caught:
            read_table(self.folder / "train.csv",
                       given=CompanionFiles(None, self.folder / "test.csv"))
        self.assertIn("'t'", caught.exception.what)


if __name__ == "__main__":
    unittest.main()
