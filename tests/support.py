"""What many tests need: small data, small workspaces, time limits."""

from __future__ import annotations

import atexit
import contextlib
import csv
import io
import os
import re
import shutil
import sqlite3
import subprocess
import tempfile
import time
import unittest
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass
from functools import cache
from pathlib import Path
from typing import Any
from unittest import mock

import numpy as np

from axiarch.data.building import build_dataset
from axiarch.data.dataset import Dataset
from axiarch.data.describing import read_dataset
from axiarch.data.reading import read_table
from axiarch.engine.losses import LOSSES
from axiarch.engine.network import NetworkShape
from axiarch.engine.rows import Source, TrainingData
from axiarch.engine.run import RunSpec
from axiarch.engine.state import TrainingState
from axiarch.engine.training import Progress, Training
from axiarch.journal.read import JournalReader
from axiarch.journal.records import EventRecord, WorkerRecord
from axiarch.journal.workspace import Workspace
from axiarch.recipes.recipe import Recipe
from axiarch.recipes.searchfile import MethodChoice, SearchFile
from axiarch.recipes.space import space
from axiarch.runs.curve import Curve
from axiarch.runs.epoch import Epoch

#: Seconds that anything with real processes may take at the most.
PATIENCE = 90.0
#: What stands between two words of a sentence: spaces, line ends and the lines of frames.
_EDGES = re.compile(r"[\s\u2500-\u257f]+")


class FolderCase(unittest.TestCase):
    """A test with an empty folder of its own."""

    def setUp(self) -> None:
        place = tempfile.TemporaryDirectory(prefix="axiarch-test-")
        self.addCleanup(place.cleanup)
        self.folder = Path(place.name)


def shown(text: str, screen: str) -> bool:
    """Say whether a text is on a screen, also where a sentence is broken into lines: where they
    break depends on what was measured.
    """
    return text in screen or _EDGES.sub(" ", text) in _EDGES.sub(" ", screen)


def write_csv(path: Path, header: Sequence[str], rows: Sequence[Sequence[object]]) -> Path:
    """Write a CSV file and return its path."""
    with path.open("w", newline="", encoding="utf-8") as file:
        csv.writer(file).writerows([header, *rows])
    return path


def ring_rows(rows: int = 240, seed: int = 3) -> list[list[object]]:
    """Return rows of an easy, non-linear task: inside or outside a ring, with a useless text
    column.
    """
    rng = np.random.default_rng(seed)
    points = rng.normal(size=(rows, 2))
    inside = (points**2).sum(1) < 1.4
    return [[f"{x:.4f}", f"{y:.4f}", "ab"[i % 2], "in" if z else "out"]
            for i, ((x, y), z) in enumerate(zip(points, inside, strict=True))]


def ring_dataset(folder: Path, rows: int = 240) -> Dataset:
    """Write and return the ring data set in `folder`."""
    table = write_csv(folder.parent / f"{folder.name}.csv", ["x", "y", "side", "place"],
                      ring_rows(rows))
    folder.parent.mkdir(parents=True, exist_ok=True)
    return build_dataset(read_table(table)[0], folder, "ring")


def ring_workspace(folder: Path) -> Workspace:
    """Return a workspace with the ring data set in it."""
    workspace = Workspace.create(folder)
    ring_dataset(workspace.data("ring"))
    return workspace


def ring_search(epochs: int = 6, recipes: int = 6, repeats: int = 2, **base: object) -> SearchFile:
    """Return a small search on the ring data."""
    made = space({"epochs": epochs, "width": 8, "batch_size": 16, **base}, {
        "learning_rate": "1e-3 .. 1e-1 log", "optimiser": "sgd | momentum | adam", "width": "4 | 8"
    })
    return SearchFile("ring", "ring", made, MethodChoice("random", {"recipes": recipes}), 5,
                      repeats, earlier="ignore")


def save_checkpoint(path: Path, run: RunSpec, state: TrainingState, data: str, note: str = ""
                    ) -> None:
    """Write a run's state to a file."""
    from axiarch.engine.checkpoint import encode_checkpoint

    path.write_bytes(encode_checkpoint(run, state, data, note))


def curve_of(losses: Sequence[float]) -> Curve:
    """Return a curve with these validation losses."""
    return Curve(tuple(Epoch(0, i + 1, loss, loss, loss, (), 0.1, 1.0, 0.01)
                       for i, loss in enumerate(losses)))


def searched(search: SearchFile) -> Workspace:
    """Return a workspace, to be left as it is, in which a search on the ring data was trained in
    this process, undisturbed; once for each search.
    """
    from axiarch.recipes.searchfile import write_search

    return _searched(write_search(search))


@cache
def _searched(text: str) -> Workspace:
    from axiarch.journal.write import JournalWriter
    from axiarch.recipes.searchfile import read_search
    from axiarch.runner.executors.inline import InlineExecutor
    from axiarch.runner.runner import Runner
    from axiarch.runner.running import RunningSearch, store_of

    place = tempfile.mkdtemp(prefix="axiarch-test-")
    atexit.register(shutil.rmtree, place, True)
    workspace = ring_workspace(Path(place) / "w")
    workspace.search(1).mkdir(parents=True)
    (workspace.search(1) / "search.toml").write_text(text, encoding="utf-8")
    dataset = read_dataset(workspace.data("ring"))
    with workspace.locked("search 1"), contextlib.closing(JournalWriter(workspace.journal)) as kept:
        executor = InlineExecutor(store_of(workspace, 1, dataset))
        Runner(RunningSearch(workspace, 1, read_search(text), dataset, kept, executor)).run()
    return workspace


@cache
def finished_workspace() -> Path:
    """Return a workspace with a finished search on the ring data and an opened seal, made once a
    process: copy it to change it.
    """
    from axiarch.journal.write import JournalWriter

    workspace = searched(ring_search(epochs=4, recipes=5))
    dataset = read_dataset(workspace.data("ring"))
    with workspace.locked("opening"), contextlib.closing(JournalWriter(workspace.journal)) as kept:
        kept.add_opening("ring", dataset.table, 48, "a test")
    return workspace.folder


def small_data(rows: int = 70, inputs: int = 5, classes: int = 3, seed: int = 0) -> TrainingData:
    """Return random arrays to train on; 70 rows leave a short last batch for most batch sizes."""
    rng = np.random.default_rng(seed)
    x = rng.normal(size=(rows, inputs)).astype(np.float32)
    v = rng.normal(size=(rows // 2, inputs)).astype(np.float32)
    y = (np.abs(x[:, 0] * x[:, 1]) * 2).astype(np.int32) % classes
    w = (np.abs(v[:, 0] * v[:, 1]) * 2).astype(np.int32) % classes
    return TrainingData(x, y, v, w)


class Runs:
    """Some runs of one network, trained one after the other, epoch by epoch; their arrays are
    views.
    """

    def __init__(self, shape: NetworkShape, data: TrainingData | Callable[[int], TrainingData],
                 dtype: Any = np.float32, ahead: bool = False) -> None:
        self.shape, self._data, self._dtype, self._ahead = shape, data, dtype, ahead
        self.trainings: list[Training] = []

    def source(self, fold: int = 0) -> Source:
        data = self._data if isinstance(self._data, TrainingData) else self._data(fold)
        return Source(data, LOSSES[self.shape.loss], self.shape.outputs, self._dtype)

    def add(self, run: RunSpec, state: TrainingState | None = None) -> Training:
        self.trainings.append(
            Training(self.shape, run, self.source(run.streams.fold), state, self._ahead))
        return self.trainings[-1]

    def train_epoch(self, between: Callable[[], None] = lambda: None) -> list[Progress]:
        return [training.train_epoch(between) for training in self.trainings]

    def state(self, k: int) -> TrainingState:
        return self.trainings[k].state()

    @property
    def parameters(self) -> np.ndarray:
        """Those of a single run (1, P), to be changed; of several a copy."""
        if len(self.trainings) == 1:
            return self.trainings[0].parameters[None]
        return np.stack([training.parameters for training in self.trainings])


def first_step(training: Training, parameters: np.ndarray) -> tuple[float, np.ndarray]:
    """Return the mean loss of the first batch by some parameters (P,), and its gradient, as
    training works them out.
    """
    training.parameters[:] = parameters
    training._state[:] = 0
    training._start_epoch()
    training._advance(0, 1)
    return float(training._sums[0]) / min(training.shape.batch_size,
                                          training._rows), training.gradients.copy()


def measured(name: str,
             z: np.ndarray,
             targets: np.ndarray,
             gradient: bool = False,
             smooth: float = 0.0,
             kept: float = 1.0,
             loss_values: np.ndarray | None = None,
             by: str = "squared",
             width: float = 1.0) -> tuple[float, np.ndarray, np.ndarray]:
    """Return the summed loss of outputs (B, C), the sums of metrics, and the gradient (B, C): by
    compiled kernels.
    """
    from axiarch.engine import codes
    from axiarch.engine.kernels import driver, losses
    from axiarch.engine.program import LOSS_NUMBERS, TRAINED_ON_NUMBERS

    loss, (rows, outputs), dtype = LOSSES[name], z.shape, z.dtype
    ints = np.zeros(codes.WHOLE_NUMBERS, np.int64)
    ints[codes.OUTPUTS], ints[codes.LOSS] = outputs, LOSS_NUMBERS[name]
    a, d = np.ascontiguousarray(z.T).reshape(-1), np.zeros(z.size, dtype)
    values = np.ones(loss.known(outputs)) if loss_values is None else loss_values
    given = np.array(values, dtype)
    sums, one = np.zeros(loss.sums(outputs)), dtype.type(1)
    labels = np.zeros(0, np.int32) if loss.amounts else np.asarray(targets, np.int32)
    amounts = np.ascontiguousarray(targets.T, dtype).reshape(-1) if loss.amounts else np.zeros(
        0, dtype)
    total = driver.measure(a, d, 0, ints, one * dtype.type(smooth), one * dtype.type(kept), given,
                           labels, amounts, rows, gradient, sums, np.zeros(rows, dtype),
                           np.zeros(rows, dtype))
    if gradient and loss.amounts:
        losses.slopes(TRAINED_ON_NUMBERS[by], 0, d, 0, outputs, rows, one * dtype.type(width))
    return float(total), sums, d.reshape(outputs, rows).T


def recipe(**values: object) -> Recipe:
    """Return a recipe of a small network."""
    return Recipe({"width": 6, "batch_size": 16, "epochs": 5, "patience": 0, **values})


def commanded(place: Path, *words: str) -> subprocess.CompletedProcess[str]:
    """Run the command line in this process, in the working directory `place`, with no terminal and
    nothing to read.

    A process of its own, whose start takes longer than most commands, is for tests of what only a
    process does.
    """
    from axiarch.cli.main import main

    out, err, code = io.StringIO(), io.StringIO(), 0
    with contextlib.chdir(place), contextlib.redirect_stdout(out), \
            contextlib.redirect_stderr(err), \
            open(os.devnull, encoding="utf-8") as nothing, mock.patch("sys.stdin", nothing):
        try:
            main(list(words), prog_name="axiarch")
        except SystemExit as ended:
            code = ended.code if isinstance(ended.code, int) else int(ended.code is not None)
    return subprocess.CompletedProcess(words, code, out.getvalue(), err.getvalue())


@dataclass(frozen=True)
class Glance:
    """What the journal says of a search, read without ranking it."""

    state: str
    epochs: int
    workers: tuple[WorkerRecord, ...]
    events: tuple[EventRecord, ...]


def glance(workspace: Workspace, number: int) -> Glance:
    """Look at a search as often as one likes: a snapshot ranks, which costs much more."""
    with contextlib.closing(JournalReader(workspace.journal)) as reader:
        record = reader.search(number)
        workers, events = reader.workers(number), reader.events(number)
    with contextlib.closing(sqlite3.connect(workspace.journal)) as db:
        epochs, = db.execute("SELECT count(*) FROM epoch JOIN run ON run.id = epoch.run "
                             "WHERE run.search = ?", (number,)).fetchone()
    return Glance(record.state if record else "", epochs, workers, events)


def until(condition: Callable[[], object],
          seconds: float = PATIENCE,
          what: str = "the condition") -> None:
    """Wait until `condition` holds; what takes long is asked less and less often."""
    end, pause = time.monotonic() + seconds, 0.02
    while not condition():
        if time.monotonic() > end:
            raise AssertionError(f"{what} did not come true within {seconds:g} s")
        time.sleep(pause)
        pause = min(pause * 1.1, 0.2)


@contextlib.contextmanager
def without_privileges() -> Iterator[None]:
    """Act as a user who may not write what root owns; does nothing where the tests do not run as
    root.
    """
    if os.geteuid() != 0:
        yield
        return
    os.seteuid(65534)
    try:
        yield
    finally:
        os.seteuid(0)
