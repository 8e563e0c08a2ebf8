"""Members of installed packages: twins of built-in ones, the example of the docs, and packages
that are wrong.
"""

from __future__ import annotations

import json
import os
import shutil
import subprocess
import sys
import tomllib
import unittest
from collections.abc import Mapping
from pathlib import Path

import axiarch
from axiarch.recipes.installed import absent, full_name, installed, is_full
from axiarch.recipes.searchfile import write_search
from tests.support import FolderCase, ring_rows, ring_search, write_csv

HOME = Path(axiarch.__file__).parents[1]
EXAMPLE = HOME / "docs" / "example-members"

#: Members that compute what built-in ones do.
TWINS = '''
import math
import numpy as np
from axiarch.members import Activation, Loss, Optimiser, Schedule

def share(x):
    return 1.0 / (1.0 + math.exp(-x))

def curve(x):
    return x / (1.0 + math.exp(-x))

def slope(x):
    s = 1.0 / (1.0 + math.exp(-x))
    return s * (1.0 + x * (1.0 - s))

def step(w, g, s, t, rate, momentum):
    v = momentum * s[0] + g
    return w - rate * v, (v, 0.0, 0.0)

def sign(away):
    return 1.0 if away > 0 else (-1.0 if away < 0 else 0.0)

def factor(epochs, last, left):
    return left + (1.0 - left) * 0.5 * (1.0 + np.cos(np.pi * np.clip(epochs / last, 0.0, 1.0)))

twin_silu = Activation("twin_silu", "x / (1 + e^-x)", "a test", curve, slope)
twin_absolute = Loss("twin_absolute", "|x|", "a test", abs, sign)
twin_momentum = Optimiser("twin_momentum", "v = mu v + g", "a test", step, ("momentum",), 0.3)
twin_cosine = Schedule("twin_cosine", "half a cosine", "a test", factor, ("final_fraction",))
'''

#: Trains with built-in members and with their twins, and prints the largest difference of
#: validation losses.
TRAINS = """
import sys
import numpy as np
from axiarch.engine.losses import LOSSES
from axiarch.engine.network import NetworkShape
from axiarch.engine.rows import Source, TrainingData
from axiarch.engine.run import RunSpec
from axiarch.engine.streams import Streams
from axiarch.engine.training import Training
from axiarch.recipes.recipe import Recipe

def losses(**values):
    recipe = Recipe({"width": 7, "batch_size": 8, "epochs": 6, "patience": 0,
                     "l2": 0.01, "weight_decay": 0.01, "learning_rate": 0.01,
                     "momentum": 0.8, "precision": "float64", **values})
    x = np.random.default_rng(0).normal(size=(60, 3)).astype(np.float32)
    y = (x[:, :1] * x[:, 1:2]).astype(np.float32)
    source = Source(TrainingData(x, y, x, y, (1.0,)), LOSSES["squared"], 1, "float64")
    shape = NetworkShape.of(recipe, 3, 1, "squared")
    training = Training(shape, RunSpec(0, recipe, Streams(0)), source)
    return np.array([training.train_epoch().numbers.validation_loss for _ in range(6)])

own = {"activation": "silu", "loss": "absolute", "optimiser": "momentum", "schedule": "cosine"}
plain = losses(**own)
for field, word in own.items():
    print(field, np.abs(losses(**{**own, field: f"twin_{word}"}) - plain).max() < 1e-12)
twice = losses(**own, network="7 twin_silu, 7 twin_silu")
print("in a line", np.abs(twice - losses(**own, network="7, 7")).max() < 1e-12)
print(Recipe({"network": "7 twin_silu"})["network"])
"""


class Site(FolderCase):
    """Packages are installed in a folder of their own, by what an installer leaves behind."""

    def install(self, name: str, code: str | Path, entries: Mapping[str, str], version: str = "1.0",
                where: str = "site") -> Path:
        site = self.folder / where
        info = site / f"{name}-{version}.dist-info"
        info.mkdir(parents=True)
        (info / "METADATA").write_text(f"Metadata-Version: 2.1\nName: {name}\nVersion: {version}\n")
        lines = "".join(f"{entry} = {place}\n" for entry, place in entries.items())
        (info / "entry_points.txt").write_text(f"[axiarch.members]\n{lines}")
        if isinstance(code, Path):
            shutil.copytree(code, site / code.name, ignore=shutil.ignore_patterns("__pycache__"))
        else:
            (site / f"{name}.py").write_text(code)
        return site

    def ended(self,
              *words: str,
              cwd: Path | None = None,
              site: bool = True) -> subprocess.CompletedProcess[str]:
        path = os.pathsep.join([str(self.folder / "site"), str(HOME)] if site else [str(HOME)])
        return subprocess.run([sys.executable, *words],
                              cwd=cwd or self.folder,
                              capture_output=True,
                              text=True,
                              env={**os.environ, "PYTHONPATH": path})

    def members(self,
                *words: str,
                cwd: Path | None = None,
                site: bool = True) -> tuple[int, list[dict[str, str]]]:
        found = self.ended("-m", "axiarch", "members", "--json", *words, cwd=cwd, site=site)
        self.assertEqual(found.stderr, "")
        return found.returncode, json.loads(found.stdout)


class Twins(Site):
    def test_a_member_of_a_package_trains_as_its_built_in_twin(self) -> None:
        names = ("twin_silu", "twin_absolute", "twin_momentum", "twin_cosine")
        self.install("twins", TWINS, {name: f"twins:{name}" for name in names})
        ended = self.ended("-c", TRAINS)
        self.assertEqual(ended.returncode, 0, ended.stderr)
        *same, line = ended.stdout.splitlines()
        self.assertEqual(same, [
            f"{field} True"
            for field in ("activation", "loss", "optimiser", "schedule", "in a line")
        ])
        self.assertRegex(line, r"^7 twin_silu_1_0_[0-9a-f]{8}$")


class Example(Site):
    def test_the_package_of_the_docs_is_tried_out_and_searched_with(self) -> None:
        project = tomllib.loads((EXAMPLE / "pyproject.toml").read_text())["project"]
        entries = project["entry-points"]["axiarch.members"]
        site = self.install("axiarch_examples", EXAMPLE / "axiarch_examples", entries,
                            project["version"])
        code, found = self.members("--check")
        self.assertEqual((code, [each["problem"] for each in found]), (0, [""] * len(entries)))
        self.assertEqual({each["kind"] for each in found},
                         {"activation", "loss", "optimiser", "schedule"})
        self.assertTrue(all(is_full(each["name"]) for each in found))

        def axiarch(*words: str, site: bool = True) -> subprocess.CompletedProcess[str]:
            return self.ended("-m", "axiarch", *words, "-w", str(self.folder / "w"), site=site)

        rows = "a,b,y\n" + "".join(f"{i % 7},{i % 5},{(i % 7) * 1.5 + i % 5 + i % 3}\n"
                                   for i in range(60))
        (self.folder / "t.csv").write_text(rows)
        self.assertEqual(
            axiarch("data", "add", "t.csv", "--target", "y", "--name", "t").returncode, 0)
        (self.folder / "s.toml").write_text(
            'format = 1\ndata = "t"\nrepeats = 1\n[method]\nname = "grid"\n[recipe]\nepochs = '
            '3\noptimiser = "signed"\n'
            'schedule = "halving"\n[vary]\nactivation = "relu | mish"\nloss = "squared | '
            'log_cosh"\n'
        )
        ended = axiarch("search", "s.toml", "--json")
        self.assertEqual(ended.returncode, 0, ended.stderr)
        file = next((self.folder / "w" / "searches").glob("*/search.toml"))
        text = file.read_text()
        for each in found:
            self.assertIn(each["name"], text)
        ranked = axiarch("ranking")
        source = site / "axiarch_examples" / "__init__.py"
        source.write_text(source.read_text() + "\n# another version\n")
        self.assertEqual(axiarch("ranking").stdout, ranked.stdout)
        for installed_now, words in ((True, "installed is another one"), (False,
                                                                          "is not installed")):
            self.assertEqual(axiarch("ranking", site=installed_now).stdout, ranked.stdout)
            refused = axiarch("search", str(file), site=installed_now)
            self.assertEqual(refused.returncode, 4, refused.stderr)
            self.assertIn(words, refused.stderr)
            self.assertIn("remedy:", refused.stderr)


class Wrong(Site):
    CODE = """
import math
from axiarch.members import Activation, Loss, Optimiser, Schedule

def wrong_slope(x):
    return math.sin(x)

def step(w, g, s, t, rate):
    return w + rate * g, s

def factor(epochs, last):
    return epochs / epochs.max()

def endless(x):
    return math.exp(x * x * x * x)

slope = Activation("slope", "sin", "a test", math.sin, wrong_slope)
up = Optimiser("up", "w += g", "a test", step)
part = Schedule("part", "of the largest", "a test", factor)
large = Activation("large", "e", "a test", endless, endless)
unnamed = Loss("Bad Name", "x", "a test", abs, abs)
few = Optimiser("few", "x", "a test", math.sin)
other = Optimiser("other", "x", "a test", step, ("width",))
bare = Loss("bare", "", "a test", abs, abs)
nothing = 3
"""

    def test_what_is_wrong_is_said_and_stops_nothing_else(self) -> None:
        names = ("slope", "up", "part", "large", "unnamed", "few", "other", "bare", "nothing",
                 "absent")
        entries = {name: f"wrong:{name}" for name in names}
        self.install("wrong", self.CODE, entries)
        self.install("broken", "raise SystemError('at home')", {"gone": "broken:gone"})
        self.install("leaves", "raise SystemExit(7)", {"left": "leaves:left"})
        code, found = self.members("--check")
        self.assertEqual(code, 4)
        problems = {each["name"].partition("_")[0]: each["problem"] for each in found}
        for name, words in {
                "slope": "its slope at", "up": "lead from 1 to", "part": "depend on which others",
                "large": "not finite", "unnamed": "its name is not",
                "few": "does not take 5 arguments", "other": "it uses 'width'",
                "bare": "names no formula", "nothing": "it is neither an Activation",
                "absent": "AttributeError", "gone": "SystemError: at home", "left": "SystemExit: 7"
        }.items():
            self.assertIn(words, problems[name], name)

    def test_what_a_package_prints_is_no_part_of_what_is_printed(self) -> None:
        self.install("loud", "print('here I am')\n" + TWINS, {"silu": "loud:twin_silu"})
        found = self.ended("-m", "axiarch", "members", "--json")
        self.assertEqual([each["problem"] for each in json.loads(found.stdout)], [""])
        self.assertEqual(found.stderr, "here I am\n")

    def test_a_search_with_a_member_that_fails_does_not_start(self) -> None:
        self.install("wrong", self.CODE, {"slope": "wrong:slope"})
        write_csv(self.folder / "t.csv", ["x", "y", "side", "place"], ring_rows(90))
        (self.folder / "s.toml").write_text(write_search(ring_search(epochs=2)).replace(
            "[recipe]\n", '[recipe]\nactivation = "slope"\n'))
        for words, code in ((("data", "add", "t.csv", "--name", "ring"), 0), (("search", "s.toml"),
                                                                              4)):
            ended = self.ended("-m", "axiarch", *words, "-w", "w")
            self.assertEqual(ended.returncode, code, ended.stderr)
        self.assertIn("its slope at", ended.stderr)
        self.assertIn("remedy:", ended.stderr)
        self.assertEqual(list((self.folder / "w" / "searches").glob("*")), [])

    def test_two_packages_may_not_bring_members_of_one_name(self) -> None:
        for name in ("one", "two"):
            self.install(name, TWINS, {"silu": f"{name}:twin_silu"})
        _, found = self.members()
        self.assertEqual([bool(each["problem"]) for each in found], [False, True])
        self.assertIn("another package", found[1]["problem"])

    def test_nothing_is_loaded_from_the_working_directory(self) -> None:
        here = self.install("here",
                            "open('loaded', 'w')\n" + TWINS, {"silu": "here:twin_silu"},
                            where="work")
        self.assertEqual(self.members(cwd=here, site=False), (0, []))
        self.assertFalse((here / "loaded").exists())

    def test_names_without_a_package_stay_what_they_are(self) -> None:
        self.assertEqual(full_name("activation", "relu"), "relu")
        missing = absent("loss", "log_cosh_1_0_f930a6fa")
        self.assertIn("log_cosh,", missing.remedy)
        self.assertTrue(is_full("log_cosh_1_0_f930a6fa"))
        self.assertFalse(
            any(map(is_full, ("relu", "leaky_relu", "one_cycle", "mish_1_0", "Mish_1_0_3fa9c2d1"))))
        self.assertEqual(installed(), ())


if __name__ == "__main__":
    unittest.main()
