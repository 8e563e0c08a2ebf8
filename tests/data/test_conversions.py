"""How cells become numbers, dates and text: decided on training rows, kept, applied as kept."""

from __future__ import annotations

import unittest

import numpy as np
import polars

from axiarch.data.building import build_dataset
from axiarch.data.conversions import Conversion, learn_conversions
from axiarch.data.describing import read_dataset
from axiarch.data.plan import DataPlan, SplitPlan
from axiarch.data.reading import read_table
from axiarch.data.sealed import sealed_part
from axiarch.data.table import Table
from axiarch.errors import DataError
from tests.support import FolderCase

MARKS = ("n/a", "-", "?", "unknown", "missing", "keine", "x")


def learnt(values: list[object], plan: DataPlan | None = None) -> Conversion:
    """Return how a column called c is read."""
    table = Table.of(polars.DataFrame({"c": values}))
    return learn_conversions(table, plan or DataPlan(), ("c",), table.column)["c"]


def converted(values: list[object], plan: DataPlan | None = None) -> list[object]:
    """Return a column as it is read by what was learnt from itself."""
    return learnt(values, plan)(polars.Series("c", values)).to_list()


class MissingMarks(unittest.TestCase):
    def test_a_few_texts_among_numbers_mean_missing_and_are_named(self) -> None:
        for mark in MARKS:
            with self.subTest(mark=mark):
                values = ["1.5", mark, "2", mark, "7", "8", "9"]
                found = learnt(values)
                self.assertEqual(found.kind, "number")
                self.assertEqual(found(polars.Series("c", values)).null_count(), 2)
        self.assertIn("'keine' means missing", learnt(["1", "2", "3", "keine"]).words)

    def test_many_texts_are_no_marks(self) -> None:
        self.assertEqual(learnt(["1", "2", "a", "b", "c", "d"]).kind, "text")

    def test_marks_can_be_said_for_all_columns_and_for_one(self) -> None:
        everywhere = DataPlan(missing=("gone",))
        self.assertEqual(converted(["a", "gone", "b"], everywhere), ["a", None, "b"])
        here = everywhere.treated("c", missing=("-1",))
        self.assertEqual(converted([3, -1, 4], here), [3, None, 4])
        self.assertEqual(converted(["a", "gone"], here), ["a", None])
        self.assertIn("-1", learnt([3, -1, 4], here).words)
        self.assertEqual(converted(["a", "gone"], everywhere.treated("c", missing=("other", ))),
                         ["a", "gone"])
        self.assertEqual(converted(["a", "gone"], everywhere.treated("c", missing=())),
                         ["a", "gone"])
        self.assertEqual(converted(["1", "n/a", "-1", "4", "5"], DataPlan(missing=("-1", ))),
                         [1, None, None, 4, 5])

    def test_texts_that_are_categories_stay(self) -> None:
        self.assertEqual(converted(["none", "some", "unknown", "some"]),
                         ["none", "some", "unknown", "some"])


class TextColumns(unittest.TestCase):
    def test_blanks_around_texts_go_and_case_only_where_asked(self) -> None:
        values = [" yes", "YES", "yes ", "no"]
        self.assertEqual(converted(values), ["yes", "YES", "yes", "no"])
        merged = DataPlan().treated("c", merge_case=True)
        self.assertEqual(converted(values, merged), ["yes", "yes", "yes", "no"])

    def test_leading_zeros_stay_text_unless_they_are_said_to_be_numbers(self) -> None:
        codes = ["01234", "99999", "00007"]
        self.assertEqual(converted(codes), codes)
        self.assertIn("leading zeros", learnt(codes).words)
        self.assertEqual(converted(codes, DataPlan(numbers=("c",))), [1234.0, 99999.0, 7.0])

    def test_digits_can_be_text(self) -> None:
        self.assertEqual(converted([12, 7, 12], DataPlan(text=("c",))), ["12", "7", "12"])


class Dates(unittest.TestCase):
    def test_an_order_of_day_and_month_that_cannot_be_told_is_said_and_changeable(self) -> None:
        values = ["03/04/2020", "05/06/2020"]
        found = learnt(values)
        self.assertIn("month first fits as well", found.words)
        self.assertEqual(str(found(polars.Series("c", values))[0]), "2020-04-03")
        other = DataPlan().treated("c", dates="month first")
        self.assertEqual(str(converted(values, other)[0]), "2020-03-04")
        self.assertNotIn("fits as well", learnt(["23/04/2020", "05/06/2020"]).words)

    def test_two_digit_years_are_of_our_time(self) -> None:
        for values in (["03/04/20", "25/06/98"], ["03.04.20", "25.06.98"]):
            self.assertEqual([d.year for d in converted(values)],
                             [2020, 1998])  # type: ignore[attr-defined]

    def test_a_pattern_can_be_given(self) -> None:
        plan = DataPlan().treated("c", dates="%d %b %Y")
        self.assertEqual(str(converted(["3 Apr 2020", "4 May 2021"], plan)[0]), "2020-04-03")
        with self.assertRaises(DataError):
            DataPlan().treated("c", dates="%n%n")


class Kept(FolderCase):
    def test_new_rows_are_read_as_the_training_rows_were(self) -> None:
        """A column that is numbers in training stays numbers where the sealed rows hold text,
        and so do dates.
        """
        rows = 60
        frame = polars.DataFrame({
            "part": ["train"] * 40 + ["validation"] * 10 + ["test"] * 10,
            "a": [str(i) for i in range(50)] + ["soon", "late"] * 5,
            "day": ["23/04/2020", "01/05/2020"] * 25 + ["02/03/2021"] * 10,
            "y": ["u", "v"] * (rows // 2)})
        made = build_dataset(Table.of(frame), self.folder / "d", "d",
                             plan=DataPlan(("y",), split=SplitPlan(part="part")))
        self.assertEqual({c.column: c.kind for c in made.conversions},
                         {"part": "text", "a": "number", "day": "date", "y": "text"})
        self.assertEqual(read_dataset(made.folder).conversions, made.conversions)
        sealed = sealed_part(made).inputs
        self.assertEqual(sealed.shape[0], 10)
        again = {c.column: c for c in made.conversions}
        self.assertEqual(again["a"](polars.Series("a", ["7", "soon"])).to_list(), [7.0, None])
        self.assertEqual(str(again["day"](polars.Series("day", ["02/03/2021"]))[0]), "2021-03-02")
        self.assertTrue(np.isfinite(sealed).all())

    def test_rows_without_a_target_are_counted(self) -> None:
        frame = polars.DataFrame({"x": list(map(float, range(60))), "y": ["u", "v", None] * 20})
        made = build_dataset(Table.of(frame), self.folder / "d", "d", plan=DataPlan(("y",)))
        self.assertEqual(made.rows["without target"], 20)

    def test_a_decimal_comma_is_kept_for_the_numbers_that_are_text(self) -> None:
        path = self.folder / "t.csv"
        path.write_text("a;y\n" + "".join(f"{i},5;{'uv'[i % 2]}\n" for i in range(40)) +
                        "keine;u\n")
        table, _ = read_table(path)
        self.assertEqual(table.decimal, ",")
        made = build_dataset(table, self.folder / "d", "d")
        self.assertEqual(made.columns[0].high, 39.5)
        self.assertEqual(made.decimal, ",")


if __name__ == "__main__":
    unittest.main()
