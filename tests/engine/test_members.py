"""That a member of a family is added by its formula and one entry, and nothing else has to be touched."""

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
        ("engine/kernels.py", "", """
            @njit
            def signs_step(w, g, state, coefficients, slots, weights, starts):
                for k in slots:
                    w[k] -= coefficients[k, 0] * np.sign(g[k])
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
        ("engine/kernels.py", "", """
            @njit
            def fourth_slopes(d, bends, slots, rows):
                for k in slots:
                    d[k, :rows] = 4 * d[k, :rows] ** 3 / (rows * d.shape[2])
            """),
    ],
    "layer": [
        ("recipes/layers.py", '    "pool": _pool("pool"),', """
            "times": Kind(("times",), "a factor", 9, lambda number: Layer("times", size=number),
                          lambda layer: f"times {layer.size}", lambda layer, shape: shape),
            """),
        ("engine/layers.py", "#: By the name of the kind", """
            class Times:
                units = None

                def __init__(self, placed, index, slots, rows, dtype, dropout):
                    self._factor = placed.layer.size

                def forward(self, x, flat, active, rows):
                    return x * self._factor

                def backward(self, d, flat, grads, active, rows, wanted):
                    return d * self._factor
            """),
    ],
    "stopping rule": [
        ("engine/stopping.py", '    "diverged": _diverged,', '    "third": lambda watch, numbers, recipe, setting: "3 epochs" if numbers.epoch == 3 else "",'),  # noqa: E501
    ],
}

#: Trains one recipe that uses them all, and prints what it is asked about.
TRAINS = """
import numpy as np
from axiarch.engine.network import NetworkShape
from axiarch.engine.rows import TrainingData
from axiarch.engine.run import RunSpec

from axiarch.engine.streams import Streams
from axiarch.recipes.notation import parse
from axiarch.recipes.recipe import Recipe

recipe = Recipe({"optimiser": "signs", "schedule": "halved", "loss": "fourth", "network": "times 2, 3, times 3",
                 "learning_rate": 0.25, "patience": 0})
print(parse("optimiser", "signs | sgd").range, "/", ", ".join(layer.name for layer in recipe.layers))
x = np.random.default_rng(0).normal(size=(12, 2)).astype(np.float32)
y = x[:, :1] + 3
stack = Runs(NetworkShape.of(recipe, 2, 1, "squared"), TrainingData(x, y, x, y, (1.0,)), np.float64)
stack.add(RunSpec(0, recipe, Streams(0)))
before = stack.parameters[0, -1]
progress = stack.train_epoch()[0]
print(progress.numbers.learning_rate, stack.parameters[0, -1] - before)
stack.train_epoch()
print(stack.train_epoch()[0].end.reason)
"""


class MembersAreOneEntry(FolderCase):
    def test_a_copy_of_the_package_with_one_more_of_each_family_trains_with_them(self) -> None:
        package = self.folder / "axiarch"
        shutil.copytree(Path(axiarch.__file__).parent, package, ignore=shutil.ignore_patterns("__pycache__"))
        for family, places in ADDED.items():
            for name, line, text in places:
                path = package / name
                source, made = path.read_text(encoding="utf-8"), textwrap.dedent(text).strip("\n")
                self.assertLessEqual(source.count(line) if line else 1, 1, f"{family}: {name}")
                self.assertIn(line, source, f"{family}: {name}")
                whole = source.replace(line, f"{made}\n{line}", 1) if line else f"{source}\n\n{made}\n"
                path.write_text(whole, encoding="utf-8")
        kernels_as_they_are = {**os.environ, "NUMBA_DISABLE_JIT": "1", "PYTHONPATH": str(self.folder)}
        ended = subprocess.run([sys.executable, "-c", TRAINS], cwd=self.folder, env=kernels_as_they_are,
                               capture_output=True, text=True)
        self.assertEqual(ended.returncode, 0, ended.stderr)
        self.assertEqual(ended.stdout.splitlines(), [
            "signs | sgd / times 2, relu, times 3", "0.125 0.125", "third"])


if __name__ == "__main__":
    unittest.main()
