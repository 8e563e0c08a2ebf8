"""That a member of a family is added by formula, number, entry and place in the driver, and
nothing more.
"""

from __future__ import annotations

import os
import shutil
import subprocess
import sys
import textwrap
import unittest
from collections.abc import Mapping
from pathlib import Path

import axiarch
from tests.support import FolderCase

#: For each family: what is added to which file, in front of which line (at the end, if none).
ADDED: Mapping[str, list[tuple[str, str, str]]] = {
    "optimiser": [
        ("recipes/members.py", '    "sgd": Optimiser(1.0),', '    "signs": Optimiser(0.01),'),
        ("engine/codes.py", "", "SIGNS = 11"),
        ("engine/kernels/steps.py", "", """
            from axiarch.engine.codes import SIGNS

            @kernel
            def signs(w, g, c, trained):
                for i in range(trained):
                    w[i] -= c[0] * np.sign(g[i])
            """),
        ("engine/kernels/steps.py", "    if number == LAMB:\n", """
            .   if number == SIGNS:
            .       signs(w, g, c, trained)
            .       return
            """),
    ],
    "schedule": [
        ("recipes/members.py", '    "constant": (),', '    "halved": (),'),
        ("engine/schedules.py", "#: Factor on the learning rate, by name", """
            def halved(recipe, steps, course):
                return np.full_like(steps, 0.5)
            """),
    ],
    "loss": [
        ("recipes/members.py", '"squared": (),', '"fourth": (),'),
        ("engine/codes.py", "", "BY_FOURTH = 3"),
        ("engine/kernels/losses.py", "        if how == BY_SQUARED:\n", """
            .       if how == 3:
            .           d[i] = 4 * share * away**3
            .           continue
            """),
    ],
    "layer": [
        ("recipes/layers.py", '    "pool": _pool("pool"),', """
            "times": Kind(("times",), "a factor", 9, lambda number: Layer("times", size=number),
                          lambda layer: f"times {layer.size}", lambda layer, shape: shape),
            """),
        ("engine/codes.py", "", "TIMES = 4"),
        ("engine/program.py", '#: What a layer of each kind is in the table', """
            def times(compiler, op, placed):
                op[codes.SIZE] = placed.layer.size
                op[codes.OUT] = compiler._block(op[codes.NUMBERS] * compiler._batch)
                return int(op[codes.OUT])
            """),
        ("engine/program.py", '    "dense": (codes.DENSE, _Compiler.weighted),',
         '    "times": (codes.TIMES, times),'),
        ("engine/kernels/driver.py", "        source, z, out = op[IN], op[SUM], op[OUT]", """
            .       if kind == 4:
            .           for n in range(op[NUMBERS] * batch):
            .               a[op[OUT] + n] = a[op[IN] + n] * op[SIZE]
            .           continue
            """),
        ("engine/kernels/driver.py", "        if op[SKIP] >= 0:\n            curves.copy_block", """
            .       if kind == 4:
            .           for n in range(op[NUMBERS] * batch):
            .               d[op[IN] + n] = d[op[OUT] + n] * op[SIZE]
            .           continue
            """),
    ],
    "stopping rule": [
        ("engine/stopping.py", '    "diverged": _diverged,',
         '    "third": lambda watch, numbers, recipe, setting:'
         ' "3 epochs" if numbers.epoch == 3 else "",'),
    ],
}

#: Trains one recipe that uses them all, and prints what it is asked about.
TRAINS = """
import numpy as np
from axiarch.engine.network import NetworkShape
from axiarch.engine.losses import LOSSES
from axiarch.engine.rows import Source, TrainingData
from axiarch.engine.run import RunSpec
from axiarch.engine.streams import Streams
from axiarch.engine.training import Training
from axiarch.recipes.notation import parse
from axiarch.recipes.recipe import Recipe

recipe = Recipe({"optimiser": "signs", "schedule": "halved", "loss": "fourth",
                 "network": "times 2, 3, times 3", "learning_rate": 0.25, "patience": 0,
                 "precision": "float64"})
names = ", ".join(layer.name for layer in recipe.layers)
print(parse("optimiser", "signs | sgd").range, "/", names)
x = np.random.default_rng(0).normal(size=(12, 2)).astype(np.float32)
y = x[:, :1] + 3
source = Source(TrainingData(x, y, x, y, (1.0,)), LOSSES["squared"], 1, "float64")
shape = NetworkShape.of(recipe, 2, 1, "squared")
training = Training(shape, RunSpec(0, recipe, Streams(0)), source)
before = training.parameters[-1]
numbers = training.train_epoch().numbers
print(numbers.learning_rate, training.parameters[-1] - before)
training.train_epoch()
print(training.train_epoch().end.reason)
"""


class MembersAreOneEntry(FolderCase):
    def test_a_copy_of_the_package_with_one_more_of_each_family_trains_with_them(self) -> None:
        package = self.folder / "axiarch"
        shutil.copytree(Path(axiarch.__file__).parent,
                        package,
                        ignore=shutil.ignore_patterns("__pycache__"))
        for family, places in ADDED.items():
            for name, line, text in places:
                path = package / name
                source = path.read_text(encoding="utf-8")
                made = "\n".join(" " + own[1:] if own.startswith(".") else own
                                 for own in textwrap.dedent(text).strip("\n").split("\n"))
                self.assertLessEqual(source.count(line) if line else 1, 1, f"{family}: {name}")
                self.assertIn(line, source, f"{family}: {name}")
                whole = source.replace(line, f"{made}\n{line}",
                                       1) if line else f"{source}\n\n{made}\n"
                path.write_text(whole, encoding="utf-8")
        ended = subprocess.run([sys.executable, "-c", TRAINS], cwd=self.folder,
                               env={**os.environ, "PYTHONPATH": str(self.folder)},
                               capture_output=True, text=True)
        self.assertEqual(ended.returncode, 0, ended.stderr)
        self.assertEqual(ended.stdout.splitlines(), [
            "signs | sgd / times 2, relu, times 3", "0.125 0.125", "third"])


if __name__ == "__main__":
    unittest.main()
