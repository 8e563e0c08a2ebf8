"""What every stopping rule and every layer must do."""

from __future__ import annotations

import math
import unittest
from collections.abc import Iterator

import numpy as np

from axiarch.engine.dropout import Dropout
from axiarch.engine.layers import LAYERS, BuiltLayer, Laid
from axiarch.engine.network import NetworkShape, Placed
from axiarch.engine.run import EpochNumbers
from axiarch.engine.stopping import RULES, Setting, Watch
from tests.support import recipe

#: For each rule: values of a recipe that set it, and losses (validation, training) under which it speaks at the end.
SPEAKING: dict[str, tuple[dict[str, object], list[tuple[float, float]]]] = {
    "diverged": ({}, [(1.0, 1.0), (math.nan, math.nan)]),
    "stuck": ({"stuck_after": 3}, [(2.0, 2.0)] * 3),
    "gap": ({"most_gap": 0.5}, [(1.0, 0.9), (1.2, 0.7), (1.4, 0.2)]),
    "steps": ({"most_steps": 25}, [(1.0, 1.0)] * 2),
    "seconds": ({"most_seconds": 0.9}, [(1.0, 1.0)] * 2),
    "patience": ({"patience": 4}, [(1.0, 1.0)] * 7),
    "completed": ({"epochs": 6}, [(1.0 - 0.1 * i, 1.0) for i in range(6)]),
}
#: The setting: ten steps an epoch, and a floor that is not reached.
SETTING = Setting(10, 1.5)


class StoppingRulesConform(unittest.TestCase):
    """Laws that hold for every rule."""

    def run_of(self, values: dict[str, object], losses: list[tuple[float, float]]
               ) -> Iterator[tuple[Watch, EpochNumbers]]:
        watch = Watch(start_loss=2.0)
        spec = recipe(**{"epochs": 50, **values})
        for i, (validation, training) in enumerate(losses):
            numbers = EpochNumbers(i + 1, training, training, validation, (), 0.1, 1.0, 0.5)
            watch.see(numbers, spec)
            yield watch, numbers

    def test_each_speaks_when_it_should_and_not_before(self) -> None:
        self.assertEqual(set(SPEAKING), set(RULES))
        for name, (values, losses) in SPEAKING.items():
            spec = recipe(**{"epochs": 50, **values})
            said = [RULES[name](watch, n, spec, SETTING) for watch, n in self.run_of(values, losses)]
            self.assertEqual([bool(text) for text in said], [False] * (len(losses) - 1) + [True], name)

    def test_each_gives_its_numbers(self) -> None:
        for name, (values, losses) in SPEAKING.items():
            *_, (watch, numbers) = self.run_of(values, losses)
            self.assertRegex(RULES[name](watch, numbers, recipe(**{"epochs": 50, **values}), SETTING), r"\d", name)

    def test_none_speaks_where_it_is_not_set_and_all_is_well(self) -> None:
        for watch, numbers in self.run_of({}, [(1.0 - 0.01 * i, 1.0 - 0.01 * i) for i in range(40)]):
            for name, rule in RULES.items():
                self.assertEqual(rule(watch, numbers, recipe(epochs=50), SETTING), "", name)

    def test_none_changes_the_watch(self) -> None:
        for name, (values, losses) in SPEAKING.items():
            for watch, numbers in self.run_of(values, losses):
                before = repr(watch)
                RULES[name](watch, numbers, recipe(**{"epochs": 50, **values}), SETTING)
                self.assertEqual(repr(watch), before)

    def test_the_first_that_speaks_ends_the_run(self) -> None:
        *_, (watch, numbers) = self.run_of({"patience": 4, "most_steps": 25}, [(1.0, 1.0)] * 7)
        end = watch.end(numbers, recipe(epochs=7, patience=4, most_steps=25), 10, 1.5)
        assert end is not None
        self.assertEqual(end.reason, "steps")


class OnPictures:
    """A layer of pictures, for examples as they come: they are laid out before and after."""

    units = None

    def __init__(self, layer: BuiltLayer, placed: Placed, slots: int, rows: int) -> None:
        self._rows, self._dtype = rows, np.dtype(np.float64)
        self._slots, self._layer = slots, layer
        self._before, self._after = placed.before, placed.after

    def _laid(self, x: np.ndarray, shape: tuple[int, ...], active: int, rows: int, back: bool) -> np.ndarray:
        laid = Laid(shape, self._slots, self._rows, self._dtype, False, back)
        return laid.forward(x, x, active, rows)

    def forward(self, x: np.ndarray, flat: np.ndarray, active: int, rows: int) -> np.ndarray:
        out = self._layer.forward(self._laid(x, self._before, active, rows, False), flat, active, rows)
        return self._laid(out, self._after, active, rows, True)

    def backward(self, d: np.ndarray, flat: np.ndarray, grads: np.ndarray, active: int, rows: int,
                 wanted: bool) -> np.ndarray | None:
        slopes = self._laid(d.reshape(len(d), self._rows, -1), self._after, active, rows, False)
        below = self._layer.backward(slopes, flat, grads, active, rows, wanted)
        return None if below is None else self._laid(below, self._before, active, rows, True)


class LayersConform(unittest.TestCase):
    """Laws that hold for every kind of layer, alone."""

    lines = {"dense": "3 tanh", "conv": "conv 3 tanh", "pool": "pool 2", "mean pool": "mean pool 2"}
    slots, rows = 3, 4

    def each(self) -> Iterator[tuple[str, Placed, BuiltLayer, np.ndarray, np.ndarray]]:
        self.assertEqual(set(self.lines), set(LAYERS))
        rng = np.random.default_rng(0)
        for kind, line in self.lines.items():
            inputs = (4, 4, 2) if kind != "dense" else (5,)
            shape = NetworkShape.of(recipe(network=line), inputs, 3)
            placed = shape.placed[0]
            dropout = Dropout([placed], self.rows, self.slots, np.float64)
            dropout.start_step(0, self.slots)
            layer = LAYERS[kind](placed, 0, self.slots, self.rows, np.dtype(np.float64), dropout)
            if kind != "dense":
                layer = OnPictures(layer, placed, self.slots, self.rows)
            flat = rng.normal(size=(self.slots, shape.parameters))
            yield kind, placed, layer, flat, rng.normal(size=(self.slots, self.rows, math.prod(inputs)))

    def out(self, layer: BuiltLayer, x: np.ndarray, flat: np.ndarray, active: int = 3, rows: int = 4) -> np.ndarray:
        """Return what goes out, row by row."""
        found = layer.forward(x, flat, active, rows)
        return np.array(found).reshape(found.shape[0], self.rows, -1)[:active, :rows].copy()

    def test_gradients_of_weights_and_inputs_against_finite_differences(self) -> None:
        rng = np.random.default_rng(1)
        for kind, placed, layer, flat, x in self.each():
            slope = rng.normal(size=self.out(layer, x, flat).shape)
            grads = np.zeros_like(flat)
            self.out(layer, x, flat)
            given = slope.reshape(self.slots, -1, placed.units).copy()
            below = layer.backward(given, flat, grads, self.slots, self.rows, True)
            assert below is not None
            below = np.array(below).reshape(x.shape)
            for array, found in ((x, below), (flat, grads)):
                for i in rng.choice(array[0].size, min(12, array[0].size), False):
                    if array is flat and placed.weights + placed.fan_in * placed.units <= i < placed.biases:
                        continue
                    ends = []
                    for side in (1e-6, -1e-6):
                        array.reshape(self.slots, -1)[:, i] += side
                        ends.append((self.out(layer, x, flat) * slope).sum(axis=(1, 2)))
                        array.reshape(self.slots, -1)[:, i] -= side
                    np.testing.assert_allclose(found.reshape(self.slots, -1)[:, i], (ends[0] - ends[1]) / 2e-6,
                                               rtol=1e-5, atol=1e-7, err_msg=f"{kind} {i}")

    def test_a_slot_alone_is_as_among_others_and_a_row_as_in_a_shorter_batch(self) -> None:
        for kind, _, layer, flat, x in self.each():
            together = self.out(layer, x, flat)
            np.testing.assert_array_equal(self.out(layer, x, flat, active=1), together[:1], kind)
            np.testing.assert_allclose(self.out(layer, x, flat, rows=2), together[:, :2], rtol=1e-12, err_msg=kind)

    def test_rows_that_all_slots_share_give_what_rows_of_each_give(self) -> None:
        for kind, _, layer, flat, x in self.each():
            alike = np.repeat(x[:1], self.slots, axis=0)
            wanted = self.out(layer, alike, flat)
            found = self.out(layer, x[:1], flat)
            np.testing.assert_array_equal(np.broadcast_to(found, wanted.shape), wanted, kind)
