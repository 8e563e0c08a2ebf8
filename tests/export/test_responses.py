"""How predictions depend on an input, against known truths, and where they are worse."""

from __future__ import annotations

import unittest
from pathlib import Path
from typing import Any, cast

import numpy as np

from axiarch.data.building import Origin, build_dataset
from axiarch.data.dataset import Dataset
from axiarch.data.demo import hive_states
from axiarch.data.demo_nectar import nectar_flow
from axiarch.data.plan import DataPlan
from axiarch.data.reading import read_table
from axiarch.data.rules import RULES
from axiarch.export.responses import MOST, responses
from axiarch.insight.groups import worst_groups
from axiarch.insight.predicted import Run
from tests.export.test_models import HEADER, messy_rows, trained
from tests.support import FolderCase, write_csv


class Formula:
    """A network that is a formula of its encoded inputs."""

    def __init__(self, of: Any) -> None:
        self._of = of

    def predict(self, x: np.ndarray) -> np.ndarray:
        return np.asarray(self._of(np.asarray(x, np.float64)))


def table(folder: Path, header: list[str], rows: list[list[Any]], **more: Any) -> Dataset:
    plan = DataPlan((header[-1],), **more)
    return build_dataset(read_table(write_csv(folder / "t.csv", header, rows))[0],
                         folder / "d",
                         "d",
                         plan=plan)


class Dependence(FolderCase):
    def found(self, data: Dataset, *networks: Any) -> dict[str, Any]:
        part = data.part("validation")
        return responses(data, 0, cast(Any, networks), np.asarray(part.inputs),
                         np.asarray(part.targets))

    def test_a_sum_of_functions_is_taken_apart_exactly(self) -> None:
        rng = np.random.default_rng(0)
        rows = [[f"{a:.4f}", f"{b:.4f}", f"{3 * a + b:.4f}"]
                for a, b in rng.uniform(-2, 2, (300, 2))]
        data = table(self.folder, ["a", "b", "t"], rows)
        first, second = data.encoding.codes
        target = data.target

        def of(shift: float) -> Formula:
            def scaled(x: np.ndarray) -> np.ndarray:
                a, b = first.decode(x[:, :1]), second.decode(x[:, 1:2])
                return (a**2 + 10 * np.sin(b) + shift)[:, None]
            return Formula(lambda x: (scaled(x) - target.centre) / target.scale)

        found = self.found(data, of(0.0), of(1.0))
        self.assertEqual([c["column"] for c in found["columns"]], ["b", "a"], "the strongest first")
        curve = found["columns"][1]
        away = np.array(curve["predicted"])[:, 0] - np.array(curve["places"]) ** 2
        self.assertLess(np.ptp(away), 1e-4)
        self.assertLess(np.abs(np.array(curve["high"]) - curve["low"] - 1.0).max(), 1e-4)
        self.assertEqual(curve["points"], [], "rows are drawn where there is one column")
        plane = found["plane"]
        x, y = np.meshgrid(plane["x"], plane["y"])
        np.testing.assert_allclose(np.array(plane["predicted"])[..., 0],
                                   x**2 + 10 * np.sin(y) + 0.5,
                                   atol=1e-4)

    def test_every_kind_of_column_has_its_places(self) -> None:
        plan = DataPlan().treated("grade", order=("low", "mid", "high"))
        read = read_table(write_csv(self.folder / "m.csv", HEADER, messy_rows()))[0]
        data = build_dataset(read, self.folder / "d", "d", plan=plan)
        model, _ = trained(data, self.folder, 30, learning_rate=0.02)
        found = self.found(data, *model.networks)
        kinds = {c["column"]: (c["kind"], len(c["places"])) for c in found["columns"]}
        self.assertEqual((kinds["colour"], kinds["grade"], kinds["size"]),
                         (("text", 3), ("text", 3), ("number", 25)))
        self.assertEqual(kinds["seen"][0], "date")
        size = next(c for c in found["columns"] if c["column"] == "size")
        yes = np.array(size["predicted"])[:, data.classes.index("yes")]
        self.assertGreater(yes[-1] - yes[0], 0.3, "larger is more often yes")

    def test_of_many_columns_those_that_matter_are_found(self) -> None:
        rng = np.random.default_rng(2)
        values = rng.normal(size=(120, 60))
        header = [f"c{i}" for i in range(60)] + ["t"]
        data = table(self.folder, header,
                     [[*(f"{v:.3f}" for v in row), f"{row[7]:.3f}"] for row in values])
        place = next(i for i, code in enumerate(data.encoding.codes) if code.name == "c7")
        found = self.found(data, Formula(lambda x: 5 * x[:, place : place + 1]))
        self.assertEqual((len(found["columns"]), found["left_out"]), (MOST, 60 - MOST))
        self.assertEqual(found["columns"][0]["column"], "c7")

    def test_the_rule_behind_the_demo_data_is_at_no_distance_from_itself(self) -> None:
        for name, made in (("hive states", hive_states(600)), ("nectar flow", nectar_flow(600))):
            with self.subTest(name=name):
                read = read_table(made.to_csv(self.folder / f"{name}.csv"))[0]
                target = list(made.columns)[-1]
                data = build_dataset(read,
                                     self.folder / name,
                                     name,
                                     plan=DataPlan((target, )),
                                     origin=Origin(rule=name))
                known = responses(data, 0, [cast(Any, _Rule(data))],
                                  np.asarray(data.part("validation").inputs),
                                  np.asarray(data.part("validation").targets))
                self.assertLess(known["truth"]["distance"], 0.05 if data.classes else 1.0)
                strongest = known["columns"][0]
                np.testing.assert_allclose(strongest["predicted"],
                                           strongest["truth"],
                                           rtol=0.2,
                                           atol=30)
                guess = np.full(len(data.classes), 1 /
                                max(len(data.classes), 1)) if data.classes else np.zeros(1)
                far = responses(data, 0,
                                [cast(Any, Formula(lambda x, g=guess: np.tile(g, (len(x), 1))))],
                                np.asarray(data.part("validation").inputs),
                                np.asarray(data.part("validation").targets))
                self.assertGreater(far["truth"]["distance"], 20 * known["truth"]["distance"])


class _Rule:
    """Predicts what the rule behind the demo data says; rows with gaps get a guess."""

    def __init__(self, data: Dataset) -> None:
        self._data = data

    def predict(self, x: np.ndarray) -> np.ndarray:
        columns, place = {}, 0
        for code in self._data.encoding.codes:
            own = np.asarray(x[:, place : place + len(code.inputs)], np.float64)
            place += len(code.inputs)
            if hasattr(code, "decode"):
                columns[code.name] = code.decode(own)
        found, names = RULES[self._data.rule](cast(Any, columns))
        found = np.where(np.isfinite(found), found, 1 / max(len(names), 1))
        target = self._data.target
        return found[:,
                     [names.index(n)
                      for n in target.classes]] if names else (found - target.centre) / target.scale


class Groups(unittest.TestCase):
    """Against a known truth: rows that are wrong with a known probability in each group."""

    def found(self, worse: float, rows: int, seed: int, groups: int = 12) -> dict[str, Any]:
        rng = np.random.default_rng(seed)
        group = rng.integers(0, groups, rows)
        wrong = rng.random(rows) < np.where(group == 0, worse, 0.2)
        true = rng.integers(0, 2, rows)
        predicted = np.eye(2)[np.where(wrong, 1 - true, true)]
        return worst_groups([Run(0, predicted, true)], {"g": {0: [f"{g:02d}" for g in group]}}, 2)

    def test_a_group_that_is_worse_stands_first_and_apart(self) -> None:
        found = self.found(0.6, 1200, 0)
        first = found["groups"][0]
        self.assertEqual((found["compared"], first["group"], first["apart"]), (12, "00", True))
        self.assertAlmostEqual(first["value"], 0.4, delta=0.12)
        self.assertAlmostEqual(first["others"], 0.8, delta=0.05)

    def test_where_none_is_worse_one_in_twenty_tables_says_so_at_the_most(self) -> None:
        claims = sum(
            any(g["apart"] for g in self.found(0.2, 600, seed)["groups"]) for seed in range(150))
        self.assertLess(claims, 15)

    def test_amounts_are_compared_by_their_squared_error(self) -> None:
        rng = np.random.default_rng(1)
        true = rng.normal(size=(400, 1))
        group = np.arange(400) % 4
        predicted = true + rng.normal(size=(400, 1)) * np.where(group == 2, 3, 1)[:, None]
        found = worst_groups([Run(0, predicted, true)], {"g": {0: [str(g) for g in group]}}, 0)
        self.assertEqual((found["groups"][0]["group"], found["groups"][0]["apart"]), ("2", True))
        self.assertAlmostEqual(found["groups"][0]["value"], 3, delta=0.5)

    def test_five_rows_that_are_all_wrong_do_not_stand_apart_among_many_groups(self) -> None:
        rng = np.random.default_rng(2)
        true = np.zeros(120, int)
        wrong = np.arange(120) % 5 < 2
        few = np.isin(np.arange(120), np.flatnonzero(wrong)[:5])
        columns = {f"c{i}": {0: [str(g) for g in rng.integers(0, 5, 120)]} for i in range(11)}
        columns["few"] = {0: ["few" if each else "others" for each in few]}
        found = worst_groups([Run(0, np.eye(2)[wrong.astype(int)], true)], columns, 2)
        self.assertEqual(found["groups"][0]["group"], "few")
        self.assertFalse(found["groups"][0]["apart"])

    def test_a_group_of_few_rows_is_not_judged(self) -> None:
        runs = [Run(0, np.eye(2)[[0] * 30], np.zeros(30, int))]
        self.assertEqual(worst_groups(runs, {"g": {0: ["a"] * 28 + ["b"] * 2}}, 2)["compared"], 0)


if __name__ == "__main__":
    unittest.main()
