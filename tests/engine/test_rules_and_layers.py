"""What every stopping rule and every layer must do."""

from __future__ import annotations

import math
import unittest
from collections.abc import Iterator

import numpy as np

from axiarch.engine import codes
from axiarch.engine.kernels import driver
from axiarch.engine.network import NetworkShape
from axiarch.engine.program import Program
from axiarch.engine.stopping import RULES, StoppingContext, StoppingState
from axiarch.recipes.layers import KINDS
from axiarch.runs.epoch import Epoch
from tests.support import recipe

#: For each rule: values of a recipe that set it, and losses (validation, training) under which it
#: speaks at the end.
SPEAKING: dict[str, tuple[dict[str, object], list[tuple[float, float]]]] = {
    "diverged": ({}, [(1.0, 1.0), (math.nan, math.nan)]),
    "stuck": ({"stuck_after": 3}, [(2.0, 2.0)] * 3),
    "gap": ({"max_gap": 0.5}, [(1.0, 0.9), (1.2, 0.7), (1.4, 0.2)]),
    "steps": ({"max_steps": 25}, [(1.0, 1.0)] * 2),
    "seconds": ({"max_seconds": 0.9}, [(1.0, 1.0)] * 2),
    "patience": ({"patience": 4}, [(1.0, 1.0)] * 7),
    "completed": ({"epochs": 6}, [(1.0 - 0.1 * i, 1.0) for i in range(6)]),
}
#: The setting: ten steps an epoch, and a baseline that is not reached.
CONTEXT = StoppingContext(10, 1.5)


class StoppingRulesConform(unittest.TestCase):
    """Laws that hold for every rule."""

    def run_of(self, values: dict[str, object], losses: list[tuple[float, float]]
               ) -> Iterator[tuple[StoppingState, Epoch]]:
        watch = StoppingState(start_loss=2.0)
        spec = recipe(**{"epochs": 50, **values})
        for i, (validation, training) in enumerate(losses):
            numbers = Epoch(0, i + 1, training, training, validation, (), 0.1, 1.0, 0.5)
            watch.see(numbers, spec)
            yield watch, numbers

    def test_each_speaks_when_it_should_and_not_before(self) -> None:
        self.assertEqual(set(SPEAKING), set(RULES))
        for name, (values, losses) in SPEAKING.items():
            spec = recipe(**{"epochs": 50, **values})
            said = [
                RULES[name](watch, n, spec, CONTEXT) for watch, n in self.run_of(values, losses)
            ]
            self.assertEqual([bool(text) for text in said], [False] * (len(losses) - 1) + [True],
                             name)

    def test_each_gives_its_numbers(self) -> None:
        for name, (values, losses) in SPEAKING.items():
            *_, (watch, numbers) = self.run_of(values, losses)
            self.assertRegex(
                RULES[name](watch, numbers, recipe(**{"epochs": 50, **values}), CONTEXT), r"\d",
                name)

    def test_none_speaks_where_it_is_not_set_and_all_is_well(self) -> None:
        for watch, numbers in self.run_of({},
                                          [(1.0 - 0.01 * i, 1.0 - 0.01 * i) for i in range(40)]):
            for name, rule in RULES.items():
                self.assertEqual(rule(watch, numbers, recipe(epochs=50), CONTEXT), "", name)

    def test_none_changes_the_watch(self) -> None:
        for name, (values, losses) in SPEAKING.items():
            for watch, numbers in self.run_of(values, losses):
                before = repr(watch)
                RULES[name](watch, numbers, recipe(**{"epochs": 50, **values}), CONTEXT)
                self.assertEqual(repr(watch), before)

    def test_the_first_that_speaks_ends_the_run(self) -> None:
        *_, (watch, numbers) = self.run_of({"patience": 4, "max_steps": 25}, [(1.0, 1.0)] * 7)
        end = watch.end(numbers, recipe(epochs=7, patience=4, max_steps=25), 10, 1.5)
        assert end is not None
        self.assertEqual(end.reason, "steps")


class LayersConform(unittest.TestCase):
    """Laws that hold for every kind of layer, alone and by its program."""

    lines = {"dense": "3 tanh", "conv": "conv 3 tanh", "pool": "pool 2", "mean pool": "mean pool 2"}
    rows = 4

    def each(self) -> Iterator[tuple[str, NetworkShape, np.ndarray, np.ndarray]]:
        self.assertEqual(set(self.lines), set(KINDS))
        rng = np.random.default_rng(0)
        for kind, line in self.lines.items():
            inputs = (4, 4, 2) if kind != "dense" else (5,)
            shape = NetworkShape.of(recipe(network=line), inputs, 3)
            yield kind, shape, rng.normal(size=shape.parameters), rng.normal(
                size=(math.prod(inputs), self.rows))

    def walk(self,
             shape: NetworkShape,
             x: np.ndarray,
             p: np.ndarray,
             slope: np.ndarray | None = None) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
        """Return what goes out of the first layer for the columns `x` (D, B), and for its gradient
        `slope` those of the inputs and of the parameters.
        """
        program, rows = Program.of(shape, self.rows, True), x.shape[1]
        room, inputs, first = program.room(np.float64, True), x.shape[0], program.ops[:1].copy()
        first[0, codes.FIRST] = 0
        count = math.prod(shape.placed[0].after) * rows
        thresholds, scales, g = np.zeros(2, np.int32), np.ones(2), np.zeros(shape.parameters)
        source, out = int(first[0, codes.IN]), int(first[0, codes.OUT])
        room.a[source : source + x.size] = x.reshape(-1)
        driver.forward(room.a, room.which, p, first, rows, False, np.uint64(0), 0, thresholds,
                       scales, room.words, room.bits, room.one)
        found = room.a[out : out + count].reshape(-1, rows).copy()
        if slope is not None:
            room.d[out : out + count] = slope.reshape(-1)
            driver.backward(room.a, room.which, room.d, p, g, first, rows, np.uint64(0), 0,
                            thresholds, scales, room.words, room.bits, room.one, room.two)
        return found, room.d[source : source + x.size].reshape(inputs, rows).copy(), g

    def test_gradients_of_weights_and_inputs_against_finite_differences(self) -> None:
        rng = np.random.default_rng(1)
        for kind, shape, p, x in self.each():
            slope = rng.normal(size=self.walk(shape, x, p)[0].shape)
            _, below, g = self.walk(shape, x, p, slope)
            placed = shape.placed[0]
            own = [*range(placed.weights, placed.weights + placed.fan_in * placed.units),
                   *range(placed.biases, placed.biases + placed.units)] if placed.weighted else []
            for array, found, places in ((x, below, range(x.size)), (p, g, own)):
                for i in rng.choice(places, min(24, len(places)), False) if places else ():
                    ends = []
                    for side in (1e-6, -1e-6):
                        moved = array.copy()
                        moved.reshape(-1)[i] += side
                        ends.append((self.walk(shape, *((moved, p) if array is x else
                                                        (x, moved)))[0] * slope).sum())
                    self.assertAlmostEqual(found.reshape(-1)[i], (ends[0] - ends[1]) / 2e-6,
                                           delta=1e-5,
                                           msg=f"{kind} {i}")

    def test_a_row_in_a_shorter_batch_gives_the_same(self) -> None:
        for kind, shape, p, x in self.each():
            whole = self.walk(shape, x, p)[0]
            short = self.walk(shape, np.ascontiguousarray(x[:, :2]), p)[0]
            np.testing.assert_allclose(short, whole[:, :2], rtol=1e-12, err_msg=kind)
