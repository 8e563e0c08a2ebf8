"""How many made symptoms a diagnosis finds, how many healthy trainings it accuses, and whether its
first remedy helps: ``python -m benchmarks.diagnosis [found | remedies] [SEED ...]``.

Trainings are made to show one symptom each, on the three demo data sets and on generated ones of
other sizes, classes and noise, from recipes that are healthy on them. With another seed all are
drawn anew. A symptom counts as found where it, or what it comes from, is named first. A remedy
counts as working where the best of eight recipes of the space that it proposes is better on three
seeds that chose nothing, by more than twice the standard error of the difference.
"""

from __future__ import annotations

import math
import os
import sys
import tempfile
import time
from collections.abc import Callable, Iterator, Mapping, Sequence
from concurrent.futures import ProcessPoolExecutor
from dataclasses import dataclass, replace
from functools import cache
from multiprocessing import get_context
from pathlib import Path
from typing import Any

import numpy as np

from axiarch.data.building import build_dataset
from axiarch.data.dataset import Dataset
from axiarch.data.describing import read_dataset
from axiarch.data.plan import DataPlan, SplitPlan
from axiarch.data.reading import read_table
from axiarch.engine.losses import LOSSES
from axiarch.engine.rows import Source
from axiarch.engine.run import RunSpec
from axiarch.engine.streams import Streams
from axiarch.engine.training import Training
from axiarch.insight.diagnosis import diagnose, diagnose_runs
from axiarch.insight.evidence import Evidence, target_share
from axiarch.insight.proposal import HARMLESS
from axiarch.journal.workspace import Workspace
from axiarch.recipes.members import OPTIMISERS
from axiarch.recipes.recipe import Recipe
from axiarch.recipes.searchfile import SearchFile
from axiarch.recipes.space import Space
from axiarch.runner.material import shape_of, training_data
from axiarch.runs.curve import Curve
from axiarch.workflows.demonstrating import make_demo

Values = dict[str, Any]
Maker = Callable[[np.random.Generator, Recipe, Dataset], Recipe]

#: Trainings of each symptom on each data set, and healthy ones.
EACH, HEALTHY = 3, 14
#: Recipes that a remedy's search tries, and fresh seeds that judge it.
TRIED, SEEDS = 8, 3
#: Runs of a recipe of which one is another one's.
RUNS = 5
_GOOD: Values = {"epochs": 300, "patience": 15, "learning_rate": 3e-3, "width": 48,
                 "weight_decay": 0.1, "dropout": 0.1, "batch_size": 32}


# -- data ------------------------------------------------------------------------------------------


def _table(kind: str, rows: int, inputs: int, classes: int, noise: float, seed: int
           ) -> list[list[object]]:
    """Return rows of a smooth rule over some inputs, with noise; classes by its quantiles."""
    rng = np.random.default_rng(seed)
    x = rng.normal(size=(rows, inputs))
    w = rng.normal(size=(inputs, 4)) / math.sqrt(inputs)
    y = np.sin(1.5 * (x @ w[:, 0])) + (x @ w[:, 1]) * (x @ w[:, 2]) + 0.5 * (x @ w[:, 3])
    if kind == "line":
        y = x @ w[:, 0]
    part = np.digitize(rng.random(rows), (0.6, 0.8))
    noisy = np.where((kind == "easy") & (part > 0), 0.05, noise)
    y = (y - y.mean()) / y.std() + noisy * rng.normal(size=rows)
    if kind == "no rule":
        y = rng.normal(size=rows)
    if kind == "unscaled":
        x *= 10 ** rng.uniform(2, 3)
    if kind == "far":
        x[rng.choice(rows, 6, replace=False), 0] = 10 ** rng.uniform(3, 4)
    if kind == "easy":
        return [[*r, PARTS[p], v] for r, p, v in zip(x.round(4).tolist(), part, y.tolist(),
                                                     strict=True)]
    if kind == "heavy":
        return [[*r, v] for r, v in zip(x.round(4).tolist(), np.exp(3 * y).tolist(), strict=True)]
    if kind in ("amounts", "line", "absolute"):
        return [[*r, v] for r, v in zip(x.round(4).tolist(), y.tolist(), strict=True)]
    rare = kind == "rare"  # its last class has nothing to do with the inputs
    found = np.digitize(y, np.quantile(y, np.linspace(0, 1, classes + 1 - rare)[1:-1]))
    found = np.where(rare & (rng.random(rows) < 0.03), classes - 1, found)
    return [[*r, f"c{c}"] for r, c in zip(x.round(4).tolist(), found.tolist(), strict=True)]


#: Parts that a table gives itself, and what is decided about some of them.
PARTS = ("train", "validation", "test")
_PLANS: Mapping[str, DataPlan] = {
    "unscaled": DataPlan(scaling="none"), "far": DataPlan(scaling="none"),
    "easy": DataPlan(("y",), split=SplitPlan(part="part")),
    "absolute": DataPlan(ranked_by="mean absolute error")}
#: Generated data sets: kind, rows, inputs, classes, noise.
GENERATED: Mapping[str, tuple[str, int, int, int, float]] = {
    "few classes": ("classes", 1500, 6, 2, 0.2), "many classes": ("classes", 3000, 8, 10, 0.05),
    "amounts, small": ("amounts", 900, 5, 0, 0.3), "amounts, wide": ("amounts", 2400, 30, 0, 0.1),
    "by absolute error": ("absolute", 1500, 8, 0, 0.2),
    "small": ("classes", 400, 10, 3, 0.4), "heavy": ("heavy", 1500, 5, 0, 0.3),
    "rare class": ("rare", 1500, 6, 3, 0.3), "a line": ("line", 900, 12, 0, 0.5),
    "unscaled": ("unscaled", 1200, 6, 3, 0.2), "far rows": ("far", 1200, 6, 3, 0.2),
    "easy rows": ("easy", 1200, 6, 0, 1.0), "no rule": ("no rule", 1200, 6, 3, 0.0)}
#: Those that are made for one symptom alone.
_FOR_ONE = ("heavy", "rare class", "a line", "unscaled", "far rows", "easy rows", "no rule")
_DEMO = ("hive states", "nectar flow", "hum")


@cache
def _place() -> Path:
    place = Path(tempfile.gettempdir()) / f"axiarch-diagnosis-{os.getuid()}"
    workspace = Workspace.create(place)
    if not workspace.data("hum").exists():
        make_demo(place)
    return place


@cache
def data(name: str, seed: int) -> Dataset:
    """Return a data set by name, made where there is none yet."""
    workspace = Workspace.open(_place())
    if name in _DEMO:
        return read_dataset(workspace.data(name))
    folder = workspace.folder / "generated" / f"{name} {seed}".replace(" ", "-").replace(",", "")
    if not (folder / "data.json").exists():
        import csv

        kind, rows, inputs, classes, noise = GENERATED[name]
        folder.parent.mkdir(exist_ok=True)
        path = folder.with_suffix(f".{os.getpid()}.csv")
        with path.open("w", newline="", encoding="utf-8") as file:
            given = ("part",) if kind == "easy" else ()
            csv.writer(file).writerows([[*(f"x{i}" for i in range(inputs)), *given, "y"],
                                        *_table(kind, rows, inputs, classes, noise, seed)])
        return build_dataset(read_table(path)[0], folder, name, _PLANS.get(kind))
    return read_dataset(folder)


def good(rng: np.random.Generator, dataset: Dataset) -> Recipe:
    """Return a recipe that is healthy on a data set."""
    values = {**_GOOD, "learning_rate": float(_GOOD["learning_rate"] * 2 ** rng.uniform(-1, 0.5)),
              "width": int(rng.choice([32, 48, 64])), "batch_size": int(rng.choice([32, 48, 64])),
              "weight_decay": float(10 ** rng.uniform(-1.5, -0.3))}
    if dataset.encoding.picture:
        values |= {"network": "conv 6, pool 2, hidden", "depth": 1, "epochs": 40, "patience": 6,
                   "dropout": 0.2}
    if dataset.rows["train"] < 400:
        values |= {"width": 16, "dropout": 0.3, "weight_decay": 1.0, "batch_size": 16}
    if dataset.classes and len(dataset.classes) == 2:
        values |= {"dropout": 0.2, "weight_decay": 1.0, "width": 16}
    return Recipe(values)


def train(dataset: Dataset, recipe: Recipe, seed: int, best_known: float | None = None
          ) -> Evidence:
    """Train a recipe once."""
    shape, target = shape_of(recipe, dataset), dataset.encoding.target
    rows = training_data(dataset)
    source = Source(rows, LOSSES[target.loss], target.outputs, shape.precision)
    training = Training(shape, RunSpec(0, recipe, Streams(seed)), source)
    epochs = []
    while True:
        progress = training.train_epoch(lambda: None)
        epochs.append(progress.numbers)
        if progress.end is not None:
            break
    found = Evidence(recipe, Curve(tuple(epochs), tuple(range(len(epochs)))), progress.end.reason,
                     progress.end.text, dataset.rows["train"], dataset.baseline.loss,
                     dataset.linear.loss if dataset.linear else None, best_known,
                     target.task == "regression", tuple(dataset.classes),
                     dataset.rows["validation"],
                     target_share=0.0 if dataset.classes else target_share(
                         rows.train_targets))
    if found.diverged:
        return found
    predicted = training.predict_by_best(rows.validation_inputs)
    losses = target.row_losses(predicted, rows.validation_targets)
    if found.amounts:
        return replace(found, row_losses=losses)
    labels = np.asarray(rows.validation_targets).astype(np.int64)
    return replace(found, row_losses=losses, labels=labels, predicted=predicted.argmax(1))


# -- symptoms --------------------------------------------------------------------------------------


def _rate_high(rng: np.random.Generator, recipe: Recipe, data: Dataset) -> Recipe:
    name = str(rng.choice(["adam", "sgd", "momentum", "rmsprop"]))
    rate = OPTIMISERS[name].highest_rate * 10 ** rng.uniform(0.3, 1)
    return recipe.changed({"optimiser": name, "learning_rate": rate, "patience": 0, "epochs": 20})


def _diverged(rng: np.random.Generator, recipe: Recipe, data: Dataset) -> Recipe:
    return recipe.changed({"optimiser": "sgd", "learning_rate": 10 ** rng.uniform(2, 2.9),
                           "epochs": 15})


def _rate_low(rng: np.random.Generator, recipe: Recipe, data: Dataset) -> Recipe:
    return recipe.changed({"learning_rate": 3e-6 * 10 ** rng.uniform(-1, 0.5), "epochs": 20})


def _underfits(rng: np.random.Generator, recipe: Recipe, data: Dataset) -> Recipe:
    return recipe.changed({"width": 1, "depth": 1, "dropout": 0.0})


def _overfits(rng: np.random.Generator, recipe: Recipe, data: Dataset) -> Recipe:
    return recipe.changed({"width": 256, "depth": 2, "dropout": 0.0, "weight_decay": 0.0,
                           "patience": 0, "epochs": 25 if data.encoding.picture else 80,
                           "learning_rate": 2e-3})


def _improving(rng: np.random.Generator, recipe: Recipe, data: Dataset) -> Recipe:
    return recipe.changed({"epochs": int(rng.integers(4, 9)), "patience": 0,
                           "learning_rate": 4e-4})


def _vanishing(rng: np.random.Generator, recipe: Recipe, data: Dataset) -> Recipe:
    kind = rng.choice(["sigmoid", "tanh"])
    return recipe.changed({"depth": int(rng.integers(9, 15)), "activation": str(kind),
                           "initialisation": "auto" if kind == "sigmoid" else "small",
                           "network": "hidden", "epochs": 15, "patience": 0,
                           # adaptive steps make up for gradients that are small in all rows alike
                           **({"optimiser": "sgd", "learning_rate": 0.05} if kind == "tanh" else {})
                           })


def _clipped(rng: np.random.Generator, recipe: Recipe, data: Dataset) -> Recipe:
    return recipe.changed({"optimiser": "sgd", "learning_rate": 0.05, "epochs": 20, "patience": 0,
                           "weight_decay": 0.0, "clip_norm": 10 ** rng.uniform(-3.5, -2.5)})


def _too_regularised(rng: np.random.Generator, recipe: Recipe, data: Dataset) -> Recipe:
    strong: list[Values] = [{"dropout": 0.92}, {"l2": 1.0}, {"weight_decay": 60.0}, {"l1": 0.1}]
    return recipe.changed({**strong[int(rng.integers(4))], "patience": 0, "epochs": 20})


def _batch_large(rng: np.random.Generator, recipe: Recipe, data: Dataset) -> Recipe:
    return recipe.changed({"batch_size": max(data.rows["train"] // int(rng.integers(1, 4)), 1),
                           "epochs": 15, "patience": 0, "learning_rate": 1e-3})


def _single_unit(rng: np.random.Generator, recipe: Recipe, data: Dataset) -> Recipe:
    return recipe.changed({"width": 1, "depth": 2, "network": "hidden", "normalisation": "layer",
                           "epochs": 12})


def _jumpy(rng: np.random.Generator, recipe: Recipe, data: Dataset) -> Recipe:
    return recipe.changed({"batch_size": 8, "learning_rate": 0.02, "patience": 0, "epochs": 15,
                           "dropout": 0.0, "weight_decay": 0.0})


def _short_patience(rng: np.random.Generator, recipe: Recipe, data: Dataset) -> Recipe:
    return recipe.changed({"patience": 1, "epochs": 200, "batch_size": 16})


def _long_patience(rng: np.random.Generator, recipe: Recipe, data: Dataset) -> Recipe:
    return recipe.changed({"patience": 0, "epochs": 60 if data.encoding.picture else 300,
                           "dropout": 0.0, "weight_decay": 0.0})


def _tiny(rng: np.random.Generator, recipe: Recipe, data: Dataset) -> Recipe:
    return recipe.changed({"batch_size": int(rng.integers(1, 3)), "epochs": 6, "patience": 0,
                           "learning_rate": 1e-4})


def _wide(rng: np.random.Generator, recipe: Recipe, data: Dataset) -> Recipe:
    return recipe.changed({"width": 128, "depth": 2, "dropout": 0.0, "weight_decay": 0.0,
                           "patience": 0, "epochs": 60})


def _slow(rng: np.random.Generator, recipe: Recipe, data: Dataset) -> Recipe:
    return recipe.changed({"learning_rate": 3e-4, "epochs": 6})


def _dead(rng: np.random.Generator, recipe: Recipe, data: Dataset) -> Recipe:
    return recipe.changed({"optimiser": "momentum", "schedule": "cosine", "epochs": 30,
                           "learning_rate": OPTIMISERS["momentum"].highest_rate * rng.uniform(
                               0.4, 0.49), "patience": 0, "batch_size": 8, "dropout": 0.0,
                           "weight_decay": 0.0,
                           **({} if data.encoding.picture else {"depth": 4})})


def _saturated(rng: np.random.Generator, recipe: Recipe, data: Dataset) -> Recipe:
    return recipe.changed({"activation": str(rng.choice(["tanh", "sigmoid"])), "patience": 0,
                           "epochs": 30})


def _stuck(rng: np.random.Generator, recipe: Recipe, data: Dataset) -> Recipe:
    return recipe.changed({"width": 2, "depth": 1, "epochs": 30, "patience": 0})


def _exploding(rng: np.random.Generator, recipe: Recipe, data: Dataset) -> Recipe:
    return recipe.changed({"clip_norm": 1.0, "epochs": 80, "patience": 0})


def _single_row(rng: np.random.Generator, recipe: Recipe, data: Dataset) -> Recipe:
    rows = data.rows["train"]
    sizes = [size for size in range(5, rows) if rows % size == 1]
    return recipe.changed({"normalisation": "batch", "batch_size": int(rng.choice(sizes)),
                           "epochs": 30})


def _same(rng: np.random.Generator, recipe: Recipe, data: Dataset) -> Recipe:
    return recipe


@dataclass(frozen=True)
class Symptom:
    """How a symptom is made, and the names that count as finding it: first of all, or also beside
    others where what it comes from may show as well.
    """

    make: Maker
    names: frozenset[str]
    only: tuple[str, ...] = ()
    beside: bool = False


MADE: Mapping[str, Symptom] = {
    "rate too high": Symptom(_rate_high, frozenset({"rate_high", "diverged"})),
    "diverged": Symptom(_diverged, frozenset({"diverged"})),
    "rate too low": Symptom(_rate_low, frozenset({"rate_low"})),
    "underfits": Symptom(_underfits, frozenset({"underfits"})),
    "overfits": Symptom(_overfits, frozenset({"overfits"}), ("hive states", "hum", "few classes",
                                                             "small", "amounts, wide")),
    "still improving": Symptom(_improving, frozenset({"improving"})),
    "vanishing gradients": Symptom(_vanishing, frozenset({"vanishing"})),
    "clipped": Symptom(_clipped, frozenset({"clipped"})),
    "regularised too strongly": Symptom(_too_regularised, frozenset({"too_regularised"})),
    "batch too large": Symptom(_batch_large, frozenset({"batch_large"})),
    "single unit normalised": Symptom(_single_unit, frozenset({"single_unit"})),
    "jumpy": Symptom(_jumpy, frozenset({"jumpy", "rate_high"})),
    "patience too short": Symptom(_short_patience, frozenset({"short_patience"})),
    "epochs wasted": Symptom(_long_patience, frozenset({"long_patience", "overfits"}),
                             ("hive states", "hum", "few classes", "small", "many classes")),
    "far values": Symptom(_same, frozenset({"target_scale"}), ("heavy",)),
    "tiny batches": Symptom(_tiny, frozenset({"tiny_batches"}), (
        "hive states", "nectar flow", "few classes", "many classes", "amounts, wide"), True),
    "classes never recognised": Symptom(_same, frozenset({"never_predicted"}), ("rare class",),
                                       True),
    "no better than linear": Symptom(_wide, frozenset({"linear"}), ("a line",), True),
    "one run differs": Symptom(_slow, frozenset({"outlier"}), (), True),
    "dead units": Symptom(_dead, frozenset({"dead", "rate_high"}), (
        "hive states", "hum", "many classes")),
    "saturated units": Symptom(_saturated, frozenset({"saturated"}), ("unscaled",)),
    "stuck": Symptom(_stuck, frozenset({"stuck"}), ("no rule",)),
    "exploding": Symptom(_exploding, frozenset({"exploding", "diverged"}), ("far rows",), True),
    "easier validation": Symptom(_same, frozenset({"easier"}), ("easy rows",), True),
    "last batch of one row": Symptom(_single_row, frozenset({"single_row"}), (
        "hive states", "few classes", "small"), True),
    "a lucky epoch": Symptom(_same, frozenset({"lucky"}), (), True),
    "healthy": Symptom(_same, frozenset()),
}


@dataclass(frozen=True)
class Case:
    """One training to be made."""

    symptom: str
    data: str
    number: int
    seed: int


def cases(seed: int) -> Iterator[Case]:
    """Yield all trainings."""
    names = (*_DEMO, *GENERATED)
    for symptom, made in MADE.items():
        for name in made.only or [n for n in names if n not in _FOR_ONE]:
            many = HEALTHY if symptom == "healthy" else EACH * (5 if name in _FOR_ONE else 1)
            for number in range(many):
                yield Case(symptom, name, number, seed)


def made(case: Case) -> tuple[Dataset, Recipe, int]:
    """Return data, recipe and seed of a training."""
    rng = np.random.default_rng([case.seed, case.number, *case.symptom.encode(),
                                 *case.data.encode()])
    dataset = data(case.data, case.seed)
    recipe = MADE[case.symptom].make(rng, good(rng, dataset), dataset)
    return dataset, recipe, int(rng.integers(1000))


@cache
def _best(name: str, seed: int) -> float:
    """Return the steady loss of a healthy recipe."""
    rng = np.random.default_rng([seed, 77])
    dataset = data(name, seed)
    return train(dataset, good(rng, dataset), 5).level


def found(case: Case) -> tuple[Case, list[str], str]:
    """Train a case and return what is named, and how it went."""
    dataset, recipe, seed = made(case)
    known = None if case.symptom == "healthy" else _best(case.data, case.seed)
    evidence = train(dataset, recipe, seed, known)
    if case.symptom == "one run differs":
        healthy = good(np.random.default_rng([seed, 1]), dataset)
        others = [train(dataset, healthy, seed + i, known) for i in range(1, RUNS)]
        each = [p.name for p in diagnose_runs([*others, replace(evidence, recipe=healthy)])]
        return case, each, f"{RUNS} runs"
    if case.symptom == "a lucky epoch":
        evidence = _lucky(evidence, seed)
    names = [p.name for p in diagnose(evidence)]
    return case, names, f"{evidence.reason} {evidence.epochs}"


def _lucky(evidence: Evidence, seed: int) -> Evidence:
    """Return a training with one epoch of the second half lowered by a tenth to a fifth."""
    rng, epochs = np.random.default_rng([seed, 2]), list(evidence.curve.epochs)
    place = int(rng.integers(len(epochs) // 2, len(epochs) - 2))
    lowest = min(each.validation_loss for each in epochs)
    epochs[place] = replace(epochs[place], validation_loss=lowest * rng.uniform(0.8, 0.9))
    return replace(evidence, curve=replace(evidence.curve, epochs=tuple(epochs)))


def remedied(case: Case) -> tuple[Case, str, str, bool | None]:
    """Apply the first remedy of a sick training; return what was found, the remedy, and whether it
    helped (None where there was nothing to apply).
    """
    dataset, recipe, seed = made(case)
    evidence = train(dataset, recipe, seed, _best(case.data, case.seed))
    proposals = [p for p in diagnose(evidence) if p.changes]
    if not proposals:
        return case, "", "", None
    change = proposals[0].changes[0]
    space = change.applied(SearchFile(space=Space(recipe))).space
    rng = np.random.default_rng([seed, 3])
    tried = [space.base] if not space.knobs else [
        r for _ in range(TRIED) if (r := space.at(rng.random(len(space.knobs)).tolist()))]
    best = min(tried, key=lambda r: train(dataset, r, seed).level)
    fresh = range(5000, 5000 + SEEDS)
    before = np.array([train(dataset, recipe, s).level for s in fresh])
    after = np.array([train(dataset, best, s).level for s in fresh])
    if not np.isfinite(after).all():
        return case, proposals[0].name, change.words, False
    if not np.isfinite(before).all():
        return case, proposals[0].name, change.words, True
    gain = before - after
    error = float(gain.std(ddof=1)) / math.sqrt(SEEDS)
    return case, proposals[0].name, change.words, bool(gain.mean() > 2 * error)


def _is_right(symptom: Symptom, found: Sequence[str]) -> bool:
    """Whether a symptom is found, or nothing where there is none; what is harmless is no fault."""
    faults = [name for name in found if name not in HARMLESS]
    if symptom.beside:
        return bool(symptom.names & {*found})
    return faults[0] in symptom.names if faults else not symptom.names


def count_found(seeds: Sequence[int]) -> None:
    """Print hits and false alarms."""
    rows: dict[str, list[tuple[Case, list[str], str]]] = {}
    with ProcessPoolExecutor(2, get_context("spawn")) as pool:
        for each in pool.map(found, [c for seed in seeds for c in cases(seed)],
                             chunksize=4):
            rows.setdefault(each[0].symptom, []).append(each)
    print("| made | trainings | found | named first instead |\n|---|---|---|---|")
    hits = total = 0
    for symptom, own in rows.items():
        names = MADE[symptom].names
        right = [case for case, each, _ in own if _is_right(MADE[symptom], each)]
        others = [(case.data, case.seed, case.number,
                   [n for n in each if n not in HARMLESS][:1] or ["nothing"], how)
                  for case, each, how in own if case not in right]
        if names:
            hits, total = hits + len(right), total + len(own)
        summary: dict[str, int] = {}
        for _, _, _, each, _ in others:
            summary[each[0]] = summary.get(each[0], 0) + 1
        words = ", ".join(f"{n} {k}" for k, n in sorted(summary.items(), key=lambda i: -i[1]))
        print(f"| {symptom} | {len(own)} | {100 * len(right) / len(own):.0f} % | {words} |")
        for each_ in others:
            print("   ", symptom, *each_, file=sys.stderr)
    print(f"\n{100 * hits / total:.1f} % of {total} made symptoms found", flush=True)


#: Symptoms whose remedy saves time only, or that are made of data which nobody can learn from.
_WITHOUT_REMEDY = ("epochs wasted", "stuck")


def count_remedied(seeds: Sequence[int]) -> None:
    """Print how often the first remedy helps."""
    sick = [case for seed in seeds for case in cases(seed)
            if case.number == 0 and MADE[case.symptom].names and not MADE[case.symptom].beside
            and case.symptom not in _WITHOUT_REMEDY]
    rows: dict[str, list[bool]] = {}
    with ProcessPoolExecutor(2, get_context("spawn")) as pool:
        for case, name, words, helped in pool.map(remedied, sick):
            if helped is not None:
                rows.setdefault(f"{name}: {words}", []).append(helped)
            if not helped:
                print("   ", case.symptom, case.data, name, words, helped, file=sys.stderr)
    print("| found, first remedy | recipes | better beyond noise |\n|---|---|---|")
    for name, own in sorted(rows.items()):
        print(f"| {name} | {len(own)} | {sum(own)} |")
    every = [h for own in rows.values() for h in own]
    print(f"\n{100 * sum(every) / len(every):.0f} % of {len(every)} recipes", flush=True)


def main(what: str, seeds: Sequence[int]) -> None:
    """Print a table."""
    os.environ.setdefault("OPENBLAS_NUM_THREADS", "1")
    started = time.perf_counter()
    for seed in seeds:
        for name in (*_DEMO, *GENERATED):
            data(name, seed)
    (count_remedied if what == "remedies" else count_found)(seeds)
    print(f"{time.perf_counter() - started:.0f} s", file=sys.stderr)


if __name__ == "__main__":
    main(sys.argv[1] if len(sys.argv) > 1 else "found",
         [int(word) for word in sys.argv[2:]] or [21])
