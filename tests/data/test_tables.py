"""Reading tables, proposing roles, encoding, splitting: traps caught before training."""

from __future__ import annotations

import gzip
import os
import tempfile
import unittest
import zipfile
from datetime import date
from pathlib import Path

import numpy as np
import polars
import zstandard
from hypothesis import given, settings
from hypothesis import strategies as st

from axiarch.data.baseline import class_floor
from axiarch.data.columns import choose_targets, propose_roles, summarise
from axiarch.data.conversions import learn_conversions
from axiarch.data.delimited import TextForm, _check_names, read_delimited
from axiarch.data.encoding import DateCode, NumberCode, OrderCode, TextCode, learn_encoding
from axiarch.data.encoding import Encoding as Learnt
from axiarch.data.plan import DataPlan, FormatOverrides, SplitPlan
from axiarch.data.reading import Reading as How
from axiarch.data.reading import read_table
from axiarch.data.split import Parts, SplitKeys, fewer, split
from axiarch.data.table import Table
from axiarch.data.target import Target
from axiarch.errors import DataError
from tests.support import FolderCase, without_privileges, write_csv

#: bytes of a file, words of the message, the place.
BAD = (
    (b"", "empty", "t.csv"), (b"  \n", "empty", "t.csv"), (b"a,b\n", "no rows", "t.csv"),
    (b"a\nx\n", "one column", "t.csv"), (b"a,a\n1,2\n", "two columns", "columns 1 and 2"),
    (b"a,b\n1,2\n1,2,3\n", "3 cells", "line 3"),
    (b"a,,c\n1,2,3\n", "no name", "column 2"), (b'a,b\n"x,1\n', "cell", "line"),
)
FORMS = st.builds(TextForm, st.sampled_from([",", ";", "\t", "|"]),
                  st.sampled_from(["utf-8", "utf-8-sig", "utf-16"]), st.just("."), st.just(True))


def read(content: bytes, said: FormatOverrides | None = None) -> tuple[polars.DataFrame, TextForm]:
    """Read the bytes of a text file."""
    with tempfile.NamedTemporaryFile() as file:
        file.write(content)
        file.flush()
        table, form = read_delimited(Path(file.name), "t", said)
    return table.rows(0, table.height), form


def three(labels: np.ndarray, plan: SplitPlan, groups: np.ndarray | None = None,
          order: np.ndarray | None = None) -> Parts:
    """Split rows into three parts."""
    (parts,) = split(SplitKeys(labels.astype(np.int64), True, groups, order), plan)
    return parts


class Reading(FolderCase):
    def test_bad_files_are_refused_in_words(self) -> None:
        path = self.folder / "t.csv"
        for content, words, place in BAD:
            path.write_bytes(content)
            with self.subTest(content=content), self.assertRaises(DataError) as caught:
                read_table(path)
            self.assertIn(words, caught.exception.what)
            self.assertIn(place, caught.exception.where)
            self.assertTrue(caught.exception.remedy)

    def test_what_is_no_file(self) -> None:
        for path in (self.folder / "none.csv", self.folder):
            with self.assertRaises(DataError):
                read_table(path)

    def test_a_file_that_may_not_be_read(self) -> None:
        path = write_csv(self.folder / "t.csv", ["a", "b"], [[1, 2]])
        path.chmod(0)
        self.folder.chmod(0o755)
        with without_privileges(), self.assertRaises(DataError) as caught:
            read_table(path)
        self.assertIn("ermission", caught.exception.what)

    def test_gaps_and_byte_order_marks(self) -> None:
        path = self.folder / "t.csv"
        path.write_bytes(b"\xef\xbb\xbfa,b\n1,x\nNA,y\n?,\n4,z\n")
        table, _ = read_table(path)
        self.assertEqual(table.columns, ["a", "b"])
        found = learn_conversions(table, DataPlan(), ("a",), table.column)["a"](table.column("a"))
        self.assertEqual(found.null_count(), 2)
        self.assertTrue(found.dtype.is_numeric())

    @settings(deadline=None)
    @given(
        FORMS,
        st.lists(st.tuples(st.integers(-999, 999), st.sampled_from(["calm", "a b", "é"])),
                 min_size=3,
                 max_size=20))
    def test_however_it_is_written_it_reads_the_same(self, form: TextForm,
                                                     rows: list[tuple[int, str]]) -> None:
        text = "\n".join(form.separator.join(map(str, row)) for row in [("n", "t"), *rows])
        frame, found = read(text.encode(form.encoding))
        self.assertEqual(frame.rows(), rows)
        self.assertEqual((found.separator, found.header), (form.separator, True))

    def test_decimal_commas(self) -> None:
        frame, form = read(b"a;b\n1,5;x\n2,25;y\n")
        self.assertEqual((form.decimal, frame["a"].to_list()), (",", [1.5, 2.25]))

    def test_no_header(self) -> None:
        frame, form = read(b"1,2\n3,4\n")
        self.assertEqual((form.header, frame.columns, frame.height),
                         (False, ["column 1", "column 2"], 2))

    def test_what_is_said_wins_over_what_is_found(self) -> None:
        frame, form = read("n;t\n1;é\n".encode("latin-1"),
                           FormatOverrides(encoding="latin-1", header=False))
        self.assertEqual((frame.height, form.header, frame[1, 1]), (2, False, "é"))
        for said in (FormatOverrides(encoding="klingon"), FormatOverrides(separator="|")):
            with self.assertRaises(DataError):
                read(b"n;t\n1;x\n", said)

    def test_a_wrong_encoding_names_the_one_that_would_do(self) -> None:
        with self.assertRaises(DataError) as caught:
            read("a,b\né,1\n".encode("windows-1252"), FormatOverrides(encoding="utf-8"))
        self.assertIn("windows-1252", caught.exception.remedy)

    def test_other_encodings_are_found_and_shown(self) -> None:
        western = "name;town\nJörg;Köln\nZoë;Århus – “so”\n"
        cyrillic = "имя;город\n" + "Ольга;Москва\nИван;Киев\n" * 20
        for text, encodings in ((western, ("windows-1252",)), (cyrillic, ("cp1251", "koi8-r"))):
            for encoding in encodings:
                frame, form = read(text.encode(encoding))
                with self.subTest(encoding=encoding, found=form.encoding):
                    self.assertEqual(frame.rows(),
                                     [tuple(r.split(";")) for r in text.splitlines()[1:]])

    def test_nul_characters_are_refused_with_their_place(self) -> None:
        for content, place in ((b"a,b\n1,x\x00y\n", "line 2, character 4"),
                               (b"a,b\n" + b"1,x\n" * 200 + b"\x00,x\n", "line 202, character 1")):
            with self.assertRaises(DataError) as caught:
                read(content)
            self.assertIn("NUL", caught.exception.what)
            self.assertIn(place, caught.exception.where)

    def test_the_separator_that_explains_more_wins(self) -> None:
        rows = [f"{i},5;{i},25" for i in range(300)]
        for odd in ("", "7;3,5"):
            text = "\n".join(["a;b", *rows, *([odd] if odd else [])]) + "\n"
            frame, form = read(text.encode())
            self.assertEqual((form.separator, form.decimal, frame.width), (";", ",", 2))
        frame, form = read(("\n".join(rows) + "\n").encode())
        self.assertEqual((form.separator, frame.width), (";", 2))

    def test_a_hundred_thousand_names_are_checked_at_once(self) -> None:
        names = [f"c{i}" for i in range(100_000)]
        with self.assertRaises(DataError) as caught:
            _check_names([*names, "c7"], "t")
        self.assertIn("columns 8 and 100001", caught.exception.where)

    @given(st.binary(max_size=200))
    def test_any_bytes_are_read_or_refused_in_words(self, content: bytes) -> None:
        try:
            frame, _ = read(content)
        except DataError as error:
            self.assertTrue(error.what and error.remedy)
        else:
            self.assertGreater(frame.width, 1)


class OtherFormats(FolderCase):
    frame = polars.DataFrame({"n": [1.5, 2.5, None], "t": ["x", "y", "-"], "b": [True, False, None],
                              "d": [date(2024, 1, 1), date(2024, 5, 6), None]})

    def test_every_format_gives_the_same_table(self) -> None:
        self.frame.write_parquet(self.folder / "t.parquet")
        self.frame.write_ipc(self.folder / "t.arrow")
        self.frame.write_ndjson(self.folder / "t.jsonl")
        for name, how in (("t.parquet", "Parquet"), ("t.arrow", "Arrow"), ("t.jsonl",
                                                                           "JSON lines")):
            found, said = read_table(self.folder / name)
            with self.subTest(name=name):
                self.assertIn(how, said)
                self.assertEqual(found.column("n").to_list(), [1.5, 2.5, None])
                self.assertEqual(found.column("t").to_list(), ["x", "y", "-"])
                self.assertEqual(found.column("b").to_list(), ["true", "false", None])

    def test_files_cut_short_are_refused_in_words(self) -> None:
        self.frame.write_parquet(self.folder / "t.parquet")
        self.frame.write_ipc(self.folder / "t.feather")
        for name in ("t.parquet", "t.feather", "t.xlsx"):
            path = self.folder / name
            content = path.read_bytes() if path.exists() else b"PK\x03\x04 not a workbook"
            path.write_bytes(content[: len(content) // 2])
            with self.subTest(name=name), self.assertRaises(DataError) as caught:
                read_table(path)
            self.assertIn(name, caught.exception.where)

    def test_lists_are_refused_by_column(self) -> None:
        polars.DataFrame({"a": [1, 2], "l": [[1], [2]]}).write_parquet(self.folder / "t.parquet")
        with self.assertRaises(DataError) as caught:
            read_table(self.folder / "t.parquet")
        self.assertIn("'l'", caught.exception.where)
        found, _ = read_table(self.folder / "t.parquet", How(ignored=("l",)))
        self.assertEqual(found.column("l").null_count(), 2)

    def test_compressed_tables_are_read_and_bombs_are_not(self) -> None:
        text = b"a,b\n" + b"1,x\n" * 50
        (self.folder / "t.csv.gz").write_bytes(gzip.compress(text))
        (self.folder / "t.csv.zst").write_bytes(zstandard.compress(text))
        with zipfile.ZipFile(self.folder / "t.zip", "w") as archive:
            archive.writestr("inside/t.csv", text)
        for name, words in (("t.csv.gz", "gzip"), ("t.csv.zst", "Zstandard"), ("t.zip", "zip")):
            found, how = read_table(self.folder / name, How(scratch=self.folder / name[2:]))
            self.assertEqual((found.height, found.columns), (50, ["a", "b"]))
            self.assertIn(words, how)
        (self.folder / "bomb.csv.gz").write_bytes(gzip.compress(bytes(64 << 20)))
        (self.folder / "cut.csv.gz").write_bytes(gzip.compress(text)[:-9])
        with zipfile.ZipFile(self.folder / "two.zip", "w") as archive:
            archive.writestr("a.csv", text)
            archive.writestr("b.csv", text)
        for name, words in (("bomb.csv.gz", "would unpack to"),
                            ("cut.csv.gz", "cannot be unpacked"), ("two.zip", "2 files")):
            with self.assertRaises(DataError) as caught:
                read_table(self.folder / name, How(scratch=self.folder / "s"))
            self.assertIn(words, caught.exception.what)

    def test_a_workbook_that_unpacks_to_far_more_is_refused(self) -> None:
        with zipfile.ZipFile(self.folder / "t.xlsx", "w", zipfile.ZIP_DEFLATED) as archive:
            archive.writestr("xl/worksheets/sheet1.xml", bytes(80 << 20))
        with self.assertRaises(DataError) as caught:
            read_table(self.folder / "t.xlsx")
        self.assertIn("would unpack to", caught.exception.what)

    def test_pipes_and_devices_are_refused_at_once(self) -> None:
        os.mkfifo(self.folder / "pipe.csv")
        for path in (self.folder / "pipe.csv", Path("/dev/zero")):
            with self.assertRaises(DataError) as caught:
                read_table(path)
            self.assertIn("not a file", caught.exception.what)

    def test_a_file_that_changes_while_it_is_read_is_refused(self) -> None:
        path = self.folder / "t.csv"
        path.write_bytes(b"a,b\n1,x\n2,y\n")

        def grow(step: str, done: float) -> None:
            with path.open("ab") as file:
                file.write(b"3,z\n")

        with self.assertRaises(DataError) as caught:
            read_table(path, on_progress=grow)
        self.assertIn("changed while it was read", caught.exception.what)


class Repairs(unittest.TestCase):
    def one(self, values: list[str | None], keep: tuple[str,
                                                        ...] = ()) -> tuple[polars.Series, str]:
        table = Table.of(polars.DataFrame({"c": values}))
        found = learn_conversions(table, DataPlan(text=keep), ("c",), table.column)["c"]
        return found(table.column("c")), found.words

    def test_numbers_stored_as_text(self) -> None:
        found, what = self.one(["$1,200.50", "  7 ", "12 %", None, "(3)"])
        self.assertEqual(found.to_list(), [1200.5, 7.0, 12.0, None, -3.0])
        self.assertIn("numbers stored as text", what)

    def test_dates(self) -> None:
        for text in ("2024-03-09", "09.03.2024", "2024-03-09 00:00:00"):
            found, what = self.one([text, text])
            self.assertEqual(str(found[0])[:10], "2024-03-09", text)
            self.assertEqual(found.dtype == polars.Date, len(text) == 10)
            self.assertIn("dates", what)

    def test_a_few_that_cannot_be_read_become_gaps_and_are_counted(self) -> None:
        found, what = self.one([str(i) for i in range(120)] + ["v", "w", "x", "y"])
        self.assertEqual(found.null_count(), 4)
        self.assertIn("3.2 %", what)

    def test_text_stays_text(self) -> None:
        self.assertEqual(self.one(["calm", "busy", "3"])[1], "")
        self.assertEqual(self.one(["1", "2"], ("c",))[0].to_list(), ["1", "2"])


class Roles(unittest.TestCase):
    rows = np.arange(40)
    table = Table.of(
        polars.DataFrame({
            "id": [f"r{i}" for i in range(40)],
            "n": list(range(40)),
            "x": [i * 0.7 % 3 for i in range(40)],
            "kind": ["a", "b"] * 20,
            "same": [1] * 40,
            "none": [None] * 40,
            "label": ["u", "v", "u", "w"] * 10,
        }))

    def test_the_proposals(self) -> None:
        aims, why = choose_targets(self.table)
        self.assertEqual(aims, ("label",))
        roles = {
            name: role
            for name, (role, _) in propose_roles(self.table, self.rows, aims, why).items()
        }
        self.assertEqual(
            roles, {
                "id": "ignored", "n": "ignored", "x": "input", "kind": "input", "same": "ignored",
                "none": "ignored", "label": "target"
            })

    def test_every_role_has_a_reason(self) -> None:
        for role, reason in propose_roles(self.table, self.rows, ("label",), "chosen").values():
            self.assertTrue(role and reason)

    def test_what_is_chosen_wins(self) -> None:
        self.assertEqual(choose_targets(self.table, ("kind",)), (("kind",), "chosen"))
        roles = propose_roles(self.table, self.rows, ("kind",), "chosen", ("x",))
        self.assertEqual(roles["x"], ("ignored", "chosen"))
        roles = propose_roles(self.table, self.rows, ("kind",), "chosen", (), ("n",))
        self.assertEqual(roles["n"], ("input", "chosen"))

    def test_a_column_that_is_not_there_is_said(self) -> None:
        with self.assertRaises(DataError) as caught:
            choose_targets(self.table, ("lable",))
        self.assertIn("label", caught.exception.remedy)

    def test_nothing_left_to_learn_from(self) -> None:
        with self.assertRaises(DataError):
            propose_roles(Table.of(self.table.rows(0, 40)[["id", "label"]]), self.rows, ("label", ),
                          "chosen")

    def test_summaries(self) -> None:
        roles = propose_roles(self.table, self.rows, ("label",), "chosen")
        columns = {c.name: c for c in summarise(self.table, self.rows, roles, True)}
        self.assertEqual(sum(columns["x"].bars), 40)
        self.assertEqual((columns["label"].names, columns["label"].bars),
                         (("u", "v", "w"), (20, 10, 10)))
        self.assertEqual(columns["none"].missing, 40)


class Encoding(unittest.TestCase):
    def learn(self,
              plan: DataPlan | None = None,
              **columns: list[object]) -> tuple[polars.DataFrame, Learnt]:
        frame = polars.DataFrame(
            {**columns, "y": ["a", "b"] * (len(next(iter(columns.values()))) // 2)})
        target = Target("binary", ("y",), ("a", "b"))
        return frame, learn_encoding(lambda name: frame[name], tuple(columns), target, plan)

    @settings(deadline=None)
    @given(
        st.lists(st.floats(-1e6, 1e6), min_size=4, max_size=40).filter(lambda v: len(v) % 2 == 0))
    def test_numbers_decode_to_what_they_were(self, values: list[float]) -> None:
        frame, encoding = self.learn(x=list(values))
        code = encoding.codes[0]
        assert isinstance(code, NumberCode)
        back = code.encode(frame["x"])[:, 0] * code.scale + code.centre
        back = np.expm1(back) if code.log else back
        np.testing.assert_allclose(back, values, atol=1e-6 * max(1, np.abs(values).max()))

    def test_numbers_are_centred_on_the_training_rows(self) -> None:
        frame, encoding = self.learn(x=[1.0, 2.0, 3.0, 6.0])
        x = encoding.encode(frame)
        self.assertAlmostEqual(float(x.mean()), 0.0, places=6)
        self.assertAlmostEqual(float(x.std()), 1.0, places=6)

    def test_gaps_take_the_median_and_are_pointed_out(self) -> None:
        frame, encoding = self.learn(x=[1.0, None, 3.0, 100.0])
        code = encoding.codes[0]
        self.assertEqual((code.fill, code.inputs), (3.0, ("x", "x missing")))
        np.testing.assert_array_equal(code.encode(frame["x"])[:, 1], [0, 1, 0, 0])

    def test_a_category_never_seen_is_all_zeros(self) -> None:
        code = TextCode("t", ("a", "b"))
        np.testing.assert_array_equal(code.encode(polars.Series("t", ["b", "new", None])),
                                      [[0, 1], [0, 0], [0, 0]])

    def test_a_constant_does_not_divide_by_zero(self) -> None:
        frame, encoding = self.learn(x=[2.0, 2.0])
        self.assertTrue((encoding.encode(frame) == 0).all())

    def test_every_scaling_and_filling(self) -> None:
        values = [1.0, None, 3.0, 3.0, 8.0, 5.0]
        wanted = {"median": 3.0, "mean": 4.0, "most frequent": 3.0, "constant 2.5": 2.5}
        for gaps, fill in wanted.items():
            _, encoding = self.learn(DataPlan(gaps=gaps), x=values)
            self.assertEqual(encoding.codes[0].fill, fill)  # type: ignore[union-attr]
        for scaling, (low, high) in {"0-1": (0.0, 1.0), "none": (1.0, 8.0)}.items():
            frame, encoding = self.learn(DataPlan(scaling=scaling),
                                         x=values)  # type: ignore[arg-type]
            x = encoding.encode(frame)[:, 0]
            self.assertAlmostEqual(float(x.min()), low, places=6)
            self.assertAlmostEqual(float(x.max()), high, places=6)
        frame, encoding = self.learn(DataPlan(scaling="robust"), x=values)
        self.assertEqual(encoding.codes[0].centre, 3.0)  # type: ignore[union-attr]

    def test_a_long_tail_is_taken_to_its_logarithm(self) -> None:
        tail = [float(2**i) for i in range(20)]
        frame, encoding = self.learn(x=list(tail))
        self.assertTrue(encoding.codes[0].log)  # type: ignore[union-attr]
        self.assertLess(float(np.abs(encoding.encode(frame)).max()), 3)
        self.assertFalse(self.learn(DataPlan(scaling="none"),
                                    x=list(tail))[1].codes[0].log)  # type: ignore
        self.assertFalse(self.learn(x=[-v
                                       for v in tail])[1].codes[0].log)  # type: ignore[union-attr]

    def test_rare_categories_are_pooled_and_new_ones_join_them(self) -> None:
        texts = [f"c{i}" for i in range(20) for _ in range(40)] + ["once", "twice"]
        _, encoding = self.learn(t=texts)
        code = encoding.codes[0]
        self.assertEqual(code.inputs[-1], "t = (rare)")
        encoded = code.encode(polars.Series("t", ["once", "new", "c3", None]))
        np.testing.assert_array_equal(encoded[:, -1], [1, 1, 0, 0])
        self.assertEqual(encoded.sum(), 3)

    def test_an_order_becomes_a_place_in_it(self) -> None:
        plan = DataPlan().treated("t", order=("low", "middle", "high"))
        frame, encoding = self.learn(plan, t=["low", "high", "middle", "low", None, "high"])
        code = encoding.codes[0]
        self.assertIsInstance(code, OrderCode)
        x = encoding.encode(frame)
        self.assertLess(x[0, 0], x[2, 0])
        self.assertLess(x[2, 0], x[1, 0])
        self.assertEqual((x[4, 0], x[:, 1].tolist()), (x[2, 0], [0, 0, 0, 0, 1, 0]))
        new = code.encode(polars.Series("t", ["never seen"]))
        np.testing.assert_allclose(new, [[x[2, 0], 1]], atol=1e-6)

    @settings(deadline=None)
    @given(
        st.lists(st.one_of(st.none(), st.sampled_from("abcdef")), min_size=4,
                 max_size=30).filter(lambda v: len(v) % 2 == 0 and len(set(v) - {None}) > 1),
        st.booleans())
    def test_categories_decode_to_what_they_were(self, values: list[str | None],
                                                 ordered: bool) -> None:
        plan = DataPlan().treated("t", order=()) if ordered else None
        frame, encoding = self.learn(plan, t=list(values))
        code = encoding.codes[0]
        assert isinstance(code, TextCode | OrderCode)
        self.assertEqual(code.decode(code.encode(frame["t"])), values)

    @settings(deadline=None)
    @given(st.lists(st.one_of(st.none(), st.floats(0, 1e5)), min_size=4, max_size=30).filter(
        lambda v: len(v) % 2 == 0 and set(v) != {None}),
           st.sampled_from(["z-score", "0-1", "robust", "logarithm", "none"]))
    def test_numbers_with_gaps_decode_to_what_they_were(self, values: list[float | None],
                                                        scaling: str) -> None:
        frame, encoding = self.learn(DataPlan(scaling=scaling),
                                     x=list(values))  # type: ignore[arg-type]
        code = encoding.codes[0]
        assert isinstance(code, NumberCode)
        back = code.decode(code.encode(frame["x"].cast(polars.Float64)))
        wanted = np.array([np.nan if v is None else v for v in values])
        np.testing.assert_allclose(back,
                                   wanted,
                                   atol=1e-6 * max(1.0, float(np.nanmax(np.nan_to_num(wanted)))))

    def test_one_column_can_be_treated_otherwise(self) -> None:
        plan = DataPlan(gaps="mean").treated("b", gaps="constant -1", scaling="none")
        columns: dict[str, list[object]] = {n: [1.0, None, 3.0, 5.0] for n in "ab"}
        _, encoding = self.learn(plan, **columns)
        a, b = encoding.codes
        self.assertEqual((a.fill, b.fill), (3.0, -1.0))  # type: ignore[union-attr]
        self.assertEqual((b.centre, b.scale), (0.0, 1.0))  # type: ignore[union-attr]
        self.assertEqual(plan.treated("b", gaps=None, scaling=None).columns, ())
        for wrong in ({"gaps": "guess"}, {"gaps": "constant x"}, {"scaling": "big"}):
            with self.subTest(wrong=wrong), self.assertRaises(DataError):
                plan.treated("b", **wrong)

    def test_every_code_says_in_words_what_it_does(self) -> None:
        columns: dict[str, list[object]] = {"n": [1.0, None, 3.0, 900.0], "t": ["a", "b", "a", "c"],
                                            "d": [date(2024, 1, 1), None, date(2023, 1, 1), None]}
        _, encoding = self.learn(DataPlan().treated("n", scaling="logarithm"), **columns)
        words = [code.words for code in encoding.codes]
        for said, wanted in zip(words, ("logarithm", "3 categories", "circle"), strict=True):
            self.assertIn(wanted, said)

    def test_dates_become_places_on_a_circle(self) -> None:
        days = [date(2023, 12, 31), date(2024, 1, 1), date(2024, 7, 1), None]
        _, encoding = self.learn(d=days)
        code = encoding.codes[0]
        self.assertIsInstance(code, DateCode)
        encoded = code.encode(polars.Series("d", days))
        near, far = (np.linalg.norm(encoded[0, 1:3] - encoded[i, 1:3]) for i in (1, 2))
        self.assertLess(near, far)
        self.assertTrue((encoded[3] == 0).all())
        self.assertEqual(encoded.shape[1], len(code.inputs))


class Splitting(unittest.TestCase):
    @given(st.lists(st.integers(3, 60), min_size=2, max_size=6), st.integers(0, 1000),
           st.floats(0.05, 0.4))
    def test_parts_are_exact_disjoint_and_stratified(self, counts: list[int], seed: int,
                                                     share: float) -> None:
        labels = np.repeat(np.arange(len(counts)), counts)
        parts = three(labels, SplitPlan(share, share, seed=seed))
        self.whole(parts, len(labels))
        for label, count in enumerate(counts):
            for part in (parts.validation, parts.test):
                self.assertLessEqual(abs((labels[part] == label).sum() - share * count), 1)

    def whole(self, parts: Parts, rows: int) -> None:
        """All rows are in one part each."""
        together = np.concatenate([parts.train, parts.validation, parts.test])
        self.assertEqual(sorted(together), list(range(rows)))

    @given(st.lists(st.integers(1, 40), min_size=3, max_size=40), st.integers(0, 99))
    def test_groups_stay_together(self, counts: list[int], seed: int) -> None:
        groups = np.repeat(np.arange(len(counts)), counts)
        labels = np.arange(len(groups)) % 2
        try:
            parts = three(labels, SplitPlan(seed=seed), groups)
        except DataError as error:
            self.assertIn("one class", error.what)
            return
        self.whole(parts, len(groups))
        where = [set(groups[part]) for part in (parts.train, parts.validation, parts.test)]
        self.assertFalse(where[0] & where[1] or where[0] & where[2] or where[1] & where[2])
        self.assertTrue(all(where))

    def test_many_groups_come_close_to_the_shares(self) -> None:
        groups = np.repeat(np.arange(200), 5)
        parts = three(np.arange(1000) % 3, SplitPlan(0.2, 0.1), groups)
        self.assertAlmostEqual(len(parts.validation), 200, delta=10)
        self.assertAlmostEqual(len(parts.test), 100, delta=10)

    def test_order_keeps_the_future_out_of_training(self) -> None:
        order = np.random.default_rng(0).permutation(100).astype(float)
        parts = three(np.arange(100) % 2, SplitPlan(), order=order)
        self.whole(parts, 100)
        self.assertLess(order[parts.train].max(), order[parts.validation].min())
        self.assertLess(order[parts.validation].max(), order[parts.test].min())

    @given(st.integers(1, 500), st.integers(0, 9))
    def test_fewer_training_rows_are_stratified_and_leave_the_other_parts_alone(
            self, rows: int, seed: int) -> None:
        labels = np.repeat([0, 1, 2], [300, 150, 50])
        parts = three(labels, SplitPlan())
        some = fewer(parts, labels, rows, seed)
        np.testing.assert_array_equal(some.validation, parts.validation)
        np.testing.assert_array_equal(some.test, parts.test)
        self.assertTrue(set(some.train) <= set(parts.train))
        self.assertLessEqual(abs(len(some.train) - min(rows, len(parts.train))), 3)
        for label, share in enumerate((0.6, 0.3, 0.1)):
            self.assertLessEqual(abs((labels[some.train] == label).sum() - share * len(some.train)),
                                 2)

    def test_the_seed_fixes_it(self) -> None:
        labels = np.repeat([0, 1], 50)
        one, same, other = (three(labels, SplitPlan(seed=s)).test for s in (1, 1, 2))
        np.testing.assert_array_equal(one, same)
        self.assertFalse(np.array_equal(one, other))

    def test_what_cannot_be_split_is_refused(self) -> None:
        with self.assertRaises(DataError):
            three(np.array([0] * 20 + [1, 1]), SplitPlan())
        with self.assertRaises(DataError):
            three(np.array([0, 1] * 9), SplitPlan(), np.array([0, 1] * 9))
        with self.assertRaises(DataError):
            three(np.array([0, 1] * 9), SplitPlan(), order=np.full(18, np.nan))
        for wrong in ({"validation": 0.0}, {"test": 1.0}, {"validation": 0.5, "test": 0.5},
                      {"group": "a", "order": "b"}):
            with self.subTest(wrong=wrong), self.assertRaises(DataError):
                SplitPlan(**wrong)  # type: ignore[arg-type]


class FloorLaws(unittest.TestCase):
    def test_known_values(self) -> None:
        train, validation = np.array([0, 0, 0, 1], np.int32), np.array([0, 1], np.int32)
        baseline = class_floor(train, validation, 2)
        self.assertAlmostEqual(baseline.loss, -(np.log(0.75) + np.log(0.25)) / 2)
        self.assertEqual(baseline.metrics, (0.5, 0.5))
