"""Reading tables, proposing roles, encoding, splitting: traps caught before training."""

from __future__ import annotations

import unittest

import numpy as np
import polars
from hypothesis import given, settings
from hypothesis import strategies as st

from axiarch.data.columns import choose_target, look, propose_roles
from axiarch.data.encoding import NumberCode, TextCode, learn_encoding
from axiarch.data.floor import class_floor
from axiarch.data.split import split
from axiarch.data.table import read_table
from axiarch.errors import DataError
from tests.support import FolderCase

#: bytes of a file, words of the message.
BAD = (
    (b"", "empty"), (b"  \n", "empty"), (b"a,b\n", "no rows"), (b"a\n1\n", "one column"),
    (b"a,a\n1,2\n", "two columns"), (b"a,b\n1,2\n1,2,3\n", "3 cells"), (b"a,b\n\xff\xfe,1\n", "not UTF-8"),
    ("a,b\n1,2\n".encode("utf-16"), "not UTF-8"),
)


class Reading(FolderCase):
    def test_bad_files_are_refused_in_words(self) -> None:
        path = self.folder / "t.csv"
        for content, words in BAD:
            path.write_bytes(content)
            with self.subTest(content=content), self.assertRaises(DataError) as caught:
                read_table(path)
            self.assertIn(words, caught.exception.what)
            self.assertIn("t.csv", caught.exception.where)
            self.assertTrue(caught.exception.remedy)

    def test_a_ragged_row_is_named_by_its_line(self) -> None:
        path = self.folder / "t.csv"
        path.write_text("a,b\n1,2\n3\n")
        with self.assertRaises(DataError) as caught:
            read_table(path)
        self.assertIn("line 3", caught.exception.where)

    def test_no_file(self) -> None:
        with self.assertRaises(DataError):
            read_table(self.folder / "none.csv")
        with self.assertRaises(DataError):
            read_table(self.folder)

    def test_gaps_and_byte_order_marks(self) -> None:
        path = self.folder / "t.csv"
        path.write_bytes(b"\xef\xbb\xbfa,b\n1,x\nNA,y\n?,\n")
        frame = read_table(path)
        self.assertEqual(frame.columns, ["a", "b"])
        self.assertEqual(frame["a"].null_count(), 2)
        self.assertTrue(frame["a"].dtype.is_numeric())


class Roles(unittest.TestCase):
    frame = polars.DataFrame({
        "id": [f"r{i}" for i in range(40)], "n": list(range(40)), "x": [i * 0.7 % 3 for i in range(40)],
        "kind": ["a", "b"] * 20, "same": [1] * 40, "none": [None] * 40, "label": ["u", "v", "u", "w"] * 10,
    })

    def test_the_proposals(self) -> None:
        aim, why = choose_target(self.frame)
        self.assertEqual(aim, "label")
        roles = {name: role for name, (role, _) in propose_roles(self.frame, aim, why).items()}
        self.assertEqual(roles, {"id": "ignored", "n": "ignored", "x": "input", "kind": "input", "same": "ignored",
                                 "none": "ignored", "label": "target"})

    def test_every_role_has_a_reason(self) -> None:
        for role, reason in propose_roles(self.frame, "label", "chosen").values():
            self.assertTrue(role and reason)

    def test_what_is_chosen_wins(self) -> None:
        self.assertEqual(choose_target(self.frame, "kind"), ("kind", "chosen"))
        roles = propose_roles(self.frame, "kind", "chosen", ("x",))
        self.assertEqual(roles["x"], ("ignored", "chosen"))

    def test_a_column_that_is_not_there_is_said(self) -> None:
        with self.assertRaises(DataError) as caught:
            choose_target(self.frame, "lable")
        self.assertIn("label", caught.exception.remedy)

    def test_nothing_left_to_learn_from(self) -> None:
        with self.assertRaises(DataError):
            propose_roles(self.frame[["id", "label"]], "label", "chosen")

    def test_summaries(self) -> None:
        columns = {c.name: c for c in look(self.frame, propose_roles(self.frame, "label", "chosen"))}
        self.assertEqual(sum(columns["x"].bars), 40)
        self.assertEqual((columns["label"].names, columns["label"].bars), (("u", "v", "w"), (20, 10, 10)))
        self.assertEqual(columns["none"].missing, 40)


class Encoding(unittest.TestCase):
    def learn(self, **columns: list[object]) -> tuple[polars.DataFrame, object]:
        frame = polars.DataFrame({**columns, "y": ["a", "b"] * (len(next(iter(columns.values()))) // 2)})
        roles = {name: ("input", "") for name in columns} | {"y": ("target", "")}
        return frame, learn_encoding(frame, roles, ["a", "b"])  # type: ignore[arg-type]

    @settings(deadline=None)
    @given(st.lists(st.floats(-1e6, 1e6), min_size=4, max_size=40).filter(lambda v: len(v) % 2 == 0))
    def test_numbers_decode_to_what_they_were(self, values: list[float]) -> None:
        frame, encoding = self.learn(x=list(values))
        code = encoding.codes[0]  # type: ignore[attr-defined]
        assert isinstance(code, NumberCode)
        back = code.encode(frame["x"])[:, 0] * code.scale + code.mean
        np.testing.assert_allclose(back, values, atol=1e-6 * max(1, np.abs(values).max()))

    def test_numbers_are_centred_on_the_training_rows(self) -> None:
        frame, encoding = self.learn(x=[1.0, 2.0, 3.0, 6.0])
        x = encoding.encode(frame)  # type: ignore[attr-defined]
        self.assertAlmostEqual(float(x.mean()), 0.0, places=6)
        self.assertAlmostEqual(float(x.std()), 1.0, places=6)

    def test_gaps_take_the_median_and_are_pointed_out(self) -> None:
        frame, encoding = self.learn(x=[1.0, None, 3.0, 100.0])
        code = encoding.codes[0]  # type: ignore[attr-defined]
        self.assertEqual((code.fill, code.inputs), (3.0, ("x", "x missing")))
        np.testing.assert_array_equal(code.encode(frame["x"])[:, 1], [0, 1, 0, 0])

    def test_a_category_never_seen_is_all_zeros(self) -> None:
        code = TextCode("t", ("a", "b"))
        np.testing.assert_array_equal(code.encode(polars.Series("t", ["b", "new", None])), [[0, 1], [0, 0], [0, 0]])

    def test_a_constant_does_not_divide_by_zero(self) -> None:
        frame, encoding = self.learn(x=[2.0, 2.0])
        self.assertTrue((encoding.encode(frame) == 0).all())  # type: ignore[attr-defined]


class Splitting(unittest.TestCase):
    @given(st.lists(st.integers(3, 60), min_size=2, max_size=6), st.integers(0, 1000))
    def test_parts_are_exact_disjoint_and_stratified(self, counts: list[int], seed: int) -> None:
        labels = np.repeat(np.arange(len(counts)), counts)
        parts = split(labels, seed)
        together = np.concatenate([parts.train, parts.validation, parts.test])
        self.assertEqual(sorted(together), list(range(len(labels))))
        for label, count in enumerate(counts):
            for part in (parts.validation, parts.test):
                self.assertLessEqual(abs((labels[part] == label).sum() - 0.2 * count), 1)

    def test_the_seed_fixes_it(self) -> None:
        labels = np.repeat([0, 1], 50)
        np.testing.assert_array_equal(split(labels, 1).test, split(labels, 1).test)
        self.assertFalse(np.array_equal(split(labels, 1).test, split(labels, 2).test))

    def test_a_class_too_small_is_refused(self) -> None:
        with self.assertRaises(DataError):
            split(np.array([0] * 20 + [1, 1]), 1)


class FloorLaws(unittest.TestCase):
    def test_known_values(self) -> None:
        train, validation = np.array([0, 0, 0, 1], np.int32), np.array([0, 1], np.int32)
        floor = class_floor(train, validation, 2)
        self.assertAlmostEqual(floor.loss, -(np.log(0.75) + np.log(0.25)) / 2)
        self.assertEqual(floor.accuracy, 0.5)
