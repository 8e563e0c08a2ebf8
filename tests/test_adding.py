"""What docs/architecture.md says is needed to add something is enough: done on a copy.

A member of each family, an executor, a request, and a number of every epoch.
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
    "number of every epoch": [
        ("runs/epoch.py", "#: The columns of an epoch in the journal", """
            .   weight_norm: float = 0.0
            """),
        ("journal/migrations.py", "VERSION = len(MIGRATIONS)", """
            MIGRATIONS += ("ALTER TABLE epoch ADD COLUMN weight_norm REAL NOT NULL DEFAULT 0;",)
            """),
        ("engine/training.py", "        return self._finish_epoch(numbers, diverged)", """
            .       norm = float(np.linalg.norm(self.parameters))
            .       numbers = replace(numbers, weight_norm=norm)
            """),
        ("engine/training.py", "import numpy as np", "from dataclasses import replace"),
    ],
    "request": [
        ("journal/inbox.py", "Request = Pause |", """
            class Say(_Request, frozen=True):
                text: str


            """),
        ("journal/inbox.py", "def words(request", "Request |= Say"),
        ("runner/requests.py", "        case Add(values):", """
            .       case Say(text):
            .           search.note("said", text)
            """),
        ("runner/requests.py", "from axiarch.journal.records", """
            from axiarch.journal.inbox import Say
            """),
    ],
    "executor": [
        ("runner/executors/patient.py", "", """
            import time

            from axiarch.runner.executors.inline import InlineExecutor


            class PatientExecutor(InlineExecutor):
                def poll(self, seconds):
                    time.sleep(0.01)
                    return super().poll(seconds)
            """),
        ("runner/__main__.py", "    if not cluster:", """
            .   if cluster == "patient":
            .       from axiarch.runner.executors.patient import PatientExecutor
            .       return PatientExecutor(store)
            """),
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

from pathlib import Path
from axiarch.data.building import build_dataset
from axiarch.data.reading import read_table
from axiarch.journal import inbox
from axiarch.journal.read import JournalReader
from axiarch.journal.workspace import Workspace
from axiarch.journal.write import JournalWriter
from axiarch.recipes.searchfile import MethodChoice, SearchFile, write_search
from axiarch.recipes.space import Space
from axiarch.runner.__main__ import _executor
from axiarch.runner.runner import Runner
from axiarch.runner.running import RunningSearch, store_of

Path("t.csv").write_text("a,b,y\\n" + "".join(
    f"{i % 7},{i % 5},{'no' if i % 3 else 'yes'}\\n" for i in range(90)))
workspace = Workspace.create(Path("w").absolute())
data = build_dataset(read_table(Path("t.csv"))[0], workspace.data("t"), "t")
recipe = Recipe({"epochs": 3, "patience": 0, "precision": "float64", "width": 4})
search = SearchFile(data="t", space=Space(recipe), repeats=1, method=MethodChoice("grid"))
folder = workspace.search(1)
folder.mkdir(parents=True)
(folder / "search.toml").write_text(write_search(search))
inbox.send(folder, inbox.Say("hello"))
with workspace.locked("search 1"):
    journal = JournalWriter(workspace.journal)
    executor = _executor(store_of(workspace, 1, data), search, data, 1, "patient")
    runner = Runner(RunningSearch(workspace, 1, search, data, journal, executor))
    print(type(executor).__name__, runner.run())
reader = JournalReader(workspace.journal)
print(*(epoch.weight_norm > 0 for epoch in reader.changes(1).epochs),
      *(event.text for event in reader.events(1) if event.kind == "said"))
"""


class WhatIsSaidIsEnough(FolderCase):
    def test_a_copy_of_the_package_with_one_more_of_everything_trains_with_it(self) -> None:
        package = self.folder / "axiarch"
        shutil.copytree(Path(axiarch.__file__).parent,
                        package,
                        ignore=shutil.ignore_patterns("__pycache__"))
        for family, places in ADDED.items():
            for name, line, text in places:
                path = package / name
                source = path.read_text(encoding="utf-8") if path.exists() else ""
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
            "signs | sgd / times 2, relu, times 3", "0.125 0.125", "third",
            "PatientExecutor done", "True True True hello"])


if __name__ == "__main__":
    unittest.main()
