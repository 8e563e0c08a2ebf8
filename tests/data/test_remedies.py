"""Every remedy that names an option works when it is followed to the letter, from the command
line.
"""

from __future__ import annotations

import json
import re
import shlex
import unittest
from collections.abc import Mapping, Sequence

import numpy as np
import polars
from click.testing import CliRunner

from axiarch.cli.main import main
from tests.data.test_checks import healthy
from tests.support import FolderCase


def with_dates(columns: dict[str, list[object]]) -> dict[str, list[object]]:
    """Return columns with a day for every row, two years long."""
    return {
        **columns, "read on": [
            f"{2022 + i % 2}-{1 + i % 12:02}-{1 + i % 28:02}" for i in range(len(columns["x"]))
        ]
    }


def with_marks(columns: dict[str, list[object]]) -> dict[str, list[object]]:
    """Return columns one of which uses both a text and a number for a missing value."""
    x = [
        -999 if i % 50 == 0 else "n/a" if i % 41 == 0 else value
        for i, value in enumerate(columns["x"])
    ]
    return {**columns, "x": x}


class Remedies(FolderCase):
    added = 0

    def add(self, *words: str, code: int = 0) -> dict[str, object]:
        """Add the table with some options; return what it prints as JSON."""
        self.added += 1
        done = CliRunner().invoke(main, [
            "data", "add",
            str(self.folder / "t.csv"), "--target", "y", "--json", "-w",
            str(self.folder / "w"), "--name",
            str(self.added), *words
        ])
        self.assertEqual(done.exit_code, code, done.output)
        return dict(json.loads(done.stdout)) if code == 0 else {"error": done.stderr}

    def write(self, columns: Mapping[str, Sequence[object]]) -> None:
        text = {name: [str(value) for value in values] for name, values in columns.items()}
        polars.DataFrame(text).write_csv(self.folder / "t.csv")

    def test_every_option_that_a_finding_names_ends_the_finding(self) -> None:
        base = healthy(1200)
        rng = np.random.default_rng(4)
        skewed = [float(v) for v in np.exp(2.5 * rng.normal(size=1200))]
        cased = [str(y).upper() if i % 3 == 0 else y for i, y in enumerate(base["y"])]
        half = {name: values[:600] * 2 for name, values in base.items()}
        strong = {f"n{i}": rng.normal(size=1200).tolist() for i in range(4)}
        signal = [
            float(str(y)[-1]) + 0.35 * float(n)
            for y, n in zip(base["y"], rng.normal(size=1200), strict=True)
        ]
        cases: dict[str, dict[str, list[object]]] = {
            "leak": {"it's a leak; $(x)": [f"code {y}" for y in base["y"]], **base},
            "strong column": {**base, **strong, "sig=nal": list(signal)},
            "duplicates": half, "time": with_dates(base), "lone value": with_marks(base),
            "letter case": {**base, "y": cased}, "skewed target": {**base, "y": list(skewed)},
        }
        below = {**base, "y": [v - 1.0 for v in skewed]}
        for kind, columns in [*cases.items(), ("skewed target", below)]:
            with self.subTest(kind=kind):
                self.write(columns)
                found = {f["kind"]: f for f in self.add()["findings"]}  # type: ignore[attr-defined]
                self.assertIn(kind, found)
                option = re.search(r"--\S.*$", found[kind]["remedy"])
                assert option is not None
                after = self.add(*shlex.split(option[0]))
                self.assertNotIn(kind, [f["kind"]
                                        for f in after["findings"]])  # type: ignore[attr-defined]
                if kind == "lone value":
                    column = next(c for c in after["columns"]
                                  if c["name"] == "x")  # type: ignore[attr-defined]
                    self.assertIn("number", column["reason"])

    def test_numbers_left_as_they_are(self) -> None:
        base = healthy(600)
        large = [300.0 * float(str(v)) for v in base["x"]]
        self.write({**base, "far": large, "farther": [1000 + v for v in large]})
        for left in (("none",), ("z-score", "far=none")):
            words = [word for how in left for word in ("--scaling", how)]
            found = {f["kind"]: f for f in self.add(*words)["findings"]}  # type: ignore[attr-defined]
            self.assertEqual(found["not scaled"]["column"], "far")
            name = str(self.added)
            done = CliRunner().invoke(main, ["data", "show", name, "--json", "-w",
                                             str(self.folder / "w")])
            changes = [c["words"] for f in json.loads(done.stdout)["findings"]
                       for c in f["changes"]]
            place = changes.index("Scale the numbers that are not scaled") + 1
            done = CliRunner().invoke(main, ["data", "change", str(place), name, "--json", "-w",
                                             str(self.folder / "w")])
            self.assertEqual(done.exit_code, 0, done.output)
            self.assertNotIn("not scaled", done.stdout)
        self.assertNotIn("not scaled", [f["kind"] for f in self.add()["findings"]])  # type: ignore[attr-defined]

    def test_classes_without_a_training_row_are_left_out_as_it_is_said(self) -> None:
        base = healthy(300)
        late = ["a late one" if i > 270 else "it's" if i > 250 else y
                for i, y in enumerate(base["y"])]
        self.write({**base, "y": late, "when": list(range(300))})
        said = str(self.add("--order", "when", code=2)["error"])
        self.assertIn("the class 'a late one' has no training row, nor has 1 other", said)
        option = re.search(r"rows out: (--.*)$", said, re.M)
        assert option is not None
        self.add("--order", "when", *shlex.split(option[1]))
        self.write({**base, "y": ["b=c" if y == "it's" else y for y in late],
                    "when": list(range(300))})
        self.assertNotIn("--missing", str(self.add("--order", "when", code=2)["error"]))

    def test_a_change_of_the_recipe_goes_into_the_search_file_as_it_is_said(self) -> None:
        base = healthy(600)
        self.write({**base, "y": ["rare" if i % 40 == 0 else "common" for i in range(600)]})
        found = self.add()["findings"]
        changes = [c for f in found for c in f["changes"]]  # type: ignore[attr-defined]
        self.assertEqual([c["number"] for c in changes], list(range(1, len(changes) + 1)))
        (number,) = [c["number"] for c in changes if c["words"] == "Let all classes weigh alike"]
        workspace = ["-w", str(self.folder / "w")]
        done = CliRunner().invoke(main, ["data", "change", str(number), "1", *workspace])
        self.assertEqual(done.exit_code, 2, done.output)
        table, line = re.findall(r"under (\[\w+\]), (.+)", done.output)[0]
        file = self.folder / "s.toml"
        file.write_text(f'data = "1"\nmethod = {{name = "grid"}}\n\n{table}\n{line}\n')
        done = CliRunner().invoke(main, ["forecast", str(file), "--json", *workspace])
        self.assertEqual(done.exit_code, 0, done.output)
        self.assertEqual(json.loads(done.stdout)["recipes"], 2)

    def test_names_that_cannot_be_typed_are_left_to_the_key(self) -> None:
        self.write({"a\x07b": [f"code {y}" for y in healthy(600)["y"]], **healthy(600)})
        remedy = next(f["remedy"]
                      for f in self.add()["findings"]
                      if f["kind"] == "leak")  # type: ignore[attr-defined]
        self.assertTrue(remedy.endswith("key i"), remedy)

    def test_ignoring_the_column_is_a_way_out_of_every_error_that_says_so(self) -> None:
        base = healthy(300)
        for bad in ("inf", "1e300"):
            self.write({"bad": [bad if i == 7 else i * 0.5 for i in range(300)], **base})
            with self.subTest(bad=bad):
                self.assertIn("ignore the column", str(self.add(code=2)["error"]))
                self.add("--ignore", "bad")
        polars.DataFrame({"bad": [[1, 2]] * 300, **base}).write_parquet(self.folder / "n.parquet")
        words = [
            "data", "add",
            str(self.folder / "n.parquet"), "--target", "y", "-w",
            str(self.folder / "w")
        ]
        done = CliRunner().invoke(main, words)
        self.assertIn("ignore the column", done.stderr)
        self.assertEqual(CliRunner().invoke(main, [*words, "--ignore", "bad"]).exit_code, 0)


if __name__ == "__main__":
    unittest.main()
