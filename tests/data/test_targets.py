"""What is predicted: the task, classes and amounts, and what they become and come back from."""

from __future__ import annotations

import unittest

import numpy as np
import polars
from hypothesis import example, given, settings
from hypothesis import strategies as st

from axiarch.data.baseline import baseline_of
from axiarch.data.building import build_dataset
from axiarch.data.plan import DataPlan
from axiarch.data.table import Table
from axiarch.data.target import Target, is_amount, learn_target, settle_task
from axiarch.engine.run import RunSpec
from axiarch.engine.streams import Streams
from axiarch.errors import DataError
from axiarch.runner.material import shape_of, training_data
from tests.support import FolderCase, Runs, recipe


def series(values: list[object], name: str = "y") -> dict[str, polars.Series]:
    """Return target columns."""
    return {name: polars.Series(name, values)}


class Tasks(unittest.TestCase):
    def test_the_proposals(self) -> None:
        cases = (
            (["a", "b", "a"] * 9, "binary"),
            (["a", "b", "c"] * 9, "classification"),
            ([0, 1, 1] * 9, "binary"),
            (list(range(9)) * 9, "classification"),
            (list(range(60)), "regression"),
            (list(range(9)) * 9 + [9], "regression"),  # a class of one row cannot be judged
            ([0.5, 1.25, 7.0] * 9, "regression"),
            ([True, False] * 9, "binary"),
        )
        for values, task in cases:
            with self.subTest(values=values[:3]):
                self.assertEqual(settle_task(series(values), "")[0], task)

    def test_what_is_chosen_wins(self) -> None:
        self.assertEqual(settle_task(series(list(range(9)) * 9), "regression"),
                         ("regression", "chosen"))
        self.assertEqual(settle_task(series(["a", "b"] * 9), "classification")[0], "classification")

    def test_what_does_not_fit_is_said(self) -> None:
        cases = ((["a", "b"] * 9, "regression", "text"), (["a"] * 9, "", "same in every row"),
                 ([1.5] * 9, "regression",
                  "same in every row"), (["a", "b", "c"] * 9, "binary", "3 classes"), ([
                      f"n{i}" for i in range(30)
                  ], "", "different values"), ([], "", "no value"))
        for values, task, words in cases:
            with self.subTest(values=values[:3]), self.assertRaises(DataError) as caught:
                settle_task(series(values), task)
            self.assertIn(words, caught.exception.what)

    def test_several_targets_must_be_amounts(self) -> None:
        both = series([1.0, 2.0, 3.5]) | series([3.0, 1.0, 2.5], "z")
        self.assertEqual(settle_task(both, "")[0], "regression")
        with self.assertRaises(DataError):
            settle_task(both | series(["a", "b", "a"], "t"), "")

    def test_whole_numbers_of_few_kinds_are_classes(self) -> None:
        self.assertFalse(is_amount(polars.Series([1.0, 2.0, 3.0] * 5)))
        self.assertTrue(is_amount(polars.Series([1.0, 2.5, 3.0] * 5)))


class Codes(unittest.TestCase):
    @settings(deadline=None)
    @given(st.lists(st.text(max_size=6), min_size=2, max_size=30).filter(lambda v: len(set(v)) > 1))
    def test_classes_decode_to_what_they_were(self, values: list[str]) -> None:
        target = learn_target("classification", series(list(values)), "none")
        frame = polars.DataFrame({"y": values})
        self.assertEqual(target.decode(target.encode(frame)), values)

    @settings(deadline=None)
    @example([(0.0, 0.0)] * 3 + [(1.0, 0.0), (7e-293, 0.0)], "robust")
    @given(
        st.lists(st.tuples(st.floats(-1e6, 1e6), st.floats(-1e-3, 1e-3)), min_size=2, max_size=30),
        st.sampled_from(["z-score", "0-1", "robust", "none"]))
    def test_amounts_decode_to_what_they_were(self, rows: list[tuple[float, float]],
                                              scaling: str) -> None:
        frame = polars.DataFrame(rows, schema=["a", "b"], orient="row")
        target = learn_target("regression", {n: frame[n] for n in "ab"},
                              scaling)  # type: ignore[arg-type]
        back = np.asarray(target.decode(target.encode(frame)))
        for i in range(2):
            own = np.array([row[i] for row in rows])
            reach = max(float(np.abs(own).max()), float(np.ptp(own)), 1e-30)
            np.testing.assert_allclose(back[:, i], own, atol=3e-6 * reach)

    def test_numbered_classes_are_in_the_order_of_their_size(self) -> None:
        target = learn_target("classification", series([10, 9, 100, 9]), "none")
        self.assertEqual(target.classes, ("9", "10", "100"))
        np.testing.assert_array_equal(target.encode(polars.DataFrame({"y": [100, 9, 10]})),
                                      [2, 0, 1])

    def test_what_a_network_needs_to_know(self) -> None:
        for task, columns, classes, outputs, loss in (("classification", ("y", ), ("a", "b", "c"),
                                                       3, "softmax"), ("binary", ("y", ),
                                                                       ("a", "b"), 1, "binary"),
                                                      ("regression", ("y", "z"), (), 2, "squared")):
            target = Target(task, columns, classes)  # type: ignore[arg-type]
            self.assertEqual((target.outputs, target.loss), (outputs, loss))


class Floors(unittest.TestCase):
    def test_amounts_are_in_their_own_unit(self) -> None:
        train, validation = np.array([10.0, 20.0, 60.0]), np.array([20.0, 30.0])
        target = learn_target("regression", {"y": polars.Series("y", train)}, "z-score")
        baseline = baseline_of(target,
                         *(target.encode(polars.DataFrame({"y": v})) for v in (train, validation)))
        self.assertAlmostEqual(baseline.loss, np.sqrt(((validation - 30)**2).mean()),
                               places=4)  # the mean is 30
        self.assertAlmostEqual(baseline.metrics[0], 5.0, places=4)  # the median is 20
        self.assertAlmostEqual(baseline.metrics[1], 1 - 50 / 25, places=4)

    def test_several_amounts_have_an_error_each(self) -> None:
        frame = polars.DataFrame({"a": [0.0, 2.0], "b": [0.0, 200.0]})
        target = learn_target("regression", {n: frame[n] for n in "ab"}, "z-score")
        baseline = baseline_of(target, target.encode(frame), target.encode(frame))
        self.assertAlmostEqual(baseline.loss, 1.0, places=5)
        np.testing.assert_allclose(baseline.metrics, (1.0, 100.0), rtol=1e-5)


class Building(FolderCase):
    rng = np.random.default_rng(0)
    frame = polars.DataFrame(
        {"a": rng.normal(size=200), "b": rng.choice(["p", "q"], 200), "c": rng.normal(size=200)})

    def test_several_amounts(self) -> None:
        data = build_dataset(Table.of(self.frame),
                             self.folder / "d",
                             "d",
                             plan=DataPlan(("a", "c")))
        self.assertEqual((data.target.task, data.outputs, data.class_counts), ("regression", 2, ()))
        part = data.part("train")
        self.assertEqual(part.targets.shape, (data.rows["train"], 2))
        self.assertAlmostEqual(float(part.targets.mean()), 0.0, places=5)

    def test_the_scale_of_the_target_is_that_of_the_training_rows(self) -> None:
        data = build_dataset(Table.of(self.frame), self.folder / "d", "d", plan=DataPlan(("c",)))
        train = np.asarray(data.target.decode(data.part("train").targets)).ravel()
        self.assertAlmostEqual(data.target.centre[0], train.mean(), places=5)
        self.assertAlmostEqual(data.target.scale[0], train.std(), places=5)

    def test_a_leak_of_an_amount(self) -> None:
        c = self.frame["c"]
        table = Table.of(
            self.frame.with_columns(twice=2 * c + 1,
                                    rough=c.round(0),
                                    near=c + 0.4 * self.frame["a"]))
        data = build_dataset(table, self.folder / "d", "d", plan=DataPlan(("c",)))
        self.assertEqual([f.column for f in data.findings if f.name == "leak"], ["twice"])

    def test_rows_without_an_answer_are_left_out(self) -> None:
        table = Table.of(
            self.frame.with_columns(c=polars.Series([None] * 20 + self.frame["c"].to_list()[20:])))
        data = build_dataset(table, self.folder / "d", "d", plan=DataPlan(("c",)))
        self.assertEqual((sum(data.rows.values()), data.rows["without target"]), (200, 20))

    def test_a_skewed_amount_is_pointed_out_and_its_remedy_works(self) -> None:
        rng = np.random.default_rng(4)
        x = rng.normal(size=600)
        frame = polars.DataFrame(
            {"x": x, "z": rng.normal(size=600), "y": np.exp(2 * x + 0.1 * rng.normal(size=600))})
        plain = build_dataset(Table.of(frame), self.folder / "p", "p", plan=DataPlan(("y",)))
        (finding,) = [f for f in plain.findings if f.name == "skewed target"]
        self.assertIn("--target-scaling logarithm", finding.advice)
        made = build_dataset(Table.of(frame), self.folder / "l", "l",
                             plan=DataPlan(("y",), target_scaling="logarithm"))
        self.assertNotIn("skewed target", [f.name for f in made.findings])
        self.assertEqual((made.target.loss, made.target.unit), ("logarithmic", "y"))
        true = np.asarray(made.target.decode(made.part("validation").targets))
        self.assertAlmostEqual(
            made.baseline.loss,
            float(
                np.sqrt(((
                    true -
                    np.asarray(made.target.decode(made.part("train").targets)).mean())**2).mean())),
            delta=1e-3 * made.baseline.loss)
        assert made.linear is not None and plain.linear is not None
        self.assertLess(made.linear.loss, 0.5 * plain.linear.loss,
                        "a straight line fits the logarithm")
        with self.assertRaises(DataError) as caught:
            build_dataset(Table.of(frame.with_columns(y=polars.col("y") - 50)),
                          self.folder / "n",
                          "n",
                          plan=DataPlan(("y", ), target_scaling="logarithm"))
        self.assertIn("no logarithm", caught.exception.what)

    def test_losses_of_logarithms_are_reported_in_the_target_s_own_unit(self) -> None:
        rng = np.random.default_rng(1)
        x = rng.normal(size=(300, 2))
        frame = polars.DataFrame({"a": x[:, 0], "b": x[:, 1], "y": np.exp(1 + x[:, 0])})
        made = build_dataset(Table.of(frame), self.folder / "d", "d",
                             plan=DataPlan(("y",), target_scaling="logarithm"))
        spec = recipe(epochs=30, learning_rate=0.02)
        training = Runs(shape_of(spec, made), training_data(made)).add(RunSpec(0, spec, Streams(0)))
        for _ in range(30):
            progress = training.train_epoch()
        part = made.part("validation")
        predicted = np.asarray(made.target.decode(training.predict(part.inputs)))
        true = np.asarray(made.target.decode(part.targets))
        rmse = float(np.sqrt(((predicted - true) ** 2).mean()))
        self.assertAlmostEqual(progress.numbers.validation_loss, rmse, delta=1e-4 * rmse)
        self.assertAlmostEqual(progress.numbers.metrics[0],
                               float(np.abs(predicted - true).mean()),
                               delta=1e-4 * rmse)
        self.assertLess(rmse, 0.2 * made.baseline.loss)

    def test_classes_with_a_single_row_are_named(self) -> None:
        table = Table.of(
            self.frame.with_columns(b=polars.Series(["once", *self.frame["b"].to_list()[1:]])))
        with self.assertRaises(DataError) as caught:
            build_dataset(table, self.folder / "d", "d", plan=DataPlan(("b",)))
        self.assertIn("'once'", caught.exception.what)

    def test_absurd_numbers_are_refused_with_row_and_column(self) -> None:
        for value, words in ((float("inf"), "infinite"), (-1e300, "absurdly")):
            a = self.frame["a"].to_list()
            a[7] = value
            with self.assertRaises(DataError) as caught:
                build_dataset(Table.of(self.frame.with_columns(a=polars.Series(a))),
                              self.folder / "d", "d")
            self.assertIn(words, caught.exception.what)
            self.assertIn("row 8", caught.exception.what)
            self.assertIn("'a'", caught.exception.where)


if __name__ == "__main__":
    unittest.main()
